"""Which old identifiers each source of a list brought in its builds, so that a source whose records all seem to be new is noticed."""

from __future__ import annotations

import polars as pl

from mudanza.core.state.bodies import packed, unpacked
from mudanza.core.state.ledger import Ledger

#: an old identifier (`values.hashing.fixed_hash` of it), and whether the source still brings it
_SCHEMA = {"identity": pl.UInt64, "there": pl.Boolean}


def brought(ledger: Ledger, list_name: str, source: str, book: str) -> pl.Series:
    """The hashes of the old identifiers that a source brought when its list was last built, each once; none before."""
    if not ledger.has("identities"):
        return pl.Series("identity", [], dtype=pl.UInt64)
    query = "SELECT body, run FROM identities WHERE list = ? AND source = ? AND book = ? ORDER BY run"
    rows = ledger.ask(query, list_name, source, book)
    parts = [unpacked(ledger, body, list_name, source, book, run) for body, run in rows]
    known = pl.concat([pl.DataFrame(schema=_SCHEMA), *parts]).unique("identity", keep="last", maintain_order=True)
    return known.filter("there")["identity"]


def note_brought(
    ledger: Ledger, run: int, list_name: str, source: str, book: str, before: pl.Series, now: pl.Series
) -> None:
    """Remember what a source brings now, as what is new and gone since `before`. The ledger must be held by the run."""
    was, is_ = before.to_frame("identity"), now.to_frame("identity")
    fresh = (is_.join(was, on="identity", how="anti") if was.height else is_).with_columns(there=True)
    gone = was.join(is_, on="identity", how="anti").with_columns(there=False)
    if fresh.is_empty() and gone.is_empty():
        return
    body = packed(pl.concat([fresh, gone]), list_name, source, book, run)
    ledger.tell("INSERT OR REPLACE INTO identities VALUES (?,?,?,?,?)", [(list_name, source, book, run, body)])
