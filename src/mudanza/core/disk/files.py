"""Files that appear whole or not at all, and digests of what was written."""

from __future__ import annotations

import atexit
import contextlib
import hashlib
import itertools
import os
import signal
import stat
import threading
import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from types import TracebackType
from typing import BinaryIO

from mudanza.core.disk.effects import effects
from mudanza.core.disk.named_outputs import may_be_written, noted_with
from mudanza.core.disk.processes import may_live, this_process
from mudanza.core.disk.project_files import ProjectFiles, usual_mode
from mudanza.core.documents.errors import MoveError, OutsideError, Place, disk_error
from mudanza.core.values.digest import Digest

#: the signals that end a command as Ctrl-C does
INTERRUPTIONS = [getattr(signal, name) for name in ("SIGINT", "SIGTERM", "SIGHUP") if hasattr(signal, name)]
#: unfinished files that belong to no project, and that no ledger knows of
_NOBODY = "0"
#: after so many seconds one of another machine, of which nothing can be known, is taken for left behind
_LEFT = 7 * 24 * 3600
_numbers = itertools.count(1)


class OutFile:
    """Takes bytes for a file, counts and digests them, and keeps nothing: what a rehearsal writes to."""

    def __init__(self, final: Path) -> None:
        self.final = final
        self.part = final
        self.size = 0
        self._sha = hashlib.sha256()

    def write(self, data: bytes | memoryview) -> None:
        """Append bytes."""
        self._sha.update(data)
        self.size += len(data)

    def digest(self, name: str) -> Digest:
        """The digest of what was written."""
        return Digest(name, self.size, self._sha.hexdigest())

    def close(self) -> None:
        """Nothing more is to come."""

    def discard(self) -> None:
        """What was written is not wanted."""


class StreamFile(OutFile):
    """A device or a pipe, which is written to, not replaced."""

    def __init__(self, final: Path) -> None:
        super().__init__(final)
        with _disk_errors(final):
            self._file: BinaryIO = final.open("wb", buffering=0)

    def write(self, data: bytes | memoryview) -> None:
        """Write bytes at once."""
        rest = memoryview(data)
        with _disk_errors(self.final):
            while rest:
                rest = rest[self._file.write(rest) :]
        super().write(data)

    def close(self) -> None:
        """Nothing more is to come."""
        with _disk_errors(self.final):
            self._file.close()

    discard = close


class PartFile(OutFile):
    """A file written beside its place, for its owner alone, to be renamed when all is well. Its name says whose it is,
    and of what process."""

    def __init__(self, final: Path, owner: str, mode: int | None) -> None:
        super().__init__(final)
        self.part = final.with_name(f".mudanza-{owner}-{this_process()}-{next(_numbers)}.part")
        self._mode = mode
        with _disk_errors(final):
            flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | getattr(os, "O_BINARY", 0)
            self._file: BinaryIO = os.fdopen(os.open(self.part, flags, 0o600), "wb")

    def write(self, data: bytes | memoryview) -> None:
        """Append bytes. Raises OutsideError if the disk does not take them."""
        with _disk_errors(self.final):
            self._file.write(data)
        super().write(data)

    def close(self) -> None:
        """Make sure the bytes are on the disk."""
        if self._file.closed:
            return
        with _disk_errors(self.final):
            self._file.flush()
            os.fsync(self._file.fileno())
            mode = _mode_of(self.final) if self._mode is None else self._mode
            if hasattr(os, "fchmod"):
                os.fchmod(self._file.fileno(), mode)
            self._file.close()

    def discard(self) -> None:
        """Take the unfinished file away."""
        with contextlib.suppress(OSError):
            self._file.close()
        with contextlib.suppress(OSError):
            self.part.unlink(missing_ok=True)


def _mode_of(final: Path) -> int:
    """The permissions of a file as it is, or as a new one gets them."""
    try:
        return stat.S_IMODE(final.stat().st_mode)
    except OSError:
        return usual_mode()


@contextlib.contextmanager
def _disk_errors(path: Path) -> Iterator[None]:
    try:
        yield
    except OSError as error:
        raise disk_error(error, path) from error


