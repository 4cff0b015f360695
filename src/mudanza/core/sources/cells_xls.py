"""What the cells of the old binary workbooks (XLS) are beyond their values: through xlrd, but for formulas, which it does not tell from values ([MS-XLS])."""

from __future__ import annotations

import os
import struct
from collections.abc import Iterator
from functools import lru_cache
from pathlib import Path
from typing import Any

from mudanza.core.sources.cells import Cells, Spot, zeros_of
from mudanza.core.sources.cells_binary import note_number

_BEGIN, _END, _SHEET, _FORMULA = 0x0809, 0x000A, 0x0085, 0x0006
#: the streams of a compound file that hold the workbook, of the later format and the earlier one
_STREAMS = ("Workbook", "Book")


def book_of_xls(path: Path) -> Any:
    """A workbook, as xlrd has it. Raises whatever xlrd stumbles over."""
    return _book_of_xls(path, path.stat().st_mtime_ns)


@lru_cache(maxsize=1)
def _book_of_xls(path: Path, _: int) -> Any:
    # it is read through cell by cell, which is slow enough once
    import xlrd

    with Path(os.devnull).open("w") as nowhere:
        return xlrd.open_workbook(str(path), formatting_info=True, logfile=nowhere)


def look_at_xls(path: Path, sheet: str) -> Cells:
    """Formulas, errors, merged areas, and numbers with zeros or too many digits in a sheet."""
    import xlrd

    found = Cells()
    try:
        book = book_of_xls(path)
        table = book.sheet_by_name(sheet)
        found.formulas = formulas_of_xls(path, book.sheet_names().index(sheet))
    except Exception as error:  # the values have been read already; this is only what can be added to them
        found.unseen = f"{type(error).__name__}: {error}"
        return found
    formats = {key: zeros_of(one.format_str or "") for key, one in book.format_map.items()}
    styles = [formats.get(xf.format_key) for xf in book.xf_list]
    for row in range(table.nrows):
        for column, cell in enumerate(table.row(row)):
            if cell.ctype == xlrd.XL_CELL_ERROR:
                found.errors[row, column] = xlrd.error_text_from_code.get(cell.value, "#ERR")
            elif cell.ctype == xlrd.XL_CELL_NUMBER:
                note_number(found, row, column, cell.value, styles[cell.xf_index])
    found.merged = [(top, left, bottom - 1, right - 1) for top, bottom, left, right in table.merged_cells]
    return found


def formulas_of_xls(path: Path, number: int) -> list[Spot]:
    """The cells of a sheet, by its number among those with cells, that hold formulas ([MS-XLS], section 2.4.127)."""
    from xlrd.compdoc import CompDoc

    with Path(os.devnull).open("w") as nowhere:
        document = CompDoc(path.read_bytes(), logfile=nowhere)
    for name in _STREAMS:
        data, base, length = document.locate_named_stream(name)
        if data:
            stream = bytes(data[base : base + length])
            begins = [at for kind, at in _sheets(stream) if kind == 0]
            return list(_formulas(stream, begins[number])) if number < len(begins) else []
    return []


def _sheets(stream: bytes) -> Iterator[tuple[int, int]]:
    """The kinds of the sheets, 0 for those with cells, and where they begin."""
    for kind, body in _records(stream, 0):
        if kind == _SHEET:
            begin, _, sort = struct.unpack_from("<IBB", body)
            yield sort, begin


def _formulas(stream: bytes, begin: int) -> Iterator[Spot]:
    for kind, body in _records(stream, begin):
        if kind == _FORMULA:
            row, column = struct.unpack_from("<HH", body)
            yield row, column


def _records(stream: bytes, at: int) -> Iterator[tuple[int, bytes]]:
    """The records of a substream that begins at a byte; those of what is embedded in it are left out."""
    depth = 0
    while at + 4 <= len(stream):
        kind, length = struct.unpack_from("<HH", stream, at)
        depth += (kind == _BEGIN) - (kind == _END)
        if depth <= 0:
            return
        if depth == 1:
            yield kind, stream[at + 4 : at + 4 + length]
        at += 4 + length
