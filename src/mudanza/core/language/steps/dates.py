"""Steps on dates and times."""

from __future__ import annotations

from datetime import date, datetime
from decimal import Decimal

import polars as pl

from mudanza.core.language.steps.declaring import Call, Parameter, step
from mudanza.core.language.value import Value, combined
from mudanza.core.values.date_format import DateFormat
from mudanza.core.values.kinds import DECIMAL, DTYPES, Kind, plain_text
from mudanza.core.values.months import LANGUAGES, in_english
from mudanza.core.values.number_format import NumberFormat

_TEXT, _NUMBER, _DATE, _TIME = Kind.TEXT, Kind.NUMBER, Kind.DATE, Kind.DATETIME
_DATES = (_DATE, _TIME)
#: 9999-12-31 as a spreadsheet counts days
_LAST_SERIAL = 2_958_465


def _forms(call: Call, patterns: tuple[str, ...], pivot: int | None) -> list[DateFormat]:
    forms = []
    for text in patterns:
        try:
            form = DateFormat.of(text)
        except ValueError as error:
            raise call.fail(
                f"{error}.", "dd is the day, MM the month, yyyy the year, HH the hour, mm the minute."
            ) from None
        if not form.has_date:
            raise call.fail(f"the pattern {text!r} lacks a day, month or year.", 'A whole date is "dd/MM/yyyy".')
        if form.short_year and pivot is None:
            raise call.fail(
                f"the pattern {text!r} has years of two digits, whose century is open.",
                "Add pivot=30, for 00 to 29 in this century and 30 to 99 in the last.",
            )
        if form.zone is not None and not form.has_time:
            raise call.fail(f"the pattern {text!r} has a time zone and no time.", "Write HH:mm before XXX.")
        forms.append(form)
    return forms


@step(
    "date",
    _TEXT,
    None,
    Parameter("pattern", "text", many=True),
    Parameter("pivot", "number", None, option=True),
    Parameter("language", "text", "en", option=True, choices=LANGUAGES),
    Parameter("any-order", "yes/no", False, option=True),
    says="read as a date {0}",
    examples=[
        ('{A} -> date "dd/MM/yyyy"', ("5/3/2021",), "2021-03-05"),
        ('{A} -> date "yyyy-MM-dd" "dd.MM.yyyy"', ("05.03.2021",), "2021-03-05"),
        ('{A} -> date "dd/MM/yyyy HH:mm"', ("05/03/2021 14:30",), "2021-03-05T14:30:00"),
        ('{A} -> date "dd/MM/yyyy HH:mm" "dd/MM/yyyy"', ("05/03/2021",), "2021-03-05T00:00:00"),
        ('{A} -> date "dd/MM/yy" pivot=30', ("05/03/31",), "1931-03-05"),
        ("{A} -> date \"d 'de' MMMM 'de' yyyy\" language=\"pt\"", ("5 de março de 2021",), "2021-03-05"),
        ("{A} -> date \"yyyy-MM-dd'T'HH:mm:ssXXX\"", ("2021-03-05T14:30:00+01:00",), "2021-03-05T13:30:00"),
        ('{A} -> date "dd/MM/yyyy" "MM/dd/yyyy"', ("25/12/2021",), "2021-12-25"),
    ],
)
def read_date(value: Value, call: Call, *pattern: str, pivot: int | None, language: str, **options: bool) -> Value:
    """Reads a text as a date, or with hours in the pattern as a date-time. Patterns are those of Unicode (UTS 35): d day, M month
    (MMM by name), y year, H hour, m minute, s second, XXX the distance to UTC, to which the time is then moved. Several patterns are tried in order; a
    text that two of them read as different dates is a finding, unless any-order=yes takes the first. Where some have a time and some have none, a date alone is
    its midnight. Years of two digits need a pivot:
    those below it are of this century."""
    if pivot is not None and not 0 <= pivot <= 100:
        raise call.fail("pivot is a year of two digits, 0 to 100.", "pivot=30 reads 29 as 2029 and 30 as 1930.")
    forms = _forms(call, pattern, pivot)
    kind = _TIME if any(form.has_time for form in forms) else _DATE
    by_name = any("MMM" in text for text in pattern)

    def readings(text: pl.Expr) -> list[pl.Expr]:
        plain = in_english(text, language) if by_name and language != "en" else text
        return [form.read(plain, lenient=True, pivot=pivot).cast(DTYPES[kind]) for form in forms]

    rule = "a date as " + " or ".join(pattern)
    result = call.attempt(value, lambda text: pl.coalesce(readings(text)), kind, "flow.not-a-date", rule)
    if len(forms) == 1 or options["any-order"] or not _can_differ(forms):
        return result
    text = value.expr.str.strip_chars()
    differs = pl.any_horizontal([(one != result.expr).fill_null(False) for one in readings(text)])
    checked = call.stages.hold(result, differs)
    return call.note(result.at(checked.level), checked.expr, "flow.date-order", rule, text)