@dataclass
class Outputs:
    """The files that a command writes, and those that it removes. They are discarded together unless they were
    released or published.

    With `keep` false nothing touches the disk. Files of a `project` have its permissions; of a `run`, they wait for
    the ledger. For files that a user named it says for what `command`,
    whether they may `overwrite` others, and what they may never: what is `protected`.
    """

    project: ProjectFiles | None = None
    run: int | None = None
    keep: bool = True
    command: str = ""
    overwrite: bool = False
    protected: Sequence[Path] = ()
    files: list[OutFile] = field(default_factory=list)
    removed: list[Path] = field(default_factory=list)
    named: list[OutFile] = field(default_factory=list)
    _made: list[Path] = field(default_factory=list)
    _swept: set[Path] = field(default_factory=set)

    def remove(self, final: Path) -> None:
        """A file that is not to be there any more when the run is done."""
        if self.keep and final.exists():
            self.removed.append(final.absolute())

    def create(self, final: Path, *, private: bool = False) -> OutFile:
        """Begin a file that is to appear at `final`; what is a device or a pipe is written to."""
        final = final.absolute()
        if not self.keep:
            return self._noted(lambda: OutFile(final))
        if final.is_symlink():
            final = final.resolve()
        if any(one.final == final for one in self.files):
            raise MoveError(
                "two files would be written to this place.", place=Place(str(final)), hint="Give one another name."
            )
        if is_stream(final):
            return self._noted(lambda: StreamFile(final))
        owner = self.project.mark if self.project is not None and self.run is not None else _NOBODY
        mode = 0o600 if private else self.project.mode(final) if self.project is not None else None
        self._make_folder(final.parent)
        if final.parent not in self._swept:
            self._swept.add(final.parent)
            sweep(final.parent, [_NOBODY])
        return self._noted(lambda: PartFile(final, owner, mode))

    def create_named(self, final: Path, *, private: bool = False) -> OutFile:
        """Begin a file that a user named; if it is `private`, for its owner alone. Raises MoveError where it may not
        be written there (`named_outputs`)."""
        if not is_stream(final):
            may_be_written(final, self.command, self.project, overwrite=self.overwrite, protected=self.protected)
        file = self.create(final, private=private)
        self.named.append(file)
        return file

    def _noted(self, make: Callable[[], OutFile]) -> OutFile:
        if not self.files:
            # an interruption can come at a moment at which no `with` block sees it
            atexit.register(self._discard)
        # a part that an interruption kept from being noted would stay behind
        with uninterrupted():
            file = make()
            self.files.append(file)
        return file

    def _make_folder(self, folder: Path) -> None:
        missing = list(itertools.takewhile(lambda one: not one.exists(), (folder, *folder.parents)))
        self._made += missing
        (self.project or ProjectFiles(folder)).make_folder(folder)

    def _discard(self) -> None:
        for file in self.files:
            file.discard()
        if self.files:
            # folders that were made for them alone
            for folder in self._made:
                with contextlib.suppress(OSError):
                    folder.rmdir()

    def create_text(self, final: Path, text: str) -> OutFile:
        """A whole text file at once, in UTF-8."""
        file = self.create(final)
        file.write(text.encode())
        return file

    def close(self) -> list[tuple[str, str]]:
        """Finish all files; gives (part, final) for each, and for what is not to be there any more no part.

        Raises OutsideError where somebody took an unfinished file away.
        """
        for file in self.files:
            file.close()
        parts = [file for file in self.files if file.part != file.final]
        for file in parts:
            if not file.part.exists():
                raise OutsideError(
                    "its unfinished file was removed while the command ran, by another program.",
                    place=Place(str(file.final)),
                    hint=f"Run again, and let files whose names begin with .mudanza- be ({file.part.name}).",
                )
        return [("", str(path)) for path in self.removed] + [(str(file.part), str(file.final)) for file in parts]

    def release(self) -> None:
        """From here on the parts belong to the ledger, which will see to their renaming."""
        self.files = []

    def publish(self) -> None:
        """Put all files into place, for what has no run."""
        pairs = self.close()
        noted = self.project is not None and any(file.part != file.final for file in self.named)
        with self.project.lock() if self.project is not None and noted else contextlib.nullcontext(), uninterrupted():
            put_into_place(pairs, repeated=False)
            self.note_named()
            self.release()

    def note_named(self) -> None:
        """Note what was put into the places that a user named. The project must be locked."""
        written = {file.final: file.digest("").sha256 for file in self.named if file.part != file.final}
        if self.project is not None and written:
            path, text = noted_with(self.project, self.command, written)
            file = PartFile(path, _NOBODY, self.project.mode(path))
            file.write(text.encode())
            file.close()
            put_into_place([(str(file.part), str(path))])

    def __enter__(self) -> Outputs:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        # what was neither released nor put into place is not wanted
        self._discard()
        self.files = []
        atexit.unregister(self._discard)


def is_stream(path: Path) -> bool:
    """Whether a path is a device or a pipe, that is written to or read from as it comes."""
    try:
        mode = path.stat().st_mode
    except OSError:
        return False
    return stat.S_ISFIFO(mode) or stat.S_ISCHR(mode) or stat.S_ISBLK(mode) or stat.S_ISSOCK(mode)


def put_into_place(pairs: list[tuple[str, str]], *, repeated: bool = True) -> None:
    """Rename finished parts into place, and remove what no part is for.

    Where it may be `repeated`, what is done already is passed over.
    """
    folders = set()
    for part, final in pairs:
        with _disk_errors(Path(final)):
            if not part:
                if Path(final).exists():
                    Path(final).unlink(missing_ok=True)
                    effects.removed.append(final)
                continue
            try:
                Path(part).replace(final)
            except FileNotFoundError:
                if not repeated:
                    raise
                # another command that found it has put it there meanwhile
                continue
            effects.place(final)
            folders.add(Path(final).parent)
    for folder in folders:
        if os.name == "posix":
            with contextlib.suppress(OSError):
                handle = os.open(folder, os.O_RDONLY)
                try:
                    os.fsync(handle)
                finally:
                    os.close(handle)


@contextlib.contextmanager
def uninterrupted() -> Iterator[None]:
    """Hold interruptions back until what is done here is done; then there is one KeyboardInterrupt."""
    if threading.current_thread() is not threading.main_thread():
        yield
        return
    caught: list[int] = []
    before = {one: signal.signal(one, lambda number, _: caught.append(number)) for one in INTERRUPTIONS}
    try:
        yield
    finally:
        for one, handler in before.items():
            signal.signal(one, handler if handler is not None else signal.SIG_DFL)
    if caught:
        raise KeyboardInterrupt


def sweep(folder: Path, owners: Iterable[str] | None = None, *, deep: bool = False) -> None:
    """Take away parts in a folder (and, if `deep`, in those within it) that processes left behind which are no longer
    alive: those of some owners, or all."""
    begins = (".mudanza-",) if owners is None else tuple(f".mudanza-{owner}-" for owner in owners)
    with contextlib.suppress(OSError):
        for part in (folder.rglob if deep else folder.glob)(".mudanza-*.part"):
            with contextlib.suppress(OSError):
                old = time.time() - part.stat().st_mtime > _LEFT
                if part.name.startswith(begins) and (old or not may_live(part.name)):
                    part.unlink(missing_ok=True)
