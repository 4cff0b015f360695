"""Key books in the ledger: pages, each with the identifiers that were given out one after the other."""

from __future__ import annotations

import polars as pl

from mudanza.core.state.bodies import packed, unpacked
from mudanza.core.state.evidence import reserved_of
from mudanza.core.state.key_entries import JOINED, entered, standing_entries
from mudanza.core.state.ledger import Ledger
from mudanza.core.tables.key_book import KEYS, KeyBook
from mudanza.core.tables.key_pattern import KeyPattern

_PAGE = 100_000


def open_book(ledger: Ledger, name: str, pattern: KeyPattern) -> KeyBook:
    """A key book as the runs so far left it, with what was entered into it."""
    pages = ledger.pages(name)
    known = [_rows(ledger, name, *page).select("identity", "key") for page in pages]
    last, per_group = pages[-1][1] if pages else None, 0
    if (reserved := reserved_of(ledger, name)) is not None:
        last, per_group = max(last or 0, reserved[0]), reserved[1]
    written = entered(ledger, name)
    if not written:
        return KeyBook(name, pattern, known, last, per_group=per_group)
    entries = standing_entries(written)
    given = pl.concat([pl.DataFrame(schema=KEYS), *known])
    every = pl.concat(
        [given.join(entries, on="identity", how="anti", maintain_order="left"), entries.select(list(KEYS))]
    )
    shared = entries.filter(pl.col("how") == JOINED)["key"].implode()
    joined = every.filter(pl.col("key").is_in(shared))["identity"]
    # whatever was corrected since: what stood there once was somebody's
    taken = pl.concat([given, *(one.rows.select(list(KEYS)) for one in written)])
    return KeyBook(name, pattern, [every], last, taken=taken, joined=joined, per_group=per_group)


def save_book(ledger: Ledger, run: int, book: KeyBook) -> None:
    """Write what a run gave out to the ledger, which it must hold. A last page that is not full is written anew with it."""
    new = book.new()
    if new.is_empty():
        return
    first = book.next - book.given
    ledger.tell("INSERT OR REPLACE INTO given VALUES (?,?,?)", [(book.name, run, first)])
    pages = ledger.pages(book.name)
    if pages:
        start, last, body = pages[-1]
        if last - start + 1 < _PAGE and last + 1 == first:
            new = pl.concat([_rows(ledger, book.name, start, last, body), new])
            first = start
    _put(ledger, book.name, first, run, new)


def _put(ledger: Ledger, book: str, first: int, run: int, rows: pl.DataFrame) -> None:
    last = first + rows.height - 1
    ledger.put_page(book, first, last, run, packed(rows, book, first, last))


def _rows(ledger: Ledger, book: str, first: int, last: int, body: bytes) -> pl.DataFrame:
    return unpacked(ledger, body, book, first, last)


def given_by(ledger: Ledger, run: int) -> dict[str, tuple[int, int]]:
    """The numbers of the identifiers that a run gave out, the last of their key books: first and last, by key book."""
    if not ledger.has("given"):
        return {}
    firsts = dict(ledger.ask("SELECT book, first FROM given WHERE run = ?", run))
    return {book: (first, ledger.pages(book)[-1][1]) for book, first in firsts.items()}


def gave_unnoted(ledger: Ledger, run: int) -> bool:
    """Whether a run gave out identifiers without noting which, as those of earlier versions did."""
    books = {book for (book,) in ledger.ask("SELECT book FROM key_pages WHERE run = ?", run)}
    return not books <= given_by(ledger, run).keys()


def cut_book(ledger: Ledger, run: int, book: str, first: int) -> None:
    """Take the identifiers from a number on out of a key book. The ledger must be held by the run."""
    for start, last, body in ledger.pages(book):
        if last < first:
            continue
        ledger.tell("DELETE FROM key_pages WHERE book = ? AND first = ?", [(book, start)])
        if start < first:
            _put(ledger, book, start, run, _rows(ledger, book, start, last, body).head(first - start))
