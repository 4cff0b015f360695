"""Where the table of a loan stands in a sheet that came back, whatever became of the sheet around it."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace

import polars as pl

from mudanza.core.documents.errors import counted
from mudanza.core.findings.finding import Finding
from mudanza.core.sources.cells import column_letters
from mudanza.core.values.kinds import may_have_blanks
from mudanza.core.values.row_columns import INNER, LINE
from mudanza.core.work.crosswalks.proposing import fold
from mudanza.core.work.loans.loan_book import MARK, MARKS, REMOVAL
from mudanza.core.work.loans.returned.opened import CLEARLY, LOOK, Grid
from mudanza.core.work.loans.wording import WORDS

#: the column of a returned table in which its rows' marks stand
MARKED = f"{INNER}mark"
#: of its headings so many must stand in one row, for it to be theirs
_LEAST = 0.4
_LOOK_FOR_MARKS = 2000
_REMOVALS = [one.removal for one in WORDS.values()]
_AT_MIDNIGHT = " 00:00:00"
_MIDNIGHT = r"^(\d{4}-\d{2}-\d{2}) 00:00:00$"


@dataclass(frozen=True)
class Table:
    """A loan's table as it came back: its `heading` and `body` in the grid, its `rows` with the lent titles, the removal column and the marks as texts (null where blank), and `#line`; where its columns
    stand in the grid, by title; titles whose column was not found; and what was noticed."""

    grid: Grid
    shown: str
    heading: tuple[str, ...]
    heading_line: int
    body: pl.DataFrame
    rows: pl.DataFrame
    places: Mapping[str, int]
    missing: tuple[str, ...]
    findings: tuple[Finding, ...] = ()

    @property
    def repeated(self) -> list[str]:
        """Titles that stand over several columns, of which none could be taken yet."""
        return [str(one.field) for one in self.findings if one.code == "loan.heading-repeated"]

    def cell(self, title: str, line: int) -> str | None:
        """Where the cell of a title stands in a line, as spreadsheet programs say it."""
        return self.at(self.places[title], line) if title in self.places else None

    def at(self, column: int, line: int) -> str:
        """A cell, as spreadsheet programs say it."""
        sheet = "" if self.grid.name is None else f"{self.grid.name}!"
        return f"{sheet}{column_letters(column)}{line}"

    def finding(self, code: str, title: str, line: int | None, value: str | None, rule: str | None) -> Finding:
        """A finding at the cell of a title."""
        at = self.cell(title, line) if line is not None else None
        return Finding(code, self.shown, line, at, field=title, value=value, rule=rule)

    def others(self) -> dict[int, pl.Series]:
        """The texts of the columns that are none of the loan's, in the lines of the rows."""
        rows = self.body.join(self.rows.select(LINE), on=LINE, how="semi", maintain_order="left")
        others = [n for n in range(len(self.heading)) if n not in self.places.values()]
        return {n: rows.select(text_of(n)).to_series() for n in others}

    def left_over(self) -> Iterator[Finding]:
        """The findings on values that stand under no heading of the loan."""
        for n, title in enumerate(self.heading):
            if n in self.places.values() or title in self.repeated:
                continue
            filled = self.body.filter(text_of(n).is_not_null())
            if title:
                cell, values = self.at(n, self.heading_line), counted(filled.height, "value")
                yield Finding(
                    "loan.heading-extra",
                    self.shown,
                    None,
                    cell,
                    field=title,
                    value=values,
                    rule="a heading of the loan",
                )
                continue
            for line, value in filled.select(LINE, text_of(n)).head(20).iter_rows():
                yield Finding("loan.outside", self.shown, line, self.at(n, line), value=value, rule="under a heading")


