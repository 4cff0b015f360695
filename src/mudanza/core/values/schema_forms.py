"""How XML Schema writes values, and what they amount to: dates, times, durations, parts of a calendar, bytes, numbers.

Source: W3C XML Schema Definition Language 1.1, part 2 (Datatypes), section 3.3 and appendices D and E; CSV on the Web takes these forms
wherever a datatype has no format of its own ("Model for Tabular Data", section 6.4).

Moments are whole microseconds from 1970-01-01T00:00:00 on, those without a zone as if they were in UTC; a form that is none is null.
"""

from __future__ import annotations

import polars as pl

_MICRO = 1_000_000
_DAY = 86_400 * _MICRO
_ZONE = r"(?:Z|[+-](?:(?:0[0-9]|1[0-3]):[0-5][0-9]|14:00))"
_YEAR = r"-?(?:[1-9][0-9]{3,}|0[0-9]{3})"
_MONTH, _MONTH_DAY = "(?:0[1-9]|1[0-2])", "(?:0[1-9]|[12][0-9]|3[01])"
_CLOCK = r"(?:(?:[01][0-9]|2[0-3]):[0-5][0-9]:[0-5][0-9](?:\.[0-9]+)?|24:00:00(?:\.0+)?)"
_DAYS_AND_TIME = r"(?:[0-9]+D)?(?:T(?:[0-9]+H)?(?:[0-9]+M)?(?:[0-9]+(?:\.[0-9]+)?S)?)?"
_NAME_START = (
    r":A-Z_a-z\u00C0-\u00D6\u00D8-\u00F6\u00F8-\u02FF\u0370-\u037D\u037F-\u1FFF\u200C\u200D\u2070-\u218F\u2C00-\u2FEF\u3001-\uD7FF"
    r"\uF900-\uFDCF\uFDF0-\uFFFD\U00010000-\U000EFFFF"
)
_NAME = _NAME_START + r"\-.0-9\u00B7\u0300-\u036F\u203F-\u2040"
_B, _C04, _C16 = "[A-Za-z0-9+/]", "[AQgw]", "[AEIMQUYcgkosw048]"
_BASE64 = rf"(?:(?:{_B} ?){{4}})*(?:(?:{_B} ?){{3}}{_B}|(?:{_B} ?){{2}}{_C16} ?=|{_B} ?{_C04} ?= ?=)?"

#: the form of a datatype's values, as far as a regular expression can tell
FORMS: dict[str, str] = {
    "date": f"{_YEAR}-{_MONTH}-{_MONTH_DAY}{_ZONE}?",
    "dateTime": f"{_YEAR}-{_MONTH}-{_MONTH_DAY}T{_CLOCK}{_ZONE}?",
    "dateTimeStamp": f"{_YEAR}-{_MONTH}-{_MONTH_DAY}T{_CLOCK}{_ZONE}",
    "time": f"{_CLOCK}{_ZONE}?",
    "gYear": f"{_YEAR}{_ZONE}?",
    "gYearMonth": f"{_YEAR}-{_MONTH}{_ZONE}?",
    "gMonth": f"--{_MONTH}{_ZONE}?",
    "gMonthDay": f"--(?:(?:0[13578]|1[02])-{_MONTH_DAY}|(?:0[469]|11)-(?:0[1-9]|[12][0-9]|30)|02-(?:0[1-9]|[12][0-9])){_ZONE}?",
    "gDay": f"---{_MONTH_DAY}{_ZONE}?",
    # at least one part, and one behind a T: what the expressions leave open is asked below
    "duration": f"-?P(?:[0-9]+Y)?(?:[0-9]+M)?{_DAYS_AND_TIME}",
    "dayTimeDuration": f"-?P{_DAYS_AND_TIME}",
    "yearMonthDuration": "-?P(?:[0-9]+Y)?(?:[0-9]+M)?",
    "language": "[A-Za-z]{1,8}(?:-[A-Za-z0-9]{1,8})*",
    "Name": f"[{_NAME_START}][{_NAME}]*",
    "NMTOKEN": f"[{_NAME}]+",
    "hexBinary": "(?:[0-9A-Fa-f]{2})*",
    "base64Binary": _BASE64,
    "binary": _BASE64,
    "QName": f"[{_NAME_START.removeprefix(':')}][{_NAME.removeprefix(':')}]*(?::[{_NAME_START.removeprefix(':')}][{_NAME.removeprefix(':')}]*)?",
}
_DATED = ("date", "dateTime", "dateTimeStamp")
#: those that lie on a line: the moment, or the length, that they begin with can be told
MOMENTS = (*_DATED, "time", "gYear", "gYearMonth", "gMonth", "gMonthDay", "gDay")
DURATIONS = ("duration", "dayTimeDuration", "yearMonthDuration")
BYTES = ("hexBinary", "base64Binary", "binary")


