"""The workbook of a loan: a protected sheet with helps on every heading, and the slip that identifies it."""

from __future__ import annotations

import io
import json
from collections.abc import Mapping, Sequence
from typing import Any

import polars as pl

from mudanza.core.layouts.layout import Field
from mudanza.core.sinks.sheet_cells import MOST_ROWS, input_rule, number_format, sheet_name, width_of
from mudanza.core.sinks.sheet_columns import SheetColumns, Values
from mudanza.core.sinks.xlsx import Choices, new_book
from mudanza.core.values.digest import mark_of

SLIP = "slip"
REMOVAL = "Remove?"
REMOVE = "remove"
#: over the column that people do not see, in which each row says which record of which loan it is
MARKS = "(loan)"
#: a mark: the loan, the number of the record, and the beginning of the digest of what was lent
MARK = r"(.+):([0-9]+):([0-9a-f]{6})"
#: blank rows below the records that carry the same helps, for additions
_SPARE = 500


def most_rows() -> int:
    """How many records a sheet can lend."""
    return MOST_ROWS - _SPARE - 1


def workbook_bytes(
    sheet: str,
    records: pl.DataFrame,
    fields: list[Field],
    keys: list[Field],
    slip: dict[str, Any],
    needed: Sequence[str] = (),
) -> bytes:
    """A whole XLSX file. `records` has the fields' titles as text columns; `needed` are titles that a new record needs and that are not among them."""
    buffer = io.BytesIO()
    book = new_book(buffer, in_memory=True)
    data = book.add_worksheet(sheet_name(sheet))
    _Sheet(book, data, records, fields, keys, needed, slip).fill()
    add_slip(book, slip)
    book.close()
    return buffer.getvalue()


def add_slip(book: Any, slip: Mapping[str, Any]) -> None:
    """The slip that identifies the loan, on a page that people do not see."""
    book.set_custom_property("mudanza loan", slip["loan"])
    page = book.add_worksheet(SLIP)
    text = json.dumps(dict(slip), ensure_ascii=False)
    for row, start in enumerate(range(0, len(text), 30_000)):
        page.write_string(row, 0, text[start : start + 30_000])
    page.very_hidden()
    page.protect()


class _Sheet:
    def __init__(
        self,
        book: Any,
        sheet: Any,
        records: pl.DataFrame,
        fields: list[Field],
        keys: list[Field],
        needed: Sequence[str],
        slip: Mapping[str, Any],
    ) -> None:
        self.book, self.sheet, self.records, self.fields, self.keys = book, sheet, records, fields, keys
        self.needed, self.slip = needed, slip
        self.last = records.height + (0 if needed else _SPARE)
        self.choices = Choices(book)

    def fill(self) -> None:
        sheet, records = self.sheet, self.records
        head = self.book.add_format(
            {"bold": True, "bg_color": "#E7ECEF", "bottom": 1, "text_wrap": True, "valign": "top"}
        )
        sheet.freeze_panes(1, len(self.keys))
        sheet.autofilter(0, 0, records.height, len(self.fields) + 1)
        sheet.protect(
            "",
            {
                "select_locked_cells": True,
                "select_unlocked_cells": True,
                "format_columns": True,
                "format_rows": True,
                "autofilter": True,
                "sort": True,
                "insert_rows": not self.needed,
            },
        )
        values = SheetColumns(self.fields).of(records)
        for column, field in enumerate(self.fields):
            is_key = field in self.keys
            sheet.write_string(0, column, field.title, head)
            sheet.write_comment(
                0, column, self._note(field, is_key), {"x_scale": 2, "y_scale": 1.2, "author": "Mudanza"}
            )
            open_cell, shut_cell = self._formats(field)
            longest = max((len(t or "") for t in records[field.title].head(200)), default=0)
            sheet.set_column(column, column, width_of(field.title, longest), open_cell)
            self._cells(column, values[column], shut_cell if is_key else open_cell)
            if not is_key:
                self._help(column, field)
        at = len(self.fields)
        sheet.write_string(0, at, REMOVAL, head)
        sheet.write_comment(
            0, at, f"Choose '{REMOVE}' to have the record removed. Do not delete rows.", {"author": "Mudanza"}
        )
        sheet.set_column(at, at, 10, self.book.add_format({"locked": False, "num_format": "@"}))
        sheet.data_validation(1, at, self.last, at, {"validate": "list", "source": [REMOVE]})
        self._marks(at + 1)

    def _marks(self, at: int) -> None:
        """The marks of the rows, which go where these go: also into another workbook, or a text file."""
        shut = self.book.add_format({"num_format": "@", "locked": True, "font_color": "#5B6770"})
        self.sheet.write_string(0, at, MARKS, shut)
        loan, mark = self.slip["loan"], mark_of(self.slip["lent"])
        for row in range(self.records.height):
            self.sheet.write_string(row + 1, at, f"{loan}:{row}:{mark}", shut)
        self.sheet.set_column(at, at, 10, shut, {"hidden": True})

    def _formats(self, field: Field) -> tuple[Any, Any]:
        """The formats of cells that may be changed and of cells that may not."""
        number = number_format(field)
        shut = self.book.add_format({"num_format": number, "locked": True, "font_color": "#5B6770"})
        return self.book.add_format({"num_format": number, "locked": False}), shut

    def _cells(self, column: int, values: Values, form: Any) -> None:
        for row, value in enumerate(values, start=1):
            if value is None:
                self.sheet.write_blank(row, column, None, form)
            elif isinstance(value, str):
                # texts, words, and what a spreadsheet could not hold exactly
                self.sheet.write_string(row, column, value, form)
            else:
                self.sheet.write_number(row, column, value, form)

    def _note(self, field: Field, is_key: bool) -> str:
        lines = [field.rule[0].upper() + field.rule[1:] + "."]
        lines.append("Required." if field.required and field.default is None else "May be blank.")
        if field.default is not None:
            lines.append(f"Blank becomes {field.default}.")
        if is_key:
            lines.append("Identifies the record: not to be changed.")
            if self.needed:
                lines.append(f"Records cannot be added here: {', '.join(self.needed)} would be needed.")
        if field.description:
            lines.append(field.description)
        return "\n".join(lines)

    def _help(self, column: int, field: Field) -> None:
        """What a spreadsheet can check while people type."""
        rule = input_rule(field, self.choices.range_of)
        if rule is not None:
            self.sheet.data_validation(1, column, self.last, column, rule)
