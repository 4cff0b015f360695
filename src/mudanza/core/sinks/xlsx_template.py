"""A copy of a workbook that the target gives, with the records behind what stands below its headings."""

from __future__ import annotations

import io
import re
import zipfile
from collections.abc import Iterator, Sequence
from typing import Any

import openpyxl
import polars as pl
from openpyxl.cell.cell import Cell
from openpyxl.worksheet.worksheet import Worksheet

from mudanza.core.documents.errors import LayoutError, Place, few
from mudanza.core.layouts.layout import Layout
from mudanza.core.sinks.sheet_cells import MOST_ROWS, number_format
from mudanza.core.sinks.sheet_columns import SheetColumns, too_many

_LOOK = 60
_TIMES = re.compile(rb"(<dcterms:(?:created|modified)[^>]*>)[^<]*")
_TEXT = "@"


class TemplateWriter:
    """Writes records into the sheet of a workbook that has their headings. It is held in memory."""

    def __init__(self, layout: Layout, titles: Sequence[str]) -> None:
        by_title = {one.title: one for one in layout.fields}
        self._columns = SheetColumns([by_title[title] for title in titles])
        self._formats = [number_format(by_title[title]) for title in titles]
        self._book = _opened(layout)
        self._sheet, row, columns = _heading(layout, self._book)
        self._at = [columns[title] for title in titles]
        filled = (
            at
            for at in range(self._sheet.max_row, row, -1)
            if any(self._sheet.cell(at, c).value is not None for c in self._at)
        )
        self._row = next(filled, row) + 1

    def head(self) -> bytes:
        """Nothing can be handed on before the end."""
        return b""

    def rows(self, frame: pl.DataFrame) -> bytes:
        """Take the records of a frame. Raises MudanzaError where a sheet is full."""
        if self._row - 1 + frame.height > MOST_ROWS:
            raise too_many(self._sheet.title)
        for values in zip(*self._columns.of(frame), strict=True):
            for column, form, value in zip(self._at, self._formats, values, strict=True):
                if value is not None:
                    cell: Any = self._sheet.cell(self._row, column)
                    _fill(cell, value, form)
            self._row += 1
        return b""

    def tail(self) -> Iterator[bytes]:
        """The whole file."""
        made = io.BytesIO()
        self._book.save(made)
        yield _without_times(made)


def _fill(cell: Cell, value: float | str, form: str) -> None:
    cell.value = value
    if isinstance(value, str):
        # whatever it looks like
        cell.data_type = "s"
    # the target's own format of the cell stays
    if cell.number_format == "General" or (isinstance(value, float) and cell.number_format == _TEXT):
        cell.number_format = form


def _opened(layout: Layout) -> openpyxl.Workbook:
    path = layout.path.parent / (layout.form.into or "")
    try:
        return openpyxl.load_workbook(path, keep_vba=path.suffix.lower() == ".xlsm")
    except Exception as error:  # the library raises whatever it stumbles over
        raise LayoutError(
            f"the workbook {layout.form.into!r} that records are to be written into cannot be read ({type(error).__name__}).",
            place=Place(str(layout.path), key="urn:mudanza:form.into"),
            hint="Name an .xlsx file, from the layout's folder on.",
        ) from error


def _heading(layout: Layout, book: openpyxl.Workbook) -> tuple[Worksheet, int, dict[str, int]]:
    """The sheet that has the headings, their row, and the column of each."""
    titles = [one.title for one in layout.fields]
    best: tuple[Worksheet, int, dict[str, int]] | None = None
    for sheet in book.worksheets:
        if layout.form.sheet not in (None, sheet.title):
            continue
        for number, row in enumerate(sheet.iter_rows(1, min(sheet.max_row, _LOOK), values_only=True), start=1):
            found = {str(value).strip(): at for at, value in reversed([*enumerate(row, start=1)]) if value is not None}
            columns = {title: found[title] for title in titles if title in found}
            if best is None or len(columns) > len(best[2]):
                best = (sheet, number, columns)
    missing = [title for title in titles if best is None or title not in best[2]]
    if best is None or missing:
        raise LayoutError(
            f"the workbook {layout.form.into!r} lacks the heading {few(missing)}.",
            place=Place(str(layout.path), key="urn:mudanza:form.into"),
            hint='Say "sheet" in the form, or correct the titles in the layout.',
        )
    return best


def place_of_heading(layout: Layout) -> tuple[str, int]:
    """The sheet that has the headings, and their row."""
    sheet, row, _ = _heading(layout, _opened(layout))
    return sheet.title, row


def _without_times(made: io.BytesIO) -> bytes:
    """The workbook without the times of its writing, so that the same records are the same bytes."""
    out = io.BytesIO()
    with zipfile.ZipFile(made) as old, zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as new:
        for name in old.namelist():
            data = old.read(name)
            if name == "docProps/core.xml":
                data = _TIMES.sub(rb"\g<1>2000-01-01T00:00:00Z", data)
            new.writestr(zipfile.ZipInfo(name, (1980, 1, 1, 0, 0, 0)), data, zipfile.ZIP_DEFLATED)
    return out.getvalue()