def fits(text: pl.Expr, base: str) -> pl.Expr:
    """Whether a text is a value of the datatype."""
    found = text.str.contains(f"^(?:{FORMS[base]})$")
    if base in _DATED:
        year, month, day = (_number(text, at, base) for at in (1, 2, 3))
        found &= day <= _month_days(year, month)
    if base in DURATIONS:
        found &= text.str.contains("[0-9]") & ~text.str.ends_with("T")
    return found


def _number(text: pl.Expr, group: int, base: str) -> pl.Expr:
    """A part of the date in a text, years of more than nine digits as the last or first that can be held."""
    part = text.str.extract(_PARTS[base], group)
    if group == 1:
        part = pl.when(part.str.len_bytes() > 9).then(part.str.extract("^(-?)", 1) + pl.lit("200000")).otherwise(part)
    return part.cast(pl.Int64, strict=False)


#: year, month and day of a form; a part that it has not is an empty group
_PARTS = {
    **dict.fromkeys(_DATED, f"^({_YEAR})-([0-9]{{2}})-([0-9]{{2}})"),
    "gYear": f"^({_YEAR})()()",
    "gYearMonth": f"^({_YEAR})-([0-9]{{2}})()",
    "gMonth": "^--()([0-9]{2})()",
    "gMonthDay": "^--()([0-9]{2})-([0-9]{2})",
    "gDay": "^---()()([0-9]{2})",
}


def _month_days(year: pl.Expr, month: pl.Expr) -> pl.Expr:
    leap = (year % 4 == 0) & ((year % 100 != 0) | (year % 400 == 0))
    days = pl.when(leap).then(29).otherwise(28)
    return pl.when(month == 2).then(days).when(month.is_in([4, 6, 9, 11])).then(30).otherwise(31)


def _days(year: pl.Expr, month: pl.Expr, day: pl.Expr) -> pl.Expr:
    """Days from 1970-01-01 on, in the calendar as it would always have been."""
    shifted = pl.when(month > 2).then(year).otherwise(year - 1)
    era = shifted.floordiv(400)
    of_era = shifted - era * 400
    of_year = (153 * ((month + 9) % 12) + 2).floordiv(5) + day - 1
    return era * 146_097 + of_era * 365 + of_era.floordiv(4) - of_era.floordiv(100) + of_year - 719_468


def zone_minutes(text: pl.Expr) -> pl.Expr:
    """How many minutes before UTC the zone at the end of a text is; null where there is none."""
    sign, hours, minutes = (text.str.extract(r"[0-9A-Z ]([+-])([0-9]{2}):?([0-9]{2})?$", at) for at in (1, 2, 3))
    total = hours.cast(pl.Int64, strict=False) * 60 + minutes.cast(pl.Int64, strict=False).fill_null(0)
    return pl.when(text.str.ends_with("Z")).then(0).otherwise(pl.when(sign == "-").then(-total).otherwise(total))


def _zone(text: pl.Expr) -> pl.Expr:
    zone = text.str.extract(f"({_ZONE})$", 1)
    return zone_minutes(pl.lit("0") + zone)


def _clock(text: pl.Expr) -> pl.Expr:
    hours, minutes, seconds = (
        text.str.extract(r"([0-9]{2}):([0-9]{2}):([0-9]{2})", at).cast(pl.Int64, strict=False) for at in (1, 2, 3)
    )
    fraction = text.str.extract(r"\.([0-9]{1,6})", 1).str.pad_end(6, "0").cast(pl.Int64, strict=False).fill_null(0)
    return ((hours * 60 + minutes) * 60 + seconds) * _MICRO + fraction


