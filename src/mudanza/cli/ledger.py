"""`mudanza ledger`."""

from __future__ import annotations

import itertools
from pathlib import Path
from typing import TYPE_CHECKING

import click
from rich.text import Text

from mudanza.cli import look
from mudanza.cli.options import here, json_option, overwrite_option, short_time, wait_option
from mudanza.core.state.evidence import ledger_of, unknown_to
from mudanza.core.state.loans import Noted, all_loans
from mudanza.core.state.run_values import values_of
from mudanza.core.work.shapes import (
    digest_shape,
    ledger_shape,
    loans_shape,
    older_ledger_shape,
    run_shape,
    taken_back_shape,
)

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
@click.option(
    "--backup",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="Copy the ledger into FILE, whole and of one moment, whatever runs meanwhile.",
)
@overwrite_option
@click.option(
    "--older-ledger",
    is_flag=True,
    help="Use a ledger that does not know what the project's files tell; no identifier is given out twice.",
)
@wait_option
@json_option
def command(
    run: int | None,
    limit: int,
    loans: bool,
    take_back: bool,
    backup: Path | None,
    older_ledger: bool,
    wait: float,
    as_json: bool,
) -> None:
    """Show what was done: the runs, or RUN with the digests of what it read and wrote.

    \b
    Examples:
      mudanza ledger
      mudanza ledger 3
      mudanza ledger --loans
      mudanza ledger 3 --take-back
      mudanza ledger --backup ledger-2026-12-02.sqlite
    """
    move = here(wait)
    if backup is not None:
        _back_up(move, backup, as_json)
    elif older_ledger:
        _accept_older(move, as_json)
    elif take_back:
        _take_back(move, run, as_json)
    elif loans:
        _loans(all_loans(ledger_of(move, checked=False)), as_json)
    elif run is not None:
        _one(move, run, as_json)
    else:
        _all(move, limit, as_json)


def _all(move: Move, limit: int, as_json: bool) -> None:
    ledger = ledger_of(move, checked=False)
    runs, books = ledger.runs(limit), ledger.books()
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
    for one in itertools.islice(unknown_to(move, ledger), 1):
        look.say(f"  This is an older ledger, or another one: {one.what} ({one.place}).", style="bold")
    for name, given in books.items():
        look.say(f"  key book {name}: {look.plural(given, 'identifier')} given out", style="dim")


def _one(move: Move, run: int, as_json: bool) -> None:
    ledger = ledger_of(move, checked=False)
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


def _back_up(move: Move, to: Path, as_json: bool) -> None:
    from mudanza.core.work.ledger_copies import back_up

    digest = back_up(move, to)
    if as_json:
        look.document(digest_shape(digest))
        return
    look.say(f"The ledger is copied: {digest.path}, {look.size(digest.size)}, sha256 {digest.sha256}")
    look.say(f"  To go back to it, let no command run, and put it at {move.shown(move.ledger_path)}.", style="dim")


def _accept_older(move: Move, as_json: bool) -> None:
    from mudanza.core.work.ledger_copies import accept_older_ledger

    done = accept_older_ledger(move)
    if as_json:
        look.document(older_ledger_shape(done))
        return
    look.heading(f"run {done.run}", "the ledger is used as it is")
    look.columns([[one.place, one.what] for one in done.unknown], heads=["file", "the ledger"], fold=(1,))
    for book, last in done.reserved.items():
        look.say(f"  no record gets an identifier of {book} up to number {last} any more")
    look.say()
    look.heading("what must be done now")
    if done.lists:
        look.say(f"  - Records of {', '.join(done.lists)} that got identifiers in lost runs would get new ones.")
        look.say("    If a file has their old and new identifiers, enter them before you build:")
        look.say("    mudanza keys BOOK --import FILE (see `mudanza keys --help`)")
    if done.loans:
        look.say(f"  - What comes back from {', '.join(done.loans)} cannot be received: lend it again.")
    look.say("  - Note again what the target imported since that copy: mudanza handed-over RUN.")


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
