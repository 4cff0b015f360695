"""Where a project keeps its files, who may read them, and the lock that whoever changes one of them takes."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from functools import cache
from hashlib import sha256
from pathlib import Path

from mudanza.core.disk.effects import OWN_FOLDER
from mudanza.core.documents.errors import OutsideError, Place, disk_error

#: by the setting `access`, the permissions of files; folders may be entered, too
ACCESS = {"owner": 0o600, "group": 0o660, "everyone": 0o666}
#: the folders in which Mudanza alone writes what holds people's records
_OWN = ("out", "loans", "corrections", OWN_FOLDER)
#: the folders, and the files, of people and of old programs
_OTHERS = (
    "incoming", "plans", "layouts", "crosswalks", "questions", "corrections", "exclusions", "inclusions", OWN_FOLDER, ".git",
)  # fmt: skip
_OTHER_FILES = ("mudanza.toml", "steps.py", "answers.csv", "words.csv")


@dataclass(frozen=True)
class ProjectFiles:
    """The files of a project: its folder, who may read what is written there (of `ACCESS`), for how many seconds
    another command is waited for, and
    whether files that a user names may `overwrite` others, but what is `protected`."""

    folder: Path
    access: str = "owner"
    wait: float = 30
    overwrite: bool = False
    protected: tuple[Path, ...] = ()

    @property
    def own(self) -> Path:
        """The folder that Mudanza keeps to itself."""
        return self.folder / OWN_FOLDER

    @property
    def mark(self) -> str:
        """By what unfinished files of the project are known, wherever they lie."""
        return sha256(str(self.folder.resolve()).encode()).hexdigest()[:8]

    def contains(self, path: Path) -> bool:
        """Whether a path lies in the project, all links followed."""
        return path.resolve().is_relative_to(self.folder.resolve())

    def of_people(self, path: Path) -> str | None:
        """The folder (or the file) of people, of old programs or of the ledger that a path is, or lies in; None if it
        is none."""
        if not self.contains(path):
            return None
        first, *rest = path.resolve().relative_to(self.folder.resolve()).parts or (".",)
        return first if first in (_OTHERS if rest else (*_OTHERS, *_OTHER_FILES)) else None

    def mode(self, path: Path) -> int | None:
        """The permissions of a file; None where they are those of all files."""
        if not self.contains(path):
            return None
        parts = path.resolve().relative_to(self.folder.resolve()).parts
        return ACCESS[self.access] if parts and parts[0] in _OWN else None

    def make_folder(self, folder: Path) -> None:
        """Make a folder of the project, for those who may read what is in it. Raises OutsideError where it cannot be
        made."""
        missing = []
        while not folder.exists():
            missing.append(folder)
            folder = folder.parent
        try:
            for one in reversed(missing):
                mode = self.mode(one)
                one.mkdir(exist_ok=True)
                if mode is not None:
                    one.chmod(_enterable(mode))
        except OSError as error:
            raise disk_error(error, folder) from error

    def allow(self) -> None:
        """Give the folders of what holds people's records, and the ledger, the permissions that the settings say, as
        far as this user may."""
        for path in (*(self.folder / name for name in _OWN), self.own / "ledger.sqlite"):
            with suppress(OSError):
                mode = _enterable(ACCESS[self.access]) if path.is_dir() else ACCESS[self.access]
                if path.exists() and stat.S_IMODE(path.stat().st_mode) != mode:
                    path.chmod(mode)

    @contextmanager
    def lock(self) -> Iterator[None]:
        """Hold the files of the project, for the moment in which they are read and written anew. Raises OutsideError
        where another command does not let go of them."""
        from filelock import FileLock, Timeout

        self.make_folder(self.own)
        try:
            lock = FileLock(self.own / "files.lock", mode=ACCESS[self.access], is_singleton=True)
            with lock.acquire(timeout=self.wait):
                yield
        except Timeout as error:
            raise OutsideError(
                f"another command is writing files of the project, and did not end in {self.wait:.0f} seconds.",
                place=Place(str(self.own / "files.lock")),
                hint="Let it finish and run again.",
            ) from error
        except PermissionError as error:
            raise disk_error(error, Path(error.filename or self.own)) from error


def _enterable(mode: int) -> int:
    """The permissions of a folder for those who may read the files in it."""
    return mode | (mode & 0o444) >> 2


@cache
def usual_mode() -> int:
    """The permissions that files get from whoever runs the process."""
    mask = os.umask(0o077)
    os.umask(mask)
    return 0o666 & ~mask
