"""Fields that hold numbers."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import ClassVar

import polars as pl

from mudanza.core.findings.problem import Problem
from mudanza.core.layouts.types.cell import Bounds, Cell
from mudanza.core.values.kinds import DECIMAL, Kind, plain_text
from mudanza.core.values.number_format import NumberFormat


@dataclass(frozen=True)
class NumberType:
    """An exact number, as it is written, within bounds."""

    base: str = "decimal"
    format: NumberFormat = field(default_factory=NumberFormat)
    bounds: Bounds = field(default_factory=Bounds)
    kind: ClassVar[Kind] = Kind.NUMBER

    @property
    def rules(self) -> list[str]:
        """What it takes, in words."""
        return [self.format.text, *self.bounds.rules]

    def read(self, text: pl.Expr) -> pl.Expr:
        """A cell as a number; null where it is none in the format."""
        return self.format.read(text.str.strip_chars())

    def read_sheet(self, text: pl.Expr) -> pl.Expr:
        """A sheet's cell as a number: in the format, or as the spreadsheet itself holds it."""
        plain = text.str.strip_chars()
        held = pl.when(plain.str.contains(r"^-?\d+(\.\d+)?$")).then(plain).cast(DECIMAL, strict=False)
        return pl.coalesce(self.read(text), held)

    def render(self, value: pl.Expr) -> pl.Expr:
        """A number as text."""
        return self.format.render(value)

    def problems(self, cell: Cell) -> list[Problem]:
        """Numbers that writing would round, and numbers out of bounds."""
        found = list(self.bounds.problems(cell))
        if self.format.rounds:
            value = cell.value.cast(DECIMAL, strict=False)
            shown = plain_text(value, Kind.NUMBER)
            found.append(
                Problem(
                    "value.too-exact", cell.title, self.format.loses(value), shown, self.format.text, unless=cell.blank
                )
            )
        return found
