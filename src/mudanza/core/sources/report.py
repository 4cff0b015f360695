"""Printed reports kept as a file: group headings, page headings, subtotals and blanks between the records.

They are flattened into plain records with the groups as columns, and every printed total is checked against its records.
"""

from __future__ import annotations

import csv
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from itertools import zip_longest
from pathlib import Path
from typing import Any

import polars as pl

from mudanza.core.documents.errors import Place, SourceError
from mudanza.core.findings.finding import Finding, frame
from mudanza.core.sources.cells import column_letters
from mudanza.core.sources.decoding import look_at, whole_text
from mudanza.core.sources.guard import is_workbook
from mudanza.core.sources.headings import tell_apart, with_groups
from mudanza.core.sources.reader import Batch, BrokenRow, FileFacts, ReadOptions, WithoutCells, shorter
from mudanza.core.sources.report_shape import RULE, ReportShape, guess_shape
from mudanza.core.sources.sniff import find_delimiter, split_rows
from mudanza.core.sources.workbook import Workbook
from mudanza.core.values.kinds import DECIMAL, Kind, plain_text
from mudanza.core.values.row_columns import INNER, LINE

_KIND, _FIRST, _COUNT, _ALL, _RUN = (f"{INNER}{name}" for name in ("kind", "first", "count", "all", "run"))
_LOOK, _LOOK_LEAST, _LOOK_CELLS = 500, 100, 15_000
_FIRST_LINES, _LAST_LINES = 5000, 200
#: no paper is wider
_MOST_VALUES = 500


def open_file(path: Path, options: ReadOptions, known_as: Path) -> ReportFile:
    """The reader of a printed report in delimited text or a workbook. Raises SourceError if no heading can be seen."""
    if is_workbook(path):
        book = Workbook(path, replace(options, heading=options.heading or 1), known_as)
        facts = book.facts
        grid = book.grid
        if grid.width > _MOST_VALUES:
            raise _too_wide(known_as)
        facts = replace(facts, above=0)
    else:
        grid, facts = _text_grid(path, options, known_as)
    # the shape shows in the first lines, but for what is only printed at the very end
    seen = (
        grid
        if grid.height <= _FIRST_LINES + _LAST_LINES
        else pl.concat([grid.head(_FIRST_LINES), grid.tail(_LAST_LINES)])
    )
    rows = [[cell or "" for cell in row] for row in seen.drop(LINE).iter_rows()]
    shape = guess_shape(rows, seen[LINE].to_list(), options)
    if shape is None:
        raise SourceError(
            "no heading can be seen in the report.",
            place=Place(str(known_as)),
            hint="Say its line: heading = N in the plan's source.",
        )
    return ReportFile(
        options,
        grid,
        shape,
        replace(
            facts, format=f"printed report ({facts.format})", heading_line=shape.heading_line, proposal=shape.proposal
        ),
    )


