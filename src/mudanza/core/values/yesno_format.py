"""The two words for yes and no (CSVW section 6.4.3)."""

from __future__ import annotations

from dataclasses import dataclass

import polars as pl


@dataclass(frozen=True)
class YesNoFormat:
    """The two words for yes and no; without a format the four that XML Schema knows."""

    yes: tuple[str, ...] = ("true", "1")
    no: tuple[str, ...] = ("false", "0")

    @classmethod
    def of(cls, text: str) -> YesNoFormat:
        """Compile a CSVW boolean format, `Y|N`. Raises ValueError if it is none."""
        words = text.split("|")
        if len(words) != 2 or not all(words) or words[0] == words[1]:
            raise ValueError(f"{text!r} is no yes/no format; write the two words as 'Y|N'")
        return cls((words[0],), (words[1],))

    @property
    def text(self) -> str:
        return " or ".join((*self.yes, *self.no))

    def read(self, text: pl.Expr) -> pl.Expr:
        """Text as yes or no; null where it is neither word."""
        return pl.when(_among(text, self.yes)).then(pl.lit(True)).when(_among(text, self.no)).then(pl.lit(False))

    def render(self, value: pl.Expr) -> pl.Expr:
        """Yes or no as the first of its words."""
        return pl.when(value).then(pl.lit(self.yes[0])).when(~value).then(pl.lit(self.no[0]))


def _among(text: pl.Expr, words: tuple[str, ...]) -> pl.Expr:
    return text == words[0] if len(words) == 1 else text.is_in(words)
