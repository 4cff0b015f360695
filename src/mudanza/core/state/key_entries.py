"""What was written into key books by hand or from a file: identifiers imported, corrected, and joined to others. It goes before what runs gave out."""

from __future__ import annotations

import json
from dataclasses import dataclass

import polars as pl

from mudanza.core.state.bodies import packed, unpacked
from mudanza.core.state.ledger import Ledger

#: how entries came: from a file, one by one, or because two old identifiers are of one record
IMPORTED, CORRECTED, JOINED = "imported", "corrected", "joined"
#: an old identifier, its new one, and the one that it had before (null if none)
ENTRIES = {"identity": pl.String, "key": pl.String, "before": pl.String}


@dataclass(frozen=True)
class Entered:
    """What a run entered: how, why and by whom, and the entries (`ENTRIES`)."""

    run: int
    how: str
    because: str | None
    who: str | None
    rows: pl.DataFrame


def entered(ledger: Ledger, book: str) -> list[Entered]:
    """All that was entered into a key book, oldest first."""
    if not ledger.has("key_entries"):
        return []
    query = "SELECT run, how, detail, body FROM key_entries WHERE book = ? ORDER BY run"
    found = []
    for run, how, detail, body in ledger.ask(query, book):
        said = json.loads(detail)
        found.append(Entered(run, how, said.get("because"), said.get("who"), unpacked(ledger, body, book, run)))
    return found


def enter(ledger: Ledger, book: str, new: Entered) -> None:
    """Enter into a key book. The ledger must be held by the run."""
    detail = json.dumps({"because": new.because, "who": new.who}, ensure_ascii=False)
    body = packed(new.rows.select(list(ENTRIES)), book, new.run)
    ledger.tell("INSERT INTO key_entries VALUES (?,?,?,?,?)", [(book, new.run, new.how, detail, body)])


def standing_entries(entries: list[Entered]) -> pl.DataFrame:
    """The entries that hold by now: of each old identifier the last, with `how` it came."""
    parts = [one.rows.with_columns(how=pl.lit(one.how)) for one in entries]
    every = pl.concat([pl.DataFrame(schema={**ENTRIES, "how": pl.String}), *parts])
    return every.unique("identity", keep="last", maintain_order=True)
