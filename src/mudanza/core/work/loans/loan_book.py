"""The workbook of a loan: a protected sheet with helps on every heading, a sheet that explains, and the slip that identifies it."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import polars as pl

from mudanza.core.layouts.layout import Field
from mudanza.core.sinks.sheet_cells import MOST_ROWS, choices_of, input_rule, number_format, sheet_name, width_of
from mudanza.core.sinks.sheet_columns import SheetColumns
from mudanza.core.sinks.spool import new_spool, pieces_of_spool
from mudanza.core.sinks.xlsx import Choices, new_book
from mudanza.core.values.digest import mark_of
from mudanza.core.work.loans.wording import WORDS, Words, kind_in_words

SLIP = "slip"
REMOVAL = "Remove?"
#: over the column that people do not see, in which each row says which record of which loan it is
MARKS = "(loan)"
#: the property of a workbook that names its loan
PROPERTY = "mudanza loan"
#: who wrote the notes on headings
OWN_NAME = "Mudanza"
#: a mark: the loan, the number of the record, and the beginning of the digest of what was lent
MARK = r"(.+):([0-9]+):([0-9a-f]{6})"
#: blank rows below the records that carry the same helps, for additions
_SPARE = 200
_HEAD, _GREY, _TINT, _LINE = "#E7ECEF", "#5B6770", "#F4F7F2", "#C9D1D6"
#: the ground of cells that changed since they were lent before
_FRESH = "#FFF1C9"
_MEASURED = 200
_TALLEST = 60


@dataclass(frozen=True)
class Lending:
    """How records are lent: the fields, the key's first; which of them are locked or masked; what a new record would need that is not lent; the slip; and the language."""

    fields: Sequence[Field]
    keys: Sequence[Field]
    slip: Mapping[str, Any]
    locked: Sequence[str] = ()
    masked: Sequence[str] = ()
    needed: Sequence[str] = ()
    language: str = "en"
    #: by title the rows of cells that changed since they were lent before
    changed: Mapping[str, frozenset[int]] = field(default_factory=dict)

    @property
    def words(self) -> Words:
        """The words of the language."""
        return WORDS[self.language]

    def mark(self, row: pl.Expr) -> pl.Expr:
        """The mark of a record by its number."""
        return pl.format("{}:{}:{}", pl.lit(self.slip["loan"]), row, pl.lit(mark_of(self.slip["lent"])))

    def shut(self, one: Field) -> bool:
        """Whether a field can be seen only."""
        return one in self.keys or one.title in self.locked or one.title in self.masked


def most_rows() -> int:
    """How many records a sheet can lend."""
    return MOST_ROWS - _SPARE - 1


def workbook_pieces(sheet: str, records: pl.DataFrame, lending: Lending) -> Iterator[bytes]:
    """A whole XLSX file, piece by piece. `records` has the fields' titles as text columns, masked ones with their masks."""
    file = new_spool()
    book = new_book(file, constant_memory=True)
    page = book.add_worksheet(sheet_name(sheet))
    _Sheet(book, page, records, lending).fill()
    _how_to(book, lending)
    add_slip(book, lending.slip)
    page.activate()
    book.close()
    yield from pieces_of_spool(file)


def add_slip(book: Any, slip: Mapping[str, Any]) -> None:
    """The slip that identifies the loan, on a page that people do not see."""
    book.set_custom_property(PROPERTY, slip["loan"])
    page = book.add_worksheet(SLIP)
    text = json.dumps(dict(slip), ensure_ascii=False)
    for row, start in enumerate(range(0, len(text), 30_000)):
        page.write_string(row, 0, text[start : start + 30_000])
    page.very_hidden()
    page.protect()


def explanation(lending: Lending) -> list[str]:
    """The five lines that explain what may be done."""
    words = lending.words
    needs = [f.title for f in lending.fields if f.required and f.default is None and not f.left_out_of_additions]
    additions = (
        words.no_additions.format(fields=", ".join(lending.needed))
        if lending.needed
        else words.additions.format(fields=", ".join(needs) or "-")
    )
    return [line.replace("{additions}", additions) for line in words.lines]


