"""Compressed files: unpacked once, safely, into a temporary folder that goes when the program ends."""

from __future__ import annotations

import gzip
import zipfile
import zlib
from collections.abc import Callable
from pathlib import Path
from typing import IO

from mudanza.core.disk.temporary import temporary_folder
from mudanza.core.documents.errors import Place, SourceError, disk_error, few, unknown
from mudanza.core.sources.guard import MOST_RATIO

_PIECE = 1 << 20
#: A file that unpacks to more than this and more than `MOST_RATIO` times its size is refused.
_HARMLESS = 256 << 20
_unpacked: dict[tuple[str, int, int, str | None], Path] = {}


def packing_of(start: bytes) -> str | None:
    """How a file is packed, from its first bytes: gz, zst, or zip; None if it is not."""
    signs = {b"\x1f\x8b": "gz", b"\x28\xb5\x2f\xfd": "zst", b"PK\x03\x04": "zip", b"PK\x05\x06": "zip"}
    return next((name for sign, name in signs.items() if start.startswith(sign)), None)


def unpack(path: Path, packing: str, inside: str | None) -> Path:
    """Where the unpacked file stands, under the name it has inside. Unpacks it unless that was done before.

    Raises SourceError for a damaged archive, one that would not stop growing, or one of several files if `inside` names none.
    """
    stat = path.stat()
    key = (str(path.resolve()), stat.st_mtime_ns, stat.st_size, inside)
    if key not in _unpacked:
        folder = temporary_folder()
        try:
            _unpacked[key] = _unpack(path, packing, inside, folder)
        except (
            zipfile.BadZipFile,
            gzip.BadGzipFile,
            zlib.error,
            EOFError,
            RuntimeError,
            NotImplementedError,
            ValueError,
        ) as error:
            what = "needs a password" if "password" in str(error) else f"is damaged ({error})"
            raise SourceError(
                f"the archive {what}.", place=Place(str(path)), hint="Unpack it by hand, or ask for it again."
            ) from error
    return _unpacked[key]


def _unpack(path: Path, packing: str, inside: str | None, folder: Path) -> Path:
    target = folder / (path.stem if path.suffix.lower() in (".gz", ".zst") else path.name)
    if packing == "gz":
        with path.open("rb") as packed, gzip.GzipFile(fileobj=packed) as body:
            return _copy(body, target, path, packed.tell)
    if packing == "zst":
        import zstandard

        try:
            with path.open("rb") as packed, zstandard.ZstdDecompressor().stream_reader(packed) as body:
                return _copy(body, target, path, packed.tell)
        except zstandard.ZstdError as error:
            raise EOFError(str(error)) from error
    with zipfile.ZipFile(path) as archive:
        names = [one.filename for one in archive.infolist() if not one.is_dir() and not _is_litter(one.filename)]
        if inside is not None and inside not in names:
            raise SourceError(unknown("file", inside, names), place=Place(str(path)), hint=f"It has: {few(names)}.")
        if not names:
            raise SourceError("the archive is empty.", place=Place(str(path)), hint="Ask for it again.")
        if inside is None and len(names) > 1:
            raise SourceError(
                f"the archive has {len(names)} files: {few(names)}.",
                place=Place(str(path)),
                hint=f'Name one: inside = "{names[0]}" in the plan\'s source, --how inside={names[0]} here.',
            )
        name = inside or names[0]
        with archive.open(name) as body:
            packed_size = archive.getinfo(name).compress_size
            return _copy(body, folder / Path(name).name, path, lambda: packed_size)


def _is_litter(name: str) -> bool:
    return name.startswith("__MACOSX/") or Path(name).name in (".DS_Store", "Thumbs.db")


def _copy(body: IO[bytes] | gzip.GzipFile, target: Path, path: Path, packed: Callable[[], int]) -> Path:
    """Unpack a body, of which so many bytes were read as it is `packed`."""
    size = 0
    try:
        with target.open("wb") as file:
            while piece := body.read(_PIECE):
                size += len(piece)
                if size > _HARMLESS and size > MOST_RATIO * packed():
                    most = max(_HARMLESS, MOST_RATIO * packed())
                    raise SourceError(
                        f"the archive unpacks to more than {most >> 20} MiB from {packed() >> 10} KiB; "
                        "that is no honest export.",
                        place=Place(str(path)),
                        hint="Ask where it comes from.",
                    )
                file.write(piece)
    except OSError as error:
        if isinstance(error, gzip.BadGzipFile):
            raise
        raise disk_error(error, target) from error
    return target
