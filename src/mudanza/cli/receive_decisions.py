"""`mudanza receive` of workbooks in which people decided: mapping sheets and crosswalks."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from rich.text import Text

from mudanza.cli import look
from mudanza.core.work.shapes import codes_return_shape, layout_return_shape, mapping_return_shape

if TYPE_CHECKING:
    from mudanza.core.plans.move import Move
    from mudanza.core.work.loans.crosswalk_sheets import CodesReturn
    from mudanza.core.work.loans.layout_sheet import LayoutReturn
    from mudanza.core.work.loans.mapping_sheet import MappingReturn


def receive_decisions(
    move: Move,
    file: Path,
    loan: tuple[str, str, dict[str, Any]],
    accept: bool,
    parameters: dict[str, str],
    as_json: bool,
) -> int:
    """Take such a workbook back; gives the exit status."""
    name, kind, detail = loan
    if kind == "mapping":
        from mudanza.core.work.loans.mapping_sheet import receive_mapping

        mapping = receive_mapping(move, file, name, detail, accept=accept, parameters=parameters)
        if as_json:
            look.document(mapping_return_shape(mapping))
        else:
            _show_mapping(mapping, accept)
        return 0 if mapping.clean else 1
    if kind == "layout":
        from mudanza.core.work.loans.layout_sheet import receive_layout

        layout = receive_layout(move, file, name, detail, accept=accept)
        if as_json:
            look.document(layout_return_shape(layout))
        else:
            _show_layout(layout, accept)
        return 0 if layout.clean else 1
    from mudanza.core.work.loans.crosswalk_sheets import receive_crosswalks

    codes = receive_crosswalks(move, file, name, detail, accept=accept, parameters=parameters)
    if as_json:
        look.document(codes_return_shape(codes))
    else:
        _show_codes(codes, accept)
    return 0 if codes.clean else 1


def _show_mapping(result: MappingReturn, accept: bool) -> None:
    look.heading(
        f"loan {result.loan}",
        f"mapping sheet of {result.list_name}; {result.agreed} of {look.plural(result.fields, 'field')} agreed",
    )
    for title, changes in (("status", result.statuses), ("remark", result.remarks)):
        if changes:
            look.say()
            look.heading(title)
            look.columns(
                [
                    [name, look.shorten(before or None, 30), "->", Text(look.shorten(after or None, 60), style="bold")]
                    for name, before, after in changes
                ],
                fold=(3,),
            )
    if result.flows:
        look.say()
        look.heading("flows", "as the plan has them, and as they are wanted")
        rows: list[list[str | Text]] = []
        for one in result.flows:
            rows.append([one.field, "is", Text(one.before or "(no flow)", style="dim")])
            rows.append(["", "wanted", Text(one.after, style="bold")])
            if one.problem:
                rows.append(["", "not taken", one.problem])
        look.columns(rows, fold=(2,))
    for cell in result.left_out:
        look.say(f"  {cell.cell}: {cell.problem}")
    _end(bool(result.statuses or result.remarks or result.flows), accept, result)


def _show_layout(result: LayoutReturn, accept: bool) -> None:
    look.heading(f"loan {result.loan}", f"field list of the layout {result.layout}")
    if result.changes:
        rows: list[list[str | Text]] = [
            [name, what, look.shorten(before or None, 30), "->", Text(look.shorten(after or None, 50), style="bold")]
            for name, what, before, after in result.changes
        ]
        look.columns(rows, fold=(4,))
    if result.added:
        look.say(f"  new: {', '.join(result.added)}")
    if result.missing:
        look.say(
            f"  not in the sheet any more: {', '.join(result.missing)}; they stay until they are taken out of the layout."
        )
    _end(bool(result.changes or result.added), accept, result)


def _show_codes(result: CodesReturn, accept: bool) -> None:
    look.heading(
        f"loan {result.loan}", f"crosswalks of {result.list_name}; {look.plural(result.open, 'code')} still open"
    )
    if result.decided:
        look.columns(
            [
                [
                    one.crosswalk,
                    ", ".join(one.values),
                    look.shorten(one.before or None, 24),
                    "->",
                    Text(look.shorten(one.after or None, 24), style="bold"),
                    one.problem or "",
                ]
                for one in result.decided
            ],
            fold=(5,),
        )
    _end(bool(result.decided), accept, result)


def _end(changed: bool, accept: bool, result: MappingReturn | CodesReturn | LayoutReturn) -> None:
    if result.wrong:
        look.say()
        look.heading("cells that cannot be taken")
        look.columns([[one.cell, look.shorten(one.value, 40), one.problem] for one in result.wrong], fold=(2,))
    look.say()
    if result.files:
        look.say(f"written: {', '.join(result.files)}")
        if not result.clean:
            look.say("The loan stays out: correct in the workbook what was not taken, and receive it again.")
    elif not changed:
        look.say("Nothing came back changed.")
    elif not accept:
        look.say("Nothing is written yet; --accept writes it.", style="dim")
