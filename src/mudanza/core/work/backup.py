"""A copy of the ledger to go back to."""

from __future__ import annotations

from pathlib import Path

from mudanza.core.disk.files import Outputs
from mudanza.core.disk.temporary import temporary_folder
from mudanza.core.documents.errors import LedgerError, Place
from mudanza.core.plans.move import Move
from mudanza.core.state.evidence import ledger_of
from mudanza.core.state.running import settle
from mudanza.core.values.digest import Digest

_PIECE = 1 << 20


def back_up(move: Move, to: Path) -> Digest:
    """Copy the ledger of a project into a file, whole and as of one moment; runs may be under way.

    Raises LedgerError where there is none, or it is older than the project's files; MoveError where the file may not be written.
    """
    ledger = ledger_of(move)
    if not ledger.exists():
        raise LedgerError(
            "there is no ledger yet.", place=Place(move.shown(move.ledger_path)), hint="It comes with the first build."
        )
    settle(ledger)
    with Outputs(move.files, command="ledger") as outputs:
        file = outputs.create_named(to, private=True)
        copy = temporary_folder() / "ledger.sqlite"
        ledger.back_up(copy)
        with copy.open("rb") as reading:
            while piece := reading.read(_PIECE):
                file.write(piece)
        copy.unlink()
        outputs.publish()
    return file.digest(move.shown(to.resolve()))
