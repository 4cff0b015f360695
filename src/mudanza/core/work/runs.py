"""Runs that somebody names by their numbers."""

from __future__ import annotations

from mudanza.core.documents.errors import MoveError
from mudanza.core.state.ledger import Ledger, Run


def done_build(ledger: Ledger, number: int) -> Run:
    """The build of a number. Raises MoveError where there is no such run, or it is no build that is done."""
    found = next((run for run in ledger.runs() if run.id == number), None)
    if found is None:
        raise MoveError(f"there is no run {number}.", hint="`mudanza ledger` lists the runs.")
    if found.command != "build" or found.state != "done":
        raise MoveError(
            f"run {number} is no build that is done: {found.command}, {found.state}.",
            hint="`mudanza ledger` lists the runs; name one that is.",
        )
    return found
