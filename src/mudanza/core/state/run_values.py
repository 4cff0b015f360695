"""The values that builds were run with, so that the next one follows, and that each can be made again."""

from __future__ import annotations

from collections.abc import Mapping

from mudanza.core.state.ledger import Ledger


def note_values(ledger: Ledger, run: int, values: Mapping[str, str]) -> None:
    """Remember the values of a run, which must hold the ledger."""
    ledger.tell("INSERT OR REPLACE INTO run_values VALUES (?,?,?)", [(run, *item) for item in values.items()])


def values_of(ledger: Ledger, run: int) -> dict[str, str]:
    """The values of a run, by their names."""
    if not ledger.has("run_values"):
        return {}
    return dict(ledger.ask("SELECT name, value FROM run_values WHERE run = ? ORDER BY name", run))


def last_values(ledger: Ledger) -> dict[str, tuple[str, int]]:
    """The greatest value of each name (a number, or a text as periods are written) in a run that is done and was not taken back, with that run: an older one that was built again does not
    make what followed it free."""
    if not ledger.has("run_values"):
        return {}
    query = "SELECT name, value, run FROM run_values JOIN runs ON runs.id = run WHERE state = 'done' ORDER BY run"
    found: dict[str, tuple[str, int]] = {}
    for name, value, run in ledger.ask(query):
        if name not in found or _rank(value) >= _rank(found[name][0]):
            found[name] = value, run
    return found


def _rank(value: str) -> tuple[int, str]:
    return (int(value), "") if value.strip().lstrip("-").isdecimal() else (0, value)
