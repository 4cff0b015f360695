"""What cells are in forms that have kinds of their own: numbers, yes and no, lists; and back, as the layout writes them."""

from __future__ import annotations

from collections.abc import Callable

import polars as pl

from mudanza.core.findings.problem import Problem
from mudanza.core.layouts.layout import Field
from mudanza.core.layouts.rules import any_part, blank_in_file, parts_of
from mudanza.core.layouts.types import DateType, NumberType, YesNoType
from mudanza.core.values.held import Hold, at_once
from mudanza.core.values.kinds import DECIMAL

#: stands between several texts while a reader hands them on in one column
BETWEEN = "\x1f"
_PLAIN = r"^-?[0-9]+(\.[0-9]+)?$"


def unless_blank(field: Field, text: pl.Expr) -> pl.Expr:
    """A cell's text; null where it stands for a blank, for which these forms have something of their own."""
    return pl.when(~blank_in_file(field, text)).then(text)


def number_or(takes: NumberType, text: pl.Expr, otherwise: pl.Expr, hold: Hold = at_once) -> pl.Expr:
    """The digits of a number with a point, as JSON and XML Schema write it; something else where the text is none."""
    return pl.when(takes.fits(text)).then(takes.same(text, hold)).otherwise(otherwise)


def each(field: Field, text: pl.Expr, made: Callable[[pl.Expr], pl.Expr]) -> pl.Expr:
    """What is made of each of several values in a cell, as a list."""
    one = pl.element()
    filled = parts_of(field, text).list.eval(pl.when(~blank_in_file(field, one)).then(one))
    return filled.list.eval(made(one))


def as_layout_writes(field: Field, text: pl.Expr) -> pl.Expr:
    """The text that a layout has for what such a form gave back: plain digits, true and false, moments as ISO 8601 has them, several texts with `BETWEEN` between them."""
    if field.separator is None:
        made = _one_as_written(field, text)
    else:
        parts = text.str.split(BETWEEN).list.eval(_one_as_written(field, pl.element()).fill_null(""))
        made = parts.list.join(field.separator)
    return made.fill_null(field.null[0]) if field.null[0] else made


def _one_as_written(field: Field, text: pl.Expr) -> pl.Expr:
    takes = field.type
    if isinstance(takes, NumberType):
        number = pl.when(text.str.contains(_PLAIN)).then(text).cast(DECIMAL, strict=False)
        return pl.coalesce(takes.render(number), text)
    if isinstance(takes, YesNoType | DateType):
        return pl.coalesce(takes.render(takes.read_sheet(text)), text)
    return text


def unwritable(field: Field, text: pl.Expr, wrong: Callable[[pl.Expr], pl.Expr], rule: str) -> Problem:
    """Texts that a form has no way to hold, alone or as one of several in a cell."""
    return Problem("value.unwritable", field.title, any_part(field, text, wrong), text, rule)
