"""Cells of a sheet: numbers and moments as such where a spreadsheet holds them exactly, all else as text; how they are shown, and what may be typed into them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import date, datetime
from typing import Any

import polars as pl

from mudanza.core.findings.problem import Problem
from mudanza.core.layouts.layout import Field
from mudanza.core.layouts.types import DateType, NumberType, TextType, YesNoType
from mudanza.core.layouts.types.number import BINARY
from mudanza.core.sinks.markup import FORBIDDEN
from mudanza.core.sinks.native import unless_blank
from mudanza.core.values.held import Hold
from mudanza.core.values.kinds import Kind

MOST_ROWS = 1_048_576
MOST_CHARACTERS = 32_767
_EXACT_DIGITS = 15
#: smaller fractions are read back without their last digits
_LEAST = 1e-4
#: spreadsheet programs count days from here, and think that 1900 was a leap year
_DAY_ZERO, FIRST_DAY = datetime(1899, 12, 30), datetime(1900, 3, 1)
PER_DAY = 86_400_000_000
_SECOND = 1_000_000
_LONGEST_LIST = 255


@dataclass(frozen=True)
class SheetCell:
    """A cell as expressions: the number that it holds (null where it is text), and its text (null where it is blank);
    of fields of numbers and moments also the value, as plain digits or a moment. A moment is a number of `PER_DAY`
    parts of a day."""

    number: pl.Expr | None
    text: pl.Expr
    value: pl.Expr | None = None


def sheet_cell(field: Field, hold: Hold) -> SheetCell:
    """The cell of a field, of the text in the column of its heading; what is used several times is held."""
    text = hold(unless_blank(field, pl.col(field.title)))
    takes = field.type
    if field.separator is not None:
        return SheetCell(None, text)
    if isinstance(takes, NumberType):
        digits = hold(takes.same(text, hold))
        value = hold(digits.cast(pl.Float64, strict=False))
        few = digits.str.replace_all(r"^-?0*\.?0*|\.", "").str.len_bytes() <= _EXACT_DIGITS
        exact = value.is_finite() & ((value == 0) | (value.abs() >= _LEAST)) & (few | pl.lit(takes.base in BINARY))
        return SheetCell(pl.when(exact & takes.fits(text)).then(value), text, digits)
    if isinstance(takes, DateType):
        moment = hold(takes.read(text))
        since = hold((moment.cast(pl.Datetime("us")) - pl.lit(_DAY_ZERO)).dt.total_microseconds())
        kept = (moment >= pl.lit(FIRST_DAY)) & (since % _SECOND == 0) & (takes.render(moment) == text)
        return SheetCell(pl.when(kept).then(since), text, moment)
    return SheetCell(None, text)


def number_format(field: Field) -> str:
    """How the cells of a field are shown, as spreadsheet programs write it; those with codes and texts as text."""
    takes = field.type
    if isinstance(takes, NumberType) and field.separator is None:
        least, most = takes.format.min_fraction, takes.format.max_fraction
        plain = "0" + ("." + "0" * least if least else "")
        return "General" if not least and most != 0 else plain + ("%" if takes.format.affixes.sign == "%" else "")
    if field.separator is None and field.kind is Kind.DATE:
        return "yyyy-mm-dd"
    if field.separator is None and field.kind is Kind.DATETIME:
        return "yyyy-mm-dd hh:mm:ss"
    return "@"


def problems(field: Field, text: pl.Expr) -> list[Problem]:
    """Texts that no cell holds."""
    long, odd = text.str.len_chars() > MOST_CHARACTERS, text.str.contains(FORBIDDEN)
    return [
        Problem(
            "value.unwritable",
            field.title,
            long,
            text.str.head(80),
            f"at most {MOST_CHARACTERS:,} characters in a cell",
        ),
        Problem("value.unwritable", field.title, odd, text, "no control characters, which a cell cannot hold"),
    ]


def choices_of(field: Field) -> tuple[str, ...]:
    """The words that a field takes, where those are all that it takes."""
    takes = field.type
    if field.separator is not None:
        return ()
    if isinstance(takes, YesNoType):
        return (takes.format.yes[0], takes.format.no[0])
    return tuple(takes.permitted or ()) if isinstance(takes, TextType) else ()


def input_rule(field: Field, range_of: Callable[[list[str]], str]) -> dict[str, Any] | None:
    """What a spreadsheet program checks while people type, as XlsxWriter takes it; None if that is nothing. `range_of` gives the cells in which long lists of words stand."""
    takes = field.type
    rule: dict[str, Any] | None = None
    if words := choices_of(field):
        listed = len(",".join(words)) <= _LONGEST_LIST and not any("," in word for word in words)
        rule = {"validate": "list", "source": list(words) if listed else range_of(list(words))}
    elif isinstance(takes, NumberType):
        low, high = takes.bounds.low, takes.bounds.high
        least, most = (-1e15 if low is None else float(low)), (1e15 if high is None else float(high))
        rule = {"validate": "decimal", "criteria": "between", "minimum": least, "maximum": most}
    elif isinstance(takes, DateType):
        first, last = _moment(takes.bounds.low, FIRST_DAY), _moment(takes.bounds.high, datetime(9999, 12, 31))
        rule = {"validate": "date", "criteria": "between", "minimum": max(first, FIRST_DAY), "maximum": last}
    elif isinstance(takes, TextType) and takes.longest is not None:
        least_long = takes.length or takes.min_length or 0
        rule = {"validate": "length", "criteria": "between", "minimum": least_long, "maximum": takes.longest}
    if rule is not None:
        rule.update({"error_title": field.title[:32], "error_message": field.rule[:250], "ignore_blank": True})
    return rule


def sheet_name(subject: str) -> str:
    """A subject as a sheet may be named."""
    return "".join(c for c in subject if c not in "[]:*?/\\'")[:31] or "records"


def width_of(title: str, longest: int) -> int:
    """How wide a column is to be, in characters, for its heading and the longest of its values."""
    return min(max(len(title), longest, 6) + 2, 44)


def _moment(bound: date | None, other: datetime) -> datetime:
    return other if bound is None else datetime.fromisoformat(bound.isoformat())
