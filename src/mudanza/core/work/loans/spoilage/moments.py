"""Dates and moments that came back as others: day and month exchanged, in another calendar, century or zone, without their time."""

from __future__ import annotations

from collections.abc import Iterator

import polars as pl

from mudanza.core.layouts.layout import Field
from mudanza.core.values.date_format import DateFormat
from mudanza.core.values.kinds import Kind
from mudanza.core.values.months import in_english
from mudanza.core.values.written import DATES, DATES_TOO, NAMED_DATES
from mudanza.core.work.loans.spoilage.reading import Reading
from mudanza.core.work.loans.spoilage.spoilage import AFTER, BEFORE, IS, WAS, Proof, Spoilage

_MOMENT = pl.Datetime("us")
#: between the calendars of 1900 and 1904
_CALENDARS = 1462
_TIME = (
    r"(?:[ T,]+[0-9]{1,2}:[0-9]{2}(?::[0-9]{2})?(?:\.[0-9]+)? *(?:[AaPp]\.?[Mm]\.?)? *(?:Z|[+-][0-9]{2}:?[0-9]{2})?)$"
)
_PIVOT = 50


def readings_of_moments(field: Field) -> list[Reading]:
    """The ways in which dates are written in the languages of spreadsheet programs."""
    text = AFTER.str.strip_chars()
    day = text.str.replace(_TIME, "").str.replace(r"^\p{L}+, ", "")
    clock = _clock(text)
    found = []
    for pattern in (*DATES, *DATES_TOO, "yyyy-M-d", "d-M-yy"):
        value = DateFormat.of(pattern).read(day, lenient=True, pivot=_PIVOT)
        found.append(Reading(f"written as {pattern}", _of_kind(field, value, clock)))
    named = in_english(day)
    for pattern in (*NAMED_DATES, "d-MMM-yy", "d MMM yy", "dd. MMM yy"):
        words = f"written as {pattern}"
        value = DateFormat.of(pattern.replace("MMMM", "MMM")).read(
            named.str.to_titlecase().str.replace_all(" De ", " de ", literal=True), lenient=True, pivot=_PIVOT
        )
        found.append(Reading(words, _of_kind(field, value, clock)))
    serial = (
        pl.when(text.str.contains(r"^-?[0-9]{1,6}(?:[.,][0-9]+)?$"))
        .then(text.str.replace(",", "."))
        .cast(pl.Float64, strict=False)
    )
    for start, words in (
        (pl.date(1899, 12, 30), "as numbers of days since 1900"),
        (pl.date(1904, 1, 1), "as numbers of days since 1904"),
    ):
        moment = start.cast(_MOMENT) + pl.duration(seconds=(serial * 86400).round(0).cast(pl.Int64))
        found.append(Reading(f"written {words}", moment.cast(pl.Date) if field.kind is Kind.DATE else moment))
    return found


def _clock(text: pl.Expr) -> pl.Expr:
    pattern = (
        r"[ T]([0-9]{1,2}):([0-9]{2})(?::([0-9]{2}))?(?:\.[0-9]+)? *([AaPp])?\.?[Mm]?\.?(?:Z|[+-][0-9]{2}:?[0-9]{2})?$"
    )
    hour, minute, second = (text.str.extract(pattern, n).cast(pl.Int64, strict=False).fill_null(0) for n in (1, 2, 3))
    half = text.str.extract(pattern, 4).str.to_lowercase()
    hour = pl.when(half == "p").then(hour % 12 + 12).when(half == "a").then(hour % 12).otherwise(hour)
    return pl.duration(seconds=hour * 3600 + minute * 60 + second)


def _of_kind(field: Field, day: pl.Expr, clock: pl.Expr) -> pl.Expr:
    return day if field.kind is Kind.DATE else day.cast(_MOMENT) + clock


