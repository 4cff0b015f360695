"""The ledger: one SQLite file that remembers runs, identifiers given out, and loans.

One run at a time holds the ledger for writing (an SQLite transaction, which dies with its process); any number may
read meanwhile. What a run gave out and which files it is about to put into place are committed together, before
the files are renamed; whoever opens the ledger next finishes the renaming of a run that was killed in between.
"""

from __future__ import annotations

import contextlib
import json
import os
import socket
import sqlite3
import time
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from mudanza.core.documents.errors import LedgerError, OutsideError, Place
from mudanza.core.plans.move import Move
from mudanza.core.state.files import Outputs, rename_all, sweep, uninterrupted

_SCHEMA = """
CREATE TABLE IF NOT EXISTS runs (
  id INTEGER PRIMARY KEY AUTOINCREMENT, command TEXT NOT NULL, subject TEXT NOT NULL, started TEXT NOT NULL,
  ended TEXT, state TEXT NOT NULL, process INTEGER, machine TEXT, as_of TEXT, counts TEXT, read TEXT, written TEXT
);
CREATE TABLE IF NOT EXISTS key_pages (
  book TEXT NOT NULL, first INTEGER NOT NULL, last INTEGER NOT NULL, run INTEGER, body BLOB NOT NULL,
  PRIMARY KEY (book, first)
);
CREATE TABLE IF NOT EXISTS pending (run INTEGER NOT NULL, part TEXT NOT NULL, final TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS loans (
  id TEXT PRIMARY KEY, run INTEGER, subject TEXT NOT NULL, lent TEXT NOT NULL, state TEXT NOT NULL, detail TEXT NOT NULL
);
CREATE TABLE IF NOT EXISTS changes (
  loan TEXT NOT NULL, subject TEXT NOT NULL, key TEXT NOT NULL, field TEXT NOT NULL, before TEXT, after TEXT,
  accepted TEXT NOT NULL
);
CREATE TABLE IF NOT EXISTS surveys (sha256 TEXT NOT NULL, path TEXT NOT NULL, rows INTEGER NOT NULL, moment TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS sent (
  list TEXT NOT NULL, run INTEGER NOT NULL, file TEXT NOT NULL, engine TEXT NOT NULL, body BLOB NOT NULL, PRIMARY KEY (list, run)
);
CREATE TABLE IF NOT EXISTS identities (
  list TEXT NOT NULL, source TEXT NOT NULL, book TEXT NOT NULL, run INTEGER NOT NULL, body BLOB NOT NULL, PRIMARY KEY (list, source, book, run)
);
CREATE TABLE IF NOT EXISTS given (book TEXT NOT NULL, run INTEGER NOT NULL, first INTEGER NOT NULL, PRIMARY KEY (book, run));
CREATE TABLE IF NOT EXISTS kinds (
  list TEXT NOT NULL, source TEXT NOT NULL, run INTEGER NOT NULL, kinds TEXT NOT NULL, PRIMARY KEY (list, source, run)
);
CREATE TABLE IF NOT EXISTS run_values (run INTEGER NOT NULL, name TEXT NOT NULL, value TEXT NOT NULL, PRIMARY KEY (run, name));
CREATE TABLE IF NOT EXISTS key_entries (
  book TEXT NOT NULL, run INTEGER NOT NULL, how TEXT NOT NULL, detail TEXT NOT NULL, body BLOB NOT NULL, PRIMARY KEY (book, run)
);
CREATE TABLE IF NOT EXISTS contents (
  list TEXT NOT NULL, run INTEGER NOT NULL, part INTEGER NOT NULL, whole INTEGER NOT NULL, body BLOB NOT NULL, PRIMARY KEY (list, run, part)
);
CREATE TABLE IF NOT EXISTS differences (
  list TEXT NOT NULL, run INTEGER NOT NULL, against TEXT, body BLOB NOT NULL, PRIMARY KEY (list, run)
);
CREATE TABLE IF NOT EXISTS handed_over (
  run INTEGER NOT NULL, list TEXT NOT NULL, build INTEGER NOT NULL, how TEXT NOT NULL, anew INTEGER NOT NULL, moment TEXT NOT NULL, by TEXT, note TEXT,
  counts TEXT NOT NULL, taken_back INTEGER, body BLOB NOT NULL, PRIMARY KEY (run, list)
);
CREATE INDEX IF NOT EXISTS changes_by_key ON changes (subject, key, field);
"""
_VERSION = 5
#: seconds by which a run seems to begin before its process, since the ledger notes whole ones
_TICK = 2
#: seconds between two attempts to make the file
_PAUSE = 0.02


