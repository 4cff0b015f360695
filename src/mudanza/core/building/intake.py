"""The rows of all of a plan's sources, one shape, one after the other."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path

import polars as pl

from mudanza.core.errors import Place, PlanError, SourceError, few, nearest
from mudanza.core.files import Digest
from mudanza.core.plans import Plan, Source
from mudanza.core.sources.noticing import noticed_in
from mudanza.core.sources.reading import FILE, LINE, OLD_LINE, SOURCE, TEXT, WHY, Batch, BrokenRow, Reader

_OF_HELD_BACK = (SOURCE, FILE, OLD_LINE, WHY, TEXT)


@dataclass(frozen=True)
class Opened:
    """A source with its file open. `names` are the column names that plans use, in file order."""

    number: int
    source: Source
    path: Path
    reader: Reader
    shown: str

    @cached_property
    def names(self) -> tuple[str, ...]:
        read = (self._renames.get(h, h) for h in self.reader.headings if h not in _OF_HELD_BACK)
        return (*read, *self.source.adds)

    @cached_property
    def was_held_back(self) -> bool:
        """Whether the file is one of held-back rows, whose sources are named row by row."""
        return SOURCE in self.reader.headings

    @property
    def _renames(self) -> dict[str, str]:
        return self.source.options.rename

    def digest(self) -> Digest | None:
        """What was read of a source that is no file, once it has been read."""
        digest = getattr(self.reader, "digest", None)
        return digest(self.shown) if digest is not None and not self.path.is_file() else None

    def cell(self, column: str, line: int) -> str | None:
        """The cell of a value in a workbook, by the plan's name of the column."""
        back = {new: old for old, new in self._renames.items()}
        return self.reader.cell(back.get(column, column), line)

    def rows(self, batch: Batch, columns: list[str]) -> pl.DataFrame:
        """A batch with all columns of the plan, those that this source lacks being blank."""
        renamed = batch.rows.rename({k: v for k, v in self._renames.items() if k in batch.rows.columns})
        source = pl.lit(self.source.name)
        if self.was_held_back:
            source = pl.coalesce(pl.col(SOURCE), source)
        renamed = renamed.with_columns(pl.lit(value).alias(name) for name, value in self.source.adds.items())
        have = set(self.names)
        return renamed.select(
            source.alias(SOURCE),
            pl.lit(self.shown).alias(FILE),
            pl.col(LINE),
            *(self._value(c) if c in have else pl.lit(None, dtype=pl.String).alias(c) for c in columns),
        )

    def _value(self, column: str) -> pl.Expr:
        blanks = self.source.options.blanks
        value = pl.col(column)
        return pl.when(~value.str.strip_chars().is_in(blanks)).then(value).alias(column) if blanks else value

    def noticed(self, batch: Batch, used: frozenset[str]) -> pl.DataFrame:
        """What the reader noticed on a batch, and its damaged rows and blank lines, as findings.

        What is wrong with one cell only counts if its column is used.
        """
        found = noticed_in(batch, self.reader, self.shown).with_columns(pl.col("column").replace(self._renames))
        of_cell = pl.col("code").str.starts_with("cell.")
        return found.filter(~of_cell | pl.col("column").is_in(list(used)))

    def broken_rows(self, broken: tuple[BrokenRow, ...], columns: list[str]) -> pl.DataFrame:
        """Damaged rows in the same shape plus `#text`, their values placed as far as they go."""
        data = []
        for row in broken:
            stands = dict(zip(self.reader.headings, row.cells, strict=False))
            cells = {self._renames.get(h, h): cell or None for h, cell in stands.items() if h not in _OF_HELD_BACK}
            cells.update(self.source.adds)
            source = stands.get(SOURCE) or self.source.name
            data.append({SOURCE: source, FILE: self.shown, LINE: row.line, **cells, TEXT: row.text})
        schema = {
            SOURCE: pl.String,
            FILE: pl.String,
            LINE: pl.Int64,
            **dict.fromkeys(columns, pl.String),
            TEXT: pl.String,
        }
        return pl.DataFrame(data, schema=schema)


@dataclass(frozen=True)
class Intake:
    """All sources of a plan, opened. `columns` are those of all sources, in the order first met."""

    opened: tuple[Opened, ...]

    @cached_property
    def columns(self) -> list[str]:
        return list(dict.fromkeys(name for one in self.opened for name in one.names))

    @property
    def headings(self) -> dict[str, tuple[str, ...]]:
        names: dict[str, dict[str, None]] = {}
        for one in self.opened:
            names.setdefault(one.source.name, {}).update(dict.fromkeys(one.names))
        return {source: tuple(columns) for source, columns in names.items()}

    def batches(self, *, first: bool = False) -> Iterator[tuple[Opened, Batch]]:
        """The batches of all sources. With `first`, only a small one of each."""
        for one in self.opened:
            for batch in one.reader.batches(first=first):
                yield one, batch
                if first:
                    break


def open_sources(plan: Plan, shown: Callable[[Path], str]) -> Intake:
    """Open the sources of a plan, each file of a pattern by itself. `shown` gives a path as people know it.

    Raises SourceError where a file is not as the plan says, PlanError where the plan's renaming is wrong.
    """
    opened: list[Opened] = []
    for source in plan.sources:
        for path, reader in source.open():
            name = reader.facts.name.replace(str(path), shown(path))
            try:
                one = Opened(len(opened), source, path, reader, name)
                _check_renames(plan, one)
            except SourceError as error:
                if error.place is not None:
                    error.place = replace(error.place, file=name)
                raise
            opened.append(one)
    return Intake(tuple(opened))


def _check_renames(plan: Plan, one: Opened) -> None:
    headings = one.reader.headings
    for old, new in one.source.options.rename.items():
        if old not in headings:
            near = nearest(old, list(headings))
            raise SourceError(
                f"the file has no heading {old!r}, which the plan renames to {new!r}.",
                place=Place(one.shown, one.reader.facts.heading_line, sheet=one.reader.facts.sheet),
                hint=f"Did you mean {near!r}?" if near else f"It has: {few(headings)}.",
            )
    if len(set(one.names)) < len(one.names):
        twice = next(n for n in one.names if one.names.count(n) > 1)
        raise SourceError(
            f"after renaming, two columns are called {twice!r}.",
            place=Place(one.shown, one.reader.facts.heading_line),
            hint="Rename the other one too.",
        )
    for column in one.source.lacks:
        if column in one.names:
            raise PlanError(
                f"the source {one.source.name!r} is said to lack {column!r}, but has it.",
                place=Place(str(plan.path)),
                hint="Take it out of lacks.",
            )
