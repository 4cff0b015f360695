"""Runs that somebody names by their numbers."""

from __future__ import annotations

from mudanza.core.documents.errors import MoveError
from mudanza.core.state.ledger import Ledger, Run

#: the command of runs that accept what came back from a loan
RECEIVE = "receive"


def done_build(ledger: Ledger, number: int, *, or_loan: bool = False) -> Run:
    """The build of a number, or the run that accepted what came back from a loan. Raises MoveError where there is no such run, or it is not done."""
    found = next((run for run in ledger.runs() if run.id == number), None)
    if found is None:
        raise MoveError(f"there is no run {number}.", hint="`mudanza ledger` lists the runs.")
    if found.command not in ("build", *([RECEIVE] if or_loan else [])) or found.state != "done":
        raise MoveError(
            f"run {number} is no build that is done: {found.command}, {found.state}.",
            hint="`mudanza ledger` lists the runs; name one that is.",
        )
    return found
