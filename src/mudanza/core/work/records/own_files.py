"""Files that `records` has written are no exports of an old program, whatever they are called and wherever they lie."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from mudanza.core.documents.errors import Place, SourceError
from mudanza.core.plans.move import Move
from mudanza.core.state.evidence import ledger_of
from mudanza.core.values.digest import digest_of

COMMAND = "records"


def no_own_files(move: Move, paths: Iterable[Path]) -> None:
    """Raise SourceError for a file that is one of them."""
    known = _written(move)
    for path in paths if known else ():
        run = _run_of(path, known)
        if run is not None:
            raise SourceError(
                f"this is no export of an old program: `mudanza records` wrote it in run {run}.",
                place=Place(move.shown(path)),
                hint="Put the export itself there. `mudanza records` can look at the file.",
            )


def _written(move: Move) -> dict[int, dict[str, int]]:
    """The files that were written, by size and digest, with the run of each."""
    ledger = ledger_of(move)
    found: dict[int, dict[str, int]] = {}
    for run in ledger.runs(command=COMMAND) if ledger.exists() else ():
        for file in run.written if run.state == "done" else ():
            found.setdefault(int(file["size"]), {})[str(file["sha256"])] = run.id
    return found


def _run_of(path: Path, known: dict[int, dict[str, int]]) -> int | None:
    # to read a large export twice takes its time
    alike = known.get(path.stat().st_size) if path.is_file() else None
    return alike.get(digest_of(path, str(path)).sha256) if alike else None
