"""Fields that hold text."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import polars as pl

from mudanza.core.findings.problem import Problem
from mudanza.core.layouts.types.cell import Cell
from mudanza.core.values.kinds import Kind


@dataclass(frozen=True)
class TextType:
    """Text of some length, of a pattern (a regular expression for the whole), or one of the permitted texts."""

    base: str = "string"
    pattern: str | None = None
    permitted: tuple[str, ...] | None = None
    length: int | None = None
    min_length: int | None = None
    max_length: int | None = None
    kind: ClassVar[Kind] = Kind.TEXT

    @property
    def longest(self) -> int | None:
        """How many characters it may have."""
        return self.length if self.length is not None else self.max_length

    @property
    def rules(self) -> list[str]:
        """What it takes, in words."""
        if self.permitted is not None:
            words = "one of " + ", ".join(self.permitted)
        else:
            words = f"text matching {self.pattern}" if self.pattern is not None else "text"
        limits = [(self.length, "exactly {}"), (self.min_length, "at least {}"), (self.max_length, "at most {}")]
        return [words, *(_characters(form, limit) for limit, form in limits if limit is not None)]

    def read(self, text: pl.Expr) -> pl.Expr:
        """A cell as it is."""
        return text

    def read_sheet(self, text: pl.Expr) -> pl.Expr:
        """A sheet's cell as it is."""
        return text

    def render(self, value: pl.Expr) -> pl.Expr:
        """The text as it is."""
        return value

    def problems(self, cell: Cell) -> list[Problem]:
        """Texts that are too long or short, not permitted, or not of the pattern."""
        found = []
        for limit, code, wrong, form in (
            (self.length, "value.too-long", pl.Expr.__gt__, "exactly {}"),
            (self.length, "value.too-short", pl.Expr.__lt__, "exactly {}"),
            (self.max_length, "value.too-long", pl.Expr.__gt__, "at most {}"),
            (self.min_length, "value.too-short", pl.Expr.__lt__, "at least {}"),
        ):
            if limit is not None:
                out = cell.any_text(lambda t, wrong=wrong, limit=limit: wrong(t.str.len_chars(), limit))  # type: ignore[misc]
                found.append(cell.problem(code, out, _characters(form, limit), cell.blank))
        if self.permitted is not None:
            permitted = list(self.permitted)
            out = cell.any_text(lambda t: ~t.is_in(permitted))
            found.append(cell.problem("value.not-permitted", out, "one of " + ", ".join(permitted), cell.blank))
        elif self.pattern is not None:
            out = cell.any_text(lambda t: ~t.str.contains(f"^(?:{self.pattern})$"))
            found.append(cell.problem("value.pattern", out, f"text matching {self.pattern}", cell.blank))
        return found


def _characters(form: str, count: int) -> str:
    return f"{form.format(count)} character{'' if count == 1 else 's'}"
