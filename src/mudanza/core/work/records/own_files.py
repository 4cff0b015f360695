"""Files that `records` has written are no exports of an old program, whatever they are called and wherever they lie."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from mudanza.core.documents.errors import Place, SourceError
from mudanza.core.plans.move import Move
from mudanza.core.state.ledger import ledger_of
from mudanza.core.values.digest import digest_of

COMMAND = "records"


def run_that_wrote(move: Move, path: Path) -> int | None:
    """The run that has written a file as it is, byte by byte; None if there is none."""
    ledger = ledger_of(move)
    if not path.is_file() or not ledger.exists():
        return None
    size = path.stat().st_size
    known = {
        str(file["sha256"]): run.id
        for run in ledger.runs(command=COMMAND)
        if run.state == "done"
        for file in run.written
        if file["size"] == size
    }
    # to read a large export twice takes its time
    return known.get(digest_of(path, str(path)).sha256) if known else None


def no_own_files(move: Move, paths: Iterable[Path]) -> None:
    """Raise SourceError for a file that is one of them."""
    for path in paths:
        run = run_that_wrote(move, path)
        if run is not None:
            raise SourceError(
                f"this is no export of an old program: `mudanza records` wrote it in run {run}.",
                place=Place(move.shown(path)),
                hint="Put the export itself there. `mudanza records` can look at the file.",
            )
