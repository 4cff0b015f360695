"""What every source format gives: headings, facts about the file, and batches of text rows with their places."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Protocol

import polars as pl

#: Name of the column that says where a row stands: the line of a text file, the row of a sheet.
LINE = "#line"
#: Columns of a held-back file that say where its rows once stood; reading such a file gives them back.
SOURCE, FILE, WHY, TEXT = "#source", "#file", "#why", "#text"
#: What a file's own heading `#line` is called, the plain name being that of where its rows stand now.
OLD_LINE = f"{LINE} (2)"

#: Prefix of columns that only live inside a computation; no heading can start with it.
INNER = "\x1f"


@dataclass(frozen=True)
class ReadOptions:
    """How a file is to be read; what is None is found out from the file itself.

    `heading` is the line (or sheet row) of the heading, counted from 1; 0 if there is none. `rename` maps this file's headings to
    the names used from here on.
    """

    encoding: str | None = None
    delimiter: str | None = None
    quote: str | None = '"'
    heading: int | None = None
    sheet: str | None = None
    rename: dict[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class SheetFacts:
    """A sheet of a workbook: its name, whether it is visible, its rows, and whether it holds the records."""

    name: str
    visible: bool
    rows: int
    chosen: bool


@dataclass(frozen=True)
class FileFacts:
    """What was found out about a file before its rows were read."""

    path: Path
    format: str
    size: int
    heading_line: int
    encoding: str | None = None
    encoding_because: str | None = None
    delimiter: str | None = None
    sheets: tuple[SheetFacts, ...] = ()

    @property
    def sheet(self) -> str | None:
        return next((s.name for s in self.sheets if s.chosen), None)


@dataclass(frozen=True)
class BrokenRow:
    """A row whose structure is damaged: where it starts, the code of the finding, and the text as it stands."""

    line: int
    code: str
    text: str
    value: str
    cells: tuple[str, ...] = ()


def asked_of(code: str, facts: FileFacts, columns: int) -> str:
    """What a damaged row should have been, for its finding."""
    rules = {
        "read.ragged": f"{columns} values",
        "read.stray-quote": "quotes inside values doubled",
        "read.unclosed-quote": "every quote closed",
        "read.undecodable": f"text in {facts.encoding}",
        "read.nul": "text without NUL",
    }
    return rules[code]


@dataclass(frozen=True)
class Batch:
    """Some rows: text columns named by the headings plus `#line`, and the rows that could not be read."""

    rows: pl.DataFrame
    broken: tuple[BrokenRow, ...] = ()
    blank_lines: tuple[int, ...] = ()


class Reader(Protocol):
    """A file opened for reading. `headings` are in file order and differ from one another."""

    @property
    def facts(self) -> FileFacts: ...

    @property
    def headings(self) -> tuple[str, ...]: ...

    #: headings exactly as they stand, before repeated or blank ones were told apart
    @property
    def raw_headings(self) -> tuple[str, ...]: ...

    def batches(self, *, first: bool = False) -> Iterator[Batch]:
        """The rows in file order. With `first`, only a small first batch is wanted."""
        ...

    def cell(self, heading: str, line: int) -> str | None:
        """The cell reference of a value in a sheet (`C7`); None in text files."""
        ...


def tell_apart(headings: list[str]) -> list[str]:
    """Headings without leading and trailing spaces, blank ones named by position, repeated ones numbered.

    `#line` counts as taken.
    """
    seen: set[str] = {LINE}
    names: list[str] = []
    for position, heading in enumerate(headings, start=1):
        printable = "".join(c if c.isprintable() else " " for c in heading)
        plain = " ".join(printable.split()) or f"column {position}"
        name, again = plain, 2
        while name in seen:
            name, again = f"{plain} ({again})", again + 1
        seen.add(name)
        names.append(name)
    return names


def find_heading(rows: list[list[str]]) -> int:
    """Index of the row that is most likely the heading among the first rows of a file.

    The heading is the first row as wide as most rows are, whose cells are filled and are no numbers. Title
    lines above it are narrower. Without any such row it is the first one that has a value.
    """

    def filled(row: list[str]) -> int:
        return sum(1 for cell in row if cell.strip())

    if not rows:
        return 0
    widest = max(filled(row) for row in rows)
    if widest == 0:
        return 0
    for index, row in enumerate(rows):
        cells = [cell.strip() for cell in row if cell.strip()]
        numbers = sum(1 for cell in cells if cell.replace(".", "").replace(",", "").replace("-", "").isdigit())
        if len(cells) >= max(1, 0.7 * widest) and numbers <= len(cells) // 4 and len(set(cells)) >= 0.5 * len(cells):
            return index
    return next(index for index, row in enumerate(rows) if filled(row))