@dataclass(frozen=True)
class Run:
    """One execution as the ledger remembers it. `counts` are the ends of the rows; files carry their digests."""

    id: int
    command: str
    subject: str
    started: str
    ended: str | None
    state: str
    as_of: str | None = None
    counts: dict[str, int] = field(default_factory=dict)
    read: list[dict[str, Any]] = field(default_factory=list)
    written: list[dict[str, Any]] = field(default_factory=list)


def now() -> str:
    """The present moment as the ledger writes it, in UTC."""
    return datetime.now(UTC).isoformat(timespec="seconds")


def ledger_of(move: Move) -> Ledger:
    """The ledger of a move. Nothing is opened before something is asked.

    Raises LedgerError where it is gone, though a build has told of a run: identifiers would be given anew.
    """
    ledger = Ledger(move.ledger_path, move.wait)
    told = move.out / "run.json"
    if not ledger.exists() and told.exists():
        raise LedgerError(
            f"the ledger is gone, and {move.shown(told)} tells of a run: all records would get other identifiers than those that went out.",
            place=Place(move.shown(move.ledger_path)),
            hint=f"Bring it back from a backup. To begin anew, move {move.shown(move.out)}/ away.",
        )
    return ledger


def sweep_behind(move: Move, ledger: Ledger) -> None:
    """Take away the parts of files that killed runs left behind. The ledger must be held."""
    alive = ledger.alive_runs()
    for folder in (move.out, move.folder / "loans"):
        sweep(folder, alive)


