"""The rows of all of a plan's sources, one shape, one after the other."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path

import polars as pl

from mudanza.core.documents.errors import Place, PlanError, SourceError, few, nearest
from mudanza.core.engine.corrections import broken_corrected_by, corrected_by, corrections_in, no_corrections
from mudanza.core.findings.finding import SCHEMA
from mudanza.core.plans.move import Move
from mudanza.core.plans.plan import Plan, Source
from mudanza.core.sinks.csv_text import unquoted
from mudanza.core.sources.noticing import noticed_in
from mudanza.core.sources.opening import files_of, open_source, share_of_all
from mudanza.core.sources.reader import Batch, BrokenRow, OfDatabase, Reader
from mudanza.core.values.digest import Digest
from mudanza.core.values.row_columns import FILE, LINE, OLD_LINE, SOURCE, TEXT, WAS, WHERE, WHY, file_and_line, where

#: findings on rows, by their places; a row with one of severity stop that has a column is held back
SAID_BEFORE = {WHERE: pl.Int64, **SCHEMA}
_OF_HELD_BACK = (SOURCE, FILE, OLD_LINE, WAS, WHY, TEXT)


def said_before(rows: pl.DataFrame, **given: pl.Expr) -> pl.DataFrame:
    """What is said of rows, which have their `WHERE`, in the shape of `SAID_BEFORE`; of severity stop, and blank in what is not `given`."""
    given = {WHERE: pl.col(WHERE), "severity": pl.lit("stop"), **given}
    return rows.select(given.get(name, pl.lit(None, dtype=kind)).alias(name) for name, kind in SAID_BEFORE.items())


@dataclass(frozen=True)
class Opened:
    """A source with its file open. `names` are the column names that plans use, in file order.

    `stamp` tells the file, as it was when it was opened, from any later one; `corrections` are those of its rows that other sources have corrected,
    `blanks` the texts that count as blank, by source, where a file of held-back rows has rows of several.
    """

    number: int
    source: Source
    path: Path
    reader: Reader
    shown: str
    stamp: tuple[int, ...] = ()
    corrections: pl.DataFrame = field(default_factory=no_corrections)
    blanks: Mapping[str, Sequence[str]] = field(default_factory=dict)
    #: what is said of single rows before they are read (of `SAID_BEFORE`)
    said: pl.DataFrame = field(default_factory=lambda: pl.DataFrame(schema=SAID_BEFORE))

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
        if self.path.is_file() or not isinstance(self.reader, OfDatabase):
            return None
        return self.reader.digest(self.shown)

    @property
    def kinds(self) -> dict[str, str]:
        """The kinds that a database declares for the columns; empty for what declares none."""
        kinds = self.reader.declared() if isinstance(self.reader, OfDatabase) else {}
        return {self._renames.get(heading, heading): kind for heading, kind in kinds.items()}

    def own(self, columns: Sequence[str]) -> list[str]:
        """Those of the columns that the source itself fills; what a plan adds to it says nothing of a row."""
        return [column for column in columns if column not in self.source.adds]

    @property
    def letters(self) -> dict[str, str]:
        """The sheet's columns that the plan's columns stand in; empty for what is no sheet."""
        return {self._renames.get(heading, heading): letters for heading, letters in self.reader.letters.items()}

    def rows(self, batch: Batch, columns: list[str]) -> pl.DataFrame:
        """A batch with all columns of the plan, those that this source lacks being blank."""
        rows = batch.rows
        if self.was_held_back:
            # as they were before they were written for people to open
            rows = rows.with_columns(unquoted(pl.col(one)).alias(one) for one in self.reader.headings)
        renamed = rows.rename({k: v for k, v in self._renames.items() if k in rows.columns})
        source = pl.lit(self.source.name)
        if self.was_held_back:
            source = pl.coalesce(pl.col(SOURCE), source)
        renamed = renamed.with_columns(pl.lit(value).alias(name) for name, value in self.source.adds.items())
        have = set(self.names)
        return renamed.select(
            source.alias(SOURCE),
            pl.lit(self.shown).alias(FILE),
            pl.col(LINE),
            where(self.number),
            corrected_by(self.corrections, batch, self.reader.headings),
            *(self._value(c) if c in have else pl.lit(None, dtype=pl.String).alias(c) for c in columns),
        )

    def _value(self, column: str) -> pl.Expr:
        value = pl.col(column)
        text = value.str.strip_chars()
        wrong = [text.is_in(blanks) for blanks in (self.source.options.blanks,) if blanks]
        wrong += [(pl.col(SOURCE) == name) & text.is_in(list(blanks)) for name, blanks in self.blanks.items()]
        return pl.when(~pl.any_horizontal(wrong).fill_null(False)).then(value).alias(column) if wrong else value

    def standing(self, batch: Batch) -> tuple[Batch, list[str]]:
        """A batch without its damaged rows that came back corrected, and the files that these came in."""
        by = broken_corrected_by(self.corrections, batch.broken)
        kept = tuple(row for row, file in zip(batch.broken, by, strict=True) if file is None)
        return replace(batch, broken=kept), [file for file in by if file is not None]

    def noticed(self, batch: Batch, used: frozenset[str]) -> pl.DataFrame:
        """What the reader noticed on a batch, and its damaged rows and blank lines, as findings.

        What is wrong with one cell only counts if its column is used.
        """
        found = noticed_in(batch, self.reader, self.shown).with_columns(pl.col("column").replace(self._renames))
        if self.said.height:
            file, line = file_and_line(pl.col(WHERE))
            mine = self.said.filter((file == self.number) & line.is_in(batch.rows[LINE].implode()))
            found = pl.concat(
                [found, mine.with_columns(pl.lit(self.shown).alias("file"), line.alias("line")).select(list(SCHEMA))]
            )
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
    """All sources of a plan, opened. `columns` are those of all sources, in the order first met; `corrections` are all rows that sources correct."""

    opened: tuple[Opened, ...]
    corrections: pl.DataFrame = field(default_factory=no_corrections)

    @cached_property
    def columns(self) -> list[str]:
        return list(dict.fromkeys(name for one in self.opened for name in one.names))

    @property
    def source_names(self) -> list[str]:
        """The names that `{#source}` can have; none known if rows of a file of held-back rows name their sources themselves."""
        if any(one.was_held_back for one in self.opened):
            return []
        return list(dict.fromkeys(one.source.name for one in self.opened))

    @property
    def delimiter(self) -> str:
        """What the first source of delimited text is delimited by; a comma if there is none."""
        signs = (one.reader.facts.delimiter for one in self.opened)
        return next((sign for sign in signs if sign and len(sign) == 1), ",")

    @property
    def headings(self) -> dict[str, tuple[str, ...]]:
        names: dict[str, dict[str, None]] = {}
        for one in self.opened:
            names.setdefault(one.source.name, {}).update(dict.fromkeys(one.names))
        return {source: tuple(columns) for source, columns in names.items()}

    def with_said(self, said: pl.DataFrame) -> Intake:
        """The same sources, with what is said of single rows (of `SAID_BEFORE`) beside what was said of others."""
        if said.is_empty():
            return self
        return replace(self, opened=tuple(replace(one, said=pl.concat([one.said, said])) for one in self.opened))

    def without_said(self, code: str) -> Intake:
        """The same sources, without what is said under a code."""
        kept = (replace(one, said=one.said.filter(pl.col("code") != code)) for one in self.opened)
        return replace(self, opened=tuple(kept))

    def share(self, opened: Opened, batch: Batch) -> float | None:
        """How much of all sources has been read with a batch; None where that cannot be told, as of a database."""
        return share_of_all([one.path for one in self.opened], opened.number, batch.share)

    def batches(self, *, first: bool = False) -> Iterator[tuple[Opened, Batch]]:
        """The batches of all sources. With `first`, only a small one of each."""
        for one in self.opened:
            for batch in one.reader.batches(first=first):
                yield one, batch
                if first:
                    break


def _stamp(path: Path) -> tuple[int, ...]:
    facts = path.stat()
    return facts.st_size, facts.st_mtime_ns, facts.st_ino


def check_unchanged(intake: Intake) -> None:
    """Raise SourceError where a file is not the one that was opened: what was read may be of neither."""
    for one in intake.opened:
        if one.stamp and (not one.path.is_file() or _stamp(one.path) != one.stamp):
            raise SourceError(
                "the file was changed while it was read.",
                place=Place(one.shown),
                hint="Nothing was replaced. Wait until it is whole, and build again.",
            )


def open_readers(source: Source, move: Move, *, quick: bool = False) -> list[tuple[Path, Reader]]:
    """The readers of a source, each file of a pattern by itself, with its path; if `quick`, of their columns those that the first records have. Raises SourceError or
    OutsideError where one cannot be read."""
    if source.database is not None:
        from mudanza.core.sources.database import open_database

        reader = open_database(move.database(source.database), source.options, digested=True)
        return [(Path(source.database), reader)]
    options = replace(source.options, quick=quick)
    return [(path, open_source(path, options)) for path in files_of(move.path(source.file or ""))]


def open_sources(plan: Plan, move: Move, *, quick: bool = False) -> Intake:
    """Open the sources of a plan; if `quick`, with those columns that the first records have.

    Raises SourceError where a file is not as the plan says, PlanError where the plan's renaming is wrong.
    """
    opened: list[Opened] = []
    paths = [path for source in plan.sources if source.file for path in files_of(move.path(source.file))]
    stamps = {path: _stamp(path) for path in paths if path.is_file()}
    for source in plan.sources:
        for path, reader in open_readers(source, move, quick=quick):
            name = reader.facts.name.replace(str(path), move.shown(path))
            try:
                one = Opened(len(opened), source, path, reader, name, stamps.get(path, ()))
                _check_renames(plan, one)
            except SourceError as error:
                if error.place is not None:
                    error.place = replace(error.place, file=name)
                raise
            opened.append(one)
    corrections = corrections_in([(one.reader, one.shown) for one in opened if one.was_held_back])
    blanks = {one.source.name: one.source.options.blanks for one in opened if one.source.options.blanks}
    return Intake(tuple(_standing(one, corrections, blanks) for one in opened), corrections)


def _standing(one: Opened, corrections: pl.DataFrame, blanks: Mapping[str, Sequence[str]]) -> Opened:
    """A source that knows which of its rows come back corrected; a file of held-back rows with the blanks of the sources that they are of."""
    mine = corrections.filter(pl.col(FILE) == one.shown)
    if one.was_held_back:
        return replace(one, corrections=mine, blanks=blanks)
    return replace(one, corrections=mine.filter(pl.col(SOURCE) == one.source.name))


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