def text_of(column: int) -> pl.Expr:
    """The texts of a column of a grid; null where there is nothing but spaces. Sheets have dates with a midnight."""
    text = pl.col(f"c{column}")
    filled = pl.when(text.str.strip_chars().str.len_bytes() > 0).then(text)
    day = pl.when(text.str.ends_with(_AT_MIDNIGHT)).then(text.str.replace(_MIDNIGHT, "$1")).otherwise(filled)
    return day.alias(f"c{column}")


def _may_be_odd(text: pl.Expr) -> pl.Expr:
    """Whether a column of a grid may have a text that is another one for `text_of`: a midnight, or nothing but spaces. Few have."""
    return may_have_blanks(text) | text.str.ends_with(_AT_MIDNIGHT).any().fill_null(False)


def find_table(grid: Grid, titles: Sequence[str], shown: str) -> Table | None:
    """The table with these headings in a grid; None if there is none. What was renamed to something else is not found here."""
    expected = [*titles, REMOVAL, MARKS]
    found = _heading(grid, expected)
    if found is None:
        return None
    at, cells = found
    return _Table(grid, shown, at, cells, list(titles)).read()


def _heading(grid: Grid, expected: Sequence[str]) -> tuple[int, list[str]] | None:
    """The row of the headings, and its cells."""
    known = {fold(one) for one in expected}
    best, place, texts = 0, -1, [""]
    for index, row in enumerate(grid.cells.drop(LINE).head(LOOK).iter_rows()):
        cells = [" ".join((cell or "").split()) for cell in row]
        hits = len(known & {fold(cell) for cell in cells if cell})
        if hits > best:
            best, place, texts = hits, index, cells
        if hits >= CLEARLY * len(expected):
            break
    return (place, texts) if best >= max(1, _LEAST * (len(expected) - 2)) else None


