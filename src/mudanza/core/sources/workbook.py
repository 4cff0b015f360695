"""Workbooks (XLSX, XLSM, XLSB, XLS, ODS): the sheet that holds the records, its heading, and the cells as text."""

from __future__ import annotations

import json
from collections.abc import Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path

import numpy as np
import polars as pl

from mudanza.core.documents.errors import Place, SourceError, counted, unknown
from mudanza.core.findings.finding import Finding, frame
from mudanza.core.sources.book import Book
from mudanza.core.sources.cells import (
    Cells,
    Spot,
    column_letters,
    largest_sheet,
    long_numbers,
    look_at_cells,
    with_zeros,
)
from mudanza.core.sources.headings import (
    count_below,
    find_heading,
    heading_rows,
    printed_below,
    records_among,
    tell_apart,
    with_groups,
)
from mudanza.core.sources.reader import Batch, FileFacts, ReadOptions, SheetFacts, shorter
from mudanza.core.values.kinds import may_have_blanks
from mudanza.core.values.row_columns import LINE

_LOOK = 60
_LOOK_BELOW = 40
_FIRST_ROWS = 2000
#: A file of this size is worth a thread of its own.
_LARGE = 1 << 20
_MOMENT = r"^\d{4}-\d{2}-\d{2} \d{2}:\d{2}:\d{2}"
_MIDNIGHT = r"^(\d{4}-\d{2}-\d{2}) 00:00:00$"


def open_file(path: Path, options: ReadOptions, known_as: Path) -> Workbook:
    """A workbook's reader."""
    return Workbook(path, options, known_as)


