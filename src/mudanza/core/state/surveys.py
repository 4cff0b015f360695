"""The files that were surveyed, in the ledger."""

from __future__ import annotations

from collections.abc import Sequence

from mudanza.core.state.ledger import Ledger, now


def surveyed(ledger: Ledger) -> list[tuple[str, str, int, str]]:
    """The files that were surveyed: SHA-256, path, rows, when; oldest first."""
    if not ledger.has("surveys"):
        return []
    return ledger.ask("SELECT sha256, path, rows, moment FROM surveys ORDER BY julianday(moment), rowid")


def note_surveys(ledger: Ledger, files: Sequence[tuple[str, str, int]]) -> None:
    """Note files that were surveyed: SHA-256, path, rows."""
    moment = now()
    ledger.tell("INSERT INTO surveys VALUES (?,?,?,?)", [(*file, moment) for file in files])
