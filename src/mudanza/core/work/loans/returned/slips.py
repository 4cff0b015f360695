"""Whose loan a file is: by the slip on its hidden sheet, by the marks beside its records, or by the records themselves."""

from __future__ import annotations

import json
import re
from collections import Counter
from dataclasses import dataclass
from pathlib import Path

import fastexcel
import polars as pl

from mudanza.core.documents.errors import MudanzaError
from mudanza.core.sources.guard import guard_workbook, is_workbook
from mudanza.core.values.row_columns import LINE
from mudanza.core.work.loans.loan_book import MARK, PROPERTY, SLIP
from mudanza.core.work.loans.returned.opened import Grid, Opened
from mudanza.core.work.loans.returned.small_parts import elements_of

_LOOK = 60
_HEAD = 1 << 16
_PROPERTIES = "docProps/custom.xml"
_MARKED = re.compile(rb"(?<![\w.-])([\w.-]{1,300}):[0-9]+:[0-9a-f]{6}\b")


@dataclass(frozen=True)
class Slip:
    """What identifies a loan: its name, and the beginning of the digest of what was lent, as far as it is known; and the name of the move, if it says that."""

    loan: str
    lent: str | None = None
    move: str | None = None


def read_slip(path: Path) -> str | None:
    """The loan's name from the slip of a workbook; None if it has none, or is no workbook."""
    if not path.is_file() or not is_workbook(path):
        return None
    try:
        kind = guard_workbook(path)
        if kind == "xlsx" and (name := _property_of(path)) is not None:
            return name
        # a file that is not what its name says is read as what it is
        named = path.suffix.lower() in (f".{kind}", ".xlsm" if kind == "xlsx" else "")
        book = fastexcel.read_excel(str(path) if named else path.read_bytes())
        if SLIP not in book.sheet_names:
            return None
        slip = _slip_in(book.load_sheet(SLIP, header_row=None, dtypes="string").to_polars())
    except (MudanzaError, fastexcel.FastExcelError):
        return None
    return slip.loan if slip is not None else None


def _property_of(path: Path) -> str | None:
    """The loan that a workbook's properties name (ISO/IEC 29500-1, section 22.3): told without reading its sheets, or the texts that they share."""
    return next(
        (one[0].text for one in elements_of(path, _PROPERTIES) if one.get("name") == PROPERTY and len(one)), None
    )


def loan_named_in(path: Path) -> str | None:
    """The loan that a file names at first sight, on its slip or beside one of its first records; for that it is hardly read."""
    if is_workbook(path):
        return read_slip(path)
    with path.open("rb") as file:
        head = file.read(_HEAD)
    # whatever the encoding; a name beyond ASCII is told once the file is read
    match = _MARKED.search(head.replace(b"\0", b""))
    return match[1].decode("latin-1") if match else None


def slips_of(opened: Opened) -> list[Slip]:
    """What a file says of the loans that it is of: the marks beside records first, for they go where the records go, then the slips."""
    marked: Counter[tuple[str, str]] = Counter()
    slips = []
    for grid in opened.grids:
        marked.update(marks_in(grid))
        if (slip := _slip_in(grid.cells.drop(LINE))) is not None:
            slips.append(slip)
    return [*(Slip(loan, lent) for (loan, lent), _ in marked.most_common()), *slips]


def marks_in(grid: Grid) -> Counter[tuple[str, str]]:
    """How many rows of a grid are marked as of which loan, among the first of them."""
    found: Counter[tuple[str, str]] = Counter()
    for column in grid.cells.drop(LINE).head(_LOOK):
        for text in column.drop_nulls():
            if match := re.fullmatch(MARK, text.strip()):
                found[match[1], match[3]] += 1
    return found


def _slip_in(sheet: pl.DataFrame) -> Slip | None:
    if sheet.is_empty() or not sheet.width:
        return None
    pieces = sheet.to_series(0).head(_LOOK).to_list()
    if not (pieces[0] or "").lstrip().startswith("{"):
        return None
    try:
        said = json.loads("".join(one or "" for one in pieces))
        loan, lent, move = said["loan"], said.get("lent"), said.get("move")
    except (json.JSONDecodeError, KeyError, TypeError, AttributeError):
        return None
    return Slip(loan, lent if isinstance(lent, str) else None, move) if isinstance(loan, str) else None
