"""Loans in the ledger, and the cells that were accepted from them."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from mudanza.core.state.ledger import Ledger, now

#: a cell: key, field, before, after
Cell = tuple[str, str, str | None, str | None]
#: stands for the field where a whole record was added or removed, which is what came of it
RECORD, ADDED, REMOVED = "(record)", "added", "removed"


@dataclass(frozen=True)
class Noted:
    """A loan as the ledger has it. `state` is out or received; `detail` is what the loan's kind remembers of it."""

    id: str
    subject: str
    lent: str
    state: str
    detail: dict[str, Any]


def note_loan(ledger: Ledger, run: int, loan: str, subject: str, detail: dict[str, Any]) -> None:
    """Note a loan. The ledger must be held by the run."""
    ledger.tell("INSERT INTO loans VALUES (?,?,?,?,?,?)", [(loan, run, subject, now(), "out", json.dumps(detail))])


def all_loans(ledger: Ledger) -> list[Noted]:
    """All loans, newest first."""
    rows = ledger.ask("SELECT id, subject, lent, state, detail FROM loans ORDER BY julianday(lent) DESC, id DESC")
    return [Noted(loan, subject, lent, state, json.loads(detail)) for loan, subject, lent, state, detail in rows]


def noted_loan(ledger: Ledger, loan: str) -> Noted | None:
    """A loan by its name."""
    return next((one for one in all_loans(ledger) if one.id == loan), None)


def accept_changes(ledger: Ledger, loan: Noted, cells: Sequence[Cell], *, back: bool = True) -> None:
    """Note accepted cells, and that the loan is `back`. The ledger must be held by a run."""
    moment = now()
    ledger.tell(
        "INSERT INTO changes VALUES (?,?,?,?,?,?,?)", [(loan.id, loan.subject, *cell, moment) for cell in cells]
    )
    if back:
        ledger.tell("UPDATE loans SET state = 'received' WHERE id = ?", [(loan.id,)])


def accepted(ledger: Ledger, subject: str) -> list[tuple[str, str, str, str | None, str | None]]:
    """All accepted cells of a subject, oldest first: loan, key, field, before, after."""
    return ledger.ask("SELECT loan, key, field, before, after FROM changes WHERE subject = ? ORDER BY rowid", subject)


def last_change(ledger: Ledger) -> int:
    """The number of the last cell that was accepted from any loan."""
    found = ledger.ask("SELECT max(rowid) FROM changes")
    return int(found[0][0] or 0)


def accepted_since(ledger: Ledger, loan: Noted) -> list[tuple[str, str, str | None, str]]:
    """Cells accepted from other loans of the subject since one was lent, oldest first: key, field, value, loan."""
    asked = "SELECT key, field, after, loan FROM changes WHERE subject = ? AND loan != ? AND {} ORDER BY rowid"
    if "changes" in loan.detail:
        return ledger.ask(asked.format("rowid > ?"), loan.subject, loan.id, loan.detail["changes"])
    # earlier versions noted local times, which cannot be compared as texts when the clocks go back
    return ledger.ask(asked.format("julianday(accepted) >= julianday(?)"), loan.subject, loan.id, loan.lent)


def accepted_from(ledger: Ledger, loan: str) -> list[tuple[str, str, str | None]]:
    """Cells accepted from a loan, oldest first: key, field, value."""
    return ledger.ask("SELECT key, field, after FROM changes WHERE loan = ? ORDER BY rowid", loan)