def moment(text: pl.Expr, base: str) -> pl.Expr:
    """The moment that a value of MOMENTS stands for, or begins with; parts that it does not have are those of 1972."""
    fitting = pl.when(fits(text, base)).then(text)
    zone = _zone(fitting).fill_null(0) * 60 * _MICRO
    if base == "time":
        return _clock(fitting) % _DAY - zone
    year = _number(fitting, 1, base).fill_null(1972)
    month, day = (_number(fitting, at, base).fill_null(1) for at in (2, 3))
    days = pl.when(fitting.is_not_null()).then(_days(year.clip(-200_000, 200_000), month, day))
    clock = _clock(fitting) if base in ("dateTime", "dateTimeStamp") else pl.lit(0)
    return days * _DAY + clock - zone


def length_parts(text: pl.Expr) -> tuple[pl.Expr, pl.Expr]:
    """A duration as months and microseconds."""
    fitting = pl.when(fits(text, "duration")).then(text)
    # a day's hours are no months
    date_part = fitting.str.extract("^([^T]*)", 1)

    def count(of: pl.Expr, letter: str) -> pl.Expr:
        digits = of.str.extract(f"([0-9]+){letter}", 1).str.strip_chars_start("0").str.head(9)
        return digits.cast(pl.Int64, strict=False).fill_null(0)

    time_part = fitting.str.extract("(T.*)$", 1)
    months = count(date_part, "Y") * 12 + count(date_part, "M")
    seconds = (
        (count(date_part, "D") * 24 + count(time_part, "H")) * 60 + count(time_part, "M")
    ) * 60 + time_part.str.extract(r"([0-9]+)(?:\.[0-9]+)?S", 1).str.head(9).cast(pl.Int64, strict=False).fill_null(0)
    fraction = time_part.str.extract(r"\.([0-9]{1,6})", 1).str.pad_end(6, "0").cast(pl.Int64, strict=False).fill_null(0)
    sign = pl.when(fitting.str.starts_with("-")).then(-1).when(fitting.is_not_null()).then(1)
    return months * sign, (seconds * _MICRO + fraction) * sign


#: the four months from which durations are compared (appendix E.3.3 of XML Schema 1.0, part 2; section 3.3.6.2 of 1.1)
_FROM = ((1696, 9), (1697, 2), (1903, 3), (1903, 7))


def lengths(text: pl.Expr) -> list[pl.Expr]:
    """A duration as microseconds from each of four months on: of two, one is longer only if it is so from all of them."""
    months, micro = length_parts(text)
    found = []
    for year, month in _FROM:
        after = (months + (month - 1)).clip(-2_000_000, 2_000_000)
        days = _days(pl.lit(year) + after.floordiv(12), after % 12 + 1, pl.lit(1))
        start = pl.select(_days(pl.lit(year), pl.lit(month), pl.lit(1))).item()
        found.append((days - start) * _DAY + micro)
    return found


def byte_count(text: pl.Expr, base: str) -> pl.Expr:
    """How many bytes a text of BYTES stands for."""
    plain = text.str.replace_all(" ", "", literal=True)
    if base == "hexBinary":
        return plain.str.len_bytes() // 2
    return plain.str.len_bytes() // 4 * 3 - plain.str.count_matches("=", literal=True)


def same(text: pl.Expr, base: str) -> pl.Expr:
    """A text that is the same for all ways to write one value of the datatype; the text itself where it is none.

    What lies beyond a microsecond is kept as it is written, and so is whether there is a zone.
    """
    if base in MOMENTS:
        beyond = text.str.extract(r"\.[0-9]{6}([0-9]*[1-9])", 1).fill_null("")
        zoned = pl.when(text.str.contains(f"{_ZONE}$")).then(pl.lit("Z")).otherwise(pl.lit(""))
        return pl.coalesce(moment(text, base).cast(pl.String) + beyond + zoned, text)
    if base in DURATIONS:
        months, micro = length_parts(text)
        return pl.coalesce(pl.format("{} {}", months, micro), text)
    if base == "hexBinary":
        return text.str.to_uppercase()
    return text.str.replace_all(" ", "", literal=True) if base in BYTES else text
