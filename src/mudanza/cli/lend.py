"""`mudanza lend`."""

from __future__ import annotations

from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING

import click

from mudanza.cli import completing, look
from mudanza.cli.check import find_layout
from mudanza.cli.options import answered, here, json_option, overwrite_option, run_options, wait_option
from mudanza.core.work.shapes import decision_loan_shape, loan_shape

if TYPE_CHECKING:
    from mudanza.core.work.loans.decision_loan import DecisionLoan
    from mudanza.core.work.loans.lend import Loan


@click.command("lend")
@click.argument("subject", metavar="LIST|FILE|TABLE|LOAN", shell_complete=completing.subjects)
@click.option("--layout", "layout_name", metavar="FILE|NAME", help="The layout of a FILE.")
@click.option("--columns", metavar="A,B", help="The fields to lend, besides the key (all).")
@click.option("--show", metavar="A,B", help="Fields to be seen only.")
@click.option(
    "--mask",
    metavar="A,B",
    help="Fields whose values stay here: the same value gets the same mask, and comes back by itself.",
)
@click.option("--where", metavar="CONDITION", help="The rows to lend: a condition on {Heading} or {@field}.")
@click.option(
    "--keys",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="The rows to lend: those whose keys stand in a file.",
)
@click.option(
    "--findings", metavar="CODE", help="The rows to lend: those in which a check finds this, or anything (all)."
)
@click.option("--by", metavar="FIELD", help="A loan for each value of this field, with a list of who has what.")
@click.option("--whom", metavar="NAME", help="Who gets it (the value of --by).")
@click.option(
    "--held-back",
    is_flag=True,
    help="Lend the rows of LIST that the last build held back; corrected, they go into the next.",
)
@click.option(
    "--again",
    is_flag=True,
    help="LIST is a loan: lend its records anew, as they are now, with what changed since marked.",
)
@click.option("--mapping", is_flag=True, help="Lend the plan of LIST as a mapping sheet, to be agreed.")
@click.option("--crosswalks", is_flag=True, help="Lend the crosswalks of LIST, to be filled in.")
@click.option(
    "--to",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="The file to write: .xlsx, .ods, .csv or .tsv; a folder with --by.",
)
@overwrite_option
@run_options
@wait_option
@json_option
def command(
    subject: str,
    layout_name: str | None,
    columns: str | None,
    show: str | None,
    mask: str | None,
    where: str | None,
    keys: Path | None,
    findings: str | None,
    by: str | None,
    whom: str | None,
    held_back: bool,
    again: bool,
    mapping: bool,
    crosswalks: bool,
    to: Path | None,
    as_of: date | None,
    parameters: dict[str, str],
    wait: float,
    as_json: bool,
) -> None:
    """Lend records out in a file, for others to correct; or a plan as a mapping sheet, or its crosswalks, for others to decide.

    Keys are locked, permitted values can be chosen from lists, and every heading has a note, in the language of
    the move. A slip inside and a mark beside each record identify the loan, whatever becomes of the file.

    \b
    Examples:
      mudanza lend owners --columns phone,email --where '{Town} = "Braga"'
      mudanza lend owners --where '{@balance} > 100' --to for-maria.xlsx
      mudanza lend owners --by branch --mask phone
      mudanza lend owners --findings value.too-long --show "Owner code,Balance"
      mudanza lend owners --held-back --whom Maria
      mudanza lend owners-3 --again
      mudanza lend prices.csv --layout prices --to prices.ods
      mudanza lend practice:owners --layout owners
      mudanza lend owners --mapping
      mudanza lend owners --crosswalks --to codes-for-maria.xlsx
    """
    from mudanza.core.plans.plan_reading import load_plan
    from mudanza.core.sinks.formats import built_file
    from mudanza.core.work.loans.choosing import Choice
    from mudanza.core.work.loans.crosswalk_sheets import lend_crosswalks
    from mudanza.core.work.loans.lend import Subject, lend
    from mudanza.core.work.loans.mapping_sheet import lend_mapping

    move = here(wait)
    if again:
        from mudanza.core.work.loans.lend import lend_again

        loan = lend_again(move, subject, to=to)[0]
        if as_json:
            look.document(loan_shape(loan))
        else:
            look.heading(f"loan {loan.id}", look.plural(loan.rows, "row"))
            _about(loan, several=False)
        return
    if mapping or crosswalks:
        if mapping and crosswalks:
            raise click.UsageError("--mapping and --crosswalks are two workbooks; lend one after the other.")
        if layout_name or columns or where or show or mask or keys or findings is not None or by:
            raise click.UsageError(
                "What chooses records (--columns, --where and the like) goes with records; a plan is lent whole."
            )
        make = lend_mapping if mapping else lend_crosswalks
        lent = answered(lambda given: make(move, subject, to, as_of=as_of, parameters=given), parameters)
        _lend_decisions(lent, as_json)
        return
    if layout_name is not None or Path(subject).suffix:
        if layout_name is None:
            raise click.UsageError("A file is lent by its layout: add --layout FILE|NAME.")
        path, layout, name = Path(subject), find_layout(layout_name), Path(subject).stem
        if not path.is_file() and ":" in subject:
            from mudanza.core.work.loans.table_subject import table_subject

            table = table_subject(move, subject, layout)
            path, name = table.path, table.name
    else:
        layout = load_plan(move, subject).layout
        path, name = built_file(move, subject, layout), subject
    found = None if findings is None else "" if findings == "all" else findings
    choice = Choice(
        _list(columns), _list(show), _list(mask), where, keys, found, by, as_of=as_of, parameters=parameters
    )
    what = Subject(name, path, layout)
    if held_back:
        if layout_name or columns or where or show or mask or keys or findings is not None or by:
            raise click.UsageError("Rows that were held back are lent whole, with why; --whom and --to go with them.")
        from mudanza.core.work.loans.held_back import held_back_subject

        what, choice = held_back_subject(move, subject)
    loans = lend(move, what, choice, to=to, whom=whom)
    if as_json:
        look.document(loan_shape(loans[0]) if by is None else {"loans": [loan_shape(one) for one in loans]})
        return
    if by is not None:
        look.heading(f"{look.plural(len(loans), 'loan')} of {name}", f"one for each {layout.field_named(by).title}")
        look.columns(
            [[one.id, one.whom or "(blank)", look.plural(one.rows, "row"), one.workbook] for one in loans],
            heads=["loan", "whom", "rows", "file"],
            fold=(3,),
        )
    else:
        look.heading(f"loan {loans[0].id}", look.plural(loans[0].rows, "row"))
    _about(loans[0], several=by is not None)


