"""Opening a file with the reader of its format. A new format is one line in `FORMATS`."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path
from queue import Queue
from threading import Thread
from typing import TypeVar

from mudanza.core.errors import OutsideError, Place, SourceError
from mudanza.core.sources.reading import Reader, ReadOptions

T = TypeVar("T")


def _delimited(path: Path, options: ReadOptions) -> Reader:
    from mudanza.core.sources.delimited import DelimitedFile

    return DelimitedFile(path, options)


def _workbook(path: Path, options: ReadOptions) -> Reader:
    from mudanza.core.sources.workbook import Workbook

    return Workbook(path, options)


#: file name ending → the reader's opener; everything else is read as delimited text
FORMATS: dict[str, Callable[[Path, ReadOptions], Reader]] = {
    ".xlsx": _workbook,
    ".xlsm": _workbook,
}
_LATER = {".xls", ".xlsb", ".ods", ".json", ".xml", ".zip", ".gz", ".parquet", ".sqlite", ".db", ".pdf"}


def open_source(path: Path, options: ReadOptions | None = None) -> Reader:
    """Open a file. Raises SourceError if it is missing, a folder, unreadable, or of a format not read."""
    options = options or ReadOptions()
    place = Place(file=str(path))
    if not path.exists():
        beside = sorted(p.name for p in path.parent.iterdir() if p.is_file()) if path.parent.is_dir() else []
        hint = f"The folder has: {', '.join(beside[:8])}." if beside else "Look at the path, from the move folder."
        raise SourceError("the file does not exist.", place=place, hint=hint)
    if path.is_dir():
        raise SourceError("this is a folder; a file is needed.", place=place, hint="Name one file in it.")
    suffix = path.suffix.lower()
    if suffix in _LATER:
        raise SourceError(f"{suffix} files cannot be read yet.", place=place, hint="Save the records as .csv or .xlsx.")
    try:
        if suffix not in FORMATS:
            with path.open("rb") as file:
                start = file.read(4)
            if start == b"PK\x03\x04":
                return _workbook(path, options)
        return FORMATS.get(suffix, _delimited)(path, options)
    except PermissionError as error:
        raise OutsideError("the file may not be read.", place=place, hint="Look at its permissions.") from error


def read_ahead(items: Iterator[T], ahead: int = 2) -> Iterator[T]:
    """The same items, the next ones being made in another thread meanwhile. Order and errors are kept."""
    queue: Queue[tuple[str, T | BaseException | None]] = Queue(ahead)
    given_up = False

    def work() -> None:
        try:
            for item in items:
                if given_up:
                    return
                queue.put(("item", item))
            queue.put(("end", None))
        except BaseException as error:  # handed to the thread that reads
            queue.put(("error", error))

    thread = Thread(target=work, daemon=True)
    thread.start()
    try:
        while True:
            what, value = queue.get()
            if what == "end":
                return
            if isinstance(value, BaseException):
                raise value
            yield value  # type: ignore[misc]
    finally:
        given_up = True
        while not queue.empty():
            queue.get_nowait()
