"""`mudanza receive`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click
from rich.text import Text

from mudanza.cli import look
from mudanza.cli.options import here, json_option, set_option, short_time, wait_option
from mudanza.core.work.shapes import return_shape

if TYPE_CHECKING:
    from mudanza.core.work.loans.comparison import LoanReturn

_SHOWN = 40


@click.command("receive")
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--accept", is_flag=True, help="Write the change set as import files.")
@click.option("--missing", type=click.Choice(["keep", "remove"]), help="What rows mean that did not come back.")
@click.option("--whole-rows", is_flag=True, help="Write all columns of changed rows, not only key and changed ones.")
@click.option("--loan", metavar="ID", help="The loan, if the workbook has lost its slip.")
@set_option
@wait_option
@json_option
@click.pass_context
def command(
    ctx: click.Context,
    file: Path,
    accept: bool,
    missing: str | None,
    whole_rows: bool,
    loan: str | None,
    parameters: dict[str, str],
    wait: float,
    as_json: bool,
) -> None:
    """Take a lent workbook back: see every change, and with --accept write it: records as import files, a mapping sheet into its plan, codes into
    their crosswalks.

    changes.csv, additions.csv and removals.csv hold only what changed; the undo files would put the old
    values back. Rows that break the layout's rules, and records changed elsewhere meanwhile, are left out and told.

    \b
    Examples:
      mudanza receive loans/owners-2.xlsx
      mudanza receive back-from-maria.xlsx --accept
      mudanza receive back.xlsx --missing keep --accept
    """
    from mudanza.core.work.loans.decision_loan import kind_of_loan
    from mudanza.core.work.loans.receive import receive

    move = here(wait)
    if (decisions := kind_of_loan(move, file, loan)) is not None:
        from mudanza.cli.receive_decisions import receive_decisions

        ctx.exit(receive_decisions(move, file, decisions, accept, parameters, as_json))
    result = receive(move, file, loan=loan, accept=accept, missing=missing, whole_rows=whole_rows)
    if as_json:
        look.document(return_shape(result))
    else:
        _show(result, accept)
    ctx.exit(0 if result.clean and result.blocked is None else 1)


def _show(result: LoanReturn, accept: bool) -> None:
    from mudanza.core.work.loans.lent import KEY, shown_text

    look.heading(f"loan {result.loan}", f"lent {short_time(result.lent)}; {look.plural(result.rows, 'row')} came back")
    look.columns(
        [
            [
                "changed",
                look.plural(result.changes["key"].n_unique(), "row"),
                look.plural(result.changes.height, "cell"),
            ],
            ["added", look.plural(result.additions.height, "row"), ""],
            ["removed", look.plural(result.removals.height, "row"), ""],
            ["held back", look.plural(result.held, "row"), "see the findings" if result.held else ""],
            [
                "conflicts",
                look.plural(len(result.conflicts), "cell"),
                "changed here and elsewhere" if result.conflicts else "",
            ],
        ],
        right=(1,),
    )
    total = result.changes.height + result.additions.height + result.removals.height
    if total:
        look.say()
        look.heading("changes", f"the first {_SHOWN} of each sort" if total > _SHOWN else "")
        rows = result.changes.head(_SHOWN).select("key", "field", "before", "after").rows()
        cells = [
            [shown_text(k), f, look.shorten(b, 30), "->", Text(look.shorten(a, 30), style="bold")]
            for k, f, b, a in rows
        ]
        cells += [
            [shown_text(k or "(new)"), "(record)", "-", "->", Text("added", style="bold")]
            for k in result.additions[KEY].head(_SHOWN)
        ]
        cells += [
            [shown_text(k), "(record)", "as lent", "->", Text("removed", style="bold")]
            for k in result.removals[KEY].head(_SHOWN)
        ]
        look.columns(
            cells,
            heads=["key", "field", "before", "", "after"],
            fold=(2, 4),
        )
    if result.conflicts:
        look.say()
        look.heading("conflicts")
        look.columns(
            [
                [
                    shown_text(c.key),
                    c.field,
                    look.shorten(c.before, 20),
                    look.shorten(c.after, 20),
                    look.shorten(c.now, 20),
                    c.by,
                ]
                for c in result.conflicts
            ],
            heads=["key", "field", "lent as", "came back as", "is now", "by"],
            fold=(2, 3, 4, 5),
        )
    look.groups(result.groups)
    look.say()
    if result.blocked is not None:
        look.say(f"Nothing can be accepted: {result.blocked}.", style="bold")
    elif result.files:
        look.heading("files")
        look.columns([[f.path, look.size(f.size)] for f in result.files], right=(1,))
        if result.held:
            held = look.plural(result.held, "row")
            look.say(f"  The loan stays out for {held} held back: correct them in the workbook, and receive it again.")
    elif accept:
        look.say("Accepted: there was nothing to write.")
    else:
        look.say("Nothing is written yet; --accept writes the import files.", style="dim")
