"""The public JSON shapes of building, checking and looking at rows."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

from mudanza.core.work.shapes.common import (
    Shape,
    all_of,
    digest_shape,
    findings_shape,
    group_shape,
    of,
)

if TYPE_CHECKING:
    from mudanza.core.engine.totals import Amount
    from mudanza.core.work.check import CheckResult
    from mudanza.core.work.checking.recognising import Recognised
    from mudanza.core.work.coverage import Coverage
    from mudanza.core.work.difference import ChangedField, Compared
    from mudanza.core.work.fixing import FixResult
    from mudanza.core.work.package import PackageResult
    from mudanza.core.work.preview import PreviewResult
    from mudanza.core.work.results import BuildResult, ListResult, ToTarget
    from mudanza.core.work.saying_by_hand import SaidNow


def build_shape(result: BuildResult) -> Shape:
    """A build; the same stands in run.json."""
    return {
        "run": result.run,
        "as_of": result.as_of.isoformat(),
        "values": result.values,
        "given_out": result.given_out,
        "lists": [_list_shape(one) for one in result.lists],
        "cascades": [{"list": one.list_name, **of(one, "because_of held_back rows")} for one in result.cascades],
    }


def _list_shape(one: ListResult) -> Shape:
    shape: Shape = {
        "list": one.name,
        **one.balance.as_dict(),
        "skipped_by": one.balance.skipped,
        "sources": {name: balance.as_dict() for name, balance in one.by_source.items()},
        "keys_given": one.keys_given,
        "identifiers": all_of(one.identities, "source book known new missing"),
        "files": [digest_shape(d) for d in one.files],
        "sources_read": [digest_shape(d) for d in one.read],
        "findings": [group_shape(g) for g in one.findings],
    }
    if one.to_target is not None:
        shape["in_target"] = _to_target_shape(one.to_target)
    if one.totals:
        shape["totals"] = [
            {
                **of(total, "field title"),
                "sources": {source: _amounts_shape(by_end) for source, by_end in total.by_source.items()},
                **_amounts_shape(total.total),
                "left": None if total.left is None else _amount_shape(total.left),
                "agreed": [of(one, "source end printed") for one in total.agreed],
            }
            for total in one.totals
        ]
    return shape if one.compared is None else {**shape, "compared": _compared_shape(one.compared)}


def _amount_shape(amount: Amount) -> Shape:
    return {**of(amount, "rows numbers"), "sum": f"{amount.sum:f}"}


def _amounts_shape(by_end: Mapping[str, Amount]) -> Shape:
    return {end: _amount_shape(amount) for end, amount in by_end.items()}


def _to_target_shape(told: ToTarget) -> Shape:
    leavers = [
        {**of(one, "why rule what said count"), "examples": [{"key": key, "changed": c} for key, c in one.examples]}
        for one in told.leavers
    ]
    names = "against same added changed last marked removed left told_before files added_keys"
    return {**of(told, names), "fields": _fields_shape(told.fields), "leavers": leavers}


def _fields_shape(fields: Sequence[ChangedField]) -> list[Shape]:
    return [
        {
            **of(one, "field count"),
            "examples": [{"key": key, "before": before, "after": after} for key, before, after in one.examples],
        }
        for one in fields
    ]


def _compared_shape(compared: Compared) -> Shape:
    fields = _fields_shape(compared.fields)
    return {**of(compared, "file same changed added removed added_keys removed_keys"), "fields": fields}


def check_shape(result: CheckResult, limited: bool, fixed: FixResult | None = None) -> Shape:
    """A check; with a limit, all findings are counted. `fixed` is what was corrected."""
    shape = {
        **of(result, "file layout rows"),
        "groups": [group_shape(one) for one in result.groups],
        "findings": findings_shape(result.findings),
    }
    if fixed is not None:
        shape["fixed"] = _fix_shape(fixed)
    return {**shape, "count": result.total} if limited else shape


def recognised_shape(found: Recognised | None) -> Shape:
    """By what the layout of a file is known, where nobody named it."""
    if found is None:
        return {"recognised": None}
    by = found.described_in.name if found.described_in is not None else "name" if found.by_name else "headings"
    return {"recognised": {"by": by, "share": round(found.share, 3)}}


def _fix_shape(result: FixResult) -> Shape:
    """What was corrected in a file."""
    shape = {"written": str(result.written), "listed": str(result.listed), "rows": result.rows}
    return {**shape, "corrections": result.corrections.to_dicts()}


def package_shape(result: PackageResult, limited: bool) -> Shape:
    """A check of a folder."""
    files = [{**check_shape(one, limited), **recognised_shape(result.layouts.get(one.file))} for one in result.files]
    return {"folder": result.folder, "files": files, "findings": findings_shape(result.findings)}


def preview_shape(result: PreviewResult) -> Shape:
    """Rows as they would be written."""
    rows = [
        {
            **of(row, "source file unit line end rule"),
            "fields": all_of(row.fields, "name title before after findings"),
            "findings": row.findings,
        }
        for row in result.rows
    ]
    return {"name": result.name, "rows": rows, "goes_with": result.goes_with}


def said_shape(said: SaidNow) -> Shape:
    """What was said of rows by hand."""
    return of(said, "file rows")


def coverage_shape(covered: Coverage) -> Shape:
    """What a plan covers."""
    return {
        "name": covered.name,
        "fields": all_of(covered.fields, "name title required how columns flow"),
        "columns": all_of(covered.columns, "name sources how fields reason values"),
        "whole": covered.whole,
    }
