"""A run under way: it holds the ledger for writing, and its files appear when what it did is committed."""

from __future__ import annotations

import contextlib
import json
import os
import socket
import sqlite3
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from mudanza.core.disk.effects import effects
from mudanza.core.disk.files import Outputs, is_stream, put_into_place, sweep, uninterrupted
from mudanza.core.disk.named_outputs import may_be_written
from mudanza.core.documents.errors import LedgerError, OutsideError, Place
from mudanza.core.state.evidence import witness
from mudanza.core.state.ledger import Ledger, now


@dataclass(frozen=True)
class Running:
    """A run by its number, the ledger that it holds, and the files that it writes. Nothing of it is kept unless it is
    committed."""

    id: int
    ledger: Ledger
    outputs: Outputs

    def commit(
        self,
        counts: dict[str, int] | None = None,
        read: Sequence[dict[str, Any]] = (),
        written: Sequence[dict[str, Any]] = (),
    ) -> None:
        """Keep what was written, put the files into place, and note the run as done.

        Raises OutsideError where the run is done, and a file could not be put into place.
        """
        ledger, run = self.ledger, self.id
        path, text = witness(ledger, run)
        self.outputs.create_text(path, text)
        files = self.outputs.close()
        with ledger.errors():
            # the folder may be moved before somebody finds a part
            kept = [(run, *(_kept(ledger, path) for path in pair)) for pair in files]
            ledger.db.executemany("INSERT INTO pending VALUES (?,?,?)", kept)
            ledger.db.execute(
                "UPDATE runs SET state = 'done', ended = ?, counts = ?, read = ?, written = ? WHERE id = ?",
                (now(), json.dumps(counts or {}), json.dumps(list(read)), json.dumps(list(written)), run),
            )
            # whoever finishes the work of killed runs waits until these files are in place
            with ledger.project.lock(), uninterrupted():
                ledger.db.execute("COMMIT")
                effects.recorded.append(run)
                effects.waiting = [final for part, final in files if part and final != str(path)]
                self.outputs.release()
                _put_into_place(run, files)
                effects.waiting = []
                self.outputs.note_named()
            # where another command holds the ledger, that takes this away
            with contextlib.suppress(sqlite3.OperationalError):
                ledger.db.execute("PRAGMA busy_timeout = 0")
                ledger.db.execute("DELETE FROM pending WHERE run = ?", (run,))
            ledger.db.execute(f"PRAGMA busy_timeout = {int(ledger.project.wait * 1000)}")
        ledger.into_one_file()


def _put_into_place(run: int, files: list[tuple[str, str]]) -> None:
    try:
        put_into_place(files)
    except OutsideError as error:
        raise OutsideError(
            f"run {run} is done, but a file could not be put into place: {error.what}",
            place=error.place,
            hint="Correct that; the next build, lend or receive puts the file there.",
        ) from error


@contextlib.contextmanager
def running(
    ledger: Ledger,
    command: str,
    subject: str,
    *,
    as_of: str | None = None,
    to: Sequence[Path] = (),
    inputs: Sequence[Path] = (),
) -> Iterator[Running]:
    """Begin a run and hold the ledger for it; what killed runs left undone is done first. Nothing is kept unless it is
    committed.

    `to` are the files that a user named for it, `inputs` those that it reads. Raises MoveError where one of the former
    may not be written, LedgerError where another run holds the ledger for too long.
    """
    for path in to:
        if not path.is_dir() and not is_stream(path):
            may_be_written(path, command, ledger.project, protected=inputs)
    folders = {str(path.absolute().parent) for path in to if not ledger.project.contains(path)}
    run = begin(ledger, command, subject, as_of, sorted(folders))
    with ledger.errors():
        ledger.db.execute("BEGIN IMMEDIATE")
        try:
            _recover(ledger, run)
            _sweep(ledger)
            with Outputs(ledger.project, run, command=command, protected=inputs) as outputs:
                yield Running(run, ledger, outputs)
            if ledger.db.in_transaction:
                ledger.db.execute("ROLLBACK")
        except BaseException as error:
            if ledger.db.in_transaction:
                ledger.db.execute("ROLLBACK")
            state = "interrupted" if isinstance(error, KeyboardInterrupt) else "failed"
            with contextlib.suppress(sqlite3.Error):
                # from the commit on a run is done, whatever happens
                ledger.db.execute(
                    "UPDATE runs SET state = ?, ended = ? WHERE id = ? AND state = 'running'", (state, now(), run)
                )
            raise


