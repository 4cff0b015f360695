"""The least and the most that a value may be."""

from __future__ import annotations

import operator
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any, Generic, TypeVar

import polars as pl

from mudanza.core.findings.problem import Problem
from mudanza.core.layouts.types.cell import Cell

B = TypeVar("B")

TOO_SMALL, TOO_LARGE = "value.too-small", "value.too-large"


@dataclass(frozen=True)
class Bound(Generic[B]):
    """A bound as it is compared, as it was `said`, and whether it is itself allowed."""

    value: B
    said: str
    allowed: bool = True


@dataclass(frozen=True)
class Bounds(Generic[B]):
    """The bounds of numbers, dates and the like, either of which may be missing."""

    least: Bound[B] | None = None
    most: Bound[B] | None = None

    @property
    def low(self) -> B | None:
        """The lower bound, allowed or not."""
        return self.least.value if self.least is not None else None

    @property
    def high(self) -> B | None:
        """The upper bound, allowed or not."""
        return self.most.value if self.most is not None else None

    def each(self) -> Iterator[tuple[Bound[B], str, str, Callable[[Any, Any], Any]]]:
        """Each bound with the code of what is beyond it, its words, and how a value that keeps it compares."""
        if self.least is not None:
            allowed = self.least.allowed
            words = f"{'from' if allowed else 'above'} {self.least.said}"
            yield self.least, TOO_SMALL, words, operator.ge if allowed else operator.gt
        if self.most is not None:
            allowed = self.most.allowed
            words = f"{'up to' if allowed else 'below'} {self.most.said}"
            yield self.most, TOO_LARGE, words, operator.le if allowed else operator.lt

    @property
    def rules(self) -> list[str]:
        """The bounds in words."""
        return [words for _, _, words, _ in self.each()]

    def problems(self, cell: Cell, value: pl.Expr | None = None) -> list[Problem]:
        """Values out of bounds: the cell's, or another that stands for it."""
        value = cell.value if value is None else value
        return [cell.problem(code, ~keeps(value, pl.lit(one.value)), words) for one, code, words, keeps in self.each()]

    def problems_unread(self, cell: Cell, value: pl.Expr, measured: Callable[[B], Any]) -> list[Problem]:
        """Cells without a value of their own which another value shows to be out of bounds, `measured` as that value is."""
        return [
            cell.unread(code, ~keeps(value, pl.lit(measured(one.value))), words)
            for one, code, words, keeps in self.each()
        ]
