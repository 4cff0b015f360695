"""Fields that hold times of day, durations and parts of the calendar: texts to a plan, values to a check."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property
from typing import ClassVar

import polars as pl

from mudanza.core.findings.problem import Problem
from mudanza.core.layouts.types.bounds import Bounds
from mudanza.core.layouts.types.cell import Cell, collapsed
from mudanza.core.values import schema_forms
from mudanza.core.values.date_format import DateFormat
from mudanza.core.values.kinds import Kind
from mudanza.core.values.regular import translated

_WORDS = {
    "time": "a time as 07:30:00",
    "gYear": "a year as 2024",
    "gYearMonth": "a month as 2024-01",
    "gMonth": "a month as --01",
    "gMonthDay": "a day of the year as --01-31",
    "gDay": "a day of the month as ---31",
    "duration": "a duration as P1Y2M3DT4H",
    "dayTimeDuration": "a duration as P3DT4H",
    "yearMonthDuration": "a duration as P1Y2M",
}
_PLAIN_TIME = DateFormat.of("HH:mm:ss")
#: a spreadsheet's day 0, or the one before it, and a time
_OF_FIRST_DAY = r"^(?:1899-12-3[01]|1904-01-01) ([0-9]{2}:[0-9]{2}:[0-9]{2}(?:\.[0-9]+)?)$"
#: the base types of those that have a form of their own
FORM_BASES = tuple(_WORDS)


@dataclass(frozen=True)
class FormType:
    """A value written as XML Schema writes it; times by a `format`, durations and parts of the calendar by a `pattern`.

    Bounds are in that form too.
    """

    base: str
    format: DateFormat | None = None
    pattern: str | None = None
    bounds: Bounds[str] = field(default_factory=Bounds)
    kind: ClassVar[Kind] = Kind.TEXT

    @cached_property
    def regex(self) -> str | None:
        """The pattern for the engine."""
        return None if self.pattern is None else translated(self.pattern)

    @property
    def rules(self) -> list[str]:
        """What it takes, in words."""
        words = f"a time as {self.format.text}" if self.format is not None else _WORDS[self.base]
        return [words + (f" matching {self.pattern}" if self.pattern is not None else ""), *self.bounds.rules]

    def normal(self, text: pl.Expr) -> pl.Expr:
        """A cell without the spaces that do not count."""
        return collapsed(text)

    def read(self, text: pl.Expr) -> pl.Expr:
        """A cell as it is."""
        return text

    def read_sheet(self, text: pl.Expr) -> pl.Expr:
        """A sheet's cell as it is; a time of day, which sheets hold as one of their first day, in the form that is asked for."""
        if self.base != "time":
            return text
        clock = text.str.extract(_OF_FIRST_DAY, 1)
        # a sheet counts in parts of a day, and hits no second exactly
        moment = (pl.lit("1970-01-01T") + clock).str.to_datetime("%Y-%m-%dT%H:%M:%S%.f", strict=False, time_unit="us")
        rounded = moment.dt.round("100ms")
        form = self.format or _PLAIN_TIME
        held = rounded.dt.truncate("1s") if "S" not in form.text else rounded
        whole = (held.dt.second() == 0) | pl.lit("s" in form.text)
        return pl.coalesce(pl.when(whole).then(form.render(held)), text)

    def render(self, value: pl.Expr) -> pl.Expr:
        """The text as it is."""
        return value

    def fits(self, text: pl.Expr) -> pl.Expr:
        """Whether a text is a value."""
        text = self.normal(text)
        if self.format is not None:
            return self.format.read(text).is_not_null()
        fits = schema_forms.fits(text, self.base)
        return fits if self.regex is None else fits & text.str.contains(self.regex)

    def same(self, text: pl.Expr) -> pl.Expr:
        """The same text for the same value."""
        text = self.normal(text)
        if self.format is not None:
            return pl.coalesce(self.format.moment(text).cast(pl.String), text)
        return schema_forms.same(text, self.base)

    def problems(self, cell: Cell) -> list[Problem]:
        """Texts that are no value, and values out of bounds."""
        fits = self.fits(cell.text)
        found = [cell.problem("value.kind", ~fits, self.rules[0], cell.blank)]
        text = self.normal(cell.text)
        for bound, code, words, keeps in self.bounds.each():
            if self.base in schema_forms.DURATIONS:
                limits = schema_forms.lengths(pl.lit(bound.value))
                inside = pl.all_horizontal(
                    [keeps(one, limit) for one, limit in zip(schema_forms.lengths(text), limits, strict=True)]
                )
            else:
                value = self.format.moment(text) if self.format else schema_forms.moment(text, self.base)
                inside = keeps(value, schema_forms.moment(pl.lit(bound.value), self.base))
            found.append(cell.problem(code, fits & ~inside, words, cell.blank))
        return found
