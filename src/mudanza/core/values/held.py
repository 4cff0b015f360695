"""Columns that are computed once and used by name.

An expression is a tree: where it is used twice it is planned twice, and so is all that lies in it.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable

import polars as pl

from mudanza.core.values.row_columns import INNER

#: gives what stands for an expression: the name of a column that holds it, or the expression itself
Hold = Callable[[pl.Expr], pl.Expr]


def at_once(expr: pl.Expr) -> pl.Expr:
    """Holds nothing: for what is used within another expression, as the elements of lists are."""
    return expr


class Held:
    """Columns that are held, each computed after those that it is made of."""

    def __init__(self) -> None:
        self._stages: list[list[pl.Expr]] = []
        self._stage_of: dict[str, int] = {}

    def hold(self, expr: pl.Expr) -> pl.Expr:
        """The name under which an expression, of a frame's columns and of what is held already, stands in `select`."""
        stage = max((self._stage_of[root] + 1 for root in expr.meta.root_names() if root in self._stage_of), default=0)
        name = f"{INNER}held{len(self._stage_of)}"
        self._stage_of[name] = stage
        if stage == len(self._stages):
            self._stages.append([])
        self._stages[stage].append(expr.alias(name))
        return pl.col(name)

    def select(self, frame: pl.DataFrame, exprs: Iterable[pl.Expr]) -> pl.DataFrame:
        """What is made of a frame's columns and of what is held of them."""
        for columns in self._stages:
            frame = frame.with_columns(columns)
        return frame.select(exprs)
