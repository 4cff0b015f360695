"""What the values of a column may be: kinds, patterns of codes, and values that only pretend to be filled."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cache
from string import ascii_lowercase, ascii_uppercase, digits

import polars as pl

from mudanza.core.values.date_format import DateFormat
from mudanza.core.values.number_format import NumberFormat
from mudanza.core.values.written import DATES, MOMENTS, NAMED_DATES, PLACEHOLDERS, SIGNS, YES_NO

Test = Callable[[pl.Expr], pl.Expr]

_YES_NO = sorted({word for pair in YES_NO for word in pair})
#: Day first or month first: dates that a column may mix.
ORDERED_DATE = r"^(\d{1,2})[/.-](\d{1,2})[/.-](?:\d{4}|\d{2})(?: .*)?$"
CONTROL = r"[\x00-\x08\x0B\x0C\x0E-\x1F\x7F-\x9F\u{200B}\u{2028}\u{2029}\u{FEFF}\u{FFFD}]"

_PATTERNS = {**dict.fromkeys(digits, "9"), **dict.fromkeys(ascii_lowercase, "a"), **dict.fromkeys(ascii_uppercase, "A")}
_BYTES = bytes.maketrans("".join(_PATTERNS).encode(), "".join(_PATTERNS.values()).encode())
# comparing with every spelling costs less than bringing each value to small letters
_SPELLINGS = sorted({spelt for word in PLACEHOLDERS for spelt in (word, word.upper(), word.capitalize(), word.title())})


@dataclass(frozen=True)
class KindTest:
    """A kind: which texts are of it, and their value if it has an order or a sum."""

    name: str
    fits: Test
    value: Test | None = None

    @property
    def is_date(self) -> bool:
        return self.name.startswith("date")

    @property
    def is_number(self) -> bool:
        return self.name.startswith(("number", "whole"))

    @property
    def is_case_of(self) -> tuple[str, ...]:
        """Kinds that every text of this kind is of as well."""
        return ("number", "number, decimal comma") if self.name in ("whole number", "digits") else ()


def only_digits(text: pl.Expr) -> pl.Expr:
    """Whether a text is of digits alone."""
    return text.str.contains(r"^[0-9]+$")


def _always(text: pl.Expr) -> pl.Expr:  # noqa: ARG001
    return pl.lit(True)


def _our_times(text: pl.Expr) -> pl.Expr:
    return text.str.contains("^(19|20)")


@cache
def kind_tests() -> tuple[KindTest, ...]:
    """The kinds, each stricter one before those that it is a case of."""

    def whole(text: pl.Expr) -> pl.Expr:
        return text.cast(pl.Int64, strict=False)

    tests = [KindTest("yes/no", lambda t: t.str.to_lowercase().is_in(_YES_NO))]
    for pattern in (*DATES, *MOMENTS, NAMED_DATES[0]):
        form = DateFormat.of(pattern)
        # eight digits are only likely to be a date in our times
        years = _our_times if pattern == "yyyyMMdd" else _always
        tests.append(
            KindTest(
                f"date {pattern}",
                lambda t, form=form, years=years: form.read(t, lenient=True).is_not_null() & years(t),  # type: ignore[misc]
                lambda t, form=form: form.read(t, lenient=True),  # type: ignore[misc]
            )
        )
    tests.append(KindTest("whole number", lambda t: t.str.contains(r"^-?(?:0|[1-9][0-9]{0,17})$"), whole))
    tests.append(KindTest("digits", only_digits))
    for name, number in (
        ("number", NumberFormat.of(".", ",")),
        ("number, decimal comma", NumberFormat.of(",", ".")),
    ):
        tests.append(
            KindTest(
                name,
                lambda t, number=number: t.str.contains(number.pattern),  # type: ignore[misc]
                lambda t, number=number: number.read(t),  # type: ignore[misc]
            )
        )
    tests.append(KindTest("e-mail", lambda t: t.str.contains(r"^[^\s@;,]+@[^\s@;,]+\.[A-Za-z]{2,}$")))
    return tuple(tests)


def shapes(values: pl.Series) -> pl.Series:
    """The patterns of codes: 9 for a digit, A for a capital, a for a small letter, all other signs as they are."""
    joined: str = values.str.join("\0").item() if values.len() else ""
    if not joined.isascii() or joined.count("\0") != values.len() - 1:
        signs = values.str.replace_many(list(_PATTERNS), list(_PATTERNS.values()))
        return signs.str.replace_all(r"[\p{Lu}&&[^A]]", "A").str.replace_all(r"[\p{L}&&[^Aa]]", "a")
    # a table of bytes is ten times as quick
    patterns = joined.encode().translate(_BYTES).decode()
    return pl.Series(values.name, [patterns]).str.split("\0").explode()


def pretends(text: pl.Expr) -> pl.Expr:
    """Whether a text is a word, a date or a row of signs that stands for nothing."""
    return text.is_in(_SPELLINGS) | (text.str.strip_chars(SIGNS).str.len_bytes() == 0)