def note_on(field: Field, lending: Lending, example: str | None) -> str:
    """What stands on a heading: what the field takes, whether it is needed, an example."""
    words = lending.words
    lines = [*([field.label] if field.label else []), kind_in_words(field, words) + "."]
    lines.append(words.required if field.required and field.default is None else words.optional)
    if field.default is not None:
        lines.append(words.default.format(field.default))
    if field in lending.keys:
        lines.append(words.key)
        if lending.needed:
            lines.append(words.no_additions.format(fields=", ".join(lending.needed)))
    elif field.title in lending.masked:
        lines = [words.masked]
    elif field.title in lending.locked:
        lines.append(words.locked)
    if field.description:
        lines.append(field.description)
    if example and field.title not in lending.masked and not choices_of(field):
        lines.append(words.example.format(example if len(example) <= 40 else f"{example[:39]}…"))
    return "\n".join(lines)


def notes_on(records: pl.DataFrame, lending: Lending) -> list[str]:
    """The notes on all headings, in their order, and on that of the removal column."""
    examples = [records[one.title].drop_nulls().first() for one in lending.fields]
    notes = [
        note_on(one, lending, None if example is None else str(example))
        for one, example in zip(lending.fields, examples, strict=True)
    ]
    return [*notes, lending.words.removal_note]


