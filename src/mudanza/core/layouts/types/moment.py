"""Fields that hold dates, with a time or without."""

from __future__ import annotations

from dataclasses import dataclass, field

import polars as pl

from mudanza.core.findings.problem import Problem
from mudanza.core.layouts.types.cell import Bounds, Cell
from mudanza.core.values.date_format import ISO_DATE, ISO_DATETIME, DateFormat
from mudanza.core.values.kinds import Kind


@dataclass(frozen=True)
class DateType:
    """A date, or a date with a time, as it is written, within bounds."""

    base: str = "date"
    kind: Kind = Kind.DATE
    format: DateFormat = ISO_DATE
    bounds: Bounds = field(default_factory=Bounds)

    @property
    def rules(self) -> list[str]:
        """What it takes, in words."""
        return [f"{self.kind} as {self.format.text}", *self.bounds.rules]

    def read(self, text: pl.Expr) -> pl.Expr:
        """A cell as a date or date-time; null where it is none in the format."""
        return self.format.read(text.str.strip_chars())

    def read_sheet(self, text: pl.Expr) -> pl.Expr:
        """A sheet's cell: in the format, or as the spreadsheet itself holds it."""
        plain = text.str.strip_chars()
        if self.kind is Kind.DATE:
            return pl.coalesce(self.read(text), ISO_DATE.read(plain))
        spaced = plain.str.replace(" ", "T", literal=True)
        return pl.coalesce(self.read(text), ISO_DATETIME.read(spaced), ISO_DATE.read(plain).cast(pl.Datetime("us")))

    def render(self, value: pl.Expr) -> pl.Expr:
        """A date or date-time as text."""
        return self.format.render(value)

    def problems(self, cell: Cell) -> list[Problem]:
        """Dates out of bounds."""
        return self.bounds.problems(cell)
