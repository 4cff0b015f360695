"""The kinds that databases declare for columns, by list, source and run."""

from __future__ import annotations

import json
from collections.abc import Mapping

from mudanza.core.state.ledger import Ledger


def kinds_before(ledger: Ledger, list_name: str, source: str) -> tuple[int, dict[str, str]]:
    """The run that last noted the kinds of a source's columns, and these; (0, {}) if none did."""
    if not ledger.has("kinds"):
        return 0, {}
    query = "SELECT run, kinds FROM kinds WHERE list = ? AND source = ? ORDER BY run DESC LIMIT 1"
    rows = ledger.ask(query, list_name, source)
    return (rows[0][0], json.loads(rows[0][1])) if rows else (0, {})


def note_kinds(ledger: Ledger, run: int, list_name: str, source: str, kinds: Mapping[str, str]) -> None:
    """Remember the kinds of a source's columns, if they are not as before. The ledger must be held by the run."""
    if kinds and kinds_before(ledger, list_name, source)[1] != kinds:
        ledger.tell(
            "INSERT OR REPLACE INTO kinds VALUES (?,?,?,?)", [(list_name, source, run, json.dumps(dict(kinds)))]
        )