def _can_differ(forms: list[DateFormat]) -> bool:
    """Whether one text could be read by two patterns: tried with texts that each of them writes."""
    days = pl.Series([datetime(2011, 2, 3, 4, 5, 6)]).to_frame("d")
    written = [days.select(form.render(pl.col("d")) if form.zone is None else pl.lit("")).item() for form in forms]
    tried = pl.DataFrame({"t": written}).select(
        form.read(pl.col("t"), lenient=True, pivot=50).is_not_null().sum().alias(str(i)) for i, form in enumerate(forms)
    )
    return sum(tried.row(0)) > len(forms) or any(form.zone is not None for form in forms)


@step(
    "serial",
    (_TEXT, _NUMBER),
    None,
    Parameter("base", "number", 1900, option=True),
    Parameter("time", "yes/no", False, option=True),
    says="read as a day number of spreadsheets",
    examples=[
        ("{A} -> serial", ("45000",), "2023-03-15"),
        ("{A} -> serial base=1904", ("43538",), "2023-03-15"),
        ("{A} -> serial time=yes", ("45000.75",), "2023-03-15T18:00:00"),
    ],
)
def serial(value: Value, call: Call, base: int, time: bool) -> Value:
    """Reads the number by which spreadsheets count days (from 1900, or base=1904) as a date; with time=yes its fraction is the time of day,
    to the second."""
    if base not in (1900, 1904):
        raise call.fail("base is 1900 or 1904.", "Most spreadsheets count from 1900.")
    form = NumberFormat.of()

    def read(plain: pl.Expr) -> pl.Expr:
        number = form.read(plain) if value.kind is _TEXT else plain
        days = number.cast(pl.Float64).floor()
        least = 1 if base == 1900 else 0
        # the 60th day of that calendar, 29 February 1900, never was
        fits = (days >= least) & (days <= _LAST_SERIAL) & ((days != 60) | (base != 1900))
        if not time:
            fits &= number == number.round(0)
        whole = pl.when(fits).then(days).cast(pl.Int64)
        shift = whole if base == 1904 else pl.when(whole < 60).then(whole + 1).otherwise(whole)
        first = date(1904, 1, 1) if base == 1904 else date(1899, 12, 30)
        day = pl.lit(first) + pl.duration(days=shift)
        if not time:
            return day.cast(pl.Date)
        seconds = ((number - number.cast(pl.Int64).cast(DECIMAL)) * pl.lit(Decimal(86400)).cast(DECIMAL)).round(0)
        return day.cast(pl.Datetime("us")) + pl.duration(seconds=pl.when(fits).then(seconds).cast(pl.Int64))

    return call.attempt(value, read, _TIME if time else _DATE, "flow.not-a-date", f"days counted from {base}")


@step(
    "zone",
    _TIME,
    _TIME,
    Parameter("from", "text"),
    Parameter("to", "text"),
    says="moved from the time of {0} to that of {1}",
    examples=[
        ('{A} -> date "yyyy-MM-dd HH:mm" -> zone "Europe/Lisbon" "UTC"', ("2024-07-01 10:00",), "2024-07-01T09:00:00")
    ],
)
def zone(value: Value, call: Call, *names: str) -> Value:
    """Moves a date-time from one time zone to another, by the names of the time zone database. A time that the clocks
    skipped or showed twice is a finding."""
    for name in names:
        try:
            pl.select(pl.lit(datetime(2024, 1, 1)).dt.replace_time_zone(name))
        except (pl.exceptions.PolarsError, OSError):
            raise call.fail(
                f"there is no time zone {name!r}.", 'They are written as "Europe/Lisbon", or "UTC".'
            ) from None
    old, new = names

    def move(moment: pl.Expr) -> pl.Expr:
        there = moment.dt.replace_time_zone(old, ambiguous="null", non_existent="null")
        return there.dt.convert_time_zone(new).dt.replace_time_zone(None)

    return call.attempt(value, move, _TIME, "flow.no-such-time", f"a time that {old} had once")


_SPANS = {"day": "1d", "week": "1w", "month": "1mo", "quarter": "1q", "year": "1y"}


@step(
    "start-of",
    _DATES,
    _DATE,
    Parameter("span", "text", choices=tuple(_SPANS)),
    says="the first day of its {0}",
    examples=[('{A} -> date "dd/MM/yyyy" -> start-of "month"', ("17/02/2024",), "2024-02-01")],
)
def start_of(value: Value, call: Call, span: str) -> Value:  # noqa: ARG001
    """The first day of the week (Monday), month, quarter or year of a date."""
    return value.map(value.expr.cast(pl.Date).dt.truncate(_SPANS[span]), _DATE)


@step(
    "end-of",
    _DATES,
    _DATE,
    Parameter("span", "text", choices=tuple(_SPANS)),
    says="the last day of its {0}",
    examples=[('{A} -> date "dd/MM/yyyy" -> end-of "month"', ("17/02/2024",), "2024-02-29")],
)
def end_of(value: Value, call: Call, span: str) -> Value:  # noqa: ARG001
    """The last day of the week (Sunday), month, quarter or year of a date."""
    start = value.expr.cast(pl.Date).dt.truncate(_SPANS[span])
    return value.map(start.dt.offset_by(_SPANS[span]).dt.offset_by("-1d"), _DATE)


