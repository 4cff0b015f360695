"""The ledger: one SQLite file that remembers runs, identifiers given out, and loans.

One run at a time holds the ledger for writing (an SQLite transaction, which dies with its process); any number may
read meanwhile. What a run gave out and which files it is about to put into place are committed together, before
the files are renamed; whoever opens the ledger next finishes the renaming of a run that was killed in between
(`running.py`). When nobody has it open, all that it holds is in that one file.
"""

from __future__ import annotations

import atexit
import contextlib
import json
import os
import signal
import socket
import sqlite3
import threading
import time
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from urllib.parse import quote
from weakref import WeakSet

from mudanza.core.disk.files import uninterrupted
from mudanza.core.disk.project_files import ACCESS, ProjectFiles
from mudanza.core.documents.errors import LedgerError, Place, disk_error
from mudanza.core.state.schema import SCHEMA, VERSION

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


class Ledger:
    """The ledger of a project, which it lies in. Opening creates nothing; the file comes with the first run that
    writes."""

    def __init__(self, path: Path, project: ProjectFiles | None = None) -> None:
        self._connection: sqlite3.Connection | None = None
        self.path = path
        self.project = project or ProjectFiles(path.absolute().parent.parent)
        self._wait = self.project.wait
        _OPENED.add(self)

    def exists(self) -> bool:
        """Whether there is a ledger; a file of no bytes is none."""
        return self.path.exists() and self.path.stat().st_size > 0

    @property
    def db(self) -> sqlite3.Connection:
        """The connection, for those who write runs."""
        if self._connection is None:
            with self.errors():
                self._connection = self._open()
        return self._connection

    def _open(self) -> sqlite3.Connection:
        if not self.exists():
            return _empty()
        if self.path.is_dir():
            raise LedgerError("this is a folder.", place=Place(str(self.path)), hint="Move it away.")
        connection = self._connect()
        try:
            version = connection.execute("PRAGMA user_version").fetchone()[0]
        except BaseException:
            connection.close()
            raise
        if version == 0:
            # another run is making it at this moment
            connection.close()
            return _empty()
        if version > VERSION:
            connection.close()
            raise LedgerError(
                "the ledger was written by a newer Mudanza.",
                place=Place(str(self.path)),
                hint="Install that version.",
            )
        connection.execute(f"PRAGMA busy_timeout = {int(self._wait * 1000)}")
        return connection

    def _connect(self) -> sqlite3.Connection:
        # where nothing can be written it can still be looked at
        fixed = self.path.exists() and not os.access(self.path.parent, os.W_OK)
        address = f"file:{quote(str(self.path.absolute()))}{'?immutable=1' if fixed else ''}"
        return sqlite3.connect(address, uri=True, isolation_level=None, timeout=self._wait, check_same_thread=False)

    def create(self) -> None:
        """Make the file if it is not there yet, or bring it up to this version."""
        if self.exists() and self.db.execute("PRAGMA user_version").fetchone()[0] == VERSION:
            return
        self.close()
        self._make_file()
        until = time.monotonic() + self._wait
        while self._connection is None:
            connection = self._connect()
            try:
                # SQLite itself does not wait for others that set the same mode at the same moment
                connection.execute("PRAGMA journal_mode = WAL")
                connection.execute("BEGIN IMMEDIATE")
                for statement in SCHEMA.split(";"):
                    connection.execute(statement)
                connection.execute(f"PRAGMA user_version = {VERSION}")
                connection.execute("COMMIT")
                self._connection = connection
            except sqlite3.OperationalError as error:
                connection.close()
                if error.sqlite_errorcode & 0xFF != sqlite3.SQLITE_BUSY or time.monotonic() > until:
                    raise
                time.sleep(_PAUSE)

    def _make_file(self) -> None:
        """The file with its permissions, which those beside it get too."""
        self.project.make_folder(self.path.parent)
        try:
            os.close(os.open(self.path, os.O_WRONLY | os.O_CREAT, 0o600))
            self.path.chmod(ACCESS[self.project.access])
        except OSError as error:
            raise disk_error(error, self.path) from error

    @contextlib.contextmanager
    def errors(self) -> Iterator[None]:
        """Tell an error of SQLite in words."""
        try:
            yield
        except (sqlite3.Error, UnicodeDecodeError) as error:
            # the primary result code (https://sqlite.org/rescode.html)
            what, hint = self._words(getattr(error, "sqlite_errorcode", None), str(error))
            raise LedgerError(what, place=Place(str(self.path)), hint=hint) from error

    def _words(self, code: int | None, words: str) -> tuple[str, str]:
        """What went wrong in SQLite, and what to do."""
        match code and code & 0xFF:
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
            # what SQLite can read and is no text, number or table that was written there
            case sqlite3.SQLITE_CORRUPT | sqlite3.SQLITE_NOTADB | sqlite3.SQLITE_ERROR | sqlite3.SQLITE_MISMATCH | None:
                return f"the ledger is damaged ({words}).", RESTORE
            case _:
                return f"the ledger cannot be used ({words}).", "Run again with --debug, and report what it shows."

    def damaged(self, what: str) -> LedgerError:
        """The error that says that something in the ledger is not as it was written."""
        return LedgerError(f"the ledger is damaged ({what}).", place=Place(str(self.path)), hint=RESTORE)

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
        """Let go of the file. Who closes it last leaves all that it holds in it."""
        if self._connection is not None:
            with contextlib.suppress(sqlite3.Error):
                self._connection.close()
            self._connection = None

    def __del__(self) -> None:
        # a connection refers to itself, and would stay open for a while
        try:
            with contextlib.suppress(Exception), uninterrupted():
                self.close()
        except KeyboardInterrupt:
            # raised here it would be lost, so it comes again in a moment
            threading.Timer(_PAUSE, os.kill, (os.getpid(), signal.SIGINT)).start()

    def into_one_file(self) -> None:
        """Bring what was committed into the file itself, as far as nobody reads it at this moment."""
        with contextlib.suppress(sqlite3.Error):
            self.db.execute("PRAGMA wal_checkpoint(TRUNCATE)")

    def back_up(self, to: Path) -> None:
        """Copy the ledger into a file, whole and as of one moment, whoever writes meanwhile
        (https://sqlite.org/backup.html)."""
        with self.errors(), contextlib.closing(sqlite3.connect(to)) as copy:
            self.db.backup(copy)
            # in one file, that needs no other beside it
            copy.execute("PRAGMA journal_mode = DELETE")

    # runs

    def runs(self, limit: int | None = None, command: str | None = None) -> list[Run]:
        """The runs, or those of one command, newest first."""
        rows = self.ask(
            "SELECT id, command, subject, started, ended, state, as_of, counts, read, written, process, machine FROM runs"
            " WHERE ? IS NULL OR command = ? ORDER BY id DESC LIMIT ?",
            *(command, command, -1 if limit is None else limit),
        )
        result = []
        for row in rows:
            id_, command, subject, started, ended, state, as_of = row[:7]
            if state == "running" and not self._lives(id_, row[10], row[11], started):
                state = "interrupted"
            counts = self.noted(row[7], dict) or {}
            read, written = (self.noted(text, list) or [] for text in row[8:10])
            result.append(Run(id_, command, subject, started, ended, state, as_of, counts, read, written))
        return result

    def unended_runs(self, before: int | None = None) -> dict[int, bool]:
        """The runs that did not end, as far as the ledger knows, and whether they are under way, as far as this
        machine can tell."""
        rows = self.ask(
            "SELECT id, process, machine, started FROM runs WHERE state = 'running' AND (? IS NULL OR id < ?)",
            *(before, before),
        )
        return {run: self._lives(run, *process) for run, *process in rows}

    def _lives(self, run: int, process: int | None, machine: str | None, started: str) -> bool:
        """Whether the process of a run still runs: one of another machine may; a later one of the same number is
        another."""
        try:
            at = datetime.fromisoformat(started).timestamp()
        except (TypeError, ValueError):
            raise self.damaged(f"run {run} began at no moment") from None
        if not isinstance(process, int) or process < 0:
            return False
        if machine != socket.gethostname():
            return True
        import psutil

        try:
            return bool(psutil.Process(process).create_time() <= at + _TICK)
        except psutil.AccessDenied:
            return True
        except (psutil.Error, OverflowError, ValueError):
            return False

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
        with self.errors():
            return self.db.execute(query, values).fetchall()

    def tell(self, statement: str, rows: Sequence[tuple[Any, ...]]) -> None:
        """Write by a statement, once for each row of values. Within a run it is kept with the run's commit."""
        with self.errors():
            self.create()
            self.db.executemany(statement, rows)

    def noted(self, text: Any, kind: type[Any]) -> Any:
        """What was noted as JSON, of some kind; None for nothing. Raises LedgerError where it is something else."""
        if text is None:
            return None
        try:
            value = json.loads(text)
        except (TypeError, ValueError, RecursionError):
            raise self.damaged("a note is no JSON") from None
        if not isinstance(value, kind):
            raise self.damaged(f"a note is not of the kind {kind.__name__}")
        return value


#: the ledgers of this process, which are closed when it ends
_OPENED: WeakSet[Ledger] = WeakSet()
RESTORE = "Bring back .mudanza/ledger.sqlite from your newest backup (`mudanza ledger --backup FILE` makes one)."


def close_ledgers() -> None:
    """Let go of all ledgers, so that each lies whole in its one file."""
    for ledger in list(_OPENED):
        ledger.close()


atexit.register(close_ledgers)


def _empty() -> sqlite3.Connection:
    """What a ledger is before the first run."""
    empty = sqlite3.connect(":memory:", isolation_level=None, check_same_thread=False)
    empty.executescript(SCHEMA)
    return empty