class _Table:
    def __init__(self, grid: Grid, shown: str, at: int, heading: list[str], titles: list[str]) -> None:
        self.grid, self.shown, self.heading, self.titles = grid, shown, heading, titles
        self.line = int(grid.cells[LINE][at])
        self.body = grid.cells.slice(at + 1)
        self.findings: list[Finding] = list(grid.findings)

    def read(self) -> Table:
        """The table, with what was noticed of it."""
        marks = self._marks()
        if marks is not None:
            self.heading[marks] = MARKS
        places = dict(self._places())
        if marks is not None:
            places[MARKED] = marks
        expected = [*self.titles, REMOVAL]
        body = self._without_headings(places)
        rows = self._filled(body, places, expected)
        missing = tuple(t for t in self.titles if t not in places)
        self._order(places)
        return Table(
            self.grid, self.shown, tuple(self.heading), self.line, body, rows, places, missing, tuple(self.findings)
        )

    @staticmethod
    def _filled(body: pl.DataFrame, places: Mapping[str, int], expected: Sequence[str]) -> pl.DataFrame:
        """The rows in which something stands, with the texts of each title."""
        raw = {title: pl.col(f"c{n}") for title, n in places.items()}
        odd = body.select(_may_be_odd(text).alias(title) for title, text in raw.items())
        texts = {title: text_of(n) if odd[title].item() else raw[title] for title, n in places.items()}
        nothing = pl.lit(None, dtype=pl.String)
        rows = body.select(*(texts.get(t, nothing).alias(t) for t in (*expected, MARKED)), LINE)
        filled = rows.select(pl.any_horizontal(pl.col(expected).is_not_null())).to_series()
        return rows if filled.all() else rows.filter(filled)

    def _places(self) -> Iterator[tuple[str, int]]:
        """Where each expected heading stands."""
        expected = [*self.titles, REMOVAL]
        folded = [fold(one) for one in self.heading]
        for title in expected:
            known = _REMOVALS if title == REMOVAL else [title]
            exactly = [n for n, one in enumerate(self.heading) if one in [" ".join(one.split()) for one in known]]
            words = {fold(one) for one in known}
            nearly = [n for n, one in enumerate(folded) if one in words and self.heading[n] not in expected]
            at = exactly or nearly
            if not at:
                continue
            if len(at) > 1:
                at = self._first_of_copies(title, at)
            if at and not exactly:
                self._add("loan.heading-renamed", title, at[0], self.line, self.heading[at[0]], title)
            if at:
                yield title, at[0]

    def _first_of_copies(self, title: str, at: list[int]) -> list[int]:
        """Where a heading stands over several columns: the one that has the values, if the others have none or the same."""
        texts = [self.body[f"c{n}"].fill_null("") for n in at]
        filled = [n for n, text in zip(at, texts, strict=True) if (text.str.strip_chars() != "").any()]
        letters = ", ".join(column_letters(n) for n in at)
        same = all(text.equals(texts[0]) for text in texts)
        if same or len(filled) == 1:
            return at[:1] if same else filled
        self._add("loan.heading-repeated", title, None, None, f"columns {letters}", "once")
        return []

    def _marks(self) -> int | None:
        """The column with the marks of the rows."""
        best, place = 0, None
        for n in range(len(self.heading)):
            marked = int(self.body[f"c{n}"].head(_LOOK_FOR_MARKS).str.strip_chars().str.contains(f"^{MARK}$").sum())
            if marked > best:
                best, place = marked, n
        return place

    def _without_headings(self, places: Mapping[str, int]) -> pl.DataFrame:
        """The rows without headings that were printed again between them."""
        at = list(places.items())
        if not at or self.body.is_empty():
            return self.body
        again = [pl.col(f"c{n}").str.strip_chars().str.to_lowercase() == self.heading[n].lower() for _, n in at]
        # in few rows does the first column, or the second, say what its heading says, or begin like it
        begins = [
            pl.col(f"c{n}").str.starts_with(sign)
            for _, n in at[:2]
            for sign in {" ", self.heading[n][:1].lower(), self.heading[n][:1].upper()}
        ]
        near = self.body.filter(pl.any_horizontal(begins).fill_null(False))
        near = near.filter(pl.any_horizontal(again[:2]).fill_null(False))
        headings = pl.sum_horizontal([one.fill_null(False) for one in again]) > max(1, len(at) // 2)
        lines = near.filter(headings)[LINE]
        if not lines.len():
            return self.body
        self.findings.append(
            Finding("loan.heading-again", self.shown, int(lines[0]), value=f"{lines.len()} more", rule="once")
        )
        return self.body.filter(~pl.col(LINE).is_in(lines.implode()))

    def _order(self, places: Mapping[str, int]) -> None:
        came = [t for t in self.titles if t in places]
        standing = sorted(came, key=lambda t: places[t])
        if standing != came:
            moved = next(t for t, s in zip(came, standing, strict=True) if t != s)
            self._add("loan.order", moved, places[moved], self.line, column_letters(places[moved]), None)

    def _add(
        self, code: str, title: str | None, column: int | None, line: int | None, value: str | None, rule: str | None
    ) -> None:
        sheet = "" if self.grid.name is None else f"{self.grid.name}!"
        cell = f"{sheet}{column_letters(column)}{line}" if column is not None else None
        self.findings.append(Finding(code, self.shown, None, cell, field=title, value=value, rule=rule))


def with_columns_found(table: Table, found: Mapping[str, int]) -> Table:
    """A table with columns whose headings were renamed: `found` says where each title stands."""
    others = table.others()
    rows = table.rows.with_columns(others[column].alias(title) for title, column in found.items())
    told = [
        Finding(
            "loan.heading-renamed",
            table.shown,
            None,
            table.at(n, table.heading_line),
            field=title,
            value=table.heading[n] or "(blank)",
            rule=title,
        )
        for title, n in found.items()
        if title not in table.repeated
    ]
    return replace(
        table,
        rows=rows,
        places={**table.places, **found},
        missing=tuple(t for t in table.missing if t not in found),
        findings=(*(f for f in table.findings if f.code != "loan.heading-repeated" or f.field not in found), *told),
    )
