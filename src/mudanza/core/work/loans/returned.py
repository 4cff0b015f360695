"""Reading a returned workbook: its slip, its sheet, and what people did to its structure."""

from __future__ import annotations

import json
from dataclasses import dataclass
from pathlib import Path

import fastexcel
import polars as pl

from mudanza.core.documents.errors import LoanError, Place
from mudanza.core.findings.finding import Finding
from mudanza.core.sinks.sheet_cells import sheet_name
from mudanza.core.sinks.xlsx import CHOICES
from mudanza.core.sources.cells import column_letters, formulas_of
from mudanza.core.sources.guard import guard_workbook
from mudanza.core.sources.reader import ReadOptions
from mudanza.core.sources.workbook import Workbook
from mudanza.core.values.row_columns import LINE
from mudanza.core.work.loans.loan_book import REMOVAL, SLIP

_LOOK = 30


@dataclass(frozen=True)
class Returned:
    """A returned sheet. `rows` has the lent titles and the removal column as text, and `#line`.

    `cells` maps titles to column letters, `broken` says whether so much is wrong that rows cannot be compared,
    and `formula_rows` are rows that hold formulas.
    """

    rows: pl.DataFrame
    cells: dict[str, str]
    sheet: str
    findings: list[Finding]
    broken: bool
    formula_rows: set[int]


def read_slip(path: Path) -> str | None:
    """The loan's name from the slip in a workbook, or None if it carries none. Raises SourceError if it is no workbook."""
    guard_workbook(path)
    try:
        book = fastexcel.read_excel(str(path))
        if SLIP not in book.sheet_names:
            return None
        sheet = book.load_sheet(SLIP, header_row=None, dtypes="string").to_polars()
        text = "".join(t or "" for t in sheet.to_series()) if sheet.width else ""
        loan = json.loads(text)["loan"]
        return loan if isinstance(loan, str) else None
    except (fastexcel.FastExcelError, json.JSONDecodeError, KeyError, TypeError):
        return None


def read_returned(path: Path, subject: str, titles: list[str], shown: str) -> Returned:
    """Find the lent sheet in a workbook and see what became of its structure."""
    names = [n for n in fastexcel.read_excel(str(path)).sheet_names if n not in (SLIP, CHOICES)]
    wanted = sheet_name(subject)
    order = sorted(names, key=lambda n: n != wanted)
    best: tuple[int, str, int, list[str | None]] | None = None
    sheets = Workbook(path, ReadOptions(), path).sheets
    for name in order:
        frame = sheets[name][0]
        for index, row in enumerate(frame.head(_LOOK).iter_rows()):
            hits = len(set(titles) & {(cell or "").strip() for cell in row})
            if best is None or hits > best[0]:
                best = (hits, name, index, list(row))
    if best is None or best[0] == 0:
        raise LoanError(
            "no sheet has the headings of the loan.",
            place=Place(shown),
            hint=f"They were: {', '.join(titles)}.",
        )
    _, name, index, heading = best
    return _Structure(path, shown, name, index, heading, sheets[name][0], titles).look()


class _Structure:
    def __init__(
        self,
        path: Path,
        shown: str,
        sheet: str,
        index: int,
        heading: list[str | None],
        frame: pl.DataFrame,
        titles: list[str],
    ) -> None:
        self.path, self.shown, self.sheet, self.index, self.titles = path, shown, sheet, index, titles
        self.heading = [(cell or "").strip() for cell in heading]
        self.body = frame.slice(index + 1)
        self.names = self.body.columns
        self.findings: list[Finding] = []

    def look(self) -> Returned:
        expected = [*self.titles, REMOVAL]
        places = {t: self.heading.index(t) for t in expected if t in self.heading}
        broken = self._headings(places)
        self._outside()
        standing = sorted((t for t in places if t in self.titles), key=lambda t: places[t])
        if standing != [t for t in self.titles if t in places]:
            moved = next(t for t, s in zip([t for t in self.titles if t in places], standing, strict=True) if t != s)
            self._add("loan.order", moved, self._ref(places[moved], self.index + 1), column_letters(places[moved]))
        formulas = self._formulas(places)
        columns = [
            (pl.col(self.names[places[t]]) if t in places else pl.lit(None, dtype=pl.String)).alias(t) for t in expected
        ]
        start = self.index + 2
        rows = self.body.select(*columns, pl.int_range(start, start + pl.len(), dtype=pl.Int64).alias(LINE))
        text = pl.col(expected)
        rows = rows.with_columns(
            pl.when(text.str.strip_chars() != "").then(text.str.replace(r"^(\d{4}-\d{2}-\d{2}) 00:00:00$", "$1"))
        )
        rows = rows.filter(pl.any_horizontal(pl.col(expected).is_not_null()))
        cells = {t: column_letters(i) for t, i in places.items()}
        return Returned(rows, cells, self.sheet, self.findings, broken, formulas)

    def _headings(self, places: dict[str, int]) -> bool:
        broken = False
        for title in self.titles:
            if title not in places:
                self._add("loan.heading-missing", title, None, None, "a heading of the loan")
                broken = True
            elif self.heading.count(title) > 1:
                at = [column_letters(i) for i, h in enumerate(self.heading) if h == title]
                self._add("loan.heading-repeated", title, None, f"columns {', '.join(at)}", "once")
                broken = True
        for position, heading in enumerate(self.heading):
            if heading and heading not in self.titles and heading != REMOVAL:
                values = int(self.body[self.names[position]].is_not_null().sum()) if self.body.height else 0
                cell = self._ref(position, self.index + 1)
                self._add("loan.heading-extra", heading, cell, f"{values} values", "a heading of the loan")
        return broken

    def _outside(self) -> None:
        for position, heading in enumerate(self.heading):
            if heading or not self.body.height:
                continue
            filled = self.body.with_row_index("row").filter(pl.col(self.names[position]).is_not_null())
            for row, value in filled.select("row", self.names[position]).head(20).iter_rows():
                self._add(
                    "loan.outside",
                    None,
                    self._ref(position, self.index + 2 + row),
                    value,
                    "under a heading",
                    self.index + 2 + row,
                )

    def _formulas(self, places: dict[str, int]) -> set[int]:
        """Rows with formulas in the columns of the loan."""
        rows: set[int] = set()
        wanted = set(places.values())
        for (row, position), formula in sorted(formulas_of(self.path, guard_workbook(self.path), self.sheet).items()):
            line = row + 1
            if line > self.index + 1 and position in wanted:
                at = self._ref(position, line)
                self._add("loan.formula", self.heading[position], at, f"={formula}"[:80], "a value", line)
                rows.add(line)
        return rows

    def _ref(self, position: int, line: int) -> str:
        return f"{self.sheet}!{column_letters(position)}{line}"

    def _add(
        self,
        code: str,
        field: str | None,
        cell: str | None,
        value: str | None,
        rule: str | None = None,
        line: int | None = None,
    ) -> None:
        self.findings.append(Finding(code, self.shown, line, cell, field=field, value=value, rule=rule))
