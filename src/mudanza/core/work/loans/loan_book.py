"""The workbook of a loan: a protected sheet with helps on every heading, and the slip that identifies it."""

from __future__ import annotations

import io
import json
from collections.abc import Mapping, Sequence
from datetime import date, datetime
from decimal import Decimal
from typing import Any

import polars as pl
import xlsxwriter
from xlsxwriter.utility import xl_col_to_name

from mudanza.core.layouts.layout import Field
from mudanza.core.layouts.types.moment import DateType
from mudanza.core.layouts.types.number import NumberType
from mudanza.core.layouts.types.text import TextType
from mudanza.core.layouts.types.yesno import YesNoType
from mudanza.core.values.kinds import Kind

SLIP = "slip"
CHOICES = "choices"
REMOVAL = "Remove?"
REMOVE = "remove"
_MOST = 1_048_576
#: blank rows below the records that carry the same helps, for additions
_SPARE = 500
_LONGEST_LIST = 255
_EXACT_DIGITS = 15
_FIRST_DAY = datetime(1900, 3, 1)


def most_rows() -> int:
    """How many records a sheet can lend."""
    return _MOST - _SPARE - 1


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
    book = new_book(buffer)
    data = book.add_worksheet(sheet_name(sheet))
    _Sheet(book, data, records, fields, keys, needed).fill()
    add_slip(book, slip)
    book.close()
    return buffer.getvalue()


def new_book(buffer: io.BytesIO) -> Any:
    """A workbook in which texts stay texts, whatever they look like."""
    options = {
        "in_memory": True,
        "strings_to_numbers": False,
        "strings_to_formulas": False,
        "strings_to_urls": False,
    }
    return xlsxwriter.Workbook(buffer, options)


def add_slip(book: Any, slip: Mapping[str, Any]) -> None:
    """The slip that identifies the loan, on a page that people do not see."""
    book.set_custom_property("mudanza loan", slip["loan"])
    page = book.add_worksheet(SLIP)
    text = json.dumps(dict(slip), ensure_ascii=False)
    for row, start in enumerate(range(0, len(text), 30_000)):
        page.write_string(row, 0, text[start : start + 30_000])
    page.very_hidden()
    page.protect()


def sheet_name(subject: str) -> str:
    """A subject as a sheet may be named."""
    return "".join(c for c in subject if c not in "[]:*?/\\'")[:31] or "records"


