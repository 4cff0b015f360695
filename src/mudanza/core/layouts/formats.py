"""Unicode patterns (UTS 35, as far as CSVW section 6.4 uses them) for dates, numbers and yes/no words."""

from __future__ import annotations

import re
from dataclasses import dataclass, replace

import polars as pl

from mudanza.core.kinds import DECIMAL, SCALE, Kind, trim_zeros

#: pattern letters → (strptime, strftime, strict expression, lenient expression)
_DATE_PARTS: dict[str, tuple[str, str, str, str]] = {
    "yyyy": ("%Y", "%Y", r"\d{4}", r"\d{4}"),
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
        for token in _TOKENS.finditer(text):
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
            parts = _DATE_PARTS[piece]
            parse, write, strict, lenient = (
                parse + parts[0],
                write + parts[1],
                strict + parts[2],
                lenient + parts[3],
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
    for letter, needs, words in (("H", "m", "hours without minutes"), ("h", "m", "hours without minutes"), ("s", "m", "seconds without minutes"),
                                 ("S", "s", "parts of a second without seconds"), ("h", "a", "hours to twelve without am or pm (a)"), ("a", "h", "am or pm without hours to twelve (h)")):  # fmt: skip
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


@dataclass(frozen=True)
class NumberFormat:
    """How numbers are written: signs, digits before and after the decimal sign, exponents or not."""

    decimal: str = "."
    group: str | None = None
    min_whole: int = 1
    min_fraction: int = 0
    max_fraction: int | None = None
    grouped: bool = False
    exponent: bool = False
    text: str = "a plain number"

    @classmethod
    def of(
        cls,
        pattern: str | None,
        decimal: str = ".",
        group: str | None = None,
        whole: bool = False,
        exponent: bool = False,
    ) -> NumberFormat:
        """Compile a UTS 35 number pattern such as `#,##0.00`. Raises ValueError if it is none."""
        if len(decimal) != 1 or (group is not None and len(group) != 1) or decimal == group:
            raise ValueError("decimalChar and groupChar must be one character each, and differ")
        if pattern is None:
            return cls(
                decimal,
                group,
                max_fraction=0 if whole else None,
                exponent=exponent,
                text=_shown(whole, decimal),
            )
        match = re.fullmatch(r"([#,]*[0,]+|#)(?:\.(0*)(#*))?", pattern)
        if not match:
            raise ValueError(f"{pattern!r} is no number pattern; write one such as '0.00' or '#,##0.##'")
        before, zeros, hashes = match.group(1), match.group(2) or "", match.group(3) or ""
        grouped = "," in before
        return cls(
            decimal,
            (group or ",") if grouped else group,
            min_whole=before.count("0"),
            min_fraction=len(zeros),
            max_fraction=len(zeros) + len(hashes),
            grouped=grouped,
            text=f"a number as {pattern}" + (f" with decimal sign {decimal!r}" if decimal != "." else ""),
        )

    @property
    def pattern(self) -> str:
        """The regular expression that a number in this format matches."""
        whole = r"\d+"
        if self.group:
            g = re.escape(self.group)
            whole = rf"(?:\d{{1,3}}(?:{g}\d{{3}})+|\d+)"
        most = SCALE if self.max_fraction is None else min(self.max_fraction, SCALE)
        fraction = ""
        if most:
            fraction = rf"{re.escape(self.decimal)}\d{{{max(self.min_fraction, 1)},{most}}}"
            if self.min_fraction == 0:
                fraction = f"(?:{fraction})?"
        power = r"(?:[eE][+-]?\d{1,2})?" if self.exponent else ""
        return rf"^[+-]?{whole}{fraction}{power}$"

    def read(self, text: pl.Expr) -> pl.Expr:
        """Text as an exact number; null where it is not one in this format."""
        plain: pl.Expr = pl.when(text.str.contains(self.pattern)).then(text)
        if self.group:
            plain = plain.str.replace_all(self.group, "", literal=True)
        if self.decimal != ".":
            plain = plain.str.replace(self.decimal, ".", literal=True)
        return plain.cast(DECIMAL, strict=False)

    def loses(self, value: pl.Expr) -> pl.Expr:
        """Whether writing the number would round it."""
        if self.max_fraction is None or self.max_fraction >= SCALE:
            return pl.lit(False)
        return value != value.round(self.max_fraction)

    def render(self, value: pl.Expr) -> pl.Expr:
        """A number as text."""
        most = SCALE if self.max_fraction is None else min(self.max_fraction, SCALE)
        text = value.cast(pl.Decimal(38, most)).cast(pl.String)
        if most > self.min_fraction:
            if self.min_fraction == 0:
                text = trim_zeros(text)
            else:
                text = text.str.replace(rf"0{{1,{most - self.min_fraction}}}$", "")
        if self.min_whole > 1:
            text = text.str.replace(r"^(-?)(\d+)", "${1}" + "0" * (self.min_whole - 1) + "${2}")
            text = text.str.replace(rf"^(-?)0*(\d{{{self.min_whole},}})", "${1}${2}")
        if self.decimal != ".":
            text = text.str.replace(".", self.decimal, literal=True)
        if self.grouped and self.group:
            for _ in range(8):
                text = text.str.replace(r"^(-?\d+)(\d{3})", rf"${{1}}{self.group}${{2}}")
        return text


def _shown(whole: bool, decimal: str) -> str:
    if whole:
        return "a whole number"
    return "a number" + (f" with decimal sign {decimal!r}" if decimal != "." else "")


@dataclass(frozen=True)
class YesNoFormat:
    """The two words for yes and no; without a format the four that XML Schema knows."""

    yes: tuple[str, ...] = ("true", "1")
    no: tuple[str, ...] = ("false", "0")

    @classmethod
    def of(cls, text: str) -> YesNoFormat:
        """Compile a CSVW boolean format, `Y|N`. Raises ValueError if it is none."""
        words = text.split("|")
        if len(words) != 2 or not all(words) or words[0] == words[1]:
            raise ValueError(f"{text!r} is no yes/no format; write the two words as 'Y|N'")
        return cls((words[0],), (words[1],))

    @property
    def text(self) -> str:
        return " or ".join((*self.yes, *self.no))

    def read(self, text: pl.Expr) -> pl.Expr:
        """Text as yes or no; null where it is neither word."""
        return pl.when(text.is_in(self.yes)).then(pl.lit(True)).when(text.is_in(self.no)).then(pl.lit(False))

    def render(self, value: pl.Expr) -> pl.Expr:
        """Yes or no as the first of its words."""
        return pl.when(value).then(pl.lit(self.yes[0])).when(~value).then(pl.lit(self.no[0]))