class Ledger:
    """The ledger of a move. Opening creates nothing; the file comes with the first run that writes."""

    def __init__(self, path: Path, wait: float = 30) -> None:
        self.path = path
        self._wait = wait
        self._connection: sqlite3.Connection | None = None

    def exists(self) -> bool:
        """Whether there is a ledger; a file of no bytes is none."""
        return self.path.exists() and self.path.stat().st_size > 0

    @property
    def _db(self) -> sqlite3.Connection:
        if self._connection is None:
            with self._errors():
                self._connection = self._open()
        return self._connection

    def _open(self) -> sqlite3.Connection:
        if not self.exists():
            return _empty()
        connection = sqlite3.connect(self.path, isolation_level=None, timeout=self._wait, check_same_thread=False)
        version = connection.execute("PRAGMA user_version").fetchone()[0]
        if version == 0:
            # another run is making it at this moment
            connection.close()
            return _empty()
        if version > _VERSION:
            raise LedgerError(
                "the ledger was written by a newer Mudanza.",
                place=Place(str(self.path)),
                hint="Install that version.",
            )
        connection.execute(f"PRAGMA busy_timeout = {int(self._wait * 1000)}")
        return connection

    def _create(self) -> None:
        """Make the file if it is not there yet."""
        if self.exists() and self._db.execute("PRAGMA user_version").fetchone()[0] == _VERSION:
            return
        self.close()
        self.path.parent.mkdir(parents=True, exist_ok=True)
        until = time.monotonic() + self._wait
        while self._connection is None:
            connection = sqlite3.connect(self.path, isolation_level=None, timeout=self._wait, check_same_thread=False)
            try:
                # SQLite itself does not wait for others that set the same mode at the same moment
                connection.execute("PRAGMA journal_mode = WAL")
                connection.execute("BEGIN IMMEDIATE")
                for statement in _SCHEMA.split(";"):
                    connection.execute(statement)
                connection.execute(f"PRAGMA user_version = {_VERSION}")
                connection.execute("COMMIT")
                self._connection = connection
            except sqlite3.OperationalError as error:
                connection.close()
                if error.sqlite_errorcode & 0xFF != sqlite3.SQLITE_BUSY or time.monotonic() > until:
                    raise
                time.sleep(_PAUSE)

    @contextlib.contextmanager
    def _errors(self) -> Iterator[None]:
        place = Place(str(self.path))
        try:
            yield
        except sqlite3.DatabaseError as error:
            # the primary result code (https://sqlite.org/rescode.html)
            what, hint = self._told(getattr(error, "sqlite_errorcode", 0) & 0xFF, str(error))
            raise LedgerError(what, place=place, hint=hint) from error

    def _told(self, code: int, words: str) -> tuple[str, str]:
        """What went wrong in SQLite, and what to do."""
        match code:
            case sqlite3.SQLITE_BUSY | sqlite3.SQLITE_LOCKED:
                hint = f"Waited {self._wait:.0f} seconds. Let it finish and run again, or give --wait SECONDS."
                return f"another run holds the ledger{self._holder()}.", hint
            case sqlite3.SQLITE_FULL | sqlite3.SQLITE_IOERR:
                return f"the ledger cannot be written ({words}).", "Make room on the disk and run again."
            case sqlite3.SQLITE_READONLY | sqlite3.SQLITE_CANTOPEN | sqlite3.SQLITE_PERM:
                return (
                    "the ledger may not be written.",
                    "Look at the permissions of .mudanza, and whether the disk has room.",
                )
            case sqlite3.SQLITE_CORRUPT | sqlite3.SQLITE_NOTADB:
                return f"the ledger is damaged ({words}).", "Restore .mudanza/ledger.sqlite from a backup."
            case _:
                return f"the ledger cannot be used ({words}).", "Run again with --debug, and report what it shows."

    def _holder(self) -> str:
        with contextlib.suppress(sqlite3.Error):
            with contextlib.closing(sqlite3.connect(self.path, timeout=1)) as db:
                row = db.execute(
                    "SELECT id, command, subject, process, started FROM runs WHERE state = 'running' ORDER BY id DESC"
                ).fetchone()
            if row:
                return f" (run {row[0]}: {row[1]} {row[2]}, process {row[3]}, since {row[4]})"
        return ""

    def close(self) -> None:
        if self._connection is not None:
            self._connection.close()
            self._connection = None

    # runs

    def begin(self, command: str, subject: str, as_of: str | None = None) -> int:
        """Note that a run begins, visible to others at once; gives its number."""
        with self._errors():
            self._create()
            row = (command, subject, now(), "running", os.getpid(), socket.gethostname(), as_of)
            cursor = self._db.execute(
                "INSERT INTO runs (command, subject, started, state, process, machine, as_of) VALUES (?,?,?,?,?,?,?)",
                row,
            )
            assert cursor.lastrowid is not None
            return cursor.lastrowid

    @contextlib.contextmanager
    def held(self, run: int) -> Iterator[None]:
        """Hold the ledger for writing. Nothing written is kept unless `commit` is called."""
        with self._errors():
            self._db.execute("BEGIN IMMEDIATE")
            try:
                self._recover(run)
                yield
                if self._db.in_transaction:
                    self._db.execute("ROLLBACK")
            except BaseException as error:
                if self._db.in_transaction:
                    self._db.execute("ROLLBACK")
                state = "interrupted" if isinstance(error, KeyboardInterrupt) else "failed"
                with contextlib.suppress(sqlite3.Error):
                    # from the commit on a run is done, whatever happens
                    self._db.execute(
                        "UPDATE runs SET state = ?, ended = ? WHERE id = ? AND state = 'running'", (state, now(), run)
                    )
                raise

    def settle(self) -> None:
        """Finish what a killed run had committed and not yet put into place, before files are looked at."""
        if not self.exists():
            return
        with self._errors():
            if self._db.execute("SELECT 1 FROM pending LIMIT 1").fetchone() is None:
                return
            self._db.execute("BEGIN IMMEDIATE")
            self._rename_pending()
            self._db.execute("COMMIT")

    def commit(
        self,
        run: int,
        outputs: Outputs,
        counts: dict[str, int],
        read: list[dict[str, Any]],
        written: list[dict[str, Any]],
    ) -> None:
        """Keep what was written, put the run's files into place, and note the run as done."""
        files = outputs.close()
        with self._errors():
            # the folder may be moved before somebody finds a part
            kept = [(run, *(self._kept(path) for path in pair)) for pair in files]
            self._db.executemany("INSERT INTO pending VALUES (?,?,?)", kept)
            self._db.execute(
                "UPDATE runs SET state = 'done', ended = ?, counts = ?, read = ?, written = ? WHERE id = ?",
                (now(), json.dumps(counts), json.dumps(read), json.dumps(written), run),
            )
            with uninterrupted():
                self._db.execute("COMMIT")
                outputs.release()
                self._put_into_place(run, files)

    def _put_into_place(self, run: int, files: list[tuple[str, str]]) -> None:
        try:
            rename_all(files)
        except OutsideError as error:
            raise OutsideError(
                f"run {run} is done and its identifiers are given out, but a file could not be put into place: {error.what}",
                place=error.place,
                hint="Mend it; the next build, lend or receive puts the file there.",
            ) from error
        # where another command holds the ledger, it or the next one takes this away
        with contextlib.suppress(sqlite3.OperationalError):
            self._db.execute("DELETE FROM pending WHERE run = ?", (run,))

    def _recover(self, run: int) -> None:
        """Finish the renaming of killed runs, and mark runs whose process is gone."""
        self._rename_pending()
        # this process holds the ledger, so no other run can be under way beyond waiting for it
        for other, *process in self._db.execute(
            "SELECT id, process, machine, started FROM runs WHERE state = 'running' AND id < ?", (run,)
        ).fetchall():
            if not _alive(*process):
                self._db.execute("UPDATE runs SET state = 'interrupted' WHERE id = ?", (other,))

    def _rename_pending(self) -> None:
        pairs = self._db.execute("SELECT part, final FROM pending").fetchall()
        rename_all([(self._found(part), self._found(final)) for part, final in pairs])
        self._db.execute("DELETE FROM pending")

    def _kept(self, path: str) -> str:
        """A path as the ledger keeps it: from its own folder, if it is on the same disk; no path stays none."""
        if not path:
            return path
        try:
            return os.path.relpath(path, self.path.absolute().parent)
        except ValueError:
            return path

    def _found(self, path: str) -> str:
        return os.path.normpath(self.path.absolute().parent / path) if path else path

    def alive_runs(self) -> set[str]:
        """The numbers of runs that are under way, as far as this machine can tell."""
        rows = self.ask("SELECT id, process, machine, started FROM runs WHERE state = 'running'")
        return {str(run) for run, *process in rows if _alive(*process)}

    def runs(self, limit: int | None = None, command: str | None = None) -> list[Run]:
        """The runs, or those of one command, newest first."""
        with self._errors():
            rows = self._db.execute(
                "SELECT id, command, subject, started, ended, state, as_of, counts, read, written, process, machine FROM runs"
                " WHERE ? IS NULL OR command = ? ORDER BY id DESC LIMIT ?",
                (command, command, -1 if limit is None else limit),
            ).fetchall()
        result = []
        for row in rows:
            state = "interrupted" if row[5] == "running" and not _alive(row[10], row[11], row[3]) else row[5]
            counts, read, written = (json.loads(text) if text else None for text in row[7:10])
            id_, command, subject, started, ended, _, as_of = row[:7]
            result.append(
                Run(id_, command, subject, started, ended, state, as_of, counts or {}, read or [], written or [])
            )
        return result

    # key pages

    def books(self) -> dict[str, int]:
        """The key books and how many identifiers each has given out."""
        return dict(self.ask("SELECT book, SUM(last - first + 1) FROM key_pages GROUP BY book ORDER BY book"))

    def pages(self, book: str) -> list[tuple[int, int, bytes]]:
        """The pages of a key book: first and last number, and the body."""
        return self.ask("SELECT first, last, body FROM key_pages WHERE book = ? ORDER BY first", book)

    def put_page(self, book: str, first: int, last: int, run: int, body: bytes) -> None:
        """Write a page, in the place of one that began with the same number."""
        self.tell("INSERT OR REPLACE INTO key_pages VALUES (?,?,?,?,?)", [(book, first, last, run, body)])

    # what others keep in it

    def has(self, table: str) -> bool:
        """Whether the ledger, which may be of an earlier version, has a table."""
        return bool(self.ask("SELECT 1 FROM sqlite_master WHERE name = ?", table))

    def ask(self, query: str, *values: Any) -> list[Any]:
        """The rows that a query gives."""
        with self._errors():
            return self._db.execute(query, values).fetchall()

    def tell(self, statement: str, rows: Sequence[tuple[Any, ...]]) -> None:
        """Write by a statement, once for each row of values. Within `held` it is kept with the run's commit."""
        with self._errors():
            self._create()
            self._db.executemany(statement, rows)


def _empty() -> sqlite3.Connection:
    """What a ledger is before the first run."""
    empty = sqlite3.connect(":memory:", isolation_level=None)
    empty.executescript(_SCHEMA)
    return empty


def _alive(process: int | None, machine: str | None, started: str) -> bool:
    """Whether a process still runs: one of another machine may; a later one of the same number is another."""
    if process is None:
        return False
    if machine != socket.gethostname():
        return True
    import psutil

    try:
        return bool(psutil.Process(process).create_time() <= datetime.fromisoformat(started).timestamp() + _TICK)
    except psutil.NoSuchProcess:
        return False
    except psutil.AccessDenied:
        return True
