"""Comparisons as expressions that are never null: a blank equals nothing and comes before nothing."""

from __future__ import annotations

import polars as pl


def compare(word: str, left: pl.Expr, others: list[pl.Expr]) -> pl.Expr:
    """`left` compared with others by a word of the language (`=`, `in`, `between` …)."""
    right = others[0]
    match word:
        case "=":
            return left.eq_missing(right)
        case "!=":
            return left.ne_missing(right)
        case "in" | "not in":
            found = pl.any_horizontal([left.eq_missing(other) for other in others])
            return found if word == "in" else ~found
        case "starts with":
            result = left.str.starts_with(right)
        case "ends with":
            result = left.str.ends_with(right)
        case "contains":
            result = left.str.contains(right, literal=True)
        case "between":
            result = (left >= right) & (left <= others[1])
        case "<":
            result = left < right
        case "<=":
            result = left <= right
        case ">":
            result = left > right
        case _:
            result = left >= right
    return result.fill_null(False)
