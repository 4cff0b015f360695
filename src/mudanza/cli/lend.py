"""`mudanza lend`."""

from __future__ import annotations

import dataclasses
from datetime import date
from pathlib import Path

import click

from mudanza.cli import look
from mudanza.cli.check import find_layout
from mudanza.cli.options import here, json_option, run_options, wait_option


@click.command("lend")
@click.argument("subject", metavar="LIST|FILE")
@click.option("--layout", "layout_name", metavar="FILE|NAME", help="The layout of a FILE.")
@click.option("--columns", metavar="A,B", help="The fields to lend, besides the key (all).")
@click.option("--where", metavar="CONDITION", help="The rows to lend: a condition on {Heading} or {@field}.")
@click.option("--to", type=click.Path(path_type=Path), metavar="FILE.xlsx", help="Where the workbook is to appear.")
@run_options
@wait_option
@json_option
def command(
    subject: str,
    layout_name: str | None,
    columns: str | None,
    where: str | None,
    to: Path | None,
    as_of: date | None,
    parameters: dict[str, str],
    wait: float,
    as_json: bool,
) -> None:
    """Lend records out in a workbook, for others to correct.

    Keys are locked, permitted values can be chosen from lists, and every heading has a note. A slip inside
    identifies the loan, also when the workbook is renamed.

    \b
    Examples:
      mudanza lend owners --columns phone,email --where '{Town} = "Braga"'
      mudanza lend owners --where '{@balance} > 100' --to for-maria.xlsx
      mudanza lend prices.csv --layout prices
    """
    from mudanza.core.loans.lend import lend
    from mudanza.core.plans import load_plan

    move = here(wait)
    if layout_name is not None or Path(subject).suffix:
        if layout_name is None:
            raise click.UsageError("A file is lent by its layout: add --layout FILE|NAME.")
        path, layout, name = Path(subject), find_layout(layout_name), Path(subject).stem
    else:
        layout = load_plan(move, subject).layout
        path, name = move.out / f"{subject}.csv", subject
        if not path.is_file():
            raise click.UsageError(f"The list {subject!r} has not been built yet: run `mudanza build {subject}` first.")
    chosen = [c.strip() for c in columns.split(",")] if columns else []
    loan = lend(move, name, path, layout, columns=chosen, where=where, to=to, as_of=as_of, parameters=parameters)
    if as_json:
        look.document(dataclasses.asdict(loan))
        return
    look.heading(f"loan {loan.id}", look.plural(loan.rows, "row"))
    look.columns([["workbook", loan.workbook], ["fields", ", ".join(loan.fields)]], fold=(1,))
    look.say(f"  When it comes back, whatever its name: mudanza receive {loan.workbook}", style="dim")
