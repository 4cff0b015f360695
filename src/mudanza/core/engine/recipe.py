"""A recipe: what a plan compiles to, as data and expressions that can be kept, compared and sent elsewhere."""

from __future__ import annotations

from dataclasses import dataclass

import polars as pl

from mudanza.core.documents.errors import MoveError, MudanzaError, Place
from mudanza.core.findings.problem import Problem
from mudanza.core.language.compiling import Watched
from mudanza.core.language.value import Asked, Mint, Stage, Value, run_stages
from mudanza.core.layouts.layout import Field


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
    """A condition on source rows. Rows for which it cannot be told (a problem of severity stop) are not chosen."""

    stages: list[Stage]
    expr: pl.Expr
    problems: list[Problem]

    def choose(self, rows: pl.DataFrame, *, meeting: bool = True) -> pl.DataFrame:
        """The rows that meet it or, without `meeting`, those that surely do not."""
        doubtful = pl.any_horizontal([p.exactly.fill_null(False) for p in self.problems if p.stops] or [pl.lit(False)])
        wanted = self.expr if meeting else ~self.expr
        return run_stages(rows.lazy(), self.stages).filter(wanted & ~doubtful).select(rows.columns).collect()


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
    """What is done to rows: `keep` chooses them, then come `early` stages, then identifiers (`mints`), then `late` stages.

    `fields` are in layout order; those of `key` (by their names) make the record's key, compared without case if `folds_key`.
    `late_problems` can only be asked once identifiers are there. `own_steps` says whether steps of the move's own are in it.
    """

    keep: Condition | None
    early: list[Stage]
    mints: list[Mint]
    late: list[Stage]
    fields: list[Made]
    early_problems: list[Problem]
    late_problems: list[Problem]
    key: tuple[str, ...]
    folds_key: bool
    mentions: Mentions
    own_steps: bool

    @property
    def titles(self) -> list[str]:
        return [made.field.title for made in self.fields]

    @property
    def key_fields(self) -> list[Made]:
        """The fields that make the record's key, in layout order."""
        return [made for made in self.fields if made.field.name in self.key]

    @property
    def books(self) -> list[str]:
        """The key books that identifiers are given out from."""
        return list(dict.fromkeys(mint.book for mint in self.mints))

    def run(self, rows: pl.DataFrame, stages: list[Stage]) -> pl.DataFrame:
        """Rows with the columns of some of its stages. Raises MoveError where the move's own steps fail."""
        if not self.own_steps:
            return run_stages(rows.lazy(), stages).collect()
        try:
            return run_stages(rows.lazy(), stages).collect()
        except MudanzaError:
            raise
        except Exception as error:  # whatever somebody's own function does
            raise MoveError(
                f"one of the move's own steps failed: {str(error).splitlines()[0]}",
                place=Place("steps.py"),
                hint="Mend it there, and give it an example like the value that it failed on.",
            ) from error
