"""A lent workbook as people and programs mishandle it: a model of its sheet, what is done to it, and the files that it is saved as."""

from __future__ import annotations

import csv
import io
import random
import unicodedata
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from datetime import date, datetime, timedelta
from pathlib import Path
from typing import Any

from openpyxl import Workbook, load_workbook

_WORDS = [
    "José Água",
    "Ana Müller",
    "Zoë Brontë",
    "João d'Ávila",
    "François Noël",
    "Ñandu Peña",
    "Peter Gray",
    "Maria Lobo",
    "Ingo Weiß",
    "Eva Sá",
]
_CODES = ["1-2", "3-4", "10-12", "MAR1", "A12", "SEP7", "5/6", "7E2", "12.5", "B7"]
_NOTES = [
    "calm  dog",
    "bites; see file\nask first",
    'says "no" - often',
    None,
    "it's fine",
    None,
    "x" * 300,
    "old - since 2019",
    "a b",
    None,
]

COLUMNS: list[dict[str, Any]] = [
    {"name": "code", "titles": "Code", "required": True, "datatype": {"base": "string", "maxLength": 8}},
    {"name": "name", "titles": "Name", "required": True, "datatype": {"base": "string", "maxLength": 30}},
    {"name": "post", "titles": "Post", "datatype": {"base": "string", "length": 5}},
    {"name": "account", "titles": "Account"},
    {"name": "phone", "titles": "Phone"},
    {"name": "born", "titles": "Born", "datatype": {"base": "date", "format": "dd/MM/yyyy"}},
    {"name": "seen", "titles": "Seen", "datatype": {"base": "dateTime", "format": "dd/MM/yyyy HH:mm:ss"}},
    {"name": "balance", "titles": "Balance", "datatype": {"base": "decimal", "format": {"pattern": "0,00", "decimalChar": ","}}},
    {"name": "visits", "titles": "Visits", "datatype": "integer"},
    {"name": "active", "titles": "Active", "datatype": {"base": "boolean", "format": "J|N"}},
    {"name": "kind", "titles": "Kind", "datatype": {"base": "string", "format": "cat|dog|bird"}},
    {"name": "tariff", "titles": "Tariff"},
    {"name": "town", "titles": "Town"},
    {"name": "notes", "titles": "Notes"},
    {"name": "tags", "titles": "Tags", "separator": "|"},
]  # fmt: skip
TITLES = [one["titles"] for one in COLUMNS]
ROWS = 40


def lines() -> list[list[str | None]]:
    """The records in the layout's texts."""
    chance = random.Random(7)
    made: list[list[str | None]] = []
    for n in range(ROWS):
        born = date(1950, 1, 1) + timedelta(days=chance.randrange(25_000))
        seen = datetime(2020, 1, 1) + timedelta(seconds=chance.randrange(10**8))
        made.append(
            [
                f"{17 + n * 3:05}",
                f"{_WORDS[n % 10]}{n}",
                f"0{chance.randrange(1000, 9999)}",
                str(chance.randrange(10**18, 10**19)),
                f"+351 91{chance.randrange(10**6, 10**7)}" if n % 3 else None,
                f"{born:%d/%m/%Y}",
                f"{seen:%d/%m/%Y %H:%M:%S}" if n % 4 else None,
                f"{chance.randrange(100, 999999) / 100:.2f}".replace(".", ",") if n % 5 else None,
                str(chance.randrange(1, 400)),
                "JN"[chance.randrange(2)] if n % 7 else None,
                ["cat", "dog", "bird"][chance.randrange(3)],
                _CODES[n % 10],
                f"Town {chance.randrange(1, 900)}",
                _NOTES[n % 10],
                "a|b" if n % 2 else None,
            ]
        )
    return made


