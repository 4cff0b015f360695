"""What somebody said of single rows after a look at them: these not, or these although the plan says no."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import polars as pl

from mudanza.core.values.row_columns import BETWEEN

#: stands for the key of the record among the columns by which rows are found
KEY_COLUMN = "key"


@dataclass(frozen=True)
class Said:
    """What was said of rows, in a line of a file: by which columns they are found, with their texts; whether they go; why, and who says so."""

    file: str
    line: int
    by: tuple[tuple[str, str], ...]
    goes: bool
    reason: str
    who: str | None = None

    @property
    def rule(self) -> str:
        """What was said, in words."""
        word = "included by hand" if self.goes else "excluded by hand"
        return f"{word}: {self.reason}" + (f" ({self.who})" if self.who else "")

    @property
    def shown(self) -> str:
        """The rows that are meant."""
        return ", ".join(f"{column} {text}" for column, text in self.by)


@dataclass(frozen=True)
class SaidBy:
    """What is found by some columns: `rows` has their texts, joined, and the number of what was said."""

    columns: tuple[str, ...]
    rows: pl.DataFrame


@dataclass(frozen=True)
class ByHand:
    """All that was said of rows of a list; what says that a row does not go comes first."""

    said: tuple[Said, ...] = ()

    def __bool__(self) -> bool:
        return bool(self.said)

    @property
    def columns(self) -> list[str]:
        """The columns of sources by which rows are found."""
        return list(dict.fromkeys(c for one in self.said for c, _ in one.by if c != KEY_COLUMN))

    @cached_property
    def out(self) -> int:
        """How many say that a row does not go: theirs are the numbers below."""
        return sum(not one.goes for one in self.said)

    @cached_property
    def tables(self) -> list[SaidBy]:
        """What was said, by the columns that find it."""
        groups: dict[tuple[str, ...], list[tuple[str, int]]] = {}
        for number, one in enumerate(self.said):
            columns = tuple(column for column, _ in one.by)
            groups.setdefault(columns, []).append((BETWEEN.join(text for _, text in one.by), number))
        schema = {"text": pl.String, "number": pl.Int64}
        return [
            SaidBy(columns, pl.DataFrame(rows, schema=schema, orient="row").unique("text", keep="first"))
            for columns, rows in groups.items()
        ]

    def rules(self, numbers: pl.Expr) -> pl.Expr:
        """What was said, in words, by its numbers."""
        words: Sequence[str] = [one.rule for one in self.said]
        return numbers.replace_strict(range(len(words)), words, default=None, return_dtype=pl.String)
