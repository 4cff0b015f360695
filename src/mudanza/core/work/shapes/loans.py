"""The public JSON shapes of loans and what came back of them."""

from __future__ import annotations

from typing import TYPE_CHECKING

from mudanza.core.work.shapes.common import (
    Shape,
    all_of,
    digest_shape,
    findings_shape,
    of,
)

if TYPE_CHECKING:
    import polars as pl

    from mudanza.core.work.going_back.carrying import CarriedBack
    from mudanza.core.work.loans.crosswalk_sheets import CodesReturn
    from mudanza.core.work.loans.decision_loan import DecisionLoan
    from mudanza.core.work.loans.layout_sheet import LayoutReturn
    from mudanza.core.work.loans.lend import Loan
    from mudanza.core.work.loans.mapping_sheet import MappingReturn
    from mudanza.core.work.loans.outcome import LoanReturn


def loan_shape(loan: Loan) -> Shape:
    """A loan of records."""
    return of(loan, "id subject workbook rows fields needed locked masked left_out whom")


def decision_loan_shape(loan: DecisionLoan) -> Shape:
    """A loan of decisions."""
    return of(loan, "id kind list_name workbook rows")


def return_shape(result: LoanReturn, before_import: str | None) -> Shape:
    """What came back of a loan of records, and what is to be saved before it is imported."""
    from mudanza.core.work.loans.lent import shown_text

    outcome = result.outcome
    additions, removals = (rows.select(_plain(rows)).to_dicts() for rows in (outcome.additions, outcome.removals))
    spoilt = [(one.settled, of(one, "field words cells of line before after")) for one in result.told]
    return {
        **of(result, "loan rows"),
        "saved_by": result.opened.by,
        "saved": result.opened.saved,
        "changes": [{**row, "key": shown_text(row["key"])} for row in outcome.changes.to_dicts()],
        "additions": additions,
        "removals": removals,
        "undone": [one for settled, one in spoilt if settled == "undone"],
        "questions": [one for settled, one in spoilt if settled == "question"],
        "held_cells": outcome.held.to_dicts(),
        "notes": [dict(zip(("by", "cell", "note"), one, strict=True)) for one in result.opened.notes],
        "conflicts": [{"key": shown_text(c.key), **of(c, "field before after now by")} for c in result.conflicts],
        "held_back": result.held,
        "blocked": result.blocked,
        "waiting": result.waiting,
        "review": of(result.review, "id workbook rows") if result.review is not None else None,
        "files": [digest_shape(d) for d in result.files],
        "before_import": before_import,
        "findings": findings_shape(result.findings),
    }


def _plain(rows: pl.DataFrame) -> list[str]:
    return [c for c in rows.columns if not c.startswith(("\x1f", "#"))]


def mapping_return_shape(result: MappingReturn) -> Shape:
    """What came back of a mapping sheet."""
    return {
        **of(result, "loan list_name statuses remarks"),
        "flows": all_of(result.flows, "field before after problem"),
        **of(result, "agreed fields"),
        "wrong": all_of(result.wrong, "cell value problem"),
        "left_out": all_of(result.left_out, "cell value problem"),
        **of(result, "files"),
    }


def layout_return_shape(result: LayoutReturn) -> Shape:
    """What came back of a layout that was lent."""
    return {
        **of(result, "loan layout"),
        "changes": [dict(zip(("field", "what", "before", "after"), one, strict=True)) for one in result.changes],
        **of(result, "added missing"),
        "wrong": all_of(result.wrong, "cell value problem"),
        **of(result, "files"),
    }


def codes_return_shape(result: CodesReturn) -> Shape:
    """What came back of lent crosswalks."""
    return {
        **of(result, "loan list_name"),
        "decided": all_of(result.decided, "crosswalk values before after problem"),
        **of(result, "open"),
        "wrong": all_of(result.wrong, "cell value problem"),
        **of(result, "files"),
    }


def carried_back_shape(done: CarriedBack) -> Shape:
    """What was carried back into the old program."""
    return {
        "list": done.list_name,
        "carried": [
            {
                **of(one, "key field after"),
                **of(one.standing, "source file line"),
                "columns": {c: {"before": before, "after": after} for c, (before, after) in one.columns.items()},
            }
            for one in done.carried
        ],
        "by_hand": [{**of(one, "key field before after why"), "columns": dict(one.columns)} for one in done.by_hand],
        "there": done.there,
        "files": [digest_shape(d) for d in done.files],
    }