@dataclass(frozen=True)
class Workbook:
    """A workbook opened for reading. Without `sheet`, the sheet with the most records is taken."""

    path: Path
    options: ReadOptions
    known_as: Path
    #: the file, if it is open already, and the look at one of its sheets that is under way
    book: Book | None = None
    looked: tuple[str, Future[Cells]] | None = None

    @cached_property
    def _book(self) -> Book:
        return self.book or Book(self.path, self.known_as, self.options.sheet)

    def sheet(self, name: str) -> Workbook:
        """The same workbook, of which another sheet is read."""
        return replace(self, options=replace(self.options, sheet=name), book=self._book, looked=self._guessed)

    @property
    def kind(self) -> str:
        """Which workbook it is: xlsx, xlsb, ods or xls."""
        return self._book.kind

    @cached_property
    def sheets(self) -> dict[str, tuple[pl.DataFrame, bool]]:
        """Every sheet as a frame of text without a heading, and whether it is visible."""
        # the look at the one that is expected to have the records begins before
        _ = self._guessed
        return self._book.sheets

    @cached_property
    def _chosen(self) -> str:
        names = list(self.sheets)
        if self.options.sheet is not None:
            if self.options.sheet not in names:
                raise SourceError(
                    unknown("sheet", self.options.sheet, names),
                    place=Place(file=str(self.known_as)),
                    hint=f"It has: {', '.join(names)}.",
                )
            return self.options.sheet
        if not names:
            raise SourceError(
                "the workbook has no sheet with cells.",
                place=Place(file=str(self.known_as)),
                hint="Open it and look; save the records on a sheet of their own.",
            )

        def records(name: str) -> int:
            frame, visible = self.sheets[name]
            if frame.is_empty() or (frame.width < 2 and len(names) > 1):
                return 0
            filled = frame.select(pl.sum_horizontal(pl.all().is_not_null()) >= max(2, frame.width // 3))
            return int(filled.to_series().sum()) * (2 if visible else 1) if frame.height else 0

        return max(names, key=records)

    @cached_property
    def _sheet(self) -> pl.DataFrame:
        """The chosen sheet, with numbers as they are shown and merged areas filled."""
        sheet = self.sheets[self._chosen][0]
        if sheet.is_empty():
            raise SourceError(
                f"the sheet {self._chosen!r} is empty.",
                place=Place(file=str(self.known_as), sheet=self._chosen),
                hint=f"Choose another with sheet=; the workbook has: {', '.join(self.sheets)}.",
            )
        sheet = self._book.exactly(self._chosen, sheet)
        cells = self.cells
        for (column, places), at in cells.zeros.items():
            if column < sheet.width:
                name = sheet.columns[column]
                padded = with_zeros(pl.col(name), places)
                chosen = pl.int_range(pl.len()).is_in(pl.Series(at, dtype=pl.Int64).implode())
                sheet = sheet.with_columns(pl.when(chosen).then(padded).otherwise(pl.col(name)).alias(name))
        changed: dict[Spot, str | None] = {**cells.shown, **cells.errors}
        for top, left, bottom, _ in cells.merged:
            value = sheet[top, left] if top < sheet.height and left < sheet.width else None
            changed.update(((row, left), value) for row in range(top + 1, bottom + 1) if bottom - top < sheet.height)
        by_column: dict[int, list[tuple[int, str | None]]] = {}
        for (row, column), text in changed.items():
            if 0 <= row < sheet.height and 0 <= column < sheet.width:
                by_column.setdefault(column, []).append((row, text))
        for column, spots in by_column.items():
            series = sheet.to_series(column).clone()
            rows, texts = zip(*spots, strict=True)
            sheet = sheet.with_columns(series.scatter(list(rows), list(texts)).alias(sheet.columns[column]))
        return sheet

    def texts_in(self, headings: Sequence[str]) -> dict[str, list[int]]:
        """The rows in which the cells of some columns hold text, and not a number or a date (XLSX; nothing of other kinds)."""
        if not self.cells.texts:
            return {}
        columns, rows = (np.concatenate(parts) for parts in zip(*self.cells.texts, strict=True))
        order = np.argsort(columns, kind="stable")
        columns, rows = columns[order], rows[order]
        kept = dict(zip(self.headings, self._kept, strict=True))
        wanted = np.array([kept[one] for one in headings], columns.dtype)
        ends = zip(np.searchsorted(columns, wanted), np.searchsorted(columns, wanted, side="right"), strict=True)
        return {one: rows[start:end].tolist() for one, (start, end) in zip(headings, ends, strict=True)}

    @property
    def grid(self) -> pl.DataFrame:
        """The chosen sheet as it stands, as columns `c0`, `c1`, … of text and `#line`, from its first row."""
        sheet = self._sheet
        named = sheet.rename({name: f"c{i}" for i, name in enumerate(sheet.columns)})
        some = named.select(may_have_blanks(pl.all())).row(0)
        text = pl.col([name for name, blanks in zip(named.columns, some, strict=True) if blanks])
        filled = named.with_columns(pl.when(text.str.strip_chars().str.len_bytes() > 0).then(text).name.keep())
        return filled.with_columns(pl.int_range(1, sheet.height + 1, dtype=pl.Int64).alias(LINE))

    @cached_property
    def cells(self) -> Cells:
        """What the cells of the chosen sheet are beyond their values."""
        path = self._book.thinned.path
        with self._book.damaged(self._chosen):
            # the sheet is looked at while the library reads it, if it is the one that was expected to have the records
            if self._guessed is not None and self._guessed[0] == self._chosen:
                cells = self._guessed[1].result()
            else:
                cells = look_at_cells(path, self._book.kind, self._chosen, texts=self.options.exact)
            if self._book.kind == "xlsx" and self._has_many_digits:
                cells.long.update(long_numbers(path, self._chosen))
        return cells

    @property
    def _has_many_digits(self) -> bool:
        """Whether a value has so many digits that it may be a number that a cell cannot hold; or a text, as only the markup tells."""
        sheet = self.sheets[self._chosen][0]
        text = pl.col(pl.String)
        digits = text.str.len_bytes().max().ge(16) & text.str.contains(r"^-?\d{16,}|^-?\d\.?\d*[eE]").any()
        return sheet.height > 0 and any(sheet.select(digits).row(0))

    @cached_property
    def _guessed(self) -> tuple[str, Future[Cells]] | None:
        """The look at the sheet that probably has the records, under way in a thread of its own."""
        if self.book is not None:
            return self.looked
        if self._book.kind != "xlsx" or self.path.stat().st_size < _LARGE:
            return None
        path = self._book.thinned.path
        sheet = self.options.sheet or largest_sheet(path)
        if sheet is None:
            return None
        pool = ThreadPoolExecutor(1)
        look = pool.submit(look_at_cells, path, self._book.kind, sheet, texts=self.options.exact)
        pool.shutdown(wait=False)
        return sheet, look

    @cached_property
    def _heading(self) -> tuple[int, int]:
        """The index of the row where the heading begins and the number of its rows; (-1, 0) without one."""
        frame, said = self._sheet, self.options.heading
        if said is not None:
            if said > frame.height:
                raise SourceError(
                    f"the heading should be in row {said}, but the sheet has {counted(frame.height, 'row')}.",
                    place=Place(file=str(self.known_as), sheet=self._chosen),
                    hint="Correct heading= in the plan's source.",
                )
            return (said - 1, self.options.heading_rows or 1) if said else (-1, 0)
        rows = [[cell or "" for cell in row] for row in frame.head(_LOOK).iter_rows()]
        index = find_heading(rows)
        if index is None:
            if not self.options.exact:
                return -1, 0
            index = next(i for i, row in enumerate(rows) if any(row))
        count = self.options.heading_rows or heading_rows(rows, index)
        if self.options.heading_rows is None and index and self._groups_above(rows, index):
            count = 2
        return index - count + 1, count

    def _groups_above(self, rows: list[list[str]], index: int) -> bool:
        """Whether merged cells with a text stand over parts of the heading, at least two of them."""
        over = [m for m in self.cells.merged if m[0] == m[2] == index - 1 and m[3] > m[1]]
        return len(over) >= 2 and sum(1 for cell in rows[index - 1] if cell.strip()) >= 2

    @property
    def _heading_row(self) -> list[str]:
        start, count = self._heading
        if start < 0:
            return [""] * self._sheet.width
        rows = [[cell or "" for cell in row] for row in self._sheet.slice(start, count).iter_rows()]
        names = rows[-1]
        for offset in range(count - 2, -1, -1):
            over = {m[1]: m[3] + 1 for m in self.cells.merged if m[0] == start + offset}
            ends = [over.get(i, i + 1) for i in range(len(names))] if over else None
            names = with_groups(rows[offset], names, ends)
        return names

    @property
    def _first_row(self) -> int:
        start, count = self._heading
        return start + count if start >= 0 else 0

    @cached_property
    def _below(self) -> int:
        """How many rows at the end are no records."""
        said = self.options.below
        if said is not None or self.options.exact:
            return said or 0
        body = self._sheet.slice(self._first_row + 1).tail(_LOOK_BELOW)
        return count_below([[cell or "" for cell in row] for row in body.iter_rows()], len(self._kept))

    @property
    def _rows_below(self) -> list[list[str]]:
        """The rows at the end that are no records, in the columns of the headings."""
        rows = self._sheet.slice(self._sheet.height - self._below).iter_rows()
        return [[row[i] or "" for i in self._kept] for row in rows]

    @cached_property
    def _kept(self) -> list[int]:
        """Positions of the columns that have a heading or a value."""
        frame = self._sheet
        body = frame.slice(self._first_row)
        blank = body.select(pl.all().is_null().all()).row(0) if body.height else [True] * frame.width
        titles = zip(self._heading_row, blank, strict=True)
        return [i for i, (title, empty) in enumerate(titles) if title.strip() or not empty]

    @cached_property
    def _plain_dates(self) -> list[str]:
        """The headings of columns whose moments are mere dates: at midnight, more often than not."""
        body = self._named(self._sheet.slice(self._first_row))
        ends = body.select(pl.all().str.ends_with(" 00:00:00").any()).row(0) if body.height else ()
        some = [name for name, found in zip(body.columns, ends, strict=False) if found]
        return [
            name
            for name in some
            if body[name].str.contains(_MIDNIGHT).sum() * 2 > body[name].str.contains(_MOMENT).sum()
        ]

    def _named(self, rows: pl.DataFrame) -> pl.DataFrame:
        """Rows of the sheet with the columns that count, by their headings."""
        names = rows.columns
        kept = rows.select([names[i] for i in self._kept])
        kept.columns = list(self.headings)
        return kept

    @cached_property
    def raw_headings(self) -> tuple[str, ...]:
        heading = self._heading_row
        return tuple(heading[i] for i in self._kept)

    @cached_property
    def headings(self) -> tuple[str, ...]:
        return tuple(tell_apart(self.raw_headings))

    @cached_property
    def facts(self) -> FileFacts:
        chosen = self._chosen
        start = self._heading[0]
        return FileFacts(
            path=self.known_as,
            format="workbook",
            size=self.path.stat().st_size,
            heading_line=start + 1,
            sheets=tuple(
                SheetFacts(name, visible, frame.height, name == chosen)
                for name, (frame, visible) in self.sheets.items()
            ),
            unit="row",
            above=max(0, start),
            proposal=tuple(self._proposal()),
        )

    @cached_property
    def letters(self) -> dict[str, str]:
        """The column of each heading, as `C`."""
        return {heading: column_letters(at) for heading, at in zip(self.headings, self._kept, strict=True)}

    def _proposal(self) -> Iterator[str]:
        """What a plan would have to say for the workbook to be read so for certain; nothing for a plain one."""
        start, count = self._heading
        if sum(frame.height > 0 for frame, _ in self.sheets.values()) > 1 and self.options.sheet is None:
            yield f"sheet = {json.dumps(self._chosen, ensure_ascii=False)}"
        if start != 0 and self.options.heading is None:
            yield f"heading = {start + 1}"
        if count > 1 and self.options.heading_rows is None:
            yield f"heading_rows = {count}"

    def batches(self, *, first: bool = False) -> Iterator[Batch]:
        """The rows below the heading, wholly blank ones left out (a sheet has no end of its own)."""
        start = self._first_row
        below = self._below
        body = self._sheet.slice(start, self._sheet.height - start - below)
        if first:
            body = body.head(_FIRST_ROWS)
        text = pl.col(pl.String)
        rows = (
            self._named(body)
            .with_columns(pl.col(self._plain_dates).str.replace(_MIDNIGHT, "$1"))
            .with_columns(pl.when(text.str.len_bytes() > 0).then(text).name.keep())
            .with_columns(pl.int_range(start + 1, start + 1 + body.height, dtype=pl.Int64).alias(LINE))
            .filter(pl.any_horizontal(pl.col(list(self.headings)).is_not_null()))
        )
        printed = printed_below(self._rows_below, self.headings, self._sheet.height - below + 1) if below else None
        blank: tuple[int, ...] = ()
        if self.options.exact and rows.height:
            between = pl.int_range(start + 1, rows[LINE][-1], dtype=pl.Int64, eager=True)
            blank = tuple(between.filter(~between.is_in(rows[LINE].implode())).to_list())
        yield Batch(rows, blank_lines=blank, noticed=frame(self._noticed(start + body.height)), printed=printed)

    def _noticed(self, end: int) -> list[Finding]:
        """What the cells of the rows up to `end` are beyond their values."""
        cells, start = self.cells, self._first_row
        names = dict(zip(self._kept, self.headings, strict=True))
        sheet = self._sheet

        def finding(code: str, spot: Spot, value: str | None) -> Finding:
            row, column = spot
            return Finding(code, line=row + 1, column=names[column], cell=self._place(spot), value=value)

        def inside(spots: list[Spot]) -> list[Spot]:
            return sorted(s for s in spots if start <= s[0] < end and s[1] in names)

        found = [finding("cell.error", s, cells.errors[s]) for s in inside(list(cells.errors))]
        found += [finding("cell.formula-without-value", s, None) for s in inside(cells.without_value)]
        found += [finding("cell.long-number", s, sheet[s]) for s in inside(list(cells.long))]
        for code, spots in (("cell.formula", cells.formulas), ("cell.merged", [(m[0], m[1]) for m in cells.merged])):
            first: dict[int, Spot] = {}
            counts: dict[int, int] = {}
            for spot in inside(spots):
                first.setdefault(spot[1], spot)
                counts[spot[1]] = counts.get(spot[1], 0) + 1
            # one finding for a column: such cells come in thousands
            found += [finding(code, first[c], f"{counts[c]} cells" if counts[c] > 1 else "1 cell") for c in first]
        for cell in self._book.thinned.cells.get(self._chosen, ()):
            found.append(Finding("cell.far", cell=f"{self._chosen}!{cell}", rule="within the table"))
        for name, error in self._book.unreadable.items():
            found.append(Finding("read.damaged-sheet", value=name, rule=error.what))
        if cells.unseen is not None:
            found.append(Finding("read.cells-unseen", value=self._chosen, rule=cells.unseen))
        if self._below:
            row, below = self._sheet.height - self._below, self._rows_below
            records = records_among(below, len(self._kept))
            for at in records:
                text = shorter(" | ".join(cell for cell in below[at] if cell))
                found.append(Finding("read.record-below", line=row + 1 + at, value=text, rule=f"below = {self._below}"))
            if self.options.below is None and not records:
                words = [cell for line in below for cell in line if cell]
                found.append(Finding("read.below-data", line=row + 1, value=shorter(" | ".join(words), 120)))
        return found

    def _place(self, spot: Spot) -> str:
        return f"{self._chosen}!{column_letters(spot[1])}{spot[0] + 1}"
