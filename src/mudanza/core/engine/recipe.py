"""A recipe: what a plan compiles to, as data and expressions that can be kept, compared and sent elsewhere."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

import polars as pl

from mudanza.core.documents.errors import MoveError, MudanzaError, Place
from mudanza.core.engine.knowing import Knowing
from mudanza.core.engine.totals import Totals
from mudanza.core.findings.problem import Problem
from mudanza.core.language.compiling import Watched
from mudanza.core.language.value import Asked, Mint, Stage, Value, roots, run_stages
from mudanza.core.layouts.layout import Field
from mudanza.core.tables.corrections import Corrections
from mudanza.core.values.key_rule import KeyRule
from mudanza.core.values.row_columns import IN_TARGET, LINE


@dataclass(frozen=True)
class Made:
    """A field's columns: its typed value and its text as the layout wants it.

    `columns` are the source columns that its flow looks at.
    """

    field: Field
    value: Value
    text: Value
    columns: frozenset[str]


@dataclass(frozen=True)
class Condition:
    """A condition on source rows. Rows for which it cannot be told (a problem of severity stop) are not chosen.

    `parts` are those that must all be met, each with its text.
    """

    stages: list[Stage]
    expr: pl.Expr
    problems: list[Problem]
    parts: tuple[tuple[str, pl.Expr], ...] = ()
    #: whether it asks what the target holds
    of_target: bool = False

    def choose(self, rows: pl.DataFrame, *, meeting: bool = True) -> pl.DataFrame:
        """The rows that meet it or, without `meeting`, those that surely do not."""
        doubtful = pl.any_horizontal([p.exactly.fill_null(False) for p in self.problems if p.stops] or [pl.lit(False)])
        wanted = self.expr if meeting else ~self.expr
        return run_stages(rows, self.stages).filter(wanted & ~doubtful).select(rows.columns)


@dataclass(frozen=True)
class Mentions:
    """What the flows of a plan speak of: source columns (those of `keep` apart), texts that columns are compared with, values given at run time,
    crosswalks with what they are asked for, lookups, and, if it was asked for, each value on the way to a field."""

    used: frozenset[str]
    chosen_by: frozenset[str]
    compared: dict[str, frozenset[str]]
    parameters: frozenset[str]
    crosswalks: tuple[Asked, ...]
    lookups: tuple[str, ...]
    watched: tuple[Watched, ...] = ()


@dataclass(frozen=True)
class Recipe:
    """What is done to rows: what is `known` of them is added, `keep` chooses them, then come `early` stages, then identifiers (`mints`, those of the key apart), then `late` stages.

    `fields` are in layout order; those of `key` (by their names) make the record's key, compared by `key_rule`.
    `late_problems` can only be asked once identifiers are there. `own_steps` are the columns that steps of the move's
    own make, with their names.
    """

    known: Knowing
    keep: Condition | None
    early: list[Stage]
    mints: list[Mint]
    key_mints: tuple[Mint, ...]
    late: list[Stage]
    fields: list[Made]
    early_problems: list[Problem]
    late_problems: list[Problem]
    key: tuple[str, ...]
    key_rule: KeyRule
    mentions: Mentions
    own_steps: Mapping[str, str]
    totals: Totals = field(default_factory=Totals)
    corrections: Corrections = field(default_factory=Corrections)

    @property
    def titles(self) -> list[str]:
        return [made.field.title for made in self.fields]

    @property
    def looked_at(self) -> list[str]:
        """The columns of sources that `keep` looks at."""
        return sorted(column for column in self.mentions.chosen_by if not column.startswith("#"))

    @property
    def key_fields(self) -> list[Made]:
        """The fields that make the record's key, in layout order."""
        return [made for made in self.fields if made.field.name in self.key]

    @property
    def books(self) -> list[str]:
        """The key books that identifiers are given out from."""
        return list(dict.fromkeys(mint.book for mint in self.mints))

    def with_known(self, rows: pl.DataFrame) -> pl.DataFrame:
        """Rows with what is known of them, if that is asked of all."""
        return self.named(rows) if self.known.at_once else rows

    def numbers(self, rows: pl.DataFrame) -> pl.DataFrame:
        """The numbers of rows that are summed, whatever becomes of them, with their lines."""
        return self.totals.of(self.run(rows, list(self.totals.stages)) if self.totals.stages else rows)

    def named(self, rows: pl.DataFrame) -> pl.DataFrame:
        """Rows with what is known of them; where nothing is, the target holds none."""
        if not self.known.stages:
            return rows.with_columns(pl.lit(False).alias(IN_TARGET))
        names = [expr.meta.output_name() for expr in self.known.stages[-1].columns]
        # tables are joined to what is looked at alone, and not to all that a source has
        wanted = roots(self.known.stages)
        narrow = rows.select(name for name in rows.columns if name in wanted or name == LINE)
        return rows.hstack(self.run(narrow, list(self.known.stages)).select(names))

    def run(self, rows: pl.DataFrame, stages: list[Stage]) -> pl.DataFrame:
        """Rows with the columns of some of its stages. Raises MoveError where the move's own steps fail."""
        if not self.own_steps:
            return run_stages(rows, stages)
        try:
            return run_stages(rows, stages)
        except MudanzaError:
            raise
        except Exception as error:  # whatever somebody's own function does
            step = self._failing_own_step(rows, stages)
            if step is None:
                raise
            raise MoveError(
                f"the move's own step {step} failed: {(str(error) or type(error).__name__).splitlines()[0]}",
                place=Place("steps.py"),
                hint="Mend it there, and give it an example like the value that it failed on.",
            ) from error

    def _failing_own_step(self, rows: pl.DataFrame, stages: list[Stage]) -> str | None:
        """Which of the move's own steps makes the column that these rows cannot be given; None if it is none of
        them."""
        for stage in stages:
            for column in stage.columns:
                try:
                    rows.lazy().select(column).collect()
                except Exception:  # whatever it is, it is this column's
                    name: str = column.meta.output_name()
                    return self.own_steps.get(name)
            rows = run_stages(rows, [stage])
        return None
