"""A cell that is checked, and the bounds that numbers and dates have."""

from __future__ import annotations

import operator
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import date
from decimal import Decimal
from typing import Any

import polars as pl

from mudanza.core.findings.problem import Problem


@dataclass(frozen=True)
class Cell:
    """A cell of a field (of that heading): its text as it stands, its value of the field's kind, and whether it is blank.

    With a `separator` the text is several texts.
    """

    title: str
    text: pl.Expr
    value: pl.Expr
    blank: pl.Expr
    separator: str | None = None

    def problem(self, code: str, when: pl.Expr, rule: str, unless: pl.Expr | None = None) -> Problem:
        """A finding on the cell, where something is true."""
        return Problem(code, self.title, when, self.text, rule, unless=unless)

    def any_text(self, wrong: Callable[[pl.Expr], pl.Expr]) -> pl.Expr:
        """Whether the text, or any of the several, is wrong."""
        if self.separator is None:
            return wrong(self.text)
        return self.text.str.split(self.separator).list.eval(wrong(pl.element())).list.any()


Bound = Decimal | date


@dataclass(frozen=True)
class Bounds:
    """The least and the most that a number or date may be; `above` and `below` are not themselves allowed."""

    minimum: Bound | None = None
    maximum: Bound | None = None
    above: Bound | None = None
    below: Bound | None = None

    @property
    def low(self) -> Any:
        """The lower bound, allowed or not."""
        return self.minimum if self.minimum is not None else self.above

    @property
    def high(self) -> Any:
        """The upper bound, allowed or not."""
        return self.maximum if self.maximum is not None else self.below

    def _all(self) -> Iterator[tuple[Bound, str, str, Callable[[Any, Any], Any]]]:
        for bound, code, words, wrong in (
            (self.minimum, "value.too-small", "from {}", operator.lt),
            (self.above, "value.too-small", "above {}", operator.le),
            (self.maximum, "value.too-large", "up to {}", operator.gt),
            (self.below, "value.too-large", "below {}", operator.ge),
        ):
            if bound is not None:
                yield bound, code, words.format(bound.isoformat() if isinstance(bound, date) else bound), wrong

    @property
    def rules(self) -> list[str]:
        """The bounds in words."""
        return [words for _, _, words, _ in self._all()]

    def problems(self, cell: Cell) -> list[Problem]:
        """Values out of bounds."""
        return [
            cell.problem(code, wrong(cell.value, pl.lit(bound)), words) for bound, code, words, wrong in self._all()
        ]
