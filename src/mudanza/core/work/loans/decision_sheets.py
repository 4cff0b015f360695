"""Workbooks of decisions (not of records): one or more sheets in which people fill some columns, written and read back."""

from __future__ import annotations

import io
import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from mudanza.core.documents.errors import LoanError, Place, nearest
from mudanza.core.sinks.sheet_cells import sheet_name
from mudanza.core.sinks.xlsx import new_book
from mudanza.core.sources.cells import column_letters, formulas_of
from mudanza.core.sources.guard import guard_workbook
from mudanza.core.sources.reader import ReadOptions
from mudanza.core.sources.workbook import Workbook
from mudanza.core.work.loans.loan_book import add_slip

#: the height of a line, in points
_LINE = 15


@dataclass(frozen=True)
class SheetColumn:
    """A column: its heading, how wide it is in characters, whether people fill it, what they may choose from, and whether it is printed."""

    title: str
    width: int
    open: bool = False
    choices: tuple[str, ...] = ()
    printed: bool = True


@dataclass(frozen=True)
class Sheet:
    """A sheet of texts. `note` stands above the heading."""

    name: str
    note: str
    columns: Sequence[SheetColumn]
    rows: Sequence[Sequence[str]]


@dataclass(frozen=True)
class WrongCell:
    """A cell of a returned sheet that cannot be taken, and why."""

    cell: str
    value: str
    problem: str


@dataclass(frozen=True)
class ReturnedRow:
    """A row of a returned sheet: its texts and cells by the headings, and its cells that hold a formula."""

    texts: Mapping[str, str]
    cells: Mapping[str, str]
    wrong: Sequence[WrongCell] = ()

    @property
    def formulas(self) -> set[str]:
        """The headings whose cell holds a formula instead of a text."""
        spots = {one.cell for one in self.wrong}
        return {title for title, cell in self.cells.items() if cell in spots}


def sheets_bytes(sheets: Sequence[Sheet], slip: Mapping[str, Any] | None) -> bytes:
    """A whole XLSX file, with the slip inside; without one, it is not to come back."""
    buffer = io.BytesIO()
    book = new_book(buffer, in_memory=True)
    head = book.add_format({"bold": True, "bg_color": "#E7ECEF", "bottom": 1, "text_wrap": True, "valign": "top"})
    quiet = book.add_format({"italic": True, "font_color": "#5B6770"})
    shut = book.add_format({"text_wrap": True, "valign": "top", "num_format": "@", "font_color": "#333F48"})
    fill = book.add_format(
        {
            "text_wrap": True,
            "valign": "top",
            "num_format": "@",
            "locked": False,
            "bg_color": "#FBFAF3",
            "border": 1,
            "border_color": "#D8D5C8",
        }
    )
    for number, one in enumerate(sheets):
        page = book.add_worksheet(sheet_name(one.name))
        page.write_string(0, 0, one.note, quiet)
        for column, facts in enumerate(one.columns):
            page.set_column(column, column, facts.width)
            page.write_string(1, column, facts.title, head)
        for row, cells in enumerate(one.rows, start=2):
            page.set_row(
                row, _LINE * max(lines_of(text, facts.width) for facts, text in zip(one.columns, cells, strict=True))
            )
            for column, (facts, text) in enumerate(zip(one.columns, cells, strict=True)):
                form = fill if facts.open else shut
                if text:
                    page.write_string(row, column, text, form)
                else:
                    page.write_blank(row, column, None, form)
        last = max(len(one.rows) + 1, 2)
        for column, facts in enumerate(one.columns):
            if facts.choices and facts.open:
                _choices(book, page, column, last, facts, number)
        page.freeze_panes(2, 1)
        page.autofilter(1, 0, last, len(one.columns) - 1)
        page.protect("", {"format_columns": True, "format_rows": True, "autofilter": True, "sort": True})
        printed = sum(facts.printed for facts in one.columns)
        page.print_area(0, 0, last, printed - 1)
        page.set_margins(left=0.4, right=0.4, top=0.5, bottom=0.7)
        page.set_landscape()
        page.set_paper(9)
        page.fit_to_pages(1, 0)
        page.repeat_rows(1)
        page.set_footer("&L&A&CAgreed: ______________________  Date: ____________&R&P / &N")
    if slip is not None:
        add_slip(book, slip)
    book.close()
    return buffer.getvalue()


def lines_of(text: str, width: int) -> int:
    """How many lines a text takes in a column, as well as it can be told without its font."""
    return sum(max(1, math.ceil(len(line) * 1.1 / width)) for line in text.split("\n")) if text else 1


def _choices(book: Any, page: Any, column: int, last: int, facts: SheetColumn, number: int) -> None:
    words = list(facts.choices)
    source: Any = words
    if len(",".join(words)) > 255 or any("," in word for word in words):
        name = f"choices{number + 1}-{column + 1}"
        hidden = book.add_worksheet(name)
        hidden.hide()
        for row, word in enumerate(words):
            hidden.write_string(row, 0, word)
        source = f"='{name}'!$A$1:$A${len(words)}"
    page.data_validation(
        2,
        column,
        last,
        column,
        {
            "validate": "list",
            "source": source,
            "ignore_blank": True,
            "error_title": facts.title,
            "error_message": "Choose one of the list, or leave it blank.",
        },
    )


def read_sheet(path: Path, name: str, titles: Sequence[str], shown: str) -> list[ReturnedRow]:
    """The rows of a returned sheet, by their headings, blanks as "". The heading is looked for in the first rows: some may have been put above it.

    Raises LoanError for a missing sheet or heading.
    """
    kind = guard_workbook(path)
    wanted = sheet_name(name)
    sheets = Workbook(path, ReadOptions(), path).sheets
    if wanted not in sheets:
        near = nearest(wanted, list(sheets))
        raise LoanError(
            f"the workbook has no sheet {wanted!r} any more.",
            place=Place(shown),
            hint=f"Was it renamed to {near!r}?" if near else "Take the sheet from the workbook as it was lent.",
        )
    rows = [[(cell or "").strip() for cell in row] for row in sheets[wanted][0].iter_rows()]
    formulas = formulas_of(path, kind, wanted)
    heading = max(range(min(len(rows), 20)), key=lambda i: len(set(titles) & set(rows[i])), default=0)
    missing = [t for t in titles if not rows or t not in rows[heading]]
    if missing:
        raise LoanError(
            f"the heading {missing[0]!r} is not in the sheet any more.",
            place=Place(shown, heading + 1, sheet=wanted),
            hint="Put it back as it was lent.",
        )
    places = {t: rows[heading].index(t) for t in titles}
    found = []
    for number, row in enumerate(rows[heading + 1 :], start=heading + 2):
        texts = {t: row[place] if place < len(row) else "" for t, place in places.items()}
        cells = {t: f"{wanted}!{column_letters(place)}{number}" for t, place in places.items()}
        wrong = [
            WrongCell(cells[t], f"={formula[:40]}", "a formula; replace it by its value (copy, paste values)")
            for t, place in places.items()
            if (formula := formulas.get((number - 1, place))) is not None
        ]
        if wrong or any(texts.values()):
            found.append(ReturnedRow(texts, cells, wrong))
    return found
