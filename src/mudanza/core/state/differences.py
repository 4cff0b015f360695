"""What a build is to what the target held when it was made: which records are new to it, other, or to go."""

from __future__ import annotations

import polars as pl

from mudanza.core.state.bodies import packed, unpacked
from mudanza.core.state.ledger import Ledger

#: what becomes of a record in the target beside ADDED, CHANGED and LAST_CHANGE: it is another because it left, there again as it was, or taken out
MARKED, BACK, REMOVED = "marked", "back", "removed"
#: a record's key, the hash of it (null if it is removed), and what becomes of it
DIFFERENCES = {"key": pl.String, "record": pl.UInt64, "what": pl.String}


def note_differences(ledger: Ledger, run: int, list_name: str, against: str | None, rows: pl.DataFrame) -> None:
    """Remember what a build is (`DIFFERENCES`); `against` says in which words files of it were written, None if none were. The ledger must be held by the run."""
    row = (list_name, run, against, packed(rows.select(list(DIFFERENCES)), list_name, run))
    ledger.tell("INSERT OR REPLACE INTO differences VALUES (?,?,?,?)", [row])


def differences_of(ledger: Ledger, list_name: str, run: int) -> tuple[str | None, pl.DataFrame]:
    """What a build is, and against what files of it were written (None if none were)."""
    query = "SELECT against, body FROM differences WHERE list = ? AND run = ?"
    found = ledger.ask(query, list_name, run) if ledger.has("differences") else []
    if not found:
        return None, pl.DataFrame(schema=DIFFERENCES)
    ((against, body),) = found
    return against, unpacked(ledger, body, list_name, run)
