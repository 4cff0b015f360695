"""A problem is a condition on rows that, where it is true, makes a finding."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import polars as pl

from mudanza.core.findings.codes import CODES, Severity
from mudanza.core.findings.finding import SCHEMA
from mudanza.core.values.row_columns import INNER, LINE


@dataclass(frozen=True)
class Problem:
    """Where `when` is true, the row has a finding of `code` on the field of that heading, `value` being what stands there and `rule` what was
    asked; field and rule may be others for each row."""

    code: str
    field: str | pl.Expr | None
    when: pl.Expr
    value: pl.Expr
    rule: str | pl.Expr
    hint: str | None = None
    unless: pl.Expr | None = None

    @property
    def exactly(self) -> pl.Expr:
        """`when`, but for the rows that `unless` excludes; `unless` costs more and is seldom needed."""
        return self.when if self.unless is None else self.when & ~self.unless

    @property
    def stops(self) -> bool:
        return CODES[self.code].severity is Severity.STOP


def _field(said: str | pl.Expr | None) -> pl.Expr:
    return said if isinstance(said, pl.Expr) else pl.lit(said, dtype=pl.String)


def flag(number: int) -> str:
    """The name of the column that tells where a problem is true."""
    return f"{INNER}!{number}"


def flags(problems: Sequence[Problem], start: int = 0, *, exact: bool = True) -> list[pl.Expr]:
    """The problems as yes/no columns; without `exact`, those that `unless` excludes are left to `gather`."""
    return [(p.exactly if exact else p.when).fill_null(False).alias(flag(start + i)) for i, p in enumerate(problems)]


def flags_of_rows(problems: Sequence[Problem], start: int = 0) -> list[pl.Expr]:
    """The problems as yes/no columns, for rows that some of them hold back: those exactly, the others as `gather` takes them."""
    return [one for i, p in enumerate(problems) for one in flags([p], start + i, exact=p.stops)]


def held(problems: Sequence[Problem], start: int = 0) -> pl.Expr:
    """Whether any problem of severity stop is true, read from the flag columns."""
    stopping = [pl.col(flag(start + i)) for i, p in enumerate(problems) if p.stops]
    return pl.any_horizontal(stopping) if stopping else pl.lit(False)


def gather(
    rows: pl.DataFrame, problems: Sequence[Problem], file: pl.Expr, cell: pl.Expr | None = None, start: int = 0
) -> pl.DataFrame:
    """The findings of `rows`, in row order, from their flag columns. Costs next to nothing where all is well.

    `cell` makes the cell of a finding from its `field` and `line`.
    """
    if not problems or rows.is_empty():
        return pl.DataFrame(schema=SCHEMA)
    names = [flag(start + i) for i in range(len(problems))]
    found = rows.select(pl.col(names).any()).row(0)
    parts = []
    for name, problem, any_here in zip(names, problems, found, strict=True):
        if not any_here:
            continue
        code = CODES[problem.code]
        part = (
            rows.lazy()
            .filter(pl.col(name) if problem.unless is None else pl.col(name) & ~problem.unless)
            .select(
                pl.lit(problem.code).alias("code"),
                pl.lit(str(code.severity)).alias("severity"),
                file.cast(pl.String).alias("file"),
                pl.col(LINE).alias("line"),
                pl.lit(None, dtype=pl.String).alias("cell"),
                _field(problem.field).alias("field"),
                pl.lit(None, dtype=pl.String).alias("column"),
                problem.value.cast(pl.String).alias("value"),
                (pl.lit(problem.rule) if isinstance(problem.rule, str) else problem.rule).alias("rule"),
                pl.lit(problem.hint or code.next).alias("hint"),
            )
        )
        parts.append(part)
    if not parts:
        return pl.DataFrame(schema=SCHEMA)
    result = pl.concat(pl.collect_all(parts)).sort("line", maintain_order=True)
    return result if cell is None else result.with_columns(cell.alias("cell"))
