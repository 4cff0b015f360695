"""Taking a build back: the identifiers that it gave out, what it remembered, and its files, as long as nothing has been made of them."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from mudanza.core.documents.errors import MoveError, Place
from mudanza.core.layouts.csvw import DESCRIPTION
from mudanza.core.plans.move import Move
from mudanza.core.state.evidence import ledger_of
from mudanza.core.state.key_pages import cut_book, gave_unnoted, given_by
from mudanza.core.state.ledger import Ledger, Run
from mudanza.core.state.running import running
from mudanza.core.values.digest import digest_of
from mudanza.core.work.runs import done_build

_COMMAND = "take back"


@dataclass(frozen=True)
class TakenBack:
    """A build that was taken back by a `run`: how many identifiers of each key book, and the files that are gone."""

    run: int
    build: int
    keys: dict[str, int]
    files: list[str]


def take_back(move: Move, build: int) -> TakenBack:
    """Take a build back. Nothing may have been done since, and its files must be as it wrote them.

    Raises MoveError where it cannot be taken back, and why.
    """
    ledger = ledger_of(move)
    # what cannot be is told before the ledger knows of a run
    files = _files(move, _done(ledger, build))
    with running(ledger, _COMMAND, f"run {build}") as run:
        _done(ledger, build)
        keys = given_by(ledger, build)
        for book, (first, _) in keys.items():
            cut_book(ledger, run.id, book, first)
        for table in ("given", "sent", "identities", "kinds", "contents", "differences"):
            ledger.tell(f"DELETE FROM {table} WHERE run = ?", [(build,)])
        ledger.tell("UPDATE runs SET state = 'taken back' WHERE id = ?", [(build,)])
        for file in files:
            # they go when all else is committed
            run.outputs.remove(file)
        counted = {book: last - first + 1 for book, (first, last) in keys.items()}
        shown = [move.shown(file) for file in files]
        run.commit()
    return TakenBack(run.id, build, counted, shown)


def _done(ledger: Ledger, build: int) -> Run:
    """The build, if it can be taken back."""
    found = done_build(ledger, build)
    later = [run for run in ledger.runs() if run.id > build and run.state == "done" and run.command != _COMMAND]
    if later:
        last = later[-1]
        raise MoveError(
            f"run {last.id} ({last.command} {last.subject}) came after run {build}, and may rest on its identifiers.",
            hint="Take back the later builds first, the last of them before the others."
            if last.command == "build"
            else "Only what was done last can be taken back.",
        )
    if gave_unnoted(ledger, build):
        raise MoveError(
            f"run {build} did not note which identifiers it gave out.", hint="It was made by an earlier version."
        )
    return found


def _files(move: Move, build: Run) -> list[Path]:
    """The files of a build. Raises MoveError where one is not as the build wrote it."""
    digests = {one["path"]: one["sha256"] for one in build.written}
    files = [move.path(path) for path in digests]
    for path, file in zip(digests, files, strict=True):
        if file.is_file() and digest_of(file, path).sha256 != digests[path]:
            raise MoveError(
                f"the file is not as run {build.id} wrote it, so something was made of it.",
                place=Place(path),
                hint="Move it away, if the build is to be taken back all the same.",
            )
    # what describes the files of all lists is made anew by the next build
    description = move.out / DESCRIPTION
    return [*files, move.out / "run.json", *([description] if description.is_file() else [])]
