"""`mudanza trace`."""

from __future__ import annotations

from datetime import date
from typing import TYPE_CHECKING

import click
from rich.text import Text

from mudanza.cli import completing, look
from mudanza.cli.options import answered, here, json_option, run_options, short_time
from mudanza.core.work.shapes import trace_shape

if TYPE_CHECKING:
    from mudanza.core.work.trace import Trace, TracedRow


@click.command("trace")
@click.argument("key", shell_complete=completing.keys)
@click.option(
    "--list",
    "lists",
    metavar="LIST",
    multiple=True,
    help="Look in this list; may be repeated. Without it, in the first list that has the key.",
)
@click.option("--fields", metavar="A,B", help="Only these fields.")
@run_options
@json_option
@click.pass_context
def command(
    ctx: click.Context,
    key: str,
    lists: tuple[str, ...],
    fields: str | None,
    as_of: date | None,
    parameters: dict[str, str],
    as_json: bool,
) -> None:
    """Tell the whole story of the record with KEY, its new identifier or its old one.

    Where it stands in the sources, what each column holds, how each field is made step by step, which identifiers and crosswalk entries
    are used, in which runs it went out, and what belongs to it in other lists.

    \b
    Examples:
      mudanza trace OW-000003
      mudanza trace 01003 --list owners --fields full_name,phone
    """
    from mudanza.core.documents.errors import MoveError
    from mudanza.core.work.trace import trace

    move = here()
    traces = answered(lambda given: trace(move, key, lists, as_of=as_of, parameters=given), parameters)
    found = traces.found
    if as_json:
        look.document(trace_shape(key, traces))
        ctx.exit(0 if found else 1)
    for name, error in traces.failed:
        look.say(f"the list {name} could not be looked through: {error.what}", style="dim")
    if not found:
        raise MoveError(
            f"no record has the key {key!r}, now or before.",
            hint="Give a new identifier, or an old one as it stands in the source; --list NAME looks in one list.",
        )
    chosen = {f.strip() for f in fields.split(",")} if fields else None
    for number, one in enumerate(found):
        if number:
            look.say()
        _show(one, chosen)
    if traces.left:
        look.say()
        look.say(f"not looked for in {', '.join(traces.left)}; --list NAME looks there", style="dim")


def _show(one: Trace, chosen: set[str] | None) -> None:
    look.heading(f"{one.list_name} {one.key or ''}".strip(), f"{look.plural(len(one.rows), 'source row')}")
    look.together(one.goes_with)
    for row in one.rows:
        look.say()
        _row(row, chosen)
    for file, line, why, text in one.damaged:
        look.say()
        look.heading(f"{file} line {line}", "held back: the row is damaged")
        look.columns([["why", why], ["text", text.rstrip()]], fold=(1,))
    if one.went:
        look.say()
        look.heading("went out")
        look.columns(
            [
                [f"run {went.run}", short_time(moment) if moment else "", went.how, went.file]
                for went, moment in one.went
            ]
        )
    if one.changes:
        look.say()
        look.heading("changed by loans")
        look.columns(
            [
                [loan, field, look.shorten(before, 30), "->", look.shorten(after, 30)]
                for loan, field, before, after in one.changes
            ]
        )
    if one.told:
        look.say()
        look.heading("handed over")
        rows = []
        for over, became, there in one.told:
            back = f"; taken back by run {over.taken_back}" if over.taken_back is not None else ""
            gave = f"the target calls it {there}" if there else ""
            rows.append([f"run {over.build}", short_time(over.moment), over.by or "", became + back, gave])
        look.columns(rows, fold=(3,))
    if one.related:
        look.say()
        look.heading("related")
        rows = []
        for related in one.related:
            way = f"its {related.fields} is in" if related.to else f"named as {related.fields} in"
            rows.append(
                [
                    way,
                    related.list_name,
                    look.count(related.count),
                    ", ".join(related.keys) + (", …" if related.count > len(related.keys) else ""),
                ]
            )
        look.columns(rows, right=(2,), fold=(3,))


def _row(row: TracedRow, chosen: set[str] | None) -> None:
    look.heading(
        f"{row.file} {row.unit} {row.line}", f"source {row.source}; {row.end}" + (f": {row.rule}" if row.rule else "")
    )
    look.columns(
        [[name, look.shorten(value, 60)] for name, value in row.columns.items() if value is not None], fold=(1,)
    )
    blank = [name for name, value in row.columns.items() if value is None]
    if blank:
        look.say(f"  blank: {', '.join(blank)}", style="dim")
    if row.keep is not None and row.rule in (None, "keep"):
        look.columns(
            [
                [
                    Text("not kept" if row.rule == "keep" else "kept", style="dim"),
                    Text(f"by {' '.join(row.keep.split())}", style="dim"),
                ]
            ],
            fold=(1,),
        )
    for book, old, new, given in row.keys:
        look.say(f"  key book {book}: {old} -> {new or '-'}" + ("" if given else " (not given out yet)"), style="dim")
    for finding in row.findings:
        look.say(
            f"  {finding['code']} on {finding['column'] or 'the row'}: {finding['value'] or ''} ({finding['rule']})",
            style="bold",
        )
    if not row.fields:
        return
    look.say()
    for field in row.fields:
        if chosen and field.name not in chosen:
            continue
        look.columns(
            [[Text(field.name, style="bold"), Text(" ".join((field.flow or "no flow").split()), style="dim")]],
            fold=(1,),
        )
        steps: list[list[str | Text]] = [
            ["  " * step.depth + step.text, look.shorten(step.value, 60)] for step in field.steps
        ]
        steps.append([row.end, Text(look.shorten(field.written, 60), style="bold")])
        look.columns(steps, fold=(0, 1), indent=4)
        for entry in field.entries:
            look.say(f"    {entry}", style="dim")
