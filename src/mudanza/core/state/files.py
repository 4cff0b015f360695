"""Files that appear whole or not at all, and digests of what was read and written."""

from __future__ import annotations

import atexit
import contextlib
import hashlib
import os
import signal
import threading
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from types import TracebackType
from typing import BinaryIO

from mudanza.core.documents.errors import Place, SourceError, disk_error
from mudanza.core.values.digest import Digest

#: the signals that end a command as Ctrl-C does
INTERRUPTIONS = [getattr(signal, name) for name in ("SIGINT", "SIGTERM", "SIGHUP") if hasattr(signal, name)]
#: the files that this process has put into place
placed: list[str] = []


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


class PartFile(OutFile):
    """A file written beside its place, to be renamed when all is well."""

    def __init__(self, final: Path, mark: str) -> None:
        super().__init__(final)
        self.part = final.with_name(f".{final.name}.{mark}.part")
        try:
            final.parent.mkdir(parents=True, exist_ok=True)
            self._file: BinaryIO = self.part.open("wb")
        except OSError as error:
            raise disk_error(error, final) from error

    def write(self, data: bytes | memoryview) -> None:
        """Append bytes. Raises OutsideError if the disk does not take them."""
        try:
            self._file.write(data)
        except OSError as error:
            raise disk_error(error, self.final) from error
        super().write(data)

    def close(self) -> None:
        """Make sure the bytes are on the disk."""
        if self._file.closed:
            return
        try:
            self._file.flush()
            os.fsync(self._file.fileno())
            self._file.close()
        except OSError as error:
            raise disk_error(error, self.final) from error

    def discard(self) -> None:
        """Take the unfinished file away."""
        with contextlib.suppress(OSError):
            self._file.close()
        self.part.unlink(missing_ok=True)


@dataclass
class Outputs:
    """The files of one run. They are discarded together unless they were released or published.

    With `keep` false nothing touches the disk.
    """

    mark: str
    keep: bool = True
    files: list[OutFile] = field(default_factory=list)
    gone: list[Path] = field(default_factory=list)

    def take_away(self, final: Path) -> None:
        """A file that is not to be there any more when the run is done."""
        if self.keep and final.exists():
            self.gone.append(final.absolute())

    def create(self, final: Path) -> OutFile:
        """Begin a file that is to appear at `final`."""
        if not self.files:
            # an interruption can come at a moment at which no `with` block sees it
            atexit.register(self._discard)
        # a part that an interruption kept from being noted would stay behind
        with uninterrupted():
            file = PartFile(final.absolute(), self.mark) if self.keep else OutFile(final)
            self.files.append(file)
        return file

    def _discard(self) -> None:
        for file in self.files:
            file.discard()

    def create_text(self, final: Path, text: str) -> OutFile:
        """A whole text file at once, in UTF-8."""
        file = self.create(final)
        file.write(text.encode())
        return file

    def close(self) -> list[tuple[str, str]]:
        """Finish all files; gives (part, final) for each, and for what is not to be there any more no part."""
        for file in self.files:
            file.close()
        return [("", str(path)) for path in self.gone] + [(str(file.part), str(file.final)) for file in self.files]

    def release(self) -> None:
        """From here on the parts belong to the ledger, which will see to their renaming."""
        self.files = []

    def publish(self) -> None:
        """Rename all files into place, for what has no ledger."""
        rename_all(self.close())

    def __enter__(self) -> Outputs:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        # what was neither released nor put into place is not wanted
        self._discard()
        self.files = []
        atexit.unregister(self._discard)


def keep_apart(outputs: Sequence[Path], inputs: Sequence[Path]) -> None:
    """Raise SourceError if a file is to be written in the place of one that is read, or of another that is written."""
    taken = {path.resolve() for path in inputs}
    for out in outputs:
        if out.resolve() in taken:
            raise SourceError(
                "the file would take the place of one that is read or written too.",
                place=Place(str(out)),
                hint="Give it another name; what came in is never changed.",
            )
        taken.add(out.resolve())


def rename_all(pairs: list[tuple[str, str]]) -> None:
    """Put finished parts into place, and take away what no part is for; what is done already is passed over, so that it can be repeated."""
    folders = set()
    for part, final in pairs:
        if not part:
            try:
                Path(final).unlink(missing_ok=True)
            except OSError as error:
                raise disk_error(error, Path(final)) from error
            continue
        if Path(part).exists():
            try:
                Path(part).replace(final)
            except OSError as error:
                # another command that found it has put it there meanwhile
                if not Path(part).exists():
                    continue
                raise disk_error(error, Path(final)) from error
            placed.append(final)
            folders.add(Path(final).parent)
    for folder in folders:
        if os.name == "posix":
            handle = os.open(folder, os.O_RDONLY)
            with contextlib.suppress(OSError):
                os.fsync(handle)
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


def sweep(folder: Path, alive: set[str]) -> None:
    """Take away parts in a folder, and in those within it, that runs left behind which are no longer alive."""
    if folder.is_dir():
        for part in folder.rglob(".*.part"):
            if part.suffixes and part.name.split(".")[-2] not in alive:
                part.unlink(missing_ok=True)
