"""What compiling hands on: values with their kind, and the stages of columns that make them."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import date
from typing import Protocol

import polars as pl

from mudanza.core.findings.problem import Problem
from mudanza.core.language.parameters import Parameters
from mudanza.core.tables.by_hand import ByHand
from mudanza.core.tables.corrections import Corrections
from mudanza.core.tables.crosswalk import Crosswalk
from mudanza.core.tables.lookup import Lookup
from mudanza.core.values.kinds import Kind
from mudanza.core.values.row_columns import BETWEEN, INNER


@dataclass(frozen=True)
class Value:
    """A value of a kind. `expr` can be computed once all stages below `level` are.

    `late` values depend on identifiers that are given out only when it is known which rows are written.
    `failed` tells where the steps so far could not do their work; `problems` say how.
    """

    kind: Kind
    expr: pl.Expr
    level: int = 0
    late: bool = False
    problems: tuple[Problem, ...] = ()
    failed: pl.Expr | None = None

    def at(self, level: int) -> Value:
        """The same value, not before a level of stages is computed."""
        return replace(self, level=max(self.level, level))

    def map(self, expr: pl.Expr, kind: Kind | None = None) -> Value:
        """The same value after an operation that cannot fail."""
        return replace(self, expr=expr, kind=kind or self.kind)


def combined(values: list[Value], expr: pl.Expr, kind: Kind) -> Value:
    """A value made of several: it is ready when all are, and fails where any does."""
    failed = [v.failed for v in values if v.failed is not None]
    return Value(
        kind,
        expr,
        max(v.level for v in values),
        any(v.late for v in values),
        tuple(p for v in values for p in v.problems),
        pl.any_horizontal(failed) if failed else None,
    )


def only_where(value: Value, where: pl.Expr) -> Value:
    """The value, its problems counting only where something is true."""
    if not value.problems:
        return value
    problems = tuple(replace(p, when=p.when & where) for p in value.problems)
    return replace(value, problems=problems, failed=None if value.failed is None else value.failed & where)


@dataclass(frozen=True)
class Mint:
    """A key book asked for identifiers: the column of old identities and the one for the new keys."""

    book: str
    identity: str
    key: str


@dataclass(frozen=True)
class Asked:
    """A crosswalk asked by a flow: the columns of what came in, for which field, and where the case applies (None for all rows)."""

    crosswalk: str
    columns: tuple[str, ...]
    field: str | None
    applies: pl.Expr | None


class Finder(Protocol):
    """A table that is asked for some of its rows at a time, by texts in the first of its columns."""

    @property
    def columns(self) -> Sequence[str]: ...

    def find(self, texts: pl.Series) -> pl.DataFrame:
        """The rows that have some texts (and others perhaps), in no order."""
        ...


@dataclass(frozen=True)
class Join:
    """A table joined to rows: the column of theirs that is looked up in the table's first, and the columns that come
    of it, with their names in the table.
    """

    on: str
    table: pl.DataFrame | Finder
    names: Mapping[str, str]

    def to(self, rows: pl.DataFrame) -> pl.DataFrame:
        """Rows with what the table has for them, null where it has nothing."""
        table = self.table if isinstance(self.table, pl.DataFrame) else self.table.find(rows[self.on])
        first = self.table.columns[0]
        wanted = table.select(first, *(pl.col(theirs).alias(ours) for ours, theirs in self.names.items()))
        return rows.join(wanted, left_on=self.on, right_on=first, how="left", maintain_order="left")


@dataclass(frozen=True)
class Stage:
    """Columns that do not need each other, and tables that are joined by columns of earlier stages."""

    columns: list[pl.Expr] = field(default_factory=list)
    joins: list[Join] = field(default_factory=list)


def run_stages(rows: pl.DataFrame, stages: Sequence[Stage]) -> pl.DataFrame:
    """Rows with the columns of all stages, each made before the next: made all at once, columns would be cut in
    different places, and each later use would put them right again.
    """
    for stage in stages:
        if stage.columns:
            rows = rows.with_columns(stage.columns)
        for join in stage.joins:
            rows = join.to(rows)
    return rows


def roots(stages: Sequence[Stage]) -> set[str]:
    """The columns that stages look at, their own among them."""
    return {name for stage in stages for expr in stage.columns for name in expr.meta.root_names()}


@dataclass
class Stages:
    """Columns computed one after the other; those of one stage do not need each other. What they are of (`part`) keeps
    them apart from those of other stages in the same rows."""

    part: str = ""
    early: list[Stage] = field(default_factory=list)
    late: list[Stage] = field(default_factory=list)
    mints: list[Mint] = field(default_factory=list)
    #: where crosswalks are asked: the name, the columns of what came in, the field, and where the case applies
    asked: list[Asked] = field(default_factory=list)
    #: the lookups that are asked
    looked_up: list[str] = field(default_factory=list)
    #: columns that steps of the move's own make, with the names of these
    own: dict[str, str] = field(default_factory=dict)
    _count: int = 0

    def hold(self, value: Value, expr: pl.Expr | None = None) -> Value:
        """Give the value (or `expr` in its place) a column of its own, so that it is computed once."""
        name = self.name()
        self._stage(value).columns.append((value.expr if expr is None else expr).alias(name))
        return replace(value, expr=pl.col(name), level=value.level + 1)

    def join(self, held: Value, table: pl.DataFrame | Finder, *columns: str) -> list[Value]:
        """What a table has for a value that `hold` gave, looked up in its first column, which has no text twice: these
        of its other columns (all, if none is named), null where it has
        none."""
        names = {self.name(): column for column in columns or table.columns[1:]}
        self._stage(held).joins.append(Join(held.expr.meta.output_name(), table, names))
        return [replace(held, expr=pl.col(name), level=held.level + 1) for name in names]

    def _stage(self, value: Value) -> Stage:
        stages = self.late if value.late else self.early
        while len(stages) <= value.level:
            stages.append(Stage())
        return stages[value.level]

    def name(self) -> str:
        """A fresh name for an inner column."""
        self._count += 1
        return f"{INNER}{self.part}{self._count}"


#: a record's key, and the identifier that the target gave it
TARGET_IDS = ("key", "there")
#: the findings on what refers to a record that is not written, by what became of its row
FATES = ("reference.skipped", "reference.held-back")


def _no_fates(_: str) -> pl.DataFrame | None:
    return None


def _no_target(_: str) -> pl.DataFrame:
    return pl.DataFrame(schema=dict.fromkeys(TARGET_IDS, pl.String))


@dataclass(frozen=True)
class Surroundings:
    """What flows may refer to beyond the row: crosswalks, keys already given, values given at run time, what the target holds of the list (None if nothing is known of it:
    keys as they are compared, hashes of records, and whether they left), what somebody said of rows, and what became of
    the rows of old identifiers that were not written (`text`, `code` of `FATES`, and `told` in words; None if nothing is known),
    and the identifiers that the target gave to records of a list.

    `crosswalk` and `keys` raise MoveError with the nearest name if there is no such table.
    """

    crosswalk: Callable[[str], Crosswalk]
    keys: Callable[[str], Finder]
    parameters: Parameters
    as_of: date
    lookup: Callable[[str], Lookup]
    in_target: Finder | None = None
    by_hand: ByHand = field(default_factory=ByHand)
    corrections: Corrections = field(default_factory=Corrections)
    fates: Callable[[str], pl.DataFrame | None] = _no_fates
    target_ids: Callable[[str], pl.DataFrame | Finder] = _no_target


def identity(parts: list[pl.Expr]) -> pl.Expr:
    """Several texts as the one text a key book knows; null where the last part is blank."""
    blank = parts[-1].is_null() | (parts[-1].str.strip_chars().str.len_bytes() == 0)
    joined = pl.concat_str([p.fill_null("") for p in parts], separator=BETWEEN)
    return pl.when(~blank).then(joined)