def _list(names: str | None) -> list[str]:
    return [one.strip() for one in names.split(",")] if names else []


def _about(loan: Loan, *, several: bool) -> None:
    """What stands in a loan, or in each of several."""
    rows = [] if several else [["workbook", loan.workbook]]
    rows.append(["fields", ", ".join(one for one in loan.fields if one not in loan.locked and one not in loan.masked)])
    rows += [
        [word, ", ".join(names)] for word, names in (("to be seen", loan.locked), ("masked", loan.masked)) if names
    ]
    if loan.whom and not several:
        rows.append(["lent to", loan.whom])
    look.columns(rows, fold=(1,))
    if loan.left_out:
        look.say(
            f"  Left out, for no cell of a sheet holds all of their texts: {', '.join(loan.left_out)}. As .csv they can be lent."
        )
    if loan.needed:
        needed = ", ".join(loan.needed)
        look.say(f"  Records cannot be added in it: a new one needs {needed}, which was not lent to be filled in.")
    name = "FILE" if several else loan.workbook
    look.say(f"  When it comes back, whatever its name: mudanza receive {name}", style="dim")


def _lend_decisions(loan: DecisionLoan, as_json: bool) -> None:
    if as_json:
        look.document(decision_loan_shape(loan))
        return
    what = "fields" if loan.kind == "mapping" else "codes on the first sheet"
    look.heading(f"loan {loan.id}", f"{look.count(loan.rows)} {what}")
    look.columns([["workbook", loan.workbook]], fold=(1,))
    look.say(f"  When it comes back, whatever its name: mudanza receive {loan.workbook}", style="dim")
