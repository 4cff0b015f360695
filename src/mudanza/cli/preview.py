"""`mudanza preview`."""

from __future__ import annotations

import dataclasses
from datetime import date

import click
from rich.text import Text

from mudanza.cli import look
from mudanza.cli.options import here, json_option, run_options


@click.command("preview")
@click.argument("list_name", metavar="LIST")
@click.option("--rows", "-n", default=3, show_default=True, type=click.IntRange(1, 500), help="Rows of each source.")
@click.option("--source", metavar="NAME", help="Only this source.")
@click.option("--fields", metavar="A,B", help="Only these fields.")
@click.option("--findings", "only_findings", is_flag=True, help="The first rows that have findings.")
@run_options
@json_option
def command(
    list_name: str,
    rows: int,
    source: str | None,
    fields: str | None,
    only_findings: bool,
    as_of: date | None,
    parameters: dict[str, str],
    as_json: bool,
) -> None:
    """Show the first rows of LIST as they would be written, beside what they come from.

    Nothing is written; identifiers not given out yet are shown as if these rows were the first.

    \b
    Examples:
      mudanza preview owners
      mudanza preview owners --fields full_name,since -n 10
      mudanza preview owners --findings
    """
    from mudanza.core.building.preview import preview

    chosen = [f.strip() for f in fields.split(",")] if fields else None
    result = preview(
        here(),
        list_name,
        rows=rows,
        source=source,
        fields=chosen,
        only_findings=only_findings,
        as_of=as_of,
        parameters=parameters,
    )
    if as_json:
        look.document(dataclasses.asdict(result))
        return
    if not result.rows:
        look.say("no rows to show.")
    for number, row in enumerate(result.rows):
        if number:
            look.say()
        look.heading(f"{row.source}, {row.unit} {row.line}", row.end)
        for finding in row.findings:
            look.say(f"  {finding['code']}: {finding['value'] or ''} ({finding['rule']})")
        if row.end == "skipped":
            continue
        table: list[list[str | Text]] = []
        for field in row.fields:
            before = " + ".join(look.shorten(v, 34) for v in field.before.values()) or "-"
            after = Text(look.shorten(field.after, 34), style="bold" if field.after is not None else "dim")
            if row.end == "held back":
                after = Text("-", style="dim")
            told = "; ".join(f"{f['code']}: {f['rule']}" for f in field.findings)
            table.append([field.name, before, "->", after, told])
        look.columns(table, fold=(1, 4))