@step(
    "shift",
    _DATES,
    None,
    Parameter("days", "number", 0, option=True),
    Parameter("months", "number", 0, option=True),
    Parameter("years", "number", 0, option=True),
    says="shifted in time",
    examples=[
        ('{A} -> date "dd/MM/yyyy" -> shift days=30', ("17/02/2024",), "2024-03-18"),
        ('{A} -> date "dd/MM/yyyy" -> shift months=-1 years=1', ("31/03/2023",), "2024-02-29"),
    ],
)
def shift(value: Value, call: Call, days: int, months: int, years: int) -> Value:
    """A date so many years, months and then days later, or earlier. A day that the month does not have becomes its last."""
    if max(abs(days) / 365, abs(months) / 12, abs(years)) > 5000:
        raise call.fail("that is further than any date goes.", "It may be up to 5000 years.")
    return value.map(value.expr.dt.offset_by(f"{years * 12 + months}mo").dt.offset_by(f"{days}d"))


@step(
    "day",
    _TIME,
    _DATE,
    says="its day",
    examples=[('{A} -> date "dd/MM/yyyy HH:mm" -> day', ("05/03/2021 14:30",), "2021-03-05")],
)
def day(value: Value, call: Call) -> Value:  # noqa: ARG001
    """The date of a date-time, without its time."""
    return value.map(value.expr.dt.date(), _DATE)


def _whole_months(first: pl.Expr, second: pl.Expr) -> pl.Expr:
    earlier, later = pl.min_horizontal(first, second), pl.max_horizontal(first, second)
    months = (
        (later.dt.year() - earlier.dt.year()) * 12 + later.dt.month().cast(pl.Int32) - earlier.dt.month().cast(pl.Int32)
    )
    months = months - (later.dt.day() < earlier.dt.day()).cast(pl.Int32)
    return pl.when(first <= second).then(months).when(first > second).then(-months)


@step(
    "period",
    _DATES,
    _NUMBER,
    Parameter("unit", "text", choices=("days", "weeks", "months", "years")),
    several=True,
    says="the {0} between",
    examples=[
        ('({A} -> date "yyyy-MM-dd"), ({B} -> date "yyyy-MM-dd") -> period "days"', ("2024-02-28", "2024-03-01"), "2"),
        (
            '({A} -> date "yyyy-MM-dd"), ({B} -> date "yyyy-MM-dd") -> period "months"',
            ("2024-01-31", "2024-03-30"),
            "1",
        ),
    ],
)
def period(values: list[Value], call: Call, unit: str) -> Value:
    """How many whole days, weeks, months or years lie from the first date to the second; negative if the second is earlier."""
    if len(values) != 2:
        raise call.fail(f"period takes two dates, and {len(values)} came in.", "Write first, second -> period.")
    held = [
        call.stages.hold(v if v.kind in _DATES else v.map(pl.lit(None, dtype=DTYPES[_DATE]), _DATE)) for v in values
    ]
    first, second = (v.expr.cast(pl.Date) for v in held)
    distance = (second - first).dt.total_days()
    months = _whole_months(first, second)
    count = {
        "days": distance,
        "weeks": _towards_zero(distance, 7),
        "months": months,
        "years": _towards_zero(months, 12),
    }[unit]
    return combined(held, count.cast(DECIMAL), _NUMBER)


def _towards_zero(count: pl.Expr, by: int) -> pl.Expr:
    return (count.abs() // by) * count.sign()


@step(
    "age",
    _DATES,
    _NUMBER,
    says="the age in years",
    examples=[
        ('{A} -> date "dd/MM/yyyy" -> age', ("01/04/2000",), "25"),
        ('{A} -> date "dd/MM/yyyy" -> age', ("31/03/2000",), "26"),
    ],
)
def age(value: Value, call: Call) -> Value:
    """How many years have passed since a date on the day of the run (--as-of)."""
    held = call.stages.hold(value, value.expr.cast(pl.Date))
    years = _towards_zero(_whole_months(held.expr, pl.lit(call.around.as_of)), 12)
    return held.map(years.cast(DECIMAL), _NUMBER)


@step(
    "write",
    (_NUMBER, _DATE, _TIME),
    _TEXT,
    Parameter("pattern", "text"),
    says="written as {0}",
    examples=[
        ('{A} -> date "dd/MM/yyyy" -> write "yyyy"', ("05/03/2021",), "2021"),
        ('{A} -> number -> write "0.00"', ("7.5",), "7.50"),
    ],
)
def write(value: Value, call: Call, pattern: str) -> Value:
    """Writes a date, date-time or number as text by a Unicode pattern, for when a text field is to hold it."""
    try:
        if value.kind is not _NUMBER:
            return value.map(DateFormat.of(pattern).render(value.expr), _TEXT)
        form = NumberFormat.by(pattern)
    except ValueError as error:
        raise call.fail(f"{error}.", 'Dates are written by "dd/MM/yyyy", numbers by "0.00".') from None
    before = call.stages.hold(value)
    result = before.map(form.render(before.expr), _TEXT)
    return call.note(result, form.loses(before.expr), "flow.too-exact", form.text, plain_text(before.expr, _NUMBER))
