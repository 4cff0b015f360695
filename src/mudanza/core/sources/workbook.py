"""Workbooks (XLSX): the sheet that holds the records, its heading row, and the cells as text."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

import fastexcel
import polars as pl

from mudanza.core.errors import Place, SourceError, unknown
from mudanza.core.sources.guard import guard_workbook
from mudanza.core.sources.reading import (
    LINE,
    Batch,
    FileFacts,
    ReadOptions,
    SheetFacts,
    find_heading,
    tell_apart,
)

_LOOK = 60
_MIDNIGHT = r"^(\d{4}-\d{2}-\d{2}) 00:00:00$"


@dataclass(frozen=True)
class Workbook:
    """An XLSX file opened for reading. Without `sheet`, the sheet with the most records is taken."""

    path: Path
    options: ReadOptions

    @cached_property
    def _book(self) -> fastexcel.ExcelReader:
        guard_workbook(self.path)
        try:
            return fastexcel.read_excel(str(self.path))
        except (fastexcel.FastExcelError, OSError) as error:
            raise SourceError(
                f"the workbook cannot be read ({_first_line(error)}).",
                place=Place(file=str(self.path)),
                hint="Open it with a spreadsheet program and save it again as .xlsx.",
            ) from error

    @cached_property
    def sheets(self) -> dict[str, tuple[pl.DataFrame, bool]]:
        """Every sheet as a frame of text without a heading, and whether it is visible."""
        sheets = {}
        for name in self._book.sheet_names:
            try:
                sheet = self._book.load_sheet(name, header_row=None, skip_rows=0, dtypes="string")
                sheets[name] = (sheet.to_polars(), sheet.visible == "visible")
            except fastexcel.FastExcelError as error:
                raise SourceError(
                    f"the sheet {name!r} cannot be read ({_first_line(error)}).",
                    place=Place(file=str(self.path), sheet=name),
                    hint="Open it with a spreadsheet program and save it again as .xlsx.",
                ) from error
        return sheets

    @cached_property
    def _chosen(self) -> str:
        names = list(self.sheets)
        if self.options.sheet is not None:
            if self.options.sheet not in names:
                raise SourceError(
                    unknown("sheet", self.options.sheet, names),
                    place=Place(file=str(self.path)),
                    hint=f"It has: {', '.join(names)}.",
                )
            return self.options.sheet

        def records(name: str) -> int:
            frame, visible = self.sheets[name]
            if frame.is_empty() or (frame.width < 2 and len(names) > 1):
                return 0
            filled = frame.select(pl.sum_horizontal(pl.all().is_not_null()) >= max(2, frame.width // 3))
            return int(filled.to_series().sum()) * (2 if visible else 1) if frame.height else 0

        return max(names, key=records)

    @cached_property
    def _heading_index(self) -> int:
        frame = self.sheets[self._chosen][0]
        if frame.is_empty():
            raise SourceError(
                f"the sheet {self._chosen!r} is empty.",
                place=Place(file=str(self.path), sheet=self._chosen),
                hint=f"Choose another with sheet=; the workbook has: {', '.join(self.sheets)}.",
            )
        if self.options.heading is not None:
            if self.options.heading > frame.height:
                raise SourceError(
                    f"the heading should be in row {self.options.heading}, but the sheet has {frame.height} rows.",
                    place=Place(file=str(self.path), sheet=self._chosen),
                    hint="Correct heading= in the plan's source.",
                )
            return self.options.heading - 1
        return find_heading([[cell or "" for cell in row] for row in frame.head(_LOOK).iter_rows()])

    @property
    def _heading_row(self) -> tuple[str | None, ...]:
        frame = self.sheets[self._chosen][0]
        return frame.row(self._heading_index) if self._heading_index >= 0 else (None,) * frame.width

    @cached_property
    def _kept(self) -> list[int]:
        """Positions of the columns that have a heading or a value."""
        frame = self.sheets[self._chosen][0]
        heading = self._heading_row
        body = frame.slice(self._heading_index + 1)
        blank = body.select(pl.all().is_null().all()).row(0) if body.height else [True] * frame.width
        return [
            i for i, (title, empty) in enumerate(zip(heading, blank, strict=True)) if (title or "").strip() or not empty
        ]

    @cached_property
    def raw_headings(self) -> tuple[str, ...]:
        heading = self._heading_row
        return tuple(heading[i] or "" for i in self._kept)

    @cached_property
    def headings(self) -> tuple[str, ...]:
        return tuple(tell_apart(list(self.raw_headings)))

    @cached_property
    def facts(self) -> FileFacts:
        chosen = self._chosen
        return FileFacts(
            path=self.path,
            format="workbook",
            size=self.path.stat().st_size,
            heading_line=self._heading_index + 1,
            sheets=tuple(
                SheetFacts(name, visible, frame.height, name == chosen)
                for name, (frame, visible) in self.sheets.items()
            ),
        )

    def cell(self, heading: str, line: int) -> str | None:
        """The reference of a value, as `C7`."""
        if heading not in self.headings:
            return None
        return f"{column_letters(self._kept[self.headings.index(heading)])}{line}"

    def batches(self, *, first: bool = False) -> Iterator[Batch]:
        """The rows below the heading, wholly blank ones left out (a sheet has no end of its own)."""
        start = self._heading_index + 1
        body = self.sheets[self._chosen][0].slice(start, 2000 if first else None)
        names = body.columns
        text = pl.col(pl.String)
        rows = (
            body.select(
                *(pl.col(names[i]).alias(h) for i, h in zip(self._kept, self.headings, strict=True)),
            )
            .with_columns(text.str.replace(_MIDNIGHT, "$1"))
            .with_columns(pl.when(text.str.len_bytes() > 0).then(text).name.keep())
            .with_columns(pl.int_range(start + 1, start + 1 + body.height, dtype=pl.Int64).alias(LINE))
            .filter(pl.any_horizontal(pl.col(list(self.headings)).is_not_null()))
        )
        yield Batch(rows)


def column_letters(index: int) -> str:
    """The letters of a sheet's column, counted from 0: A, B, … Z, AA, AB."""
    letters = ""
    index += 1
    while index:
        index, rest = divmod(index - 1, 26)
        letters = chr(65 + rest) + letters
    return letters


def _first_line(error: Exception) -> str:
    return str(error).splitlines()[0] if str(error) else type(error).__name__
