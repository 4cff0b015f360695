"""Fields that hold yes or no."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import ClassVar

import polars as pl

from mudanza.core.findings.problem import Problem
from mudanza.core.layouts.types.cell import Cell, collapsed, read_bare
from mudanza.core.values.kinds import Kind
from mudanza.core.values.yesno_format import YesNoFormat


@dataclass(frozen=True)
class YesNoType:
    """Yes or no, as two words."""

    base: str = "boolean"
    format: YesNoFormat = field(default_factory=YesNoFormat)
    kind: ClassVar[Kind] = Kind.YESNO

    @property
    def rules(self) -> list[str]:
        """What it takes, in words."""
        return [self.format.text]

    def normal(self, text: pl.Expr) -> pl.Expr:
        """A cell without the spaces that do not count."""
        return collapsed(text)

    def read(self, text: pl.Expr) -> pl.Expr:
        """A cell as yes or no; null where it is neither."""
        return read_bare(text, self.format.read)

    def read_sheet(self, text: pl.Expr) -> pl.Expr:
        """A sheet's cell: one of the words, or as the spreadsheet itself holds it."""
        word = text.str.strip_chars().str.to_lowercase()
        held = pl.when(word == "true").then(pl.lit(True)).when(word == "false").then(pl.lit(False))
        return pl.coalesce(self.read(text), held)

    def fits(self, text: pl.Expr) -> pl.Expr:
        """Whether a text is one of the words."""
        return self.format.read(self.normal(text)).is_not_null()

    def same(self, text: pl.Expr) -> pl.Expr:
        """The same text for the same value."""
        return pl.coalesce(self.format.read(self.normal(text)).cast(pl.String), text)

    def render(self, value: pl.Expr) -> pl.Expr:
        """Yes or no as its word."""
        return self.format.render(value)

    def problems(self, cell: Cell) -> list[Problem]:  # noqa: ARG002
        """Yes and no are always right."""
        return []
