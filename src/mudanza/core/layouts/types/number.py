"""Fields that hold numbers."""

from __future__ import annotations

from dataclasses import dataclass, field
from decimal import Decimal
from typing import ClassVar

import polars as pl

from mudanza.core.findings.problem import Problem
from mudanza.core.layouts.types.bounds import Bounds
from mudanza.core.layouts.types.cell import Cell, collapsed, read_bare
from mudanza.core.values.held import Hold, at_once
from mudanza.core.values.kinds import DECIMAL, Kind, plain_text, trim_zeros
from mudanza.core.values.number_format import NumberFormat

#: datatypes whose values are binary, with the width of theirs
BINARY = {"double": pl.Float64, "number": pl.Float64, "float": pl.Float32}
_INTEGER = r"^(?:0|-?[1-9][0-9]*)$"
_CANONICAL = r"^(?:0|-?[1-9][0-9]*|-?(?:0|[1-9][0-9]*)\.[0-9]*[1-9])$"
_SPECIAL = {"INF": float("inf"), "+INF": float("inf"), "-INF": float("-inf"), "NaN": float("nan")}


@dataclass(frozen=True)
class NumberType:
    """An exact number, or a binary one, as it is written, within bounds."""

    base: str = "decimal"
    format: NumberFormat = field(default_factory=NumberFormat)
    bounds: Bounds[Decimal] = field(default_factory=Bounds)
    kind: ClassVar[Kind] = Kind.NUMBER

    @property
    def rules(self) -> list[str]:
        """What it takes, in words."""
        return [self.format.text, *self.bounds.rules]

    def normal(self, text: pl.Expr) -> pl.Expr:
        """A cell without the spaces that do not count."""
        return collapsed(text)

    def read(self, text: pl.Expr, hold: Hold = at_once) -> pl.Expr:
        """A cell as a number; null where it is none in the format, or one that cannot be held exactly."""
        return read_bare(text, self.format.read, hold)

    def read_sheet(self, text: pl.Expr) -> pl.Expr:
        """A sheet's cell as a number: in the format, or as the spreadsheet itself holds it."""
        plain = text.str.strip_chars()
        fraction = r"(\.0+)?" if self.format.max_fraction == 0 else r"(\.[0-9]+)?"
        held = pl.when(plain.str.contains(rf"^-?[0-9]+{fraction}$")).then(plain).cast(DECIMAL, strict=False)
        return pl.coalesce(self.read(text), held)

    def fits(self, text: pl.Expr) -> pl.Expr:
        """Whether a text is a number in the format, be it one that cannot be held."""
        text = self.normal(text)
        fits = self.format.fits(text)
        return fits | text.is_in(list(_SPECIAL)) if self.base in BINARY else fits

    def _binary(self, text: pl.Expr) -> pl.Expr:
        """The number as a binary one, of any size."""
        text = self.normal(text)
        value = self.format.plain(text).cast(BINARY.get(self.base, pl.Float64), strict=False).cast(pl.Float64)
        if self.base not in BINARY:
            return value
        return pl.coalesce(text.replace_strict(_SPECIAL, default=None, return_dtype=pl.Float64), value)

    def same(self, text: pl.Expr, hold: Hold = at_once) -> pl.Expr:
        """The same text for the same value."""
        if self.base in BINARY:
            fitting = hold(pl.when(self.fits(text)).then(text))
            return pl.coalesce(self._binary(fitting).cast(pl.String), text)
        if self.format.affixes.zeros:
            return self._same(text, hold)
        # nearly all are written in the one way already
        alike = hold(text.str.contains(_INTEGER if self.format.decimal != "." or self.format.groups else _CANONICAL))
        return pl.when(alike).then(text).otherwise(self._same(hold(pl.when(~alike).then(text)), hold))

    def _same(self, text: pl.Expr, hold: Hold) -> pl.Expr:
        held = hold(trim_zeros(self.read(text, hold).cast(pl.String)))
        # the few that have more digits than can be held
        rest = hold(pl.when(held.is_null()).then(text))
        plain = self.format.plain(self.normal(rest)).str.replace(r"^\+", "").str.replace(r"^(-?)0*([0-9])", "${1}${2}")
        plain = hold(plain)
        ended = pl.when(plain.str.contains(".", literal=True)).then(trim_zeros(plain)).otherwise(plain)
        return pl.coalesce(held.replace("-0", "0"), pl.when(self.fits(rest)).then(ended), text)

    def render(self, value: pl.Expr) -> pl.Expr:
        """A number as text."""
        return self.format.render(value)

    def problems(self, cell: Cell) -> list[Problem]:
        """Numbers that writing would round, and numbers out of bounds."""
        # what is no number is neither too small nor too large; what was read is compared as it was read
        text = cell.text if self.base in BINARY else pl.when(cell.value.is_null()).then(cell.text)
        binary = pl.when(self.fits(text)).then(self._binary(text))
        if self.base in BINARY:
            found = [
                cell.problem(code, binary.is_nan() | ~keeps(binary, float(one.value)), words, cell.blank)
                for one, code, words, keeps in self.bounds.each()
            ]
        else:
            found = self.bounds.problems(cell)
            found += self.bounds.problems_unread(cell, binary, float)
        if self.format.rounds:
            value = cell.value.cast(DECIMAL, strict=False)
            shown = plain_text(value, Kind.NUMBER)
            found.append(
                Problem(
                    "value.too-exact", cell.title, self.format.loses(value), shown, self.format.text, unless=cell.blank
                )
            )
        return found
