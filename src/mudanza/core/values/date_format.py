"""Unicode patterns for dates and times (UTS 35, as far as CSVW section 6.4.4 uses them), compiled both ways."""

from __future__ import annotations

import re
from dataclasses import dataclass, replace

import polars as pl

from mudanza.core.values.kinds import Kind

#: four digits, from the year 1 on
_YEAR = r"(?:\d{3}[1-9]|\d{2}[1-9]\d|\d[1-9]\d{2}|[1-9]\d{3})"
#: pattern letters → (strptime, strftime, strict expression, lenient expression)
_DATE_PARTS: dict[str, tuple[str, str, str, str]] = {
    "yyyy": ("%Y", "%Y", _YEAR, _YEAR),
    "yy": ("%y", "%y", r"\d{2}", r"\d{2}"),
    "MMMM": ("%B", "%B", r"[A-Za-z]+", r"[A-Za-z]+"),
    "MMM": ("%b", "%b", r"[A-Za-z]{3}", r"[A-Za-z]{3}"),
    "MM": ("%m", "%m", r"\d{2}", r"\d{1,2}"),
    "M": ("%m", "%-m", r"\d{1,2}", r"\d{1,2}"),
    "dd": ("%d", "%d", r"\d{2}", r"\d{1,2}"),
    "d": ("%d", "%-d", r"\d{1,2}", r"\d{1,2}"),
    "HH": ("%H", "%H", r"\d{2}", r"\d{1,2}"),
    "H": ("%H", "%-H", r"\d{1,2}", r"\d{1,2}"),
    "hh": ("%I", "%I", r"\d{2}", r"\d{1,2}"),
    "h": ("%I", "%-I", r"\d{1,2}", r"\d{1,2}"),
    "mm": ("%M", "%M", r"\d{2}", r"\d{2}"),
    "ss": ("%S", "%S", r"\d{2}", r"\d{2}"),
    "SSS": ("%3f", "%3f", r"\d{3}", r"\d{3}"),
    "a": ("%p", "%p", r"[APap][Mm]", r"[APap][Mm]"),
}
_TIME_LETTERS = set("HhmsSa")
_TOKENS = re.compile(r"'([^']*)'|([A-Za-z])\2*|([^A-Za-z'])")


@dataclass(frozen=True)
class DateFormat:
    """A date or date-time pattern, compiled both ways. `text` is the pattern as written."""

    text: str
    parse: str
    write: str
    strict: str
    lenient: str
    has_date: bool
    has_time: bool
    zone: str | None = None

    @classmethod
    def of(cls, text: str) -> DateFormat:
        """Compile a pattern. Raises ValueError with the letters that cannot be used."""
        parse = write = strict = lenient = ""
        letters: list[str] = []
        pieces = [token.group() for token in _TOKENS.finditer(text)]
        for token, before, after in zip(_TOKENS.finditer(text), ["", *pieces], [*pieces[1:], ""], strict=False):
            piece = token.group()
            literal = token.group(1) if token.group(1) is not None else token.group(3)
            if literal is not None or piece == "T":
                literal = piece if literal is None else literal
                escaped = literal.replace("%", "%%")
                parse, write = parse + escaped, write + escaped
                strict, lenient = strict + re.escape(literal), lenient + re.escape(literal)
                continue
            if piece not in _DATE_PARTS:
                near = {"DD": "dd", "YYYY": "yyyy", "D": "d", "YY": "yy", "mmm": "MMM"}.get(piece)
                raise ValueError(
                    f"{piece!r} is no part of a date pattern" + (f"; did you mean {near!r}?" if near else "")
                )
            letters.append(piece)
            read, written, exact, loose = _DATE_PARTS[piece]
            # between digits nothing but its own length says where a part ends
            alone = before not in _DATE_PARTS and after not in _DATE_PARTS
            parse, write, strict, lenient = (
                parse + read,
                write + written,
                strict + exact,
                lenient + (loose if alone else exact),
            )
        _times_fit(text, {piece[0] for piece in letters})
        has_date = {"y", "M", "d"} <= {piece[0] for piece in letters}
        has_time = bool({piece[0] for piece in letters} & _TIME_LETTERS)
        if len({p[0] for p in letters}) != len(letters):
            raise ValueError(f"the pattern {text!r} has the same part twice")
        return cls(text, parse, write, f"^(?:{strict})$", f"^(?:{lenient})$", has_date, has_time)

    @property
    def short_year(self) -> bool:
        """Whether years have two digits."""
        return "%y" in self.parse

    def with_zone(self, text: str, zone: str) -> DateFormat:
        """The pattern with the distance to UTC behind it, which `zone` matches."""
        return replace(self, text=text, lenient=self.lenient.removesuffix(")$") + f" ?{zone})$", zone=zone)

    @property
    def kind(self) -> Kind:
        return Kind.DATETIME if self.has_time else Kind.DATE

    def read(self, text: pl.Expr, *, lenient: bool = False, pivot: int | None = None) -> pl.Expr:
        """Text as a date or date-time (in UTC, where it has a zone); null where it is not one in this pattern.

        Years of two digits below `pivot` are of the years from 2000, the others from 1900.
        """
        fitting = pl.when(text.str.contains(self.lenient if lenient else self.strict)).then(text)
        if self.zone is not None:
            plain = fitting.str.replace(r" ?[zZ]$", "+00:00").str.replace(r" ?([+-]\d{2}:\d{2})$", "${1}")
            aware = plain.str.to_datetime(self.parse + "%:z", strict=False, time_unit="us", cache=False)
            value = aware.dt.replace_time_zone(None)
        elif self.has_time:
            value = fitting.str.to_datetime(self.parse, strict=False, time_unit="us", cache=False)
        else:
            value = fitting.str.to_date(self.parse, strict=False, cache=False)
        return value if pivot is None or not self.short_year else _by_pivot(value, pivot)

    def render(self, value: pl.Expr) -> pl.Expr:
        """A date or date-time as text."""
        if self.write == "%Y-%m-%d":
            return value.dt.date().cast(pl.String) if self.has_time else value.cast(pl.String)
        return value.dt.strftime(self.write)


def _times_fit(text: str, letters: set[str]) -> None:
    """Raise ValueError where the parts of a time do not make one."""
    for letter, needs, words in (
        ("H", "m", "hours without minutes"),
        ("h", "m", "hours without minutes"),
        ("s", "m", "seconds without minutes"),
        ("S", "s", "parts of a second without seconds"),
        ("h", "a", "hours to twelve without am or pm (a)"),
        ("a", "h", "am or pm without hours to twelve (h)"),
    ):
        if letter in letters and needs not in letters:
            raise ValueError(f"the pattern {text!r} has {words}")
    if "m" in letters and not letters & {"H", "h"}:
        raise ValueError(f"the pattern {text!r} has minutes without hours; the month is MM")


def _by_pivot(value: pl.Expr, pivot: int) -> pl.Expr:
    """Years as they were read (00 to 68 after 2000) put into the century that the pivot says."""
    short = value.dt.year() % 100
    century = pl.when(short < pivot).then(2000).otherwise(1900)
    # 1900 had no 29 February
    never = (short == 0) & (century == 1900) & (value.dt.month() == 2) & (value.dt.day() == 29)
    return pl.when(~never).then(value).dt.replace(year=century + short)


ISO_DATE = DateFormat.of("yyyy-MM-dd")
ISO_DATETIME = DateFormat.of("yyyy-MM-dd'T'HH:mm:ss")
