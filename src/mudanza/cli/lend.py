"""`mudanza lend`."""

from __future__ import annotations

from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING

import click

from mudanza.cli import completing, look
from mudanza.cli.check import find_layout
from mudanza.cli.options import answered, here, json_option, run_options, wait_option
from mudanza.core.work.shapes import decision_loan_shape, loan_shape

if TYPE_CHECKING:
    from mudanza.core.work.loans.decision_loan import DecisionLoan


@click.command("lend")
@click.argument("subject", metavar="LIST|FILE", shell_complete=completing.subjects)
@click.option("--layout", "layout_name", metavar="FILE|NAME", help="The layout of a FILE.")
@click.option("--columns", metavar="A,B", help="The fields to lend, besides the key (all).")
@click.option("--where", metavar="CONDITION", help="The rows to lend: a condition on {Heading} or {@field}.")
@click.option("--mapping", is_flag=True, help="Lend the plan of LIST as a mapping sheet, to be agreed.")
@click.option("--crosswalks", is_flag=True, help="Lend the crosswalks of LIST, to be filled in.")
@click.option("--to", type=click.Path(path_type=Path), metavar="FILE.xlsx", help="Where the workbook is to appear.")
@run_options
@wait_option
@json_option
def command(
    subject: str,
    layout_name: str | None,
    columns: str | None,
    where: str | None,
    mapping: bool,
    crosswalks: bool,
    to: Path | None,
    as_of: date | None,
    parameters: dict[str, str],
    wait: float,
    as_json: bool,
) -> None:
    """Lend records out in a workbook, for others to correct; or a plan as a mapping sheet, or its crosswalks, for others to decide.

    Keys are locked, permitted values can be chosen from lists, and every heading has a note. A slip inside
    identifies the loan, also when the workbook is renamed.

    \b
    Examples:
      mudanza lend owners --columns phone,email --where '{Town} = "Braga"'
      mudanza lend owners --where '{@balance} > 100' --to for-maria.xlsx
      mudanza lend prices.csv --layout prices
      mudanza lend owners --mapping
      mudanza lend owners --crosswalks --to codes-for-maria.xlsx
    """
    from mudanza.core.plans.plan_reading import load_plan
    from mudanza.core.sinks.formats import built_file
    from mudanza.core.work.loans.crosswalk_sheets import lend_crosswalks
    from mudanza.core.work.loans.lend import lend
    from mudanza.core.work.loans.mapping_sheet import lend_mapping

    move = here(wait)
    if mapping or crosswalks:
        if mapping and crosswalks:
            raise click.UsageError("--mapping and --crosswalks are two workbooks; lend one after the other.")
        if layout_name or columns or where:
            raise click.UsageError("--layout, --columns and --where choose records; a plan is lent whole.")
        make = lend_mapping if mapping else lend_crosswalks
        lent = answered(lambda given: make(move, subject, to, as_of=as_of, parameters=given), parameters)
        _lend_decisions(lent, as_json)
        return
    if layout_name is not None or Path(subject).suffix:
        if layout_name is None:
            raise click.UsageError("A file is lent by its layout: add --layout FILE|NAME.")
        path, layout, name = Path(subject), find_layout(layout_name), Path(subject).stem
    else:
        layout = load_plan(move, subject).layout
        path, name = built_file(move, subject, layout), subject
    chosen = [c.strip() for c in columns.split(",")] if columns else []
    loan = lend(move, name, path, layout, columns=chosen, where=where, to=to, as_of=as_of, parameters=parameters)
    if as_json:
        look.document(loan_shape(loan))
        return
    look.heading(f"loan {loan.id}", look.plural(loan.rows, "row"))
    look.columns([["workbook", loan.workbook], ["fields", ", ".join(loan.fields)]], fold=(1,))
    if loan.needed:
        needed = ", ".join(loan.needed)
        look.say(f"  Records cannot be added in it: a new one needs {needed}, which was not lent.")
    look.say(f"  When it comes back, whatever its name: mudanza receive {loan.workbook}", style="dim")


def _lend_decisions(loan: DecisionLoan, as_json: bool) -> None:
    if as_json:
        look.document(decision_loan_shape(loan))
        return
    what = "fields" if loan.kind == "mapping" else "codes on the first sheet"
    look.heading(f"loan {loan.id}", f"{look.count(loan.rows)} {what}")
    look.columns([["workbook", loan.workbook]], fold=(1,))
    look.say(f"  When it comes back, whatever its name: mudanza receive {loan.workbook}", style="dim")
