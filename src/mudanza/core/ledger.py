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
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path
from typing import Any

from mudanza.core.errors import LedgerError, Place
from mudanza.core.files import Outputs, rename_all

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
CREATE INDEX IF NOT EXISTS changes_by_key ON changes (subject, key, field);
"""
_VERSION = 3


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
    """The present moment as the ledger writes it."""
    return datetime.now().astimezone().isoformat(timespec="seconds")


class Ledger:
    """The ledger of a move. Opening creates nothing; the file comes with the first run that writes."""

    def __init__(self, path: Path, wait: float = 30) -> None:
        self.path = path
        self._wait = wait
        self._connection: sqlite3.Connection | None = None

    def exists(self) -> bool:
        return self.path.exists()

    @property
    def _db(self) -> sqlite3.Connection:
        if self._connection is None:
            with self._errors():
                self._connection = self._open()
        return self._connection

    def _open(self) -> sqlite3.Connection:
        if not self.exists():
            empty = sqlite3.connect(":memory:", isolation_level=None)
            empty.executescript(_SCHEMA)
            return empty
        connection = sqlite3.connect(self.path, isolation_level=None, timeout=self._wait, check_same_thread=False)
        version = connection.execute("PRAGMA user_version").fetchone()[0]
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
        connection = sqlite3.connect(self.path, isolation_level=None, timeout=self._wait, check_same_thread=False)
        connection.execute("PRAGMA journal_mode = WAL")
        connection.execute("BEGIN IMMEDIATE")
        for statement in _SCHEMA.split(";"):
            connection.execute(statement)
        connection.execute(f"PRAGMA user_version = {_VERSION}")
        connection.execute("COMMIT")
        self._connection = connection

    @contextlib.contextmanager
    def _errors(self) -> Iterator[None]:
        place = Place(str(self.path))
        try:
            yield
        except sqlite3.OperationalError as error:
            text = str(error)
            if "locked" in text or "busy" in text:
                raise LedgerError(
                    f"another run holds the ledger{self._holder()}.",
                    place=place,
                    hint=f"Waited {self._wait:.0f} seconds. Let it finish and run again, or give --wait SECONDS.",
                ) from error
            if "full" in text:
                raise LedgerError(
                    "the disk is full.", place=place, hint="Make room and run again; nothing was changed."
                ) from error
            if "readonly" in text or "unable to open" in text:
                raise LedgerError(
                    "the ledger may not be written.", place=place, hint="Look at the permissions of .mudanza."
                ) from error
            raise LedgerError(
                f"the ledger cannot be used ({text}).", place=place, hint="Restore it from a backup."
            ) from error
        except sqlite3.DatabaseError as error:
            raise LedgerError(
                f"the ledger is damaged ({error}).",
                place=place,
                hint="Restore .mudanza/ledger.sqlite from a backup.",
            ) from error

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
                    self._db.execute("UPDATE runs SET state = ?, ended = ? WHERE id = ?", (state, now(), run))
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
            self._db.executemany("INSERT INTO pending VALUES (?,?,?)", [(run, *pair) for pair in files])
            self._db.execute(
                "UPDATE runs SET state = 'done', ended = ?, counts = ?, read = ?, written = ? WHERE id = ?",
                (now(), json.dumps(counts), json.dumps(read), json.dumps(written), run),
            )
            self._db.execute("COMMIT")
            outputs.release()
            rename_all(files)
            self._db.execute("DELETE FROM pending WHERE run = ?", (run,))

    def _recover(self, run: int) -> None:
        """Finish the renaming of killed runs, and mark runs whose process is gone."""
        self._rename_pending()
        # this process holds the ledger, so no other run can be under way beyond waiting for it
        for other, process in self._db.execute(
            "SELECT id, process FROM runs WHERE state = 'running' AND id < ? AND machine = ?",
            (run, socket.gethostname()),
        ).fetchall():
            if not _alive(process):
                self._db.execute("UPDATE runs SET state = 'interrupted' WHERE id = ?", (other,))

    def _rename_pending(self) -> None:
        rename_all(self._db.execute("SELECT part, final FROM pending").fetchall())
        self._db.execute("DELETE FROM pending")

    def alive_runs(self) -> set[str]:
        """The numbers of runs that are under way."""
        with self._errors():
            rows = self._db.execute("SELECT id, process FROM runs WHERE state = 'running'").fetchall()
        return {str(run) for run, process in rows if _alive(process)}

    def runs(self, limit: int | None = None) -> list[Run]:
        """The runs, newest first."""
        with self._errors():
            rows = self._db.execute(
                "SELECT id, command, subject, started, ended, state, as_of, counts, read, written, process FROM runs"
                " ORDER BY id DESC LIMIT ?",
                (-1 if limit is None else limit,),
            ).fetchall()
        result = []
        for row in rows:
            state = "interrupted" if row[5] == "running" and not _alive(row[10]) else row[5]
            counts, read, written = (json.loads(text) if text else None for text in row[7:10])
            id_, command, subject, started, ended, _, as_of = row[:7]
            result.append(
                Run(id_, command, subject, started, ended, state, as_of, counts or {}, read or [], written or [])
            )
        return result

    # key pages

    def books(self) -> dict[str, int]:
        """The key books and how many identifiers each has given out."""
        with self._errors():
            rows = self._db.execute(
                "SELECT book, SUM(last - first + 1) FROM key_pages GROUP BY book ORDER BY book"
            ).fetchall()
        return dict(rows)

    def pages(self, book: str) -> list[tuple[int, int, bytes]]:
        """The pages of a key book: first and last number, and the body."""
        with self._errors():
            return self._db.execute(
                "SELECT first, last, body FROM key_pages WHERE book = ? ORDER BY first", (book,)
            ).fetchall()

    def put_page(self, book: str, first: int, last: int, run: int, body: bytes) -> None:
        """Write a page, in the place of one that began with the same number."""
        with self._errors():
            self._db.execute("INSERT OR REPLACE INTO key_pages VALUES (?,?,?,?,?)", (book, first, last, run, body))

    # records that went out

    def put_sent(self, run: int, list_name: str, file: str, engine: str, body: bytes) -> None:
        """Note what is new, changed or gone in a build of a list; `engine` made its hashes."""
        with self._errors():
            self._db.execute("INSERT OR REPLACE INTO sent VALUES (?,?,?,?,?)", (list_name, run, file, engine, body))

    def sent(self, list_name: str) -> list[tuple[int, str, str, bytes]]:
        """The builds of a list, oldest first: run, file, engine, and what was new, changed or gone."""
        with self._errors():
            if not self._has("sent"):
                return []
            return self._db.execute(
                "SELECT run, file, engine, body FROM sent WHERE list = ? ORDER BY run", (list_name,)
            ).fetchall()

    def _has(self, table: str) -> bool:
        """Whether the ledger, which may be of an earlier version, has a table."""
        return self._db.execute("SELECT 1 FROM sqlite_master WHERE name = ?", (table,)).fetchone() is not None

    # surveys

    def surveyed(self) -> list[tuple[str, str, int, str]]:
        """The files that were surveyed: SHA-256, path, rows, when; oldest first."""
        with self._errors():
            if not self._has("surveys"):
                return []
            return self._db.execute("SELECT sha256, path, rows, moment FROM surveys ORDER BY moment").fetchall()

    def put_surveys(self, files: list[tuple[str, str, int]]) -> None:
        """Note files that were surveyed: SHA-256, path, rows."""
        moment = now()
        with self._errors():
            self._create()
            self._db.executemany("INSERT INTO surveys VALUES (?,?,?,?)", [(*file, moment) for file in files])

    # loans

    def put_loan(self, loan: str, run: int, subject: str, detail: dict[str, Any]) -> None:
        """Note a loan."""
        with self._errors():
            self._db.execute(
                "INSERT INTO loans VALUES (?,?,?,?,?,?)",
                (loan, run, subject, now(), "out", json.dumps(detail)),
            )

    def loan(self, loan: str) -> tuple[str, str, str, dict[str, Any]] | None:
        """A loan's subject, when it was lent, its state, and its detail."""
        with self._errors():
            row = self._db.execute("SELECT subject, lent, state, detail FROM loans WHERE id = ?", (loan,)).fetchone()
        return None if row is None else (row[0], row[1], row[2], json.loads(row[3]))

    def loans(self) -> list[tuple[str, str, str, str]]:
        """All loans, newest first: id, subject, when lent, state."""
        with self._errors():
            return self._db.execute("SELECT id, subject, lent, state FROM loans ORDER BY lent DESC, id DESC").fetchall()

    def accept_changes(self, loan: str, subject: str, cells: list[tuple[str, str, str | None, str | None]]) -> None:
        """Note accepted cells (key, field, before, after) and that the loan is back."""
        moment = now()
        with self._errors():
            self._db.executemany(
                "INSERT INTO changes VALUES (?,?,?,?,?,?,?)",
                [(loan, subject, *cell, moment) for cell in cells],
            )
            self._db.execute("UPDATE loans SET state = 'received' WHERE id = ?", (loan,))

    def changes(self, subject: str) -> list[tuple[str, str, str, str | None, str | None]]:
        """All accepted cells of a subject, oldest first: loan, key, field, before, after."""
        with self._errors():
            return self._db.execute(
                "SELECT loan, key, field, before, after FROM changes WHERE subject = ? ORDER BY rowid", (subject,)
            ).fetchall()

    def accepted_since(self, subject: str, moment: str, loan: str) -> dict[tuple[str, str], tuple[str | None, str]]:
        """Cells accepted from other loans since a moment: (key, field) → (value, loan)."""
        with self._errors():
            rows = self._db.execute(
                "SELECT key, field, after, loan FROM changes WHERE subject = ? AND accepted >= ? AND loan != ? ORDER BY rowid",
                (subject, moment, loan),
            ).fetchall()
        return {(key, field): (after, other) for key, field, after, other in rows}


def _alive(process: int | None) -> bool:
    if process is None:
        return False
    if os.name != "posix":  # a signal of 0 would end the process on other systems
        return True
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return False
    except PermissionError:
        return True
    return True
