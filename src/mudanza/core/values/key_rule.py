"""How a target compares keys: what it does not tell apart is one key."""

from __future__ import annotations

from dataclasses import dataclass

import polars as pl

from mudanza.core.values.row_columns import BETWEEN

CASE, SPACES, ZEROS = "case", "spaces", "leading zeros"


@dataclass(frozen=True)
class KeyRule:
    """What a target does not look at in the fields of a key: capitals, spaces, leading zeros, and what stands beyond a `length`."""

    ignores: frozenset[str] = frozenset()
    length: int | None = None

    def __bool__(self) -> bool:
        return bool(self.ignores) or self.length is not None

    def part(self, text: pl.Expr) -> pl.Expr:
        """A field of the key as it is compared."""
        if SPACES in self.ignores:
            text = text.str.replace_all(r"\s", "")
        if ZEROS in self.ignores:
            # a zero alone stays one
            text = text.str.replace(r"^0+(\d)", "${1}")
        if self.length is not None:
            text = text.str.head(self.length)
        return text.str.to_lowercase() if CASE in self.ignores else text

    def whole(self, key: pl.Expr) -> pl.Expr:
        """A key of `row_columns.key_text` as it is compared."""
        if not self.ignores - {CASE} and self.length is None:
            return self.part(key)
        return key.str.split(BETWEEN).list.eval(self.part(pl.element())).list.join(BETWEEN)
