"""Workbooks (ECMA-376): kinds as kinds, codes as text, the words that a field takes to choose from; a new one, or a copy of one that the target gives, with the records below its heading.

They are written whole: how many bytes they have is known at their end. The rows of a new one go to the disk one after the other.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import datetime
from pathlib import Path
from typing import Any

import polars as pl

from mudanza.core.documents.errors import MudanzaError
from mudanza.core.findings.problem import Problem
from mudanza.core.layouts.layout import Field, Layout
from mudanza.core.sinks import sheet_cells
from mudanza.core.sinks.native import as_layout_writes
from mudanza.core.sinks.reading import read_as
from mudanza.core.sinks.sheet_cells import MOST_ROWS, input_rule, number_format, sheet_name, width_of
from mudanza.core.sinks.sheet_columns import SheetColumns, too_many
from mudanza.core.sinks.spool import new_spool, pieces_of_spool
from mudanza.core.sinks.writer import Writer
from mudanza.core.sources.cells import column_letters
from mudanza.core.sources.reader import ReadOptions

#: by so many values the width of a column is measured
_MEASURED = 200
#: files have no time in them: the same records are the same bytes
_WRITTEN = datetime(2000, 1, 1)
CHOICES = "choices"
OPTIONS = {"strings_to_numbers": False, "strings_to_formulas": False, "strings_to_urls": False}


def new_book(target: Any, **more: bool) -> Any:
    """A workbook in which texts stay texts, whatever they look like, and which does not say when it was written."""
    # loaded where a workbook is written, and not where its words alone are asked for
    import xlsxwriter

    book = xlsxwriter.Workbook(target, {**OPTIONS, **more})
    book.set_properties({"created": _WRITTEN})
    return book


class Choices:
    """Long lists of words that cells can be chosen from, on a hidden sheet of their own."""

    def __init__(self, book: Any) -> None:
        self._book, self._count = book, 0
        self._sheet: Any = None

    def range_of(self, words: list[str]) -> str:
        """The cells in which these words stand."""
        if self._sheet is None:
            self._sheet = self._book.add_worksheet(CHOICES)
            self._sheet.hide()
            # the rows of such a book must come in turn, so all lists stand below each other
        first = self._count
        for word in words:
            self._sheet.write_string(self._count, 0, word)
            self._count += 1
        letters = column_letters(0)
        return f"={CHOICES}!${letters}${first + 1}:${letters}${self._count}"


class XlsxWriter:
    """Writes records into a sheet below their headings."""

    def __init__(self, layout: Layout, titles: Sequence[str]) -> None:
        by_title = {one.title: one for one in layout.fields}
        self._fields: list[Field] = [by_title[title] for title in titles]
        self._file = new_spool()
        self._book = new_book(self._file, constant_memory=True)
        self._sheet = self._book.add_worksheet(sheet_name(layout.form.sheet or layout.name))
        self._formats = [self._book.add_format({"num_format": number_format(one)}) for one in self._fields]
        self._longest = [0] * len(self._fields)
        self._row = 0
        if layout.dialect.header:
            head = self._book.add_format({"bold": True, "bg_color": "#E7ECEF", "bottom": 1})
            for column, one in enumerate(self._fields):
                self._sheet.write_string(0, column, one.title, head)
            self._sheet.freeze_panes(1, 0)
            self._row = 1
        self._first = self._row
        self._columns = SheetColumns(self._fields)

    def head(self) -> bytes:
        """Nothing can be handed on before the end."""
        return b""

    def rows(self, frame: pl.DataFrame) -> bytes:
        """Take the records of a frame. Raises MudanzaError where a sheet is full."""
        if self._row + frame.height > MOST_ROWS:
            raise too_many(self._sheet.get_name())
        columns = self._columns.of(frame)
        self._measure(columns)
        write_string, write_number = self._sheet.write_string, self._sheet.write_number
        row, numbers = self._row, range(len(self._fields))
        for values in zip(*columns, strict=True):
            for column, value, form in zip(numbers, values, self._formats, strict=True):
                if value.__class__ is str:
                    write_string(row, column, value, form)
                elif value is not None:
                    write_number(row, column, value, form)
            row += 1
        self._row = row
        return b""

    def tail(self) -> Iterator[bytes]:
        """The whole file."""
        self._finish()
        self._book.close()
        yield from pieces_of_spool(self._file)

    def _measure(self, columns: Sequence[Sequence[Any]]) -> None:
        left = _MEASURED - (self._row - self._first)
        if left > 0:
            for n, values in enumerate(columns):
                lengths = (10 if isinstance(one, float) else len(one) for one in values[:left] if one is not None)
                self._longest[n] = max(self._longest[n], *lengths, 0)

    def _finish(self) -> None:
        last, sheet = max(self._row - 1, 0), self._sheet
        choices = Choices(self._book)
        for column, (one, form, longest) in enumerate(zip(self._fields, self._formats, self._longest, strict=True)):
            sheet.set_column(column, column, width_of(one.title, longest), form)
            rule = input_rule(one, choices.range_of)
            if rule is not None and last >= self._first:
                sheet.data_validation(self._first, column, last, column, rule)
        if self._first:
            sheet.autofilter(0, 0, last, len(self._fields) - 1)


def writer(layout: Layout, titles: Sequence[str]) -> Writer:
    """A writer of records with these headings."""
    if layout.form.into is None:
        return XlsxWriter(layout, titles)
    from mudanza.core.sinks.xlsx_template import TemplateWriter

    return TemplateWriter(layout, titles)


def problems(field: Field, layout: Layout, text: pl.Expr) -> list[Problem]:  # noqa: ARG001
    """Texts that no cell holds."""
    return sheet_cells.problems(field, text)


def options(layout: Layout) -> ReadOptions:
    """How such a file is read again."""
    if layout.form.into is not None:
        from mudanza.core.sinks.xlsx_template import place_of_heading

        sheet, heading = place_of_heading(layout)
    else:
        sheet, heading = sheet_name(layout.form.sheet or layout.name), int(layout.dialect.header)
    return ReadOptions(format="workbook", sheet=sheet, heading=heading, exact=True)


#: The text that the layout has for what a reader gives.
layout_text = as_layout_writes


def read(path: Path, layout: Layout, shown: str, error: type[MudanzaError] = MudanzaError) -> pl.DataFrame:
    """A whole file; see `Sink.read`."""
    return read_as(path, layout, shown, options(layout), error)
