"""What every source format gives: headings, facts about the file, and batches of text rows with their places."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Protocol, runtime_checkable

import polars as pl
from polars.io.plugins import register_io_source

from mudanza.core.values.digest import Digest
from mudanza.core.values.row_columns import LINE


@dataclass(frozen=True)
class ReadOptions:
    """How a source is to be read; what is None is found out from the source itself.

    `heading` is the line (or sheet row) of the heading, counted from 1; 0 if there is none; `heading_rows` how many lines it has,
    groups above names; `below` how many lines stand below the data. `inside` names a file in an archive. `rename` maps
    this file's headings to the names used from here on, and `blanks` are values that count as blank. `own` holds the
    settings that only one format knows. With `exact`, the file is taken as it stands: a first line is the heading, and
    nothing below or beside the data is passed over; `above` are then lines above what has no heading, and lines that begin with `comment` are none. `quick` says that the first records are enough to tell the columns by.
    """

    format: str | None = None
    encoding: str | None = None
    delimiter: str | None = None
    quote: str | None = '"'
    escape: str | None = None
    heading: int | None = None
    heading_rows: int | None = None
    below: int | None = None
    sheet: str | None = None
    inside: str | None = None
    rename: dict[str, str] = field(default_factory=dict)
    blanks: tuple[str, ...] = ()
    own: Mapping[str, Any] = field(default_factory=dict)
    exact: bool = False
    above: int = 0
    comment: str | None = None
    quick: bool = False


@dataclass(frozen=True)
class Encoding:
    """The encoding of a text, and how it was found: by its `mark`, `said`, as it says `itself`, by its `zeros`, for the text is `ascii`, `valid` or `mostly valid`, or by a
    `guess`. `others` would read it as well; `likelier` is what it looks like, if that is not what was said."""

    name: str
    how: str
    others: tuple[str, ...] = ()
    likelier: str | None = None

    @property
    def because(self) -> str:
        """How it was found, in words."""
        words = {
            "mark": "certain: it has a byte order mark",
            "said": "as said",
            "itself": "as it says itself",
            "zeros": "all but certain: every second byte is zero",
            "ascii": "plain ASCII as far as was looked",
            "valid": "all but certain: every sequence is valid",
            "mostly valid": "likely: valid but for a few damaged places",
            "guess": "a guess: not UTF-8",
        }[self.how]
        if self.likelier is not None:
            words += f", but it looks like {self.likelier}"
        return words + (f"; {' and '.join(self.others[:2])} would read it as well" if self.others else "")


@dataclass(frozen=True)
class SheetFacts:
    """A sheet of a workbook: its name, whether it is visible, its rows, and whether it holds the records."""

    name: str
    visible: bool
    rows: int
    chosen: bool


@dataclass(frozen=True)
class FileFacts:
    """What was found out about a source before its rows were read.

    `unit` is what rows are counted in (line, row, record), `above` how many lines were passed over above the heading,
    `part` the record type, table or path that is read of a source that has several. `notes` are further things worth knowing,
    each with a word for it; `proposal` are lines for a plan's source that say what was found out.
    """

    path: Path
    format: str
    size: int
    heading_line: int
    text: Encoding | None = None
    delimiter: str | None = None
    sheets: tuple[SheetFacts, ...] = ()
    unit: str = "line"
    above: int = 0
    part: str | None = None
    notes: tuple[tuple[str, str], ...] = ()
    proposal: tuple[str, ...] = ()

    @property
    def encoding(self) -> str | None:
        """The name of the encoding of what is text."""
        return self.text.name if self.text is not None else None

    @property
    def sheet(self) -> str | None:
        return next((s.name for s in self.sheets if s.chosen), None)

    @property
    def name(self) -> str:
        """The source as people know it: its path, and the part of it."""
        return f"{self.path} [{self.part}]" if self.part else str(self.path)


@dataclass(frozen=True)
class BrokenRow:
    """A row whose structure is damaged: where it starts, the code of the finding, the text as it stands, and, if
    `asked_of` does not know it, what was asked."""

    line: int
    code: str
    text: str
    value: str
    cells: tuple[str, ...] = ()
    rule: str | None = None


def asked_of(broken: BrokenRow, facts: FileFacts, columns: int) -> str:
    """What a damaged row should have been, for its finding."""
    if broken.rule is not None:
        return broken.rule
    rules = {
        "read.ragged": f"{columns} values",
        "read.stray-quote": "quotes inside values doubled",
        "read.unclosed-quote": "every quote closed",
        "read.undecodable": f"text in {facts.encoding}",
        "read.nul": "text without NUL",
        "read.cut-off": f"{columns} values and a line end",
    }
    return rules[broken.code]


@dataclass(frozen=True)
class Batch:
    """Some rows: text columns named by the headings plus `#line`, and the rows that could not be read.

    `noticed` has what else was seen, in the shape of findings without their file. A finding of severity stop with a
    line and a column is about that one value. `share` is how much of the source has been read with it, if that is known. `printed` has the totals that stand with the records, in rows of
    the same columns: what they add up to is said to be the sum of all records.
    """

    rows: pl.DataFrame
    broken: tuple[BrokenRow, ...] = ()
    blank_lines: tuple[int, ...] = ()
    noticed: pl.DataFrame | None = None
    share: float | None = None
    printed: pl.DataFrame | None = None


def shorter(text: str, most: int = 80) -> str:
    """Text cut to a length."""
    return text if len(text) <= most else f"{text[: most - 1]}…"


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

    #: the letters of the sheet's columns that headings stand in; empty for what is no sheet
    @property
    def letters(self) -> Mapping[str, str]: ...


@runtime_checkable
class TellsText(Protocol):
    """A reader of cells, which can hold a number, or the same as text."""

    def texts_in(self, headings: Sequence[str]) -> dict[str, list[int]]:
        """The rows in which the cells of some columns hold text."""
        ...


@runtime_checkable
class TakesColumns(Protocol):
    """A reader that can leave columns aside at less cost than all have."""

    def narrowed(self, headings: Collection[str]) -> Reader:
        """The same reader, whose rows have these columns alone."""
        ...


@runtime_checkable
class OfDatabase(Protocol):
    """A reader of a table or query of a database, which is no file, and can be asked."""

    def declared(self) -> Mapping[str, str]:
        """The kinds that the database declares for the columns, by heading; none for those of a query."""
        ...

    def digest(self, name: str) -> Digest:
        """What was read, under a name, once it has been read."""
        ...

    def holding(self, headings: Collection[str], texts: Collection[str]) -> Iterator[Batch] | None:
        """The rows that hold one of some texts in one of some columns (and perhaps others); None if it cannot be asked
        for them.
        """
        ...


class WithoutCells:
    """For readers of what is no sheet."""

    @property
    def letters(self) -> Mapping[str, str]:
        """Only sheets have cells."""
        return {}


def lazy_rows(reader: Reader) -> pl.LazyFrame:
    """The rows of a reader as a lazy frame of text with `#line`; damaged rows are left out (`batches` has them)."""
    schema = {**dict.fromkeys(reader.headings, pl.String()), LINE: pl.Int64()}

    def batches(
        with_columns: list[str] | None,
        predicate: pl.Expr | None,
        n_rows: int | None,
        batch_size: int | None,  # noqa: ARG001
    ) -> Iterator[pl.DataFrame]:
        left = n_rows
        for batch in reader.batches():
            rows = batch.rows if left is None else batch.rows.head(left)
            left = None if left is None else left - rows.height
            rows = rows if predicate is None else rows.filter(predicate)
            yield rows.select(with_columns) if with_columns is not None else rows.select(list(schema))
            if left == 0:
                return

    return register_io_source(batches, schema=pl.Schema(schema))
