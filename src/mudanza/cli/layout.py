"""`mudanza layout`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from mudanza.cli import look
from mudanza.cli.check import find_layout
from mudanza.cli.options import here, here_or_none, json_option, named_outputs, overwrite_option, wait_option
from mudanza.core.work.shapes import (
    absent_shape,
    compared_layouts_shape,
    decision_loan_shape,
    drafted_layout_shape,
    layout_shape,
)

if TYPE_CHECKING:
    from mudanza.core.layouts.layout import Field, Layout
    from mudanza.core.work.layout_compare import LayoutComparison
    from mudanza.core.work.layout_draft import LayoutDraft

_SHOWN = 30


@click.group("layout")
def command() -> None:
    """The target's import layouts: made from whatever it gives, shown, lent for correction, compared.

    \b
    Examples:
      mudanza layout draft owners incoming/target/owners-template.xlsx
      mudanza layout show owners
      mudanza layout lend owners
      mudanza layout compare owners layouts/owners-2027.json
      mudanza layout absent owners --to to-create.xlsx
    """


@command.command("show")
@click.argument("name", metavar="FILE|NAME")
@json_option
def show(name: str, as_json: bool) -> None:
    """Show a layout as a table: heading, name in plans, kind and limits.

    \b
    Examples:
      mudanza layout show owners
      mudanza layout show layouts/practice.json#owners
    """
    layout = find_layout(name)
    if as_json:
        look.document(layout_shape(layout))
        return
    _show(layout, name)


def _show(layout: Layout, name: str) -> None:
    d = layout.dialect
    ends = {"\r\n": "CRLF", "\n": "LF", "\r": "CR"}[d.line_end] + (" alone" if len(d.line_ends) == 1 else "")
    from mudanza.core.layouts.form import FIXED

    form = layout.form
    written = f"{d.encoding}, delimiter {d.delimiter!r}, {ends}" if form.is_delimited else form.words
    written = f"{written} in {d.encoding}, {ends}" if form.format == FIXED else written
    look.heading(name, f"{look.plural(len(layout.fields), 'field')}; {written}")
    rows = [[one.title, one.name, str(one.kind), one.rule, ", ".join(_marks(one, layout))] for one in layout.fields]
    look.columns(rows, heads=["heading", "name", "kind", "takes", ""], fold=(3, 4))
    for reference in layout.references:
        look.say(
            f"  {', '.join(reference.fields)} refers to {', '.join(reference.columns)} of {reference.resource}",
            style="dim",
        )
    for rule in layout.demands.rules:
        look.say(f"  {rule}", style="dim")
    absent = [one.name for one in layout.fields if one.absent]
    if absent:
        look.say(f"  The target does not have {', '.join(absent)} yet: mudanza layout absent {name}", style="dim")


def _marks(one: Field, layout: Layout) -> list[str]:
    return [
        *(["key"] if one.name in layout.primary_key else []),
        *(["required"] if one.required and one.default is None else []),
        *([f"blank becomes {one.default}"] if one.default is not None else []),
        *(["observed"] if one.observed else []),
        *(["not there yet"] if one.absent else []),
    ]


@command.command("draft")
@click.argument("name")
@click.argument("files", nargs=-1, type=click.Path(path_type=Path, exists=True, dir_okay=False), metavar="[FILE]...")
@click.option(
    "--as",
    "kind",
    type=click.Choice(("template", "fields", "schema", "export")),
    help="What the files are, where it is not seen.",
)
@click.option("--sheet", metavar="NAME", help="The sheet of a workbook.")
@click.option("--database", metavar="NAME|FILE", help="A database of the move, or a SQLite file, whose table it is.")
@click.option("--table", metavar="NAME", help="The table of the database.")
@click.option("--labels", is_flag=True, help="Where a field list has names and labels, the labels are the headings.")
@click.option("--replace", is_flag=True, help="Write it in place of one that is there.")
@json_option
def draft(
    name: str,
    files: tuple[Path, ...],
    kind: str | None,
    sheet: str | None,
    database: str | None,
    table: str | None,
    labels: bool,
    replace: bool,
    as_json: bool,
) -> None:
    """Make layouts/NAME.json from what the target gives: an import template, a field list in any language, a table of a database, a JSON Schema, an
    export; or several of them, as a template and the list of its fields.

    \b
    Examples:
      mudanza layout draft owners template.xlsx fields.xlsx
      mudanza layout draft animals schema.json
      mudanza layout draft visits --database practice --table visits
      mudanza layout draft prices old-prices.csv --as export
    """
    from mudanza.core.sources.address import Database
    from mudanza.core.work.layout_draft import Given, draft_layout

    move = here()
    given = [Given(path.resolve(), kind, sheet) for path in files]
    if database is not None:
        is_file = Path(database).suffix and Path(database).is_file()
        known = Database(database, file=Path(database).resolve()) if is_file else move.database(database)
        given.append(Given(database=known, table=table))
    elif table is not None:
        raise click.UsageError("--table is of a --database.")
    if not given:
        raise click.UsageError("give the files that a layout is to be made from, or --database.")
    with look.progress(as_json) as tell:
        made = draft_layout(move, name, given, by_label=labels, replace=replace, tell=tell)
    if as_json:
        look.document(drafted_layout_shape(made, move.shown(made.path)))
        return
    _show_draft(made, name, move.shown(made.path))


def _show_draft(made: LayoutDraft, name: str, shown: str) -> None:
    look.heading("drafted from")
    look.columns([[source, what, look.plural(count, "field")] for source, what, count in made.taken], fold=(0,))
    look.say()
    _show(made.layout, name)
    if made.remarks:
        look.say()
        look.heading("to look at", look.plural(len(made.remarks), "remark"))
        for words in made.remarks[:_SHOWN]:
            look.say(f"  {words}")
        if len(made.remarks) > _SHOWN:
            look.say(f"  … and {len(made.remarks) - _SHOWN} more", style="dim")
    look.say()
    look.say(f"written: {shown}")


@command.command("lend")
@click.argument("name")
@click.option("--to", type=click.Path(path_type=Path), metavar="FILE.xlsx", help="Where the workbook is written.")
@overwrite_option
@wait_option
@json_option
def lend(name: str, to: Path | None, wait: float, as_json: bool) -> None:
    """Lend a layout as a field list for the target's people to correct; `mudanza receive` takes it back.

    \b
    Example:
      mudanza layout lend owners --to owners-fields.xlsx
    """
    from mudanza.core.work.loans.layout_sheet import lend_layout

    loan = lend_layout(here(wait), name, to=to)
    if as_json:
        look.document(decision_loan_shape(loan))
        return
    look.heading(f"loan {loan.id}", look.plural(loan.rows, "field"))
    look.columns([["workbook", loan.workbook]], fold=(1,))
    look.say(f"  When it comes back, whatever its name: mudanza receive {loan.workbook}", style="dim")


@command.command("compare")
@click.argument("before", metavar="FILE|NAME")
@click.argument("after", metavar="FILE|NAME")
@json_option
@click.pass_context
def compare(ctx: click.Context, before: str, after: str, as_json: bool) -> None:
    """Tell what changed from one version of a layout to another, and which plans, crosswalks and expectations that breaks.

    \b
    Example:
      mudanza layout compare owners incoming/target/owners-2027.json
    """
    from mudanza.core.work.layout_compare import compare_layouts

    result = compare_layouts(find_layout(before), find_layout(after), (before, after), here_or_none())
    if as_json:
        look.document(compared_layouts_shape(result))
    else:
        _show_comparison(result)
    ctx.exit(1 if result.breaks else 0)


def _show_comparison(result: LayoutComparison) -> None:
    look.heading(f"{result.before} to {result.after}", look.plural(len(result.changes), "change"))
    if not result.changes:
        look.say("  Both say the same.")
    rows = []
    for one in result.changes:
        subject = one.field or "(the whole)"
        if one.kind in ("added", "removed"):
            rows.append([subject, one.kind, one.what, one.before, one.after])
        else:
            rows.append([subject, one.what, "", one.before, one.after])
    if rows:
        look.columns(rows, heads=["field", "", "", "was", "is"], fold=(3, 4))
    if result.breaks:
        look.say()
        look.heading("what that breaks", look.plural(len(result.breaks), "place"))
        look.columns([[one.file, one.where, one.why] for one in result.breaks], fold=(2,))


@command.command("absent")
@click.argument("name", metavar="FILE|NAME")
@click.option("--to", type=click.Path(path_type=Path), metavar="FILE.xlsx", help="Write them as a sheet to hand over.")
@overwrite_option
@json_option
def absent(name: str, to: Path | None, as_json: bool) -> None:
    """List the fields of a layout that the target does not have yet, with what has to be created there.

    They are marked in the layout ("urn:mudanza:absent": true), or in its field list when it is lent.

    \b
    Example:
      mudanza layout absent owners --to to-create.xlsx
    """
    from mudanza.core.work.loans.decision_sheets import sheets_bytes
    from mudanza.core.work.loans.layout_sheet import absent_sheet

    layout = find_layout(name)
    fields = [one for one in layout.fields if one.absent]
    if to is not None and fields:
        with named_outputs("layout absent", [layout.path]) as outputs:
            outputs.create_named(to).write(sheets_bytes([absent_sheet(layout.name, fields)], None))
            outputs.publish()
    if as_json:
        look.document(absent_shape(layout, fields, str(to) if to is not None and fields else None))
        return
    look.heading(name, f"{look.plural(len(fields), 'field')} that the target does not have yet")
    if not fields:
        look.say("  none: it has all of them.")
        return
    look.columns(
        [[one.name, one.title, str(one.kind), one.rule] for one in fields],
        heads=["name", "heading", "kind", "takes"],
        fold=(3,),
    )
    if to is not None:
        look.say(f"  written to {to}", style="dim")
