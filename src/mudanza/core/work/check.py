"""Checking a file that anyone made against a layout."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

import polars as pl

from mudanza.core.findings.codes import Severity
from mudanza.core.findings.finding import SCHEMA, Finding, frame
from mudanza.core.findings.problem import Problem, flags, gather
from mudanza.core.findings.tally import Group, Tally
from mudanza.core.layouts.layout import Field, Layout
from mudanza.core.layouts.rules import blank_in_file, kind_problems, row_problems, value_problems
from mudanza.core.sources.ahead import read_ahead
from mudanza.core.sources.noticing import noticed_in
from mudanza.core.sources.reader import TellsText
from mudanza.core.values.kinds import Kind
from mudanza.core.values.row_columns import INNER, LINE
from mudanza.core.work.checking.headings import Headings, match_headings, share_of_headings
from mudanza.core.work.checking.keys import KeyCheck
from mudanza.core.work.checking.opened import Opened, open_to_check
from mudanza.core.work.checking.references import Others, reference_problems
from mudanza.core.work.checking.referred import layouts_beside
from mudanza.core.work.labels import unknown_labels
from mudanza.core.work.progress import Progress, Tell, quietly

#: what sheets hold as it is, and not as text
_HELD_AS_SUCH = (Kind.NUMBER, Kind.DATE, Kind.DATETIME)


@dataclass(frozen=True)
class CheckResult:
    """What a check found. `findings` has the first of them (all, without a limit) in the order of the file, `groups` counts all."""

    file: str
    layout: str
    rows: int
    findings: pl.DataFrame
    groups: list[Group]

    @property
    def total(self) -> int:
        return sum(group.count for group in self.groups)

    @property
    def clean(self) -> bool:
        return not any(group.severity is Severity.STOP for group in self.groups)


def check(
    path: Path,
    layout: Layout,
    *,
    shown: str | None = None,
    layout_shown: str | None = None,
    others: Others | Sequence[Path] = (),
    sheet: str | None = None,
    limit: int | None = None,
    tell: Tell = quietly,
) -> CheckResult:
    """Check every row of a file in whatever format against a layout. `others` are files that references point into.

    With `limit`, only so many findings are kept, the first of the file; all are counted. Raises SourceError if the file cannot be read at all.
    """
    shown = shown or str(path)
    kept = _Kept(limit)
    before = _state(path)
    opened = open_to_check(path, layout, shown, sheet)
    headings = match_headings(opened, layout, shown)
    others = others if isinstance(others, Others) else Others(others)
    references, unchecked = reference_problems(layout, headings, others, path, shown)
    kept.add(frame([*opened.findings, *_other_layout(opened, layout, headings, shown), *headings.findings, *unchecked]))
    rows = _Rows(opened, layout, headings, references, shown)
    total = 0
    # reading, asking and comparing keys each have a thread
    for batch, found in read_ahead((batch, rows.findings(batch.rows)) for batch in read_ahead(opened.batches())):
        total += batch.rows.height + len(batch.broken)
        kept.add(noticed_in(batch, opened.reader, shown), *found, *rows.keys.findings(batch.rows))
        tell(Progress(f"checking {shown}", total, batch.share))
    kept.add(rows.keys.repeated_findings(), frame(_too_large(path, layout, total, shown)))
    if _state(path) != before:
        kept.add(frame([Finding("file.changed", shown, rule="the same from the first row to the last")]))
    return CheckResult(shown, layout_shown or layout.name, total, kept.findings(), kept.tally.groups())


def _state(path: Path) -> tuple[int, int]:
    """What shows that a file was written meanwhile."""
    try:
        found = path.stat()
    except OSError:
        return -1, -1
    return found.st_size, found.st_mtime_ns


def _too_large(path: Path, layout: Layout, rows: int, shown: str) -> list[Finding]:
    """Findings where a file has more rows or bytes than the target takes at once."""
    demands, found = layout.demands, []
    if demands.rows_per_file is not None and rows > demands.rows_per_file:
        rule = f"at most {demands.rows_per_file:,} rows in a file"
        found.append(Finding("file.too-large", shown, value=f"{rows:,} rows", rule=rule))
    size = path.stat().st_size if path.is_file() else 0
    if demands.bytes_per_file is not None and size > demands.bytes_per_file:
        rule = f"at most {demands.bytes_per_file:,} bytes in a file"
        found.append(Finding("file.too-large", shown, value=f"{size:,} bytes", rule=rule))
    return found


def _other_layout(opened: Opened, layout: Layout, headings: Headings, shown: str) -> list[Finding]:
    """A finding where the headings are those of another layout of the move: it was probably meant."""
    if len(headings.columns) * 2 >= len(layout.fields):
        return []
    own = share_of_headings(layout, opened.headings)
    others = {name: share_of_headings(one, opened.headings) for name, one in layouts_beside(layout).items()}
    best = max(others, key=lambda name: others[name], default=None)
    if best is None or others[best] < 0.6 or others[best] <= own:
        return []
    return [Finding("layout.other", shown, value=best, rule=f"the layout {layout.name}")]


class _Kept:
    """Findings in the order of the file, the first so many of them; all are counted."""

    def __init__(self, limit: int | None) -> None:
        self.limit, self.count, self.last = limit, 0, 0
        self.parts: list[pl.DataFrame] = [pl.DataFrame(schema=SCHEMA)]
        self.tally = Tally()

    def add(self, *parts: pl.DataFrame) -> None:
        """Keep the findings of one part of the file, given in any order."""
        filled = [part for part in parts if part.height]
        if not filled:
            return
        found = pl.concat(filled)
        if len(filled) > 1:
            found = found.sort("line", maintain_order=True)
        self.tally.add(found)
        # what is said of whole columns comes last, and may stand first in the file
        if self.limit is None or self.count < self.limit or found["line"][0] is None or found["line"][0] < self.last:
            self.parts.append(found if self.limit is None else found.head(self.limit))
            self.count += self.parts[-1].height
            self.last = max(self.last, self.parts[-1]["line"].max() or 0)  # type: ignore[assignment]

    def findings(self) -> pl.DataFrame:
        """All that were kept."""
        found = pl.concat(self.parts).sort("line", maintain_order=True)
        return found if self.limit is None else found.head(self.limit)


class _Rows:
    """What is asked of rows, made once for all batches."""

    def __init__(
        self, opened: Opened, layout: Layout, headings: Headings, references: Sequence[Problem], shown: str
    ) -> None:
        self.opened, self.shown, self.columns = opened, shown, headings.columns
        self.typed: dict[str, pl.Expr] = {}
        self.problems: list[Problem] = []
        self.fields = [one for one in layout.fields if one.title in headings.columns]
        for one in self.fields:
            self._ask(one, headings.columns[one.title])
        self.problems += references
        if layout.asks_of_rows:
            blanks = {one.name: blank_in_file(one, pl.col(headings.columns[one.title])) for one in self.fields}
            texts = {one.name: pl.col(headings.columns[one.title]) for one in self.fields}
            self.problems += [problem for problem, _ in row_problems(layout, texts, blanks)]
        for one in self.fields:
            self.problems += unknown_labels(one, layout, pl.col(headings.columns[one.title]))
        self.keys = KeyCheck(opened, layout, headings, shown)
        self.nameless = list(headings.nameless)

    def _ask(self, one: Field, column: str) -> None:
        text = pl.col(column)
        if self.opened.in_sheet and one.kind is Kind.TEXT:
            text = one.type.read_sheet(text)
        value = text
        if one.is_typed:
            name = f"{INNER}{one.name}"
            self.typed[name] = one.type.read_sheet(text) if self.opened.in_sheet else one.type.read(text)
            value = pl.col(name)
        self.problems += kind_problems(one, text, value)
        self.problems += value_problems(one, text, value, blank_in_file(one, text))

    def findings(self, rows: pl.DataFrame) -> list[pl.DataFrame]:
        """What is wrong with the rows of a batch, but for their keys."""
        if rows.is_empty():
            return []
        lazy = rows.lazy()
        if self.typed:
            lazy = lazy.with_columns(**self.typed)
        flagged = lazy.with_columns(flags(self.problems, exact=False)).collect()
        found = [gather(flagged, self.problems, pl.lit(self.shown), self._cells(self.columns))]
        return [*found, *self._without_heading(rows), *self._as_text(flagged)]

    def _as_text(self, rows: pl.DataFrame) -> list[pl.DataFrame]:
        """Of each column of a sheet, the first number or date that is text, and how many there are; they come in thousands."""
        reader = self.opened.reader
        if not isinstance(reader, TellsText):
            return []
        columns = {self.columns[one.title]: one for one in self.fields if one.kind in _HELD_AS_SUCH and one.is_typed}
        found = []
        for column, lines in reader.texts_in(list(columns)).items():
            if not lines:
                continue
            one = columns[column]
            # by its series: to plan a query of a sheet with thousands of columns takes longer than to answer it
            where = rows[LINE].is_in(lines) & rows[f"{INNER}{one.name}"].is_not_null()
            count = int(where.sum())
            if count:
                at = int(where.arg_max() or 0)
                line, value = rows[LINE][at], rows[column][at]
                many = f"{count} hold text" if count > 1 else "it holds text"
                rule = f"a cell that holds a {one.kind}; {many}"
                cell = self.opened.cell(column, line)
                found.append(
                    Finding("cell.number-as-text", self.shown, line, cell, field=one.title, value=value, rule=rule)
                )
        return [frame(found)]

    def _without_heading(self, rows: pl.DataFrame) -> list[pl.DataFrame]:
        """The first value of each column that has none; once told, it is not looked for any more."""
        found = []
        for column in list(self.nameless):
            text = pl.col(column)
            first = rows.select(LINE, column).filter(text.str.strip_chars() != "").head(1)
            if first.height:
                self.nameless.remove(column)
                line, value = first[LINE][0], first[column][0]
                cell = self.opened.cell(column, line)
                found.append(
                    Finding("heading.none", self.shown, line, cell, column=column, value=value, rule="a heading above")
                )
        return [frame(found)]

    def _cells(self, columns: Mapping[str, str]) -> pl.Expr | None:
        """The cells of findings on fields, whose columns in the file are given."""
        if not self.opened.in_sheet:
            return None
        letters = {
            title: self.opened.reader.letters[column]
            for title, column in columns.items()
            if column in self.opened.reader.letters
        }
        letter = pl.col("field").replace_strict(letters, default=None, return_dtype=pl.String)
        return pl.format("{}!{}{}", pl.lit(self.opened.reader.facts.sheet), letter, "line")
