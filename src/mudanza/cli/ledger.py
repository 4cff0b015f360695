"""`mudanza ledger`."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click
from rich.text import Text

from mudanza.cli import look
from mudanza.cli.options import here, json_option, short_time, wait_option
from mudanza.core.state.ledger import ledger_of
from mudanza.core.state.loans import Noted, all_loans
from mudanza.core.state.run_values import values_of
from mudanza.core.work.shapes import ledger_shape, loans_shape, run_shape, taken_back_shape

if TYPE_CHECKING:
    from mudanza.core.plans.move import Move


@click.command("ledger")
@click.argument("run", type=int, required=False)
@click.option("--limit", "-n", default=20, show_default=True, type=click.IntRange(1), help="How many runs to list.")
@click.option("--loans", is_flag=True, help="List the loans.")
@click.option(
    "--take-back",
    is_flag=True,
    help="Take the build RUN back: its identifiers and its files, if nothing came after it.",
)
@wait_option
@json_option
def command(run: int | None, limit: int, loans: bool, take_back: bool, wait: float, as_json: bool) -> None:
    """Show what was done: the runs, or RUN with the digests of what it read and wrote.

    \b
    Examples:
      mudanza ledger
      mudanza ledger 3
      mudanza ledger --loans
      mudanza ledger 3 --take-back
    """
    move = here(wait)
    if take_back:
        _take_back(move, run, as_json)
    elif loans:
        _loans(all_loans(ledger_of(move)), as_json)
    elif run is not None:
        _one(move, run, as_json)
    else:
        _all(move, limit, as_json)


def _all(move: Move, limit: int, as_json: bool) -> None:
    runs, books = ledger_of(move).runs(limit), ledger_of(move).books()
    if as_json:
        look.document(ledger_shape(runs, books))
        return
    look.heading(move.name, look.plural(len(runs), "run"))
    rows = []
    for r in runs:
        counts = ", ".join(
            f"{name.replace('_', ' ')} {look.count(n)}"
            for name, n in r.counts.items()
            if n or name in ("read", "written")
        )
        rows.append([str(r.id), short_time(r.started), r.command, r.subject, r.state, counts])
    look.columns(rows, heads=["run", "when", "what", "subject", "state", "rows"], right=(0,), fold=(3, 5))
    if not rows:
        look.say("  no runs yet.")
    for name, given in books.items():
        look.say(f"  key book {name}: {look.plural(given, 'identifier')} given out", style="dim")


def _one(move: Move, run: int, as_json: bool) -> None:
    ledger = ledger_of(move)
    found = next((r for r in ledger.runs() if r.id == run), None)
    if found is None:
        raise click.UsageError(f"There is no run {run}. `mudanza ledger` lists the runs.")
    if as_json:
        look.document({**run_shape(found), "values": values_of(ledger, run)})
        return
    look.heading(f"run {found.id}", f"{found.command} {found.subject}, {found.state}")
    rows = [["started", found.started], ["ended", found.ended or "-"]]
    if found.as_of:
        rows.append(["as of", found.as_of])
    rows += [[f":{name}", value] for name, value in values_of(ledger, run).items()]
    rows += [[name.replace("_", " "), look.count(n)] for name, n in found.counts.items()]
    look.columns([[Text(a, style="dim"), b] for a, b in rows])
    for word, files in (("read", found.read), ("written", found.written)):
        if files:
            look.say()
            look.heading(word)
            look.columns(
                [[f["path"], look.size(f["size"]), f["sha256"]] for f in files],
                heads=["file", "size", "sha256"],
                right=(1,),
                fold=(2,),
            )


def _take_back(move: Move, run: int | None, as_json: bool) -> None:
    from mudanza.core.work.take_back import take_back

    if run is None:
        raise click.UsageError("Say which run is to be taken back: mudanza ledger RUN --take-back.")
    done = take_back(move, run)
    if as_json:
        look.document(taken_back_shape(done))
        return
    look.heading(f"run {run}", f"taken back by run {done.run}")
    for book, count in done.keys.items():
        look.say(f"  {look.plural(count, 'identifier')} of key book {book} can be given out again")
    look.say(f"  gone: {', '.join(done.files)}")
    look.say("  What the build before wrote comes again with the next build.", style="dim")


def _loans(noted: list[Noted], as_json: bool) -> None:
    if as_json:
        look.document(loans_shape(noted))
        return
    look.heading("loans", look.plural(len(noted), "loan"))
    look.columns(
        [[one.id, one.subject, one.detail.get("whom") or "-", short_time(one.lent), one.state] for one in noted],
        heads=["loan", "subject", "whom", "lent", "state"],
    )