@dataclass
class Sheet:
    """The sheet as it came back: what stands above the table, its heading, its rows with the hidden mark, the other sheets' names, and formulas and the like by cell."""

    heading: list[str]
    rows: list[list[Any]]
    slip: list[str]
    above: list[list[Any]] = field(default_factory=list)
    last: Callable[[Any], None] | None = None

    @classmethod
    def of(cls, path: Path, name: str = "people") -> Sheet:
        """What was lent."""
        book = load_workbook(path)
        heading, *rows = [[cell.value for cell in row] for row in book[name].iter_rows()]
        rows = [row for row in rows if any(cell is not None for cell in row)]
        return cls([str(one) for one in heading], rows, [row[0].value for row in book["slip"].iter_rows()])

    def at(self, title: str) -> int:
        return self.heading.index(title)

    def column(self, title: str) -> list[Any]:
        return [row[self.at(title)] for row in self.rows]

    def put(self, title: str, values: list[Any]) -> None:
        for row, value in zip(self.rows, values, strict=True):
            row[self.at(title)] = value

    def each(self, title: str, made: Callable[[Any], Any]) -> None:
        self.put(title, [None if one is None else made(one) for one in self.column(title)])

    def table(self) -> list[list[Any]]:
        return [*self.above, self.heading, *self.rows]

    def without_mark(self) -> Sheet:
        """The same, as one who took the hidden column and the slip away."""
        at = self.at("(loan)")
        for row in (self.heading, *self.rows):
            del row[at]
        self.slip = []
        return self

    def save(self, path: Path, sheet: str = "people") -> Path:
        """As a workbook."""
        book = Workbook()
        page = book.active
        assert page is not None
        page.title = sheet
        for row in self.table():
            page.append(row)
        if self.slip:
            slip = book.create_sheet("slip")
            for piece in self.slip:
                slip.append([piece])
            slip.sheet_state = "hidden"
        if self.last is not None:
            self.last(book)
        book.save(path)
        return path


@dataclass(frozen=True)
class Dialect:
    """How a program writes text files: its delimiter, encoding, dates, decimal and group signs, words for yes and no."""

    delimiter: str = ","
    encoding: str = "utf-8"
    date: str = "%Y-%m-%d"
    time: str = " %H:%M:%S"
    decimal: str = "."
    group: str = ""
    quoting: int = csv.QUOTE_MINIMAL
    line: str = "\r\n"
    ending: str = ".csv"

    def text(self, value: Any) -> str:
        if value is None:
            return ""
        if isinstance(value, datetime):
            return value.strftime(self.date + (self.time if value.time() != datetime.min.time() else ""))
        if isinstance(value, float):
            made = f"{value:,.2f}" if self.group and value != int(value) else repr(value).removesuffix(".0")
            return made.replace(",", "\0").replace(".", self.decimal).replace("\0", self.group)
        return str(value)

    def save(self, sheet: Sheet, path: Path) -> Path:
        """A sheet as a text file."""
        text = io.StringIO(newline="")
        writer = csv.writer(text, delimiter=self.delimiter, quoting=self.quoting, lineterminator=self.line)  # type: ignore[arg-type]
        for row in sheet.table():
            writer.writerow([self.text(one) for one in row])
        path = path.with_suffix(self.ending)
        path.write_bytes(text.getvalue().encode(self.encoding, "replace"))
        return path


DIALECTS: Mapping[str, Dialect] = {
    "CSV": Dialect(),
    "German CSV": Dialect(";", "cp1252", "%d.%m.%Y", " %H:%M:%S", ",", "."),
    "Portuguese CSV": Dialect(";", "utf-8-sig", "%d/%m/%Y", " %H:%M:%S", ",", " "),
    "US CSV": Dialect(",", "utf-8", "%m/%d/%Y", " %I:%M:%S %p", ".", ","),
    "short years": Dialect(";", "utf-8", "%d.%m.%y", " %H:%M:%S", ","),
    "named months": Dialect(",", "utf-8", "%d-%b-%Y", " %H:%M:%S"),
    "TSV in UTF-16": Dialect("\t", "utf-16", "%d/%m/%Y", " %H:%M:%S", ".", ending=".txt"),
    "all quoted": Dialect(",", "utf-8", quoting=csv.QUOTE_ALL, line="\n"),
    "old Macintosh": Dialect(";", "mac_roman", "%d/%m/%Y", " %H:%M:%S", ","),
    "pipes": Dialect("|", "utf-8", quoting=csv.QUOTE_ALL),
}  # fmt: skip


def plain(text: str) -> str:
    """Text without its accents."""
    return "".join(one for one in unicodedata.normalize("NFD", text) if not unicodedata.combining(one))
