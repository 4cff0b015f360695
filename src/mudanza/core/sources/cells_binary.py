"""What the cells of binary workbooks (XLSB) are beyond their values, by their records (MS-XLSB, 2.3 and 2.4)."""

from __future__ import annotations

import struct
import zipfile
from collections.abc import Iterator
from pathlib import Path

from defusedxml import ElementTree

from mudanza.core.sources.cells import Cells, zeros_of

_LONG = 1e15
_ROW, _MERGED, _SHEET, _FORMAT, _STYLE, _STYLES, _STYLES_END = 0, 176, 156, 44, 47, 617, 618
_RK, _ERROR, _REAL, _FORMULA_NUMBER, _FORMULA_ERROR = 2, 3, 5, 9, 11
_FORMULAS = (8, _FORMULA_NUMBER, 10, _FORMULA_ERROR)
_ERRORS = {
    0: "#NULL!",
    7: "#DIV/0!",
    15: "#VALUE!",
    23: "#REF!",
    29: "#NAME?",
    36: "#NUM!",
    42: "#N/A",
    43: "#GETTING_DATA",
}


def look_at_xlsb(path: Path, sheet: str) -> Cells:
    """Errors, formulas, merged areas, and numbers with zeros or too many digits in a sheet of XLSB."""
    with zipfile.ZipFile(path) as archive:
        styles = _styles(archive.read("xl/styles.bin")) if "xl/styles.bin" in archive.namelist() else []
        part = binary_parts(archive).get(sheet)
        return cells_of_records(archive.read(part), styles) if part is not None else Cells()


def binary_parts(archive: zipfile.ZipFile) -> dict[str, str]:
    """The part that holds each sheet of XLSB."""
    names = set(archive.namelist())
    links = ElementTree.fromstring(archive.read("xl/_rels/workbook.bin.rels"))
    targets = {link.get("Id"): link.get("Target", "") for link in links}
    parts = {}
    for kind, body in _records(archive.read("xl/workbook.bin")):
        if kind == _SHEET:
            link, rest = _text(body, 8)
            if (part := f"xl/{targets.get(link, '')}") in names:
                parts[_text(body, rest)[0]] = part
    return parts


def binary_cells(part: bytes) -> Iterator[tuple[int, int, int, int]]:
    """The cells of a sheet's part, and the bytes from which on and up to which each is written: row and column from 1."""
    row = 0
    for kind, start, at, end in _spans(part):
        if kind == _ROW:
            (row,) = struct.unpack_from("<I", part, at)
        elif 1 <= kind <= 11:
            yield row + 1, struct.unpack_from("<I", part, at)[0] + 1, start, end


def cells_of_records(part: bytes, styles: list[str | None]) -> Cells:
    """The cells of a sheet's part; `styles` are the places of zeros of each cell style."""
    found = Cells()
    row = 0
    for kind, body in _records(part):
        if kind == _ROW:
            (row,) = struct.unpack_from("<I", body)
        elif kind == _MERGED:
            top, bottom, left, right = struct.unpack_from("<4I", body)
            found.merged.append((top, left, bottom, right))
        elif 1 <= kind <= 11:
            column, style = struct.unpack_from("<II", body)
            places = styles[style & 0xFFFFFF] if style & 0xFFFFFF < len(styles) else None
            if kind in _FORMULAS:
                found.formulas.append((row, column))
            if kind in (_ERROR, _FORMULA_ERROR):
                found.errors[row, column] = _ERRORS.get(body[8], "#ERR")
            elif kind in (_REAL, _FORMULA_NUMBER):
                note_number(found, row, column, struct.unpack_from("<d", body, 8)[0], places)
            elif kind == _RK:
                note_number(found, row, column, _packed(struct.unpack_from("<I", body, 8)[0]), places)
    return found


def note_number(found: Cells, row: int, column: int, value: float, places: str | None) -> None:
    """Note a number that is shown with zeros, or has too many digits."""
    if abs(value) >= _LONG and value == int(value):
        found.long[row, column] = f"{value:.0f}"
    elif places is not None:
        found.zeros.setdefault((column, places), []).append(row)


def _packed(number: int) -> float:
    """A number in four bytes (MS-XLSB, 2.5.122): whole or the upper half of a double, perhaps in hundredths."""
    if number & 2:
        value = float((number >> 2) - (1 << 30) if number & 0x80000000 else number >> 2)
    else:
        (value,) = struct.unpack("<d", struct.pack("<Q", (number & 0xFFFFFFFC) << 32))
    return value / 100 if number & 1 else value


def _records(part: bytes) -> Iterator[tuple[int, bytes]]:
    """The records of a part: type and body."""
    for kind, _, at, end in _spans(part):
        yield kind, part[at:end]


def _spans(part: bytes) -> Iterator[tuple[int, int, int, int]]:
    """The records of a part: type, and the bytes where it, its body and the next begin. A part that breaks off ends there."""
    at, size = 0, len(part)
    while at < size:
        start, kind = at, part[at]
        at += 1
        if kind & 0x80 and at < size:
            kind = (kind & 0x7F) | (part[at] << 7)
            at += 1
        length = 0
        for shift in range(0, 28, 7):
            if at >= size:
                return
            byte = part[at]
            at += 1
            length |= (byte & 0x7F) << shift
            if not byte & 0x80:
                break
        if at + length > size:
            return
        yield kind, start, at, at + length
        at += length


def _text(body: bytes, at: int) -> tuple[str, int]:
    (length,) = struct.unpack_from("<I", body, at)
    end = at + 4 + 2 * length
    return body[at + 4 : end].decode("utf-16-le"), end


def _styles(part: bytes) -> list[str | None]:
    formats: dict[int, str | None] = {}
    styles: list[str | None] = []
    inside = False
    for kind, body in _records(part):
        if kind == _FORMAT:
            formats[struct.unpack_from("<H", body)[0]] = zeros_of(_text(body, 2)[0])
        elif kind in (_STYLES, _STYLES_END):
            inside = kind == _STYLES
        elif kind == _STYLE and inside:
            styles.append(formats.get(struct.unpack_from("<H", body, 2)[0]))
    return styles