def of_moments(field: Field) -> Iterator[Spoilage]:
    """The ways in which the values of a date field are spoilt."""
    was, came = WAS.cast(_MOMENT), IS.cast(_MOMENT)
    there = was.is_not_null()
    swappable = (was.dt.day() <= 12) & (was.dt.day() != was.dt.month())
    swapped = (was.dt.day() == came.dt.month()) & (was.dt.month() == came.dt.day()) & (was.dt.year() == came.dt.year())
    yield _way(
        "day and month", "day and month exchanged", "mark", swapped & swappable, swappable, (came.dt.day() <= 12)
    )
    days = (came - was).dt.total_days()
    whole = (came - was).dt.total_microseconds() % 86_400_000_000 == 0
    yield _way(
        "calendar",
        "four years and a day apart, as the calendars of 1900 and 1904 are",
        "sure",
        whole & (days.abs() == _CALENDARS),
        there,
        came.is_not_null(),
    )
    same_day = (was.dt.month() == came.dt.month()) & (was.dt.day() == came.dt.day())
    years = came.dt.year() - was.dt.year()
    yield _way("century", "the century", "mark", same_day & (years.abs() == 100), there, came.is_not_null())
    yield _way(
        "year",
        "the year lost",
        "mark",
        same_day & (years != 0) & (came.dt.year() == _most(came.dt.year(), same_day & (years != 0))),
        there,
        came.is_not_null(),
    )
    month = (was.dt.year() == came.dt.year()) & (was.dt.month() == came.dt.month()) & (came.dt.day() == 1)
    later = was.dt.day() != 1
    yield _way("day", "the day of the month lost", "mark", month & later, later, came.dt.day() == 1)
    if field.kind is Kind.DATETIME:
        timed = was.dt.time() != pl.time(0)
        yield _way(
            "time",
            "times of day lost",
            "mark",
            (came == was.dt.truncate("1d")) & timed,
            timed,
            came.dt.time() == pl.time(0),
        )
        seconds = was.dt.truncate("1m") != was
        yield _way("seconds", "seconds lost", "mark", (came == was.dt.truncate("1m")) & seconds, seconds)
        parts = was.dt.truncate("1s") != was
        yield _way(
            "parts of seconds",
            "parts of seconds lost",
            "sure",
            ((came - was).dt.total_microseconds().abs() < 1_000_000) & parts,
            parts,
        )
        half = (came - was).dt.total_hours().abs() == 12
        yield _way(
            "half of the day",
            "morning and afternoon exchanged",
            "mark",
            half & whole_minutes(came - was),
            was.dt.hour() >= 12,
            came.dt.hour() < 12,
        )
    shift = (came - was).dt.total_minutes()
    constant = (shift == _most(shift, there & came.is_not_null() & (shift != 0))) & (shift % 15 == 0)
    near = shift.abs() <= 26 * 60
    # one hour more or less where summer begins
    hour = (shift - _most(shift, there & came.is_not_null() & (shift != 0))).abs() == 60
    yield _way(
        "zone",
        "moved by hours, as by another time zone",
        "many",
        (constant | hour & near) & near & (shift != 0),
        there,
        came.is_not_null(),
    )
    sevens = WAS.is_null() & (came.dt.year().is_in([1899, 1900, 1904, 1970]))
    yield _way("first days", "blanks filled with the first day of a calendar", "sure", sevens, BEFORE.is_null())
    lost = there & AFTER.str.contains(r"^[#]+$")
    yield _way("too narrow", "signs instead of dates, for which the column was too narrow", "sure", lost, there)


def whole_minutes(apart: pl.Expr) -> pl.Expr:
    """Whether moments are apart by whole minutes."""
    return apart.dt.total_microseconds() % 60_000_000 == 0


def _most(of: pl.Expr, where: pl.Expr) -> pl.Expr:
    """What most have, of some rows."""
    return of.filter(where.fill_null(False)).mode().min()


def _way(
    name: str, words: str, proof: Proof, same: pl.Expr, could: pl.Expr, suspect: pl.Expr | None = None
) -> Spoilage:
    return Spoilage(name, words, proof, same.fill_null(False), could.fill_null(False), suspect=suspect)