class _Sheet:
    def __init__(
        self,
        book: Any,
        sheet: Any,
        records: pl.DataFrame,
        fields: list[Field],
        keys: list[Field],
        needed: Sequence[str],
    ) -> None:
        self.book, self.sheet, self.records, self.fields, self.keys = book, sheet, records, fields, keys
        self.needed = needed
        self.last = records.height + (0 if needed else _SPARE)
        self.choices: Any = None

    def fill(self) -> None:
        sheet, records = self.sheet, self.records
        head = self.book.add_format(
            {"bold": True, "bg_color": "#E7ECEF", "bottom": 1, "text_wrap": True, "valign": "top"}
        )
        sheet.freeze_panes(1, len(self.keys))
        sheet.autofilter(0, 0, records.height, len(self.fields))
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
        for column, field in enumerate(self.fields):
            is_key = field in self.keys
            sheet.write_string(0, column, field.title, head)
            sheet.write_comment(
                0, column, self._note(field, is_key), {"x_scale": 2, "y_scale": 1.2, "author": "Mudanza"}
            )
            open_cell, shut_cell = self._formats(field)
            width = max(len(field.title), *(len(t or "") for t in records[field.title].head(200)), 6)
            sheet.set_column(column, column, min(width + 2, 44), open_cell)
            self._cells(column, field, shut_cell if is_key else open_cell)
            if not is_key:
                self._help(column, field)
        at = len(self.fields)
        sheet.write_string(0, at, REMOVAL, head)
        sheet.write_comment(
            0, at, f"Choose '{REMOVE}' to have the record removed. Do not delete rows.", {"author": "Mudanza"}
        )
        sheet.set_column(at, at, 10, self.book.add_format({"locked": False, "num_format": "@"}))
        sheet.data_validation(1, at, self.last, at, {"validate": "list", "source": [REMOVE]})

    def _formats(self, field: Field) -> tuple[Any, Any]:
        """The formats of cells that may be changed and of cells that may not."""
        number = "@"
        if isinstance(field.type, NumberType):
            form = field.type.format
            number = "0" + ("." + "0" * form.min_fraction if form.min_fraction else "")
            number = "General" if not form.min_fraction and form.max_fraction != 0 else number
        elif field.kind is Kind.DATE:
            number = "yyyy-mm-dd"
        elif field.kind is Kind.DATETIME:
            number = "yyyy-mm-dd hh:mm:ss"
        shut = self.book.add_format({"num_format": number, "locked": True, "font_color": "#5B6770"})
        return self.book.add_format({"num_format": number, "locked": False}), shut

    def _cells(self, column: int, field: Field, form: Any) -> None:
        texts = self.records[field.title]
        values = texts.to_frame("t").select(field.type.read(pl.col("t"))).to_series()
        for row, (text, value) in enumerate(zip(texts, values, strict=True), start=1):
            if text is None:
                self.sheet.write_blank(row, column, None, form)
            elif isinstance(value, Decimal) and len(value.normalize().as_tuple().digits) <= _EXACT_DIGITS:
                self.sheet.write_number(row, column, float(value), form)
            elif isinstance(value, datetime) and value >= _FIRST_DAY:
                self.sheet.write_datetime(row, column, value, form)
            elif isinstance(value, date) and not isinstance(value, datetime) and value >= _FIRST_DAY.date():
                self.sheet.write_datetime(row, column, datetime(value.year, value.month, value.day), form)
            else:
                # texts, yes/no words, and what a spreadsheet could not hold exactly
                self.sheet.write_string(row, column, text, form)

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
        rule: dict[str, Any] | None = None
        title, message = field.title[:32], field.rule[:250]
        takes = field.type
        words = takes.permitted if isinstance(takes, TextType) else None
        if isinstance(takes, YesNoType):
            words = (takes.format.yes[0], takes.format.no[0])
        if words and field.separator is None:
            listed = len(",".join(words)) <= _LONGEST_LIST and not any("," in word for word in words)
            rule = {"validate": "list", "source": list(words) if listed else self._choice_range(list(words))}
        elif isinstance(takes, NumberType):
            low, high = takes.bounds.low, takes.bounds.high
            least, most = (-1e15 if low is None else float(low)), (1e15 if high is None else float(high))
            rule = {"validate": "decimal", "criteria": "between", "minimum": least, "maximum": most}
        elif isinstance(takes, DateType):
            first, last = _moment(takes.bounds.low, _FIRST_DAY), _moment(takes.bounds.high, datetime(9999, 12, 31))
            rule = {"validate": "date", "criteria": "between", "minimum": max(first, _FIRST_DAY), "maximum": last}
        elif isinstance(takes, TextType) and takes.longest is not None:
            rule = {
                "validate": "length",
                "criteria": "between",
                "minimum": takes.length or takes.min_length or 0,
                "maximum": takes.longest,
            }
        if rule is not None:
            rule.update({"error_title": title, "error_message": message, "ignore_blank": True})
            self.sheet.data_validation(1, column, self.last, column, rule)

    def _choice_range(self, words: list[str]) -> str:
        """Long lists stand on a hidden sheet of their own."""
        if self.choices is None:
            self.choices = self.book.add_worksheet(CHOICES)
            self.choices.hide()
            self.next_choice = 0
        column = self.next_choice
        self.next_choice += 1
        for row, word in enumerate(words):
            self.choices.write_string(row, column, word)
        letters = xl_col_to_name(column)
        return f"={CHOICES}!${letters}$1:${letters}${len(words)}"


def _moment(bound: date | None, other: datetime) -> datetime:
    return other if bound is None else datetime.fromisoformat(bound.isoformat())
