"""A cell that is checked, and what every type does with texts."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import polars as pl

from mudanza.core.findings.problem import Problem
from mudanza.core.values.held import Hold, at_once

#: what XML Schema calls whitespace; other spaces are characters like any
SPACES = " \t\r\n"


@dataclass(frozen=True)
class Cell:
    """A cell of a field (of that heading): its text as it stands, its value of the field's kind, and whether it is blank."""

    title: str
    text: pl.Expr
    value: pl.Expr
    blank: pl.Expr

    def problem(self, code: str, when: pl.Expr, rule: str, unless: pl.Expr | None = None) -> Problem:
        """A finding on the cell, where something is true."""
        return Problem(code, self.title, when, self.text, rule, unless=unless)

    def unread(self, code: str, wrong: pl.Expr, rule: str) -> Problem:
        """A finding on a cell that has no value, being written as few are, or not to be held; what costs more is asked of such alone."""
        return Problem(
            code,
            self.title,
            self.value.is_null() & self.text.is_not_null(),
            self.text,
            rule,
            unless=self.blank | ~wrong,
        )


def collapsed(text: pl.Expr) -> pl.Expr:
    """A text without spaces at its ends, and one space where there are several (XML Schema part 2, section 4.3.6: collapse)."""
    return text.str.strip_chars(SPACES).str.replace_all(r"[ \t\r\n]+", " ")


def read_bare(text: pl.Expr, read: Callable[[pl.Expr], pl.Expr], hold: Hold = at_once) -> pl.Expr:
    """What is read from a text without the spaces at its ends. Few have any, and to look for them costs a third of the reading: those that were read with them are not looked at."""
    value = hold(read(text))
    return pl.coalesce(value, read(pl.when(value.is_null()).then(text).str.strip_chars(SPACES)))


def characters(form: str, count: int) -> str:
    """A number of characters in words."""
    return f"{form.format(count)} character{'' if count == 1 else 's'}"
