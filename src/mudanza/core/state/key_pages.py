"""Key books in the ledger: pages of Arrow (IPC, compressed with zstd), each with the identifiers that were given out one after the other."""

from __future__ import annotations

import io

import polars as pl

from mudanza.core.state.ledger import Ledger
from mudanza.core.tables.key_book import KeyBook
from mudanza.core.tables.key_pattern import KeyPattern

_PAGE = 100_000


def open_book(ledger: Ledger, name: str, pattern: KeyPattern) -> KeyBook:
    """A key book as the runs so far left it."""
    pages = ledger.pages(name)
    known = [pl.read_ipc(io.BytesIO(body)).select("identity", "key") for _, _, body in pages]
    return KeyBook(name, pattern, known, pages[-1][1] if pages else None)


def save_book(ledger: Ledger, run: int, book: KeyBook) -> None:
    """Write what a run gave out to the ledger, which it must hold. A last page that is not full is written anew with it."""
    new = book.new()
    if new.is_empty():
        return
    first = book.next - book.given
    pages = ledger.pages(book.name)
    if pages:
        start, last, body = pages[-1]
        if last - start + 1 < _PAGE and last + 1 == first:
            new = pl.concat([pl.read_ipc(io.BytesIO(body)), new])
            first = start
    written = io.BytesIO()
    new.write_ipc(written, compression="zstd")
    ledger.put_page(book.name, first, first + new.height - 1, run, written.getvalue())
