"""`mudanza ledger`."""

from __future__ import annotations

import dataclasses
import sys
from typing import TYPE_CHECKING

import click
from rich.text import Text

from mudanza.cli import look
from mudanza.cli.options import here, json_option, short_time

if TYPE_CHECKING:
    from mudanza.core.move import Move


@click.command("ledger")
@click.argument("run", type=int, required=False)
@click.option("--limit", "-n", default=20, show_default=True, type=click.IntRange(1), help="How many runs to list.")
@click.option(
    "--keys", "book", metavar="BOOK", help="Print a key book as CSV: the old identifier's parts, the new one."
)
@click.option("--loans", is_flag=True, help="List the loans.")
@json_option
def command(run: int | None, limit: int, book: str | None, loans: bool, as_json: bool) -> None:
    """Show what was done: the runs, or RUN with the digests of what it read and wrote.

    \b
    Examples:
      mudanza ledger
      mudanza ledger 3
      mudanza ledger --keys owners > owners-keys.csv
      mudanza ledger --loans
    """
    move = here()
    if book is not None:
        _keys(move, book, as_json)
    elif loans:
        _loans(move.ledger.loans(), as_json)
    elif run is not None:
        _one(move, run, as_json)
    else:
        _all(move, limit, as_json)


def _all(move: Move, limit: int, as_json: bool) -> None:
    runs, books = move.ledger.runs(limit), move.ledger.books()
    if as_json:
        look.document({"runs": [dataclasses.asdict(r) for r in runs], "key_books": books})
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
    look.columns(rows, heads=["run", "when", "what", "subject", "state", "rows"], right=(0,), fold=(5,))
    if not rows:
        look.say("  no runs yet.")
    for name, given in books.items():
        look.say(f"  key book {name}: {look.plural(given, 'identifier')} given out", style="dim")


def _one(move: Move, run: int, as_json: bool) -> None:
    found = next((r for r in move.ledger.runs() if r.id == run), None)
    if found is None:
        raise click.UsageError(f"There is no run {run}. `mudanza ledger` lists the runs.")
    if as_json:
        look.document(dataclasses.asdict(found))
        return
    look.heading(f"run {found.id}", f"{found.command} {found.subject}, {found.state}")
    rows = [["started", found.started], ["ended", found.ended or "-"]]
    if found.as_of:
        rows.append(["as of", found.as_of])
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


def _loans(loans: list[tuple[str, str, str, str]], as_json: bool) -> None:
    if as_json:
        look.document([dict(zip(("loan", "subject", "lent", "state"), row, strict=True)) for row in loans])
        return
    look.heading("loans", look.plural(len(loans), "loan"))
    look.columns(
        [[loan, subject, short_time(lent), state] for loan, subject, lent, state in loans],
        heads=["loan", "subject", "lent", "state"],
    )


def _keys(move: Move, book: str, as_json: bool) -> None:
    import polars as pl

    from mudanza.core.keys import KeyBook
    from mudanza.core.layouts.writing import RowWriter
    from mudanza.core.sources.reading import INNER

    keys = KeyBook(book, move.key_pattern(book), move.ledger).all()
    parts = keys["identity"].str.split(INNER)
    most = int(parts.list.len().max() or 1)  # type: ignore[arg-type]
    old = [parts.list.get(i, null_on_oob=True).alias(f"old {i + 1}") for i in range(most)]
    rows = pl.DataFrame([*old, keys["key"].alias("new")])
    if as_json:
        look.document(rows.to_dicts())
        return
    writer = RowWriter(rows.columns)
    sys.stdout.buffer.write(writer.head() + writer.rows(rows))
