"""Fields that hold dates, with a time or without."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import date, datetime, timedelta

import polars as pl

from mudanza.core.findings.problem import Problem
from mudanza.core.layouts.types.bounds import Bounds
from mudanza.core.layouts.types.cell import Cell, collapsed, read_bare
from mudanza.core.values import schema_forms
from mudanza.core.values.date_format import ISO_DATE, DateFormat
from mudanza.core.values.kinds import Kind

#: how a sheet's date-times are given
_HELD = DateFormat.of("yyyy-MM-dd'T'HH:mm:ss.SSS")
_EPOCH = datetime(1970, 1, 1)


@dataclass(frozen=True)
class DateType:
    """A date, or a date with a time, as it is written, within bounds.

    Where the layout says no format, dates are written as `format` and may stand in all forms of XML Schema (`free`).
    """

    base: str = "date"
    kind: Kind = Kind.DATE
    format: DateFormat = ISO_DATE
    free: bool = False
    bounds: Bounds[date] = field(default_factory=Bounds)

    @property
    def rules(self) -> list[str]:
        """What it takes, in words."""
        return [f"{self.kind} as {self.format.text}", *self.bounds.rules]

    def normal(self, text: pl.Expr) -> pl.Expr:
        """A cell without the spaces that do not count."""
        return collapsed(text)

    def read(self, text: pl.Expr) -> pl.Expr:
        """A cell as a date or date-time; null where it is none in the format, or an odd one."""
        return read_bare(text, self.format.read)

    def read_sheet(self, text: pl.Expr) -> pl.Expr:
        """A sheet's cell: in the format, or as the spreadsheet itself holds it."""
        plain = text.str.strip_chars()
        if self.kind is Kind.DATE:
            return pl.coalesce(self.read(text), ISO_DATE.read(plain))
        spaced = plain.str.replace(" ", "T", literal=True)
        return pl.coalesce(self.read(text), _HELD.read(spaced), ISO_DATE.read(plain).cast(pl.Datetime("us")))

    def fits(self, text: pl.Expr) -> pl.Expr:
        """Whether a text is a date in the format, be it one that is not read."""
        text = self.normal(text)
        return schema_forms.fits(text, self._form) if self.free else self.format.read(text).is_not_null()

    @property
    def _form(self) -> str:
        return "dateTime" if self.base == "datetime" else self.base

    def _moment(self, text: pl.Expr) -> pl.Expr:
        text = self.normal(text)
        return schema_forms.moment(text, self._form) if self.free else self.format.moment(text)

    def same(self, text: pl.Expr) -> pl.Expr:
        """The same text for the same value."""
        text = self.normal(text)
        if self.free:
            return schema_forms.same(text, self._form)
        return pl.coalesce(self.format.moment(text).cast(pl.String), text)

    def render(self, value: pl.Expr) -> pl.Expr:
        """A date or date-time as text."""
        return self.format.render(value)

    def problems(self, cell: Cell) -> list[Problem]:
        """Dates out of bounds."""
        found = self.bounds.problems(cell)
        if self.free:
            found += self.bounds.problems_unread(cell, self._moment(cell.text), _micro)
        return found


def _micro(bound: date) -> int:
    moment = bound if isinstance(bound, datetime) else datetime(bound.year, bound.month, bound.day)
    return (moment - _EPOCH) // timedelta(microseconds=1)