class _Sheet:
    def __init__(self, book: Any, sheet: Any, records: pl.DataFrame, lending: Lending) -> None:
        self.book, self.sheet, self.records, self.lending = book, sheet, records, lending
        self.last = records.height + (0 if lending.needed else _SPARE)
        self.choices = Choices(book)
        self.removal = len(lending.fields)
        self.tints: dict[str, Any] = {}

    def fill(self) -> None:
        """Headings, records, room for new ones, and what is checked while people type."""
        sheet, lending = self.sheet, self.lending
        sheet.freeze_panes(1, len(lending.keys))
        sheet.autofilter(0, 0, self.records.height, self.removal + 1)
        sheet.set_landscape()
        sheet.set_paper(9)
        sheet.fit_to_pages(1, 0)
        sheet.repeat_rows(0)
        sheet.protect(
            "",
            {
                "select_locked_cells": True,
                "select_unlocked_cells": True,
                "format_columns": True,
                "format_rows": True,
                "autofilter": True,
                "sort": True,
                "insert_rows": not lending.needed,
            },
        )
        formats = [self._format(one) for one in lending.fields]
        self._columns(formats)
        self._headings()
        self._rows(formats)
        self._room()
        for column, one in enumerate(lending.fields):
            rule = None if lending.shut(one) else input_rule(one, self.choices.range_of)
            if rule is not None:
                sheet.data_validation(1, column, self.last, column, rule)
        words = {"validate": "list", "source": [lending.words.remove]}
        sheet.data_validation(1, self.removal, self.last, self.removal, words)

    def _format(self, field: Field) -> Any:
        shut = self.lending.shut(field)
        number = "@" if field.title in self.lending.masked else number_format(field)
        grey = {"font_color": _GREY, "bg_color": "#F3F5F6"} if shut else {}
        return self.book.add_format({"num_format": number, "locked": shut, "valign": "top", **grey})

    def _columns(self, formats: Sequence[Any]) -> None:
        for column, (one, form) in enumerate(zip(self.lending.fields, formats, strict=True)):
            longest = self.records[one.title].head(_MEASURED).str.len_chars().max()
            width = width_of(one.title, int(str(longest)) if longest is not None else 0)
            new = (
                self.book.add_format({"num_format": number_format(one), "locked": False})
                if one in self.lending.keys
                else form
            )
            self.sheet.set_column(column, column, width, new)
        open_text = self.book.add_format({"locked": False, "num_format": "@"})
        self.sheet.set_column(self.removal, self.removal, 12, open_text)
        shut = self.book.add_format({"num_format": "@", "locked": True, "font_color": _GREY})
        self.sheet.set_column(self.removal + 1, self.removal + 1, 10, shut, {"hidden": True})

    def _headings(self) -> None:
        head = self.book.add_format(
            {"bold": True, "bg_color": _HEAD, "bottom": 1, "bottom_color": _LINE, "text_wrap": True, "valign": "top"}
        )
        lending = self.lending
        self.sheet.set_row(0, 30)
        titles = [*(one.title for one in lending.fields), lending.words.removal]
        for column, (title, note) in enumerate(zip(titles, notes_on(self.records, lending), strict=True)):
            self.sheet.write_string(0, column, title, head)
            height = 1.4 if column < self.removal else 1
            self.sheet.write_comment(0, column, note, {"x_scale": 2, "y_scale": height, "author": OWN_NAME})
        self.sheet.write_string(0, self.removal + 1, MARKS, head)

    def _rows(self, formats: Sequence[Any]) -> None:
        fields = [one for one in self.lending.fields if one.title not in self.lending.masked]
        values = iter(SheetColumns(fields).of(self.records))
        columns = [
            self.records[one.title].to_list() if one.title in self.lending.masked else next(values)
            for one in self.lending.fields
        ]
        marks = self.records.select(self.lending.mark(pl.int_range(pl.len()))).to_series().to_list()
        string, number, blank = self.sheet.write_string, self.sheet.write_number, self.sheet.write_blank
        numbers, last = range(len(columns)), self.removal + 1
        fresh = frozenset().union(*self.lending.changed.values())
        for row, (mark, *cells) in enumerate(zip(marks, *columns, strict=True), start=1):
            for column, value, form in zip(
                numbers, cells, formats if row - 1 not in fresh else self._marked(row - 1, formats), strict=True
            ):
                if value.__class__ is str:
                    # texts, words, and what a spreadsheet could not hold exactly
                    string(row, column, value, form)
                elif value is None:
                    blank(row, column, None, form)
                else:
                    number(row, column, value, form)
            string(row, last, mark)

    def _marked(self, row: int, formats: Sequence[Any]) -> list[Any]:
        """The formats of a row in which some cells changed since they were lent before."""
        marked = []
        for one, form in zip(self.lending.fields, formats, strict=True):
            if row in self.lending.changed.get(one.title, ()):
                look = {
                    "num_format": number_format(one),
                    "locked": self.lending.shut(one),
                    "valign": "top",
                    "bg_color": _FRESH,
                }
                form = self._tinted(f"{one.title} changed", look)
            marked.append(form)
        return marked

    def _room(self) -> None:
        """Tinted rows for new records, as many as people see at once; those below take them too."""
        if self.lending.needed:
            return
        for row in range(self.records.height + 1, self.records.height + 21):
            for column, one in enumerate(self.lending.fields):
                shut = one.title in self.lending.locked or one.title in self.lending.masked
                tint = {
                    "num_format": number_format(one),
                    "locked": shut,
                    "bg_color": _TINT,
                    "bottom": 4,
                    "bottom_color": _LINE,
                }
                self.sheet.write_blank(row, column, None, self._tinted(one.title, tint))

    def _tinted(self, title: str, form: dict[str, Any]) -> Any:
        if title not in self.tints:
            self.tints[title] = self.book.add_format(form)
        return self.tints[title]


def _how_to(book: Any, lending: Lending) -> None:
    """The sheet that explains, in five lines."""
    page = book.add_worksheet(lending.words.sheet)
    page.hide_gridlines(2)
    # a sheet of one column is taken for the records by nobody
    page.set_column(0, 0, 104)
    big = book.add_format({"bold": True, "font_size": 14})
    text = book.add_format({"text_wrap": True, "valign": "top"})
    page.set_row(0, 26)
    page.write_string(0, 0, lending.words.title, big)
    for row, line in enumerate(explanation(lending), start=1):
        page.set_row(row, 34)
        page.write_string(row, 0, f"{row}.  {line}", text)
    page.protect()
