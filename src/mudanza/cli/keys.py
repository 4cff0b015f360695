"""`mudanza keys`."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING

import click
from rich.text import Text

from mudanza.cli import look
from mudanza.cli.options import here, json_option, wait_option
from mudanza.core.work.shapes import entered_shape, found_keys_shape, key_books_shape

if TYPE_CHECKING:
    from mudanza.core.plans.move import Move
    from mudanza.core.work.keys import EnteredNow


@click.command("keys")
@click.argument("book", required=False)
@click.option("--find", metavar="TEXT", help="The old identifiers that have TEXT, or whose new one it is.")
@click.option("--export", is_flag=True, help="Print the book as CSV: the old identifier's parts, the new one.")
@click.option("--import", "file", metavar="FILE", type=click.Path(path_type=Path), help="Enter what the target gave.")
@click.option(
    "--old",
    multiple=True,
    metavar="COLUMN",
    help="The file's column of the old identifier, or =TEXT; once for each part.",
)
@click.option("--new", metavar="COLUMN", help="The file's column of the new identifier.")
@click.option("--replace", is_flag=True, help="Also where an old identifier has another new one already.")
@click.option("--correct", nargs=2, metavar="OLD NEW", help="Give an old identifier another new one.")
@click.option(
    "--join", nargs=2, metavar="OLD OTHER", help="Both are of one record: OTHER gets the new identifier of OLD."
)
@click.option("--because", metavar="TEXT", help="Why; it is kept.")
@click.option("--who", metavar="NAME", help="Who says so.")
@wait_option
@json_option
def command(
    book: str | None,
    find: str | None,
    export: bool,
    file: Path | None,
    old: tuple[str, ...],
    new: str | None,
    replace: bool,
    correct: tuple[str, str] | None,
    join: tuple[str, str] | None,
    because: str | None,
    who: str | None,
    wait: float,
    as_json: bool,
) -> None:
    """Show the key books, or look into BOOK and enter what is known of it.

    A key book has for each old identifier its new one. What is entered goes before what builds gave out, is kept with its reason,
    and is never given to anybody else.

    \b
    Examples:
      mudanza keys
      mudanza keys owners --find 01003
      mudanza keys owners --import given.csv --old =north --old "Client No" --new Id
      mudanza keys owners --join OW-000003 OW-000077 --because "one person"
      mudanza keys owners --export > owners-keys.csv
    """
    from mudanza.core.work.keys import correct_key, find_keys, import_keys, join_keys, key_books

    move = here(wait)
    chosen = sum((find is not None, export, file is not None, correct is not None, join is not None))
    if chosen > 1:
        raise click.UsageError(
            "--find, --export, --import, --correct and --join do different things; give one of them."
        )
    if book is None:
        if chosen:
            raise click.UsageError("Name the key book: mudanza keys BOOK …. `mudanza keys` lists them.")
        books = key_books(move)
        if as_json:
            look.document(key_books_shape(books))
            return
        look.heading(move.name, look.plural(len(books), "key book"))
        rows = [
            [
                one.name,
                one.pattern,
                look.count(one.known),
                look.count(one.given),
                ", ".join(f"{look.count(n)} {how}" for how, n in one.entered.items()),
            ]
            for one in books
        ]
        look.columns(rows, heads=["key book", "pattern", "known", "given out", ""], right=(2, 3))
        return
    if export:
        _export(move, book, as_json)
        return
    if file is not None:
        if not old or new is None:
            raise click.UsageError(
                "Say which columns of the file have the old identifier (--old) and the new one (--new)."
            )
        _entered(import_keys(move, book, file, old, new, replace=replace, because=because, who=who), as_json)
        return
    if correct is not None:
        _entered(correct_key(move, book, *correct, because or "", who), as_json)
        return
    if join is not None:
        _entered(join_keys(move, book, *join, because or "", who), as_json)
        return
    if find is None:
        raise click.UsageError(
            f"Say what to do: mudanza keys {book} --find TEXT, --export, --import, --correct or --join."
        )
    found = find_keys(move, book, find)
    if as_json:
        look.document(found_keys_shape(found))
        return
    look.heading(f"key book {book}", look.plural(found.count, "identifier") + f" with {find}")
    for one in found.keys:
        look.columns([[one.old, "->", Text(one.new, style="bold")]])
        for run, how, why, by, before in one.entries:
            was = f", before it was {before}" if before else ""
            look.say(f"      run {run}: {how}{was}; {why or ''}" + (f" ({by})" if by else ""), style="dim")
    if found.count > len(found.keys):
        look.say(f"  and {look.count(found.count - len(found.keys))} more", style="dim")


def _entered(done: EnteredNow, as_json: bool) -> None:
    if as_json:
        look.document(entered_shape(done))
        return
    more = [f"{look.count(done.same)} were known just so"] if done.same else []
    more += [f"{look.plural(done.blank, 'line')} without an identifier passed over"] if done.blank else []
    look.heading(
        f"key book {done.book}", f"{look.plural(done.count, 'identifier')} {done.how}, noted as run {done.run}"
    )
    if more:
        look.say(f"  {'; '.join(more)}")
    rows: list[list[str | Text]] = [
        [old, "->", Text(new, style="bold"), f"before: {before}" if before else ""]
        for old, new, before in done.examples
    ]
    look.columns(rows)


def _export(move: Move, book: str, as_json: bool) -> None:
    import polars as pl

    from mudanza.core.sinks.csv_text import RowWriter
    from mudanza.core.state.evidence import ledger_of
    from mudanza.core.state.key_pages import open_book
    from mudanza.core.values.row_columns import BETWEEN

    keys = open_book(ledger_of(move), book, move.key_pattern(book)).all()
    parts = keys["identity"].str.split(BETWEEN)
    most = int(parts.list.len().max() or 1)  # type: ignore[arg-type]
    old = [parts.list.get(i, null_on_oob=True).alias(f"old {i + 1}") for i in range(most)]
    rows = pl.DataFrame([*old, keys["key"].alias("new")])
    if as_json:
        look.document(rows.to_dicts())
        return
    writer = RowWriter(rows.columns)
    sys.stdout.buffer.write(writer.head() + writer.rows(rows))
