"""Crosswalks as a workbook for the business people, and back."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from datetime import date
from pathlib import Path
from typing import Any

from mudanza.core.documents.errors import LoanError, Place
from mudanza.core.plans.move import Move
from mudanza.core.plans.plan_reading import load_plan
from mudanza.core.work.crosswalks.codes import CodesOf, find_codes, start_crosswalks
from mudanza.core.work.crosswalks.decisions import Decision, decided_text
from mudanza.core.work.loans.decision_loan import DecisionLoan, accept_decisions, lend_sheets
from mudanza.core.work.loans.decision_sheets import Sheet, SheetColumn, WrongCell, read_sheet

_STATES = ("confirmed", "open")


@dataclass(frozen=True)
class DecidedCode:
    """A code that came back decided: the crosswalk, its values, the target before and after, and why it cannot be taken (None if it can)."""

    crosswalk: str
    values: tuple[str, ...]
    before: str
    after: str
    problem: str | None = None


@dataclass(frozen=True)
class CodesReturn:
    """What came back of lent crosswalks: the decisions, how many codes are open still, the cells that are wrong, and the files that were written."""

    loan: str
    list_name: str
    decided: list[DecidedCode]
    open: int
    wrong: list[WrongCell] = field(default_factory=list)
    files: list[str] = field(default_factory=list)

    @property
    def clean(self) -> bool:
        return not self.wrong and all(one.problem is None for one in self.decided)


def lend_crosswalks(
    move: Move,
    name: str,
    to: Path | None = None,
    *,
    as_of: date | None = None,
    parameters: Mapping[str, str] | None = None,
) -> DecisionLoan:
    """Write the crosswalks of a list as a workbook, each on its sheet, with the codes that occur and what is proposed for them."""
    start_crosswalks(move, load_plan(move, name, draft=True))
    found = find_codes(move, name, as_of=as_of, parameters=parameters)
    if not found:
        raise LoanError(
            f"no flow of {name} uses a crosswalk, so there is nothing to lend.",
            place=Place(move.shown(move.plan_path(name))),
            hint=f"`mudanza lend {name} --mapping` lends the plan itself.",
        )

    def make(loan: str) -> tuple[list[Sheet], dict[str, Any]]:
        return [
            _sheet(one, f"{move.name}: codes of the list {name}, {loan}. Choose what each becomes, and say confirmed.")
            for one in found
        ], {
            "crosswalks": {one.name: list(one.columns) for one in found},
            "parameters": dict(parameters or {}),
        }

    return lend_sheets(move, name, "crosswalks", make, to)


def _sheet(one: CodesOf, note: str) -> Sheet:
    choices = tuple(dict.fromkeys(t.code for t in one.targets))
    meanings = [f"{t.code} = {t.meaning}" for t in one.targets if t.meaning]
    columns = [
        *(SheetColumn(c, 20) for c in one.columns),
        SheetColumn("rows", 9),
        SheetColumn("becomes", 24, open=True, choices=choices),
        SheetColumn("state", 12, open=True, choices=_STATES),
        SheetColumn("because", 34),
        SheetColumn("note", 40, open=True),
    ]
    rows = []
    for code in [*one.open, *(c for c in one.codes if c.entry is not None)]:
        to = code.entry.to if code.entry else code.proposal or ""
        rows.append(
            [
                *code.values,
                str(code.count),
                to,
                "confirmed" if code.entry else "open",
                "" if code.entry else code.because or "no proposal",
                code.entry.note if code.entry else "",
            ]
        )
    return Sheet(one.name, note + (f" {'; '.join(meanings[:20])}" if meanings else ""), columns, rows)


def receive_crosswalks(
    move: Move,
    path: Path,
    loan: str,
    detail: Mapping[str, Any],
    *,
    accept: bool = False,
    parameters: Mapping[str, str] | None = None,
) -> CodesReturn:
    """Compare returned crosswalks with those of the move. With `accept`, what was confirmed or changed is written to them; what cannot be taken is told and left out, and
    the loan then stays out for another return. Values given at run time are those of the lending, unless `parameters` give others.

    Raises LoanError where a sheet is not as it was lent, or the loan is back already.
    """
    name, shown = detail["list"], move.shown(path.resolve())
    by_name = {
        one.name: one
        for one in find_codes(move, name, parameters={**detail.get("parameters", {}), **(parameters or {})})
    }
    decided: list[DecidedCode] = []
    decisions: dict[str, dict[tuple[str, ...], Decision]] = {}
    wrong: list[WrongCell] = []
    still_open = 0
    for crosswalk, columns in detail["crosswalks"].items():
        one = by_name.get(crosswalk)
        for came in read_sheet(path, crosswalk, [*columns, "becomes", "state", "note"], shown):
            wrong += came.wrong
            if came.wrong:
                continue
            row = came.texts
            values, to = tuple(row[c] for c in columns), row["becomes"]
            known = next((c for c in one.codes if c.values == values), None) if one else None
            before = known.entry.to if known and known.entry else ""
            note = known.entry.note if known and known.entry else ""
            if row["state"] != "confirmed" and not (
                known and known.entry is None and known.proposal != (to or None) and to
            ):
                still_open += known is not None and known.entry is None
                continue
            if known is not None and known.entry is not None and (to, row["note"]) == (before, note):
                continue
            permitted = {t.code for t in one.targets} if one else set()
            problem = "the plan does not ask this crosswalk any more" if one is None else None
            if one is not None and to and permitted and to not in permitted:
                problem = f"the target has no code {to!r}"
            if known is None and problem is None:
                problem = "the code was not lent, or does not occur any more"
            decided.append(DecidedCode(crosswalk, values, before, to, problem))
            if problem is None:
                decisions.setdefault(crosswalk, {})[values] = Decision(to, row["note"])
    result = CodesReturn(loan, name, decided, still_open, wrong)
    if not accept:
        return result
    texts = {by_name[crosswalk].path: decided_text(by_name[crosswalk], made) for crosswalk, made in decisions.items()}
    return replace(result, files=accept_decisions(move, loan, texts, whole=result.clean))
