"""Refusing hostile or damaged workbooks before a parser sees them."""

from __future__ import annotations

import zipfile
import zlib
from collections.abc import Iterator
from pathlib import Path
from typing import BinaryIO

from mudanza.core.documents.errors import Place, SourceError
from mudanza.core.values.row_columns import MOST_COLUMNS

#: A workbook that unpacks to more than this, or more than this many times its size, is refused.
MOST_BYTES = 2 << 30
MOST_RATIO = 400
_RATIO_MATTERS_FROM = 64 << 20
#: records whose keys differ make a table of blanks: so many cells are never too many, nor so many for each byte
_CELLS, _CELLS_A_BYTE = 20_000_000, 20
_PIECE = 1 << 20
_OLE = b"\xd0\xcf\x11\xe0"
_BIFF_STARTS = (b"\x09\x08\x10\x00", b"\x09\x08\x08\x00")
_ODS = b"application/vnd.oasis.opendocument.spreadsheet"
_PASSWORD = "EncryptedPackage".encode("utf-16-le")


def is_workbook(path: Path) -> bool:
    """Whether a file begins as a workbook does."""
    with path.open("rb") as file:
        return file.read(8).startswith((b"PK", _OLE, *_BIFF_STARTS))


def kind_of_archive(path: Path) -> str | None:
    """Which workbook a zip archive is: xlsx, xlsb or ods; None if it is none, or damaged."""
    try:
        with zipfile.ZipFile(path) as archive:
            names = set(archive.namelist())
            if "xl/workbook.bin" in names:
                return "xlsb"
            if "[Content_Types].xml" in names:
                return "xlsx"
            if "mimetype" in names and archive.read("mimetype").startswith(_ODS):
                return "ods"
    except (zipfile.BadZipFile, OSError, RuntimeError, NotImplementedError, EOFError, ValueError):
        return None
    return None


def guard_columns(columns: int, path: Path, *, records: int = 0, size: int = 0) -> None:
    """Raise SourceError for more columns than a table of records has, or for records in so many bytes that have hardly
    any in common."""
    if columns > MOST_COLUMNS:
        raise SourceError(
            f"the records have more than {MOST_COLUMNS:,} columns.",
            place=Place(str(path)),
            hint="Is it a table of records? Say another delimiter or heading if it is read in the wrong way.",
        )
    if records * columns > max(_CELLS, _CELLS_A_BYTE * size):
        raise SourceError(
            f"its {records:,} records have {columns:,} different columns, and hardly any of them in common.",
            place=Place(str(path)),
            hint="Ask for the records with the same keys in each.",
        )


def part_pieces(archive: zipfile.ZipFile, name: str) -> Iterator[bytes]:
    """The bytes of a part of a zip archive as they really come, whatever it declares (APPNOTE.TXT, sections 4.3.7 and
    4.4). Raises BadZipFile where it declares others."""
    info = archive.getinfo(name)
    if info.flag_bits & 1 or info.compress_type == zipfile.ZIP_STORED or archive.filename is None:
        with archive.open(info) as body:
            while piece := body.read(_PIECE):
                yield piece
        return
    if info.compress_type != zipfile.ZIP_DEFLATED:
        raise zipfile.BadZipFile(f"its part {name} is packed in a way that workbooks are not")
    come = sum_of = 0
    for piece in _unpacked(Path(archive.filename), info):
        come += len(piece)
        sum_of = zlib.crc32(piece, sum_of)
        if come > info.file_size:
            raise zipfile.BadZipFile(f"its part {name} is larger than it says")
        yield piece
    if (come, sum_of) != (info.file_size, info.CRC):
        raise zipfile.BadZipFile(f"its part {name} is damaged")


def _unpacked(path: Path, info: zipfile.ZipInfo) -> Iterator[bytes]:
    with path.open("rb") as file:
        file.seek(info.header_offset)
        header = file.read(30)
        if header[:4] != b"PK\x03\x04":
            raise zipfile.BadZipFile(f"its part {info.filename} is not where it says")
        file.seek(int.from_bytes(header[26:28], "little") + int.from_bytes(header[28:30], "little"), 1)
        unpacker, left = zlib.decompressobj(-zlib.MAX_WBITS), info.compress_size
        while not unpacker.eof:
            data = unpacker.unconsumed_tail
            if not data:
                data = file.read(min(left, _PIECE >> 2))
                left -= len(data)
                if not data:
                    return
            if piece := unpacker.decompress(data, _PIECE):
                yield piece


def guard_workbook(path: Path) -> str:
    """Which workbook a file is: xlsx, xlsb, ods or xls. Raises SourceError unless it is one that is safe to unpack."""
    place = Place(file=str(path))
    size = path.stat().st_size
    if size == 0:
        raise SourceError("the file is empty.", place=place, hint="Save the workbook again.")
    with path.open("rb") as file:
        start = file.read(4)
        if start == _OLE:
            file.seek(0)
            if _PASSWORD in file.read(1 << 20) or _directory_has(file, size, _PASSWORD):
                raise SourceError(
                    "the workbook is protected by a password.",
                    place=place,
                    hint="Open it, remove the password, and save it as .xlsx.",
                )
            return "xls"
    if start.startswith(_BIFF_STARTS):
        return "xls"
    try:
        with zipfile.ZipFile(path) as archive:
            parts = archive.infolist()
            total = sum(part.file_size for part in parts)
            if total > MOST_BYTES or (total > _RATIO_MATTERS_FROM and total > MOST_RATIO * size):
                raise SourceError(
                    f"the workbook would unpack to {total >> 20} MiB from {size >> 10} KiB; that is no honest workbook.",
                    place=place,
                    hint="Ask where the file comes from; save the records alone as .xlsx or .csv.",
                )
            for part in parts:
                # large sheets are counted while they are looked through for cells far away
                is_sheet = part.filename.startswith("xl/worksheets/") and part.filename.endswith(".xml")
                if total < _RATIO_MATTERS_FROM or not is_sheet:
                    for _ in part_pieces(archive, part.filename):
                        pass
            if kind_of_archive(path) is None:
                raise SourceError(
                    "the file is a zip archive, but no workbook.",
                    place=place,
                    hint="Unpack it and name the file inside.",
                )
            for part in parts:
                if part.filename.endswith((".xml", ".rels")):
                    with archive.open(part) as body:
                        if b"<!DOCTYPE" in body.read(2048).replace(b"\0", b""):
                            raise SourceError(
                                f"the workbook's part {part.filename} declares a document type, as only hostile files do.",
                                place=place,
                                hint="Save the records again with a spreadsheet program.",
                            )
    except (zipfile.BadZipFile, zlib.error, OSError, RuntimeError, NotImplementedError, EOFError, ValueError) as error:
        raise SourceError(
            f"the file is no workbook ({error}).",
            place=place,
            hint="If it is text with another ending, rename it to .csv; otherwise save it again as .xlsx.",
        ) from error
    return kind_of_archive(path) or "xlsx"


def _directory_has(file: BinaryIO, size: int, name: bytes) -> bool:
    """Whether a name stands in the last part of a compound file, where its directory may be."""
    file.seek(max(0, size - (1 << 20)))
    return name in file.read()
