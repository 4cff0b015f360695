"""Fields that hold text."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import ClassVar

import polars as pl

from mudanza.core.findings.problem import Problem
from mudanza.core.layouts.types.cell import Cell, characters, collapsed
from mudanza.core.values import schema_forms
from mudanza.core.values.kinds import Kind
from mudanza.core.values.regular import translated

#: datatypes whose values are the texts as they stand ("Model for Tabular Data", section 6.4, steps 1 and 2)
VERBATIM = frozenset({"string", "json", "xml", "html", "any", "anyAtomicType"})
_FORM_WORDS = {
    "language": "a language as pt or en-GB",
    "Name": "a name without spaces",
    "NMTOKEN": "a word without spaces",
    "QName": "a name without spaces",
    "hexBinary": "bytes as two hexadecimal digits each",
    "base64Binary": "bytes in base 64",
    "binary": "bytes in base 64",
}


@dataclass(frozen=True)
class TextType:
    """Text of some length, of a pattern, or one of the permitted texts.

    `pattern` is a regular expression as the layout has it. The lengths are in characters, those of bytes in bytes.
    """

    base: str = "string"
    pattern: str | None = None
    permitted: tuple[str, ...] | None = None
    length: int | None = None
    min_length: int | None = None
    max_length: int | None = None
    kind: ClassVar[Kind] = Kind.TEXT

    @cached_property
    def regex(self) -> str | None:
        """The pattern for the engine."""
        return None if self.pattern is None else translated(self.pattern)

    @property
    def longest(self) -> int | None:
        """How many characters it may have."""
        return self.length if self.length is not None else self.max_length

    @property
    def rules(self) -> list[str]:
        """What it takes, in words."""
        if self.permitted is not None:
            words = "one of " + ", ".join(self.permitted)
        elif self.pattern is not None:
            words = f"text matching {self.pattern}"
        else:
            words = _FORM_WORDS.get(self.base, "text")
        limits = [(self.length, "exactly {}"), (self.min_length, "at least {}"), (self.max_length, "at most {}")]
        return [words, *(self._count(form, limit) for limit, form in limits if limit is not None)]

    def _count(self, form: str, limit: int) -> str:
        words = characters(form, limit)
        return words.replace("character", "byte") if self.base in schema_forms.BYTES else words

    def takes(self, text: str) -> bool:
        """Whether the pattern, if there is one, takes a text."""
        return self.regex is None or bool(pl.select(pl.lit(text).str.contains(self.regex)).item())

    def normal(self, text: pl.Expr) -> pl.Expr:
        """A cell without the spaces that do not count."""
        if self.base in VERBATIM:
            return text
        return text.str.replace_all(r"[\t\r\n]", " ") if self.base == "normalizedString" else collapsed(text)

    def read(self, text: pl.Expr) -> pl.Expr:
        """A cell as it is."""
        return text

    def read_sheet(self, text: pl.Expr) -> pl.Expr:
        """A sheet's cell as it is."""
        return text

    def fits(self, text: pl.Expr) -> pl.Expr:
        """Whether a text is one of the datatype."""
        return (
            schema_forms.fits(self.normal(text), self.base) if self.base in schema_forms.FORMS else text.is_not_null()
        )

    def same(self, text: pl.Expr) -> pl.Expr:
        """The same text for the same value."""
        return schema_forms.same(self.normal(text), self.base)

    def render(self, value: pl.Expr) -> pl.Expr:
        """The text as it is."""
        return value

    def problems(self, cell: Cell) -> list[Problem]:
        """Texts that are none of the datatype, too long or short, not permitted, or not of the pattern."""
        text, found = self.normal(cell.text), []
        if self.base in schema_forms.FORMS:
            found.append(cell.problem("value.kind", ~self.fits(cell.text), self.rules[0], cell.blank))
        size = schema_forms.byte_count(text, self.base) if self.base in schema_forms.BYTES else text.str.len_chars()
        for limit, code, wrong, form in (
            (self.length, "value.too-long", pl.Expr.__gt__, "exactly {}"),
            (self.length, "value.too-short", pl.Expr.__lt__, "exactly {}"),
            (self.max_length, "value.too-long", pl.Expr.__gt__, "at most {}"),
            (self.min_length, "value.too-short", pl.Expr.__lt__, "at least {}"),
        ):
            if limit is not None:
                found.append(cell.problem(code, wrong(size, limit), self._count(form, limit), cell.blank))
        if self.permitted is not None:
            words = "one of " + ", ".join(self.permitted)
            found.append(cell.problem("value.not-permitted", ~text.is_in(list(self.permitted)), words, cell.blank))
        elif self.regex is not None:
            rule = f"text matching {self.pattern}"
            found.append(cell.problem("value.pattern", ~text.str.contains(self.regex), rule, cell.blank))
        return found
