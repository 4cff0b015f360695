"""The kinds of value that plans and layouts speak of, and how Polars holds them."""

from __future__ import annotations

from decimal import Decimal
from enum import StrEnum

import polars as pl


class Kind(StrEnum):
    """A kind of value. `BLANK` is the kind of nothing and fits every other."""

    TEXT = "text"
    NUMBER = "number"
    DATE = "date"
    DATETIME = "date-time"
    YESNO = "yes/no"
    TEXTS = "several texts"
    BLANK = "blank"


#: Decimal places kept of a number; 26 digits may stand before the point.
SCALE = 12
DECIMAL = pl.Decimal(38, SCALE)


def fits_exactly(number: Decimal) -> bool:
    """Whether a number can be held without rounding: 26 digits before the point and twelve after it."""
    return number == 0 or (number.adjusted() < 38 - SCALE and number.normalize().as_tuple().exponent >= -SCALE)  # type: ignore[operator]


DTYPES: dict[Kind, pl.DataType] = {
    Kind.TEXT: pl.String(),
    Kind.NUMBER: DECIMAL,
    Kind.DATE: pl.Date(),
    Kind.DATETIME: pl.Datetime("us"),
    Kind.YESNO: pl.Boolean(),
    Kind.TEXTS: pl.List(pl.String()),
    Kind.BLANK: pl.String(),
}


def may_have_blanks(text: pl.Expr) -> pl.Expr:
    """Whether a column may have texts of spaces alone, told from its least and its greatest text: a fifth of what a look at each costs, and seldom true."""
    # the spaces of ASCII are less than any other sign, the others lie beyond it
    return ((text.min() < "!") | (text.max() >= "\x85")).fill_null(False)


def is_blank(expr: pl.Expr, kind: Kind) -> pl.Expr:
    """Whether a value is blank: nothing at all, or text of spaces only, or no texts."""
    if kind is Kind.TEXT or kind is Kind.BLANK:
        return expr.str.strip_chars().str.len_bytes().fill_null(0) == 0
    if kind is Kind.TEXTS:
        return expr.list.drop_nulls().list.len().fill_null(0) == 0
    return expr.is_null()


def plain_text(expr: pl.Expr, kind: Kind) -> pl.Expr:
    """A value as text in the plainest form: 12.5, 2024-01-31, yes. Used where no layout says how."""
    if kind is Kind.NUMBER:
        return trim_zeros(expr.cast(pl.String))
    if kind is Kind.YESNO:
        return pl.when(expr).then(pl.lit("yes")).when(~expr).then(pl.lit("no"))
    if kind is Kind.DATE:
        return expr.cast(pl.String)
    if kind is Kind.DATETIME:
        return expr.dt.strftime("%Y-%m-%dT%H:%M:%S%.f")
    if kind is Kind.TEXTS:
        return expr.list.drop_nulls().list.join("; ")
    return expr


def trim_zeros(text: pl.Expr) -> pl.Expr:
    """Decimal text without zeros at the end of its fraction."""
    return text.str.strip_chars_end("0").str.strip_chars_end(".")
