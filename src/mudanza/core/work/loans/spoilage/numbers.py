"""Numbers that came back as others: in other signs, a hundred times as large, rounded, taken for dates."""

from __future__ import annotations

from collections.abc import Iterator

import polars as pl

from mudanza.core.values.kinds import DECIMAL
from mudanza.core.values.number_format import NumberFormat
from mudanza.core.work.loans.spoilage.reading import Reading
from mudanza.core.work.loans.spoilage.spoilage import AFTER, BEFORE, IS, WAS, Proof, Spoilage

_CURRENCY = r"^(?:[-+(]*)\s*(?:[€$£¥]|EUR|USD|GBP|CHF|R\$|kr|zł|Kč)\s*|\s*(?:[€$£¥]|EUR|USD|GBP|CHF|R\$|kr|zł|Kč)\s*$"
_SIGNS = [
    (",", "."),
    (".", ","),
    (",", " "),
    (".", " "),
    (",", "'"),
    (".", "'"),
    (",", "’"),
    (".", "’"),
    (".", None),
    (",", None),
]
_MOST_PLACES = 6


def readings_of_numbers() -> list[Reading]:
    """The ways in which numbers are written in the languages of spreadsheet programs."""
    plain = AFTER.str.replace_all("[\u00a0\u202f\u2009]", " ").str.strip_chars()
    # (5) and 5- are less than nothing
    below = plain.str.contains(r"^\(.*\)$|-$")
    bare = plain.str.replace_all(_CURRENCY, "").str.strip_chars("()- ")
    minus = below | plain.str.contains(r"^(?:[€$£]|EUR)?\s*[-\u2212]")
    share = bare.str.ends_with("%")
    digits = bare.str.strip_chars("% +\u2212")
    found = []
    for decimal, group in _SIGNS:
        value = NumberFormat.of(decimal, group).read(digits)
        value = pl.when(share).then((value / 100).cast(DECIMAL)).otherwise(value)
        words = f"written with {decimal!r} before decimals" + (f" and {group!r} between groups" if group else "")
        found.append(Reading(words, pl.when(minus).then(-value).otherwise(value).cast(DECIMAL)))
    exponent = pl.when(plain.str.contains(r"^[-+]?[0-9]+(?:[.,][0-9]+)?[eE][-+]?[0-9]+$")).then(
        plain.str.replace(",", ".")
    )
    found.append(
        Reading("written with an exponent", exponent.cast(pl.Float64, strict=False).cast(DECIMAL, strict=False))
    )
    return found


def of_numbers() -> Iterator[Spoilage]:
    """The ways in which the values of a number field are spoilt."""
    was, came = WAS.cast(pl.Float64), IS.cast(pl.Float64)
    close = (was - came).abs() <= was.abs() * 1e-14
    yield _way("digits", "digits beyond the fifteenth", "sure", close, WAS.is_not_null())
    for places in range(_MOST_PLACES):
        rounded = (was.round(places) - came).abs() < 1e-9
        cut = ((was * 10.0**places).floor() / 10.0**places - came).abs() < 1e-9
        cut |= ((was * 10.0**places).ceil() / 10.0**places - came).abs() < 1e-9
        finer = WAS.round(places) != WAS
        words = f"rounded to {places} decimals" if places else "rounded to whole numbers"
        yield _way(f"rounded to {places}", words, "mark", (rounded | cut) & finer, finer, came == came.round(places))
    # the decimal sign was read as one between groups, or left out
    digits, now = (one.str.replace_all(r"[^0-9]", "").str.strip_chars_start("0") for one in (BEFORE, AFTER))
    fraction = BEFORE.str.contains(r"[0-9][.,][0-9]")
    yield _way(
        "decimal sign",
        "the decimal sign lost",
        "mark",
        fraction & (digits == now) & (was.abs() < came.abs()),
        fraction,
        IS.is_not_null(),
    )
    for power in (2, 3, 1, 4, 6):
        for words, factor in ((f"{10**power:,} times as much", 10.0**power), (f"a {10**power:,}th", 10.0**-power)):
            yield _way(
                words,
                words,
                "many",
                (was != 0) & ((was * factor - came).abs() <= came.abs() * 1e-12),
                WAS != 0,
                IS.is_not_null(),
            )
    yield _way("signs", "signs of numbers", "many", (was == -came) & (was != 0), WAS != 0, IS != 0)
    # a number shown as a date, and digits taken for one
    day = AFTER.str.extract(r"^([0-9]{4}-[0-9]{2}-[0-9]{2})", 1).str.to_date("%Y-%m-%d", strict=False)
    serial = (day - pl.date(1899, 12, 30)).dt.total_days()
    parts = BEFORE.str.extract_all(r"[0-9]+").list.eval(pl.element().cast(pl.Int64, strict=False))
    first, second = parts.list.get(0, null_on_oob=True), parts.list.get(1, null_on_oob=True)
    month_day = (day.dt.day() == first) & (day.dt.month() == second) | (day.dt.month() == first) & (
        day.dt.day() == second
    )
    month_year = (day.dt.month() == first) & (day.dt.year() % 100 == second % 100)
    taken = (serial == was.floor()) | (serial - 1462 == was.floor()) | month_day | month_year
    yield _way("dates", "numbers taken for dates", "sure", day.is_not_null() & taken, WAS.is_not_null())
    clock = AFTER.str.extract(r"^(?:1899-12-3[01] )?([0-9]{1,2}:[0-9]{2})", 1)
    hour, minute = (clock.str.extract(r"^([0-9]+):([0-9]+)$", n).cast(pl.Int64, strict=False) for n in (1, 2))
    yield _way(
        "times",
        "numbers taken for times",
        "sure",
        (hour == first) & (minute == second) | (hour == first) & second.is_null(),
        WAS.is_not_null(),
    )
    zero = WAS.is_null() & (IS == 0)
    yield _way("zeros for blanks", "blanks filled with 0", "ask", zero, BEFORE.is_null())
    yield _way("blanks for zeros", "0 taken for nothing", "many", (WAS == 0) & AFTER.is_null(), WAS == 0)


def _way(
    name: str, words: str, proof: Proof, same: pl.Expr, could: pl.Expr, suspect: pl.Expr | None = None
) -> Spoilage:
    return Spoilage(name, words, proof, same.fill_null(False), could.fill_null(False), suspect=suspect)