def begin(ledger: Ledger, command: str, subject: str, as_of: str | None, folders: Sequence[str]) -> int:
    """Note that a run begins, and into what folders outside of the project it will write, visible to others at once;
    gives its number."""
    with ledger.errors():
        ledger.project.allow()
        ledger.create()
        row = (command, subject, now(), "running", os.getpid(), socket.gethostname(), as_of)
        ledger.db.executemany("INSERT OR IGNORE INTO elsewhere VALUES (?)", [(one,) for one in folders])
        cursor = ledger.db.execute(
            "INSERT INTO runs (command, subject, started, state, process, machine, as_of) VALUES (?,?,?,?,?,?,?)",
            row,
        )
        assert cursor.lastrowid is not None
        effects.begun.append(cursor.lastrowid)
        return cursor.lastrowid


def settle(ledger: Ledger) -> None:
    """Finish what a killed run had committed and not yet put into place, before files are looked at."""
    if not ledger.exists():
        return
    pending = ledger.ask("SELECT part FROM pending")
    if not pending:
        return
    with ledger.errors():
        try:
            ledger.db.execute("BEGIN IMMEDIATE")
        except sqlite3.OperationalError:
            # who holds the ledger has put them into place, and not ended yet
            if any(part and Path(_found(ledger, part)).exists() for (part,) in pending):
                raise
            return
        _rename_pending(ledger)
        ledger.db.execute("COMMIT")


def _recover(ledger: Ledger, run: int) -> None:
    """Finish the renaming of killed runs, and mark runs whose process is gone."""
    _rename_pending(ledger)
    # this process holds the ledger, so no other run can be under way beyond waiting for it
    for other, lives in ledger.unended_runs(before=run).items():
        if not lives:
            ledger.db.execute("UPDATE runs SET state = 'interrupted' WHERE id = ?", (other,))


def _rename_pending(ledger: Ledger) -> None:
    if not ledger.ask("SELECT 1 FROM pending LIMIT 1"):
        return
    with ledger.project.lock():
        pairs = ledger.ask("SELECT part, final FROM pending")
        found = [(_found(ledger, part), _found(ledger, final)) for part, final in pairs]
        for _, final in foreign_files(ledger)[:1]:
            raise LedgerError(
                f"the ledger names a file outside of the project that a run was to write or remove: {final}.",
                place=Place(str(ledger.path)),
                hint="No command does that. Is this ledger from somebody else? Bring back your own, or accept it "
                "without that: mudanza ledger --older-ledger.",
            )
        put_into_place(found)
        ledger.db.execute("DELETE FROM pending")


def foreign_files(ledger: Ledger) -> list[tuple[str, str]]:
    """What a ledger says that runs are to write or remove, and no run of the project may: part and file, as it names
    them."""
    rows = ledger.ask("SELECT part, final FROM pending")
    return [
        (part, final) for part, final in rows if not _may_be_placed(ledger, _found(ledger, part), _found(ledger, final))
    ]


def _may_be_placed(ledger: Ledger, part: str, final: str) -> bool:
    """Whether a file that a ledger names is one that a run of the project may write or remove.

    It lies in the project; elsewhere, it is an unfinished file of this very project beside its place.
    """
    if all(ledger.project.contains(Path(one)) for one in (part, final) if one):
        return True
    named = Path(part).name.startswith(f".mudanza-{ledger.project.mark}-") and part.endswith(".part")
    return bool(part) and named and Path(part).resolve().parent == Path(final).resolve().parent


def _sweep(ledger: Ledger) -> None:
    """Take away the unfinished files that killed runs left behind. The ledger must be held."""
    home = ledger.project.folder
    sweep(home)
    for folder in sorted(one for one in home.iterdir() if one.is_dir() and not one.is_symlink()):
        if folder.name != "incoming":
            sweep(folder, deep=folder.name in ("out", "loans"))
    for (folder,) in ledger.ask("SELECT folder FROM elsewhere"):
        sweep(Path(folder), [ledger.project.mark])


def _kept(ledger: Ledger, path: str) -> str:
    """A path as the ledger keeps it: from its own folder, if it is on the same disk; no path stays none."""
    if not path:
        return path
    try:
        return os.path.relpath(path, ledger.path.absolute().parent)
    except ValueError:
        return path


def _found(ledger: Ledger, path: str) -> str:
    return os.path.normpath(ledger.path.absolute().parent / path) if path else path