def recognises(path: Path, options: ReadOptions) -> bool:
    """Whether a file has the groups, totals or repeated headings of a printed report."""
    if is_workbook(path):
        grid = Workbook(path, replace(options, heading=1), path).grid
        rows = [[cell or "" for cell in row] for row in grid.head(_LOOK).drop(LINE).iter_rows()]
        lines = grid[LINE].head(_LOOK).to_list()
    else:
        head = look_at(path, options).head
        rows = split_rows(head, find_delimiter(head, options.quote), options.quote, _LOOK)
        width = max((len(row) for row in rows), default=0)
        rows = [row + [""] * (width - len(row)) for row in rows]
        lines = list(range(1, len(rows) + 1))
    if not rows or not 2 < len(rows[0]) <= _MOST_VALUES:
        return False
    # a look at so many cells tells as much of a table that is wide
    most = max(_LOOK_LEAST, _LOOK_CELLS // len(rows[0]))
    shape = guess_shape(rows[:most], lines[:most], options)
    return shape is not None and shape.is_report


def _too_wide(known_as: Path, line: int | None = None) -> SourceError:
    return SourceError(
        f"no line of a printed report has more than {_MOST_VALUES} values.",
        place=Place(str(known_as), line),
        hint="Read it as a table (without format), or say another delimiter.",
    )


def _text_grid(path: Path, options: ReadOptions, known_as: Path) -> tuple[pl.DataFrame, FileFacts]:
    text, found = whole_text(path, options)
    delimiter = options.delimiter or find_delimiter(text[: 1 << 20], options.quote)
    # line ends as they are counted; a carriage return inside a line is a blank
    lines_ = text.replace("\r\n", "\n").replace("\r", "\n" if found.carriage_returns else " ").split("\n")
    reader = csv.reader(
        (f"{line}\n" for line in lines_),
        delimiter=delimiter,
        quotechar=options.quote,
        quoting=0 if options.quote else 3,
    )
    rows, lines, line = [], [], 1
    try:
        for row in reader:
            if len(row) > _MOST_VALUES:
                raise _too_wide(known_as, line)
            rows.append([cell if cell.strip() else None for cell in row])
            lines.append(line)
            line = reader.line_num + 1
    except csv.Error as error:
        raise SourceError(
            f"the line cannot be cut into values ({error}).",
            place=Place(str(known_as), line=line),
            hint="Say delimiter= and quote= in the plan's source, or mend the line.",
        ) from error
    columns = list(zip_longest(*rows)) if rows else []
    grid = pl.DataFrame({f"c{i}": pl.Series(list(values), dtype=pl.String) for i, values in enumerate(columns)})
    facts = FileFacts(known_as, "delimited text", path.stat().st_size, 0, found.found, delimiter)
    return grid.with_columns(pl.Series(LINE, lines, dtype=pl.Int64)), facts


@dataclass(frozen=True)
class ReportFile(WithoutCells):
    """A printed report opened for reading. It is held in memory whole, as somebody once read it on paper."""

    options: ReadOptions
    grid: pl.DataFrame
    shape: ReportShape
    facts: FileFacts

    @cached_property
    def _columns(self) -> list[str]:
        return [c for c in self.grid.columns if c != LINE]

    @cached_property
    def _sorted(self) -> pl.DataFrame:
        """The lines, each with what it is: title, blank, rule, group N, total, record, or odd."""
        shape, columns = self.shape, self._columns
        plain = [pl.col(c).str.strip_chars() for c in columns]
        rows = self.grid.with_columns(
            pl.coalesce(columns).alias(_FIRST),
            pl.sum_horizontal(pl.col(c).is_not_null() for c in columns).alias(_COUNT),
            pl.concat_str(plain, separator=" ", ignore_nulls=True).alias(_ALL),
        )
        first, line = pl.col(_FIRST), pl.col(LINE)
        word = first.str.strip_chars()
        headings = pl.any_horizontal(
            pl.all_horizontal(p.fill_null("") == cell.strip() for p, cell in zip(plain, head, strict=True))
            for head in shape.heads
        )
        passed = [word.str.starts_with(prefix.strip()) for prefix in shape.pass_over]
        numbers = pl.col(_ALL).str.replace_all(r"\d+", "9")
        kind: Any = (
            pl.when(pl.col(_COUNT) == 0)
            .then(pl.lit("blank"))
            .when((line < shape.data_from) | headings | numbers.is_in(list(shape.titles)) | _any(passed))
            .then(pl.lit("title"))
            .when(pl.col(_ALL).str.contains(RULE))
            .then(pl.lit("rule"))
            .when(_any([_begins(word, total) for total in shape.totals]))
            .then(pl.lit("total"))
        )
        # of group lines the longest beginning decides: two spaces before one, a word before any
        order = sorted(range(len(shape.groups)), key=lambda i: -len(shape.groups[i][1]))
        for level in order:
            prefix = shape.groups[level][1]
            if prefix.strip():
                here = _begins(word, prefix.strip())
            else:
                here = (pl.col(_COUNT) == 1) & first.str.starts_with(prefix)
            kind = kind.when(here).then(pl.lit(f"group {level}"))
        kind = kind.when((pl.col(_COUNT) < 2) & (len(self._kept) > 2)).then(pl.lit("odd")).otherwise(pl.lit("record"))
        return rows.with_columns(kind.alias(_KIND))

    @cached_property
    def _kept(self) -> list[int]:
        """The columns with a heading, or with values somewhere in lines as wide as records."""
        wide = self.grid.filter(pl.sum_horizontal(pl.col(c).is_not_null() for c in self._columns) >= 3)
        wide = wide.filter(pl.col(LINE) >= self.shape.data_from)
        filled = wide.select(pl.col(c).is_not_null().any() for c in self._columns).row(0)
        return [i for i, (title, has) in enumerate(zip(self._titles, filled, strict=True)) if title.strip() or has]

    @property
    def _titles(self) -> list[str]:
        *groups, names = self.shape.heads
        for above in reversed(groups):
            names = tuple(with_groups(above, names))
        return list(names)

    @cached_property
    def raw_headings(self) -> tuple[str, ...]:
        return (*(name for name, _ in self.shape.groups), *(self._titles[i] for i in self._kept))

    @cached_property
    def headings(self) -> tuple[str, ...]:
        return tuple(tell_apart(self.raw_headings))

    @cached_property
    def letters(self) -> dict[str, str]:
        """The column of each heading in a workbook; a group's value stands further up."""
        own = self.headings[len(self.shape.groups) :]
        if self.facts.sheet is None:
            return {}
        return {heading: column_letters(at) for heading, at in zip(own, self._kept, strict=False)}

    def batches(self, *, first: bool = False) -> Iterator[Batch]:  # noqa: ARG002
        """The records, each with the groups it stands under; and the printed totals that are not the sum of their records."""
        rows = self._sorted
        levels = range(len(self.shape.groups))
        for level in levels:
            value = _group_value(level, self.shape.groups[level][1])
            # a group ends where one further out begins
            outer = pl.when(pl.col(_KIND).is_in([f"group {o}" for o in range(level)])).then(pl.lit(""))
            rows = rows.with_columns(pl.coalesce(value, outer).forward_fill().alias(f"{INNER}group {level}"))
        groups = [pl.col(f"{INNER}group {level}") for level in levels]
        names = [self._columns[i] for i in self._kept]
        texts = [*groups, *(pl.col(c).str.strip_chars() for c in names)]
        records = rows.filter(pl.col(_KIND) == "record").select(
            *(pl.when(t.str.len_bytes() > 0).then(t).alias(h) for t, h in zip(texts, self.headings, strict=True)), LINE
        )
        odd = tuple(
            BrokenRow(line, "read.odd-line", text, shorter(text), rule="a record, a group or a total")
            for line, text in rows.filter(pl.col(_KIND) == "odd").select(LINE, _ALL).iter_rows()
        )
        yield Batch(records, odd, noticed=frame(self._differences(rows)), printed=self._printed(rows))

    def _printed(self, rows: pl.DataFrame) -> pl.DataFrame:
        """The total of all, if one closes more than any other does; otherwise the totals of the outermost groups."""
        run = (pl.col(_KIND) != "total").cum_sum().alias(_RUN)
        # what is blank or a page's heading parts no totals
        totals = rows.filter(~pl.col(_KIND).is_in(["blank", "rule", "title", "odd"])).with_columns(run)
        totals = totals.filter(pl.col(_KIND) == "total").with_columns(pl.len().over(_RUN).alias(_COUNT))
        outermost = totals.filter(pl.col(_RUN) != pl.col(_RUN).shift(-1, fill_value=-1))
        outermost = outermost.filter(pl.col(_COUNT) == pl.col(_COUNT).max())
        names = [self._columns[i] for i in self._kept]
        blank = pl.lit(None, dtype=pl.String)
        own = zip(names, self.headings[len(self.shape.groups) :], strict=True)
        return outermost.select(
            *(blank.alias(heading) for heading in self.headings[: len(self.shape.groups)]),
            *(pl.col(name).str.strip_chars().alias(heading) for name, heading in own),
            LINE,
        )

    def _differences(self, rows: pl.DataFrame) -> list[Finding]:
        """Printed totals that are neither the sum of their group nor of any group around it."""
        levels = len(self.shape.groups)
        columns = self._columns
        kept = dict(zip((columns[i] for i in self._kept), self.headings[levels:], strict=True))
        number = {c: _number(pl.col(c), self.shape.decimal) for c in kept}
        summed = [c for c in kept if rows.filter(pl.col(_KIND) == "total").select(number[c].is_not_null().any()).item()]
        if not summed:
            return []
        record = pl.col(_KIND) == "record"
        value = {c: pl.when(record).then(number[c]).fill_null(0).cum_sum().alias(f"{INNER}sum {c}") for c in summed}
        sums = rows.filter(~pl.col(_KIND).is_in(["blank", "rule", "title", "odd"])).with_columns(*value.values())
        # totals directly below each other close one group after the other, from the inside
        run = (pl.col(_KIND) != "total").cum_sum()
        sums = sums.with_columns(pl.int_range(pl.len()).over(run).alias(_RUN))
        for level in range(levels):
            for c in summed:
                begin = pl.when(pl.col(_KIND) == f"group {level}").then(pl.col(f"{INNER}sum {c}"))
                sums = sums.with_columns(begin.forward_fill().fill_null(0).alias(f"{INNER}from {level} {c}"))
        totals = sums.filter(pl.col(_KIND) == "total")
        # the sum of all, then that of each group from the outermost on
        innermost = (levels - pl.col(_RUN) + 1).clip(0, levels)
        found = []
        for c in summed:
            whole = pl.col(f"{INNER}sum {c}")
            candidates = [whole, *(whole - pl.col(f"{INNER}from {level} {c}") for level in range(levels))]
            wrong = totals.filter(~pl.any_horizontal(number[c] == one for one in candidates))
            expected = pl.concat_list(plain_text(one, Kind.NUMBER) for one in candidates).list.get(innermost)
            for line, text, printed in wrong.select(
                LINE, expected, pl.col(c).str.strip_chars().alias("printed")
            ).iter_rows():
                letters = self.letters.get(kept[c])
                place = f"{self.facts.sheet}!{letters}{line}" if letters else None
                rule = f"{text}, the sum of the records"
                found.append(
                    Finding("report.total-differs", line=line, cell=place, column=kept[c], value=printed, rule=rule)
                )
        return sorted(found, key=lambda f: f.line or 0)


def _any(tests: Sequence[pl.Expr]) -> pl.Expr:
    return pl.any_horizontal(tests) if tests else pl.lit(False)


def _begins(word: pl.Expr, prefix: str) -> pl.Expr:
    return word.str.to_lowercase().str.starts_with(prefix.lower().strip())


def _group_value(level: int, prefix: str) -> pl.Expr:
    """What a group line says, without the words it begins with."""
    text = pl.col(_ALL)
    if prefix.strip():
        text = text.str.slice(len(prefix.strip()))
    value = text.str.strip_chars().str.strip_chars_start(":").str.strip_chars()
    return pl.when(pl.col(_KIND) == f"group {level}").then(value)


def _number(text: pl.Expr, decimal: str) -> pl.Expr:
    """A printed number: groups, currency signs, brackets and trailing minus allowed; null if it is none."""
    plain = text.cast(pl.String).str.replace_all(r"[\s\u00a0€$£]", "")
    negative = plain.str.contains(r"^\(.*\)$|-$|^-")
    plain = plain.str.replace_all(r"[()-]", "").str.replace_all("." if decimal == "," else ",", "", literal=True)
    plain = plain.str.replace(decimal, ".", literal=True)
    value = pl.when(plain.str.contains(r"^\d+(\.\d+)?$")).then(plain).cast(DECIMAL, strict=False)
    return pl.when(negative).then(-value).otherwise(value)
