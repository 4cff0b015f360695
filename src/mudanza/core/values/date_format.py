"""Unicode patterns for dates and times (UTS 35, as far as CSV on the Web, "Model for Tabular Data", section 6.4.4, uses them), compiled both ways."""

from __future__ import annotations

import re
from dataclasses import dataclass

import polars as pl

from mudanza.core.values.kinds import Kind
from mudanza.core.values.schema_forms import zone_minutes

#: four digits, from the year 1 on
_YEAR = r"(?:[0-9]{3}[1-9]|[0-9]{2}[1-9][0-9]|[0-9][1-9][0-9]{2}|[1-9][0-9]{3})"
_TWO, _ONE_OR_TWO, _SIXTY = "[0-9]{2}", "[0-9]{1,2}", "[0-5][0-9]"
#: pattern letters → (strptime, strftime, strict expression, lenient expression)
_DATE_PARTS: dict[str, tuple[str, str, str, str]] = {
    "yyyy": ("%Y", "%Y", _YEAR, _YEAR),
    "yy": ("%y", "%y", _TWO, _TWO),
    "MMMM": ("%B", "%B", r"[A-Za-z]+", r"[A-Za-z]+"),
    "MMM": ("%b", "%b", r"[A-Za-z]{3}", r"[A-Za-z]{3}"),
    "MM": ("%m", "%m", _TWO, _ONE_OR_TWO),
    "M": ("%m", "%-m", _ONE_OR_TWO, _ONE_OR_TWO),
    "dd": ("%d", "%d", _TWO, _ONE_OR_TWO),
    "d": ("%d", "%-d", _ONE_OR_TWO, _ONE_OR_TWO),
    "HH": ("%H", "%H", _TWO, _ONE_OR_TWO),
    "H": ("%H", "%-H", _ONE_OR_TWO, _ONE_OR_TWO),
    "hh": ("%I", "%I", _TWO, _ONE_OR_TWO),
    "h": ("%I", "%-I", _ONE_OR_TWO, _ONE_OR_TWO),
    "mm": ("%M", "%M", _SIXTY, _SIXTY),
    "ss": ("%S", "%S", _SIXTY, _SIXTY),
    "SSS": ("%3f", "%3f", "[0-9]{3}", "[0-9]{3}"),
    "a": ("%p", "%p", r"[APap][Mm]", r"[APap][Mm]"),
}
_TIME_LETTERS = set("HhmsSa")
#: the distance to UTC behind all else → (its expression, how midnight at Greenwich is written)
_ZONES = {
    "X": (r"(?:Z|[+-][0-9]{2}(?:[0-9]{2})?)", "Z"),
    "XX": (r"(?:Z|[+-][0-9]{4})", "Z"),
    "XXX": (r"(?:Z|[+-][0-9]{2}:[0-9]{2})", "Z"),
    "x": (r"[+-][0-9]{2}(?:[0-9]{2})?", "+00"),
    "xx": (r"[+-][0-9]{4}", "+0000"),
    "xxx": (r"[+-][0-9]{2}:[0-9]{2}", "+00:00"),
}
#: stands for the parts of a second
_MARK = "\x1f"
_NO_DAY = "1970-01-01 "
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
        body, zone = _zone_of(text)
        body, digits = _fraction_of(body)
        pieces = [token.group() for token in _TOKENS.finditer(body)]
        for token, before, after in zip(_TOKENS.finditer(body), ["", *pieces], [*pieces[1:], ""], strict=False):
            piece = token.group()
            literal = token.group(1) if token.group(1) is not None else token.group(3)
            if piece == _MARK:
                parse, write = parse + "%.f", write + _MARK
                strict, lenient = (one + rf"(?:\.[0-9]{{1,{digits}}})?" for one in (strict, lenient))
                continue
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
        if digits:
            letters.append("S")
        _times_fit(text, {piece[0] for piece in letters})
        has_date = {"y", "M", "d"} <= {piece[0] for piece in letters}
        has_time = bool({piece[0] for piece in letters} & _TIME_LETTERS)
        if len({p[0] for p in letters}) != len(letters):
            raise ValueError(f"the pattern {text!r} has the same part twice")
        if zone and not letters:
            raise ValueError(f"the pattern {text!r} has a distance to UTC and nothing else")
        return cls(
            text,
            parse,
            write,
            f"^(?:{strict}{_zone_expression(zone)})$",
            f"^(?:{lenient}{_zone_expression(zone, lenient=True)})$",
            has_date,
            has_time,
            zone,
        )

    @property
    def short_year(self) -> bool:
        """Whether years have two digits."""
        return "%y" in self.parse

    @property
    def kind(self) -> Kind:
        return Kind.DATETIME if self.has_time else Kind.DATE

    def read(self, text: pl.Expr, *, lenient: bool = False, pivot: int | None = None) -> pl.Expr:
        """Text as a date or date-time (in UTC, where it has a zone); null where it is not one in this pattern.

        Years of two digits below `pivot` are of the years from 2000, the others from 1900.
        """
        fits = text.str.contains(self.lenient if lenient else self.strict)
        local = text if self.zone is None else text.str.replace(" ?(?:[zZ]|[+-][0-9:]{2,6})$", "")
        if not self.has_date and self.has_time:
            value = (pl.lit(_NO_DAY) + local).str.to_datetime(
                "%Y-%m-%d " + self.parse, strict=False, time_unit="us", cache=False
            )
        elif self.has_time:
            value = local.str.to_datetime(self.parse, strict=False, time_unit="us", cache=False)
        else:
            value = local.str.to_date(self.parse, strict=False, cache=False)
        if self.zone is not None and self.has_time:
            value = value - pl.duration(minutes=zone_minutes(text.str.to_uppercase()))
        # to read some that do not fit costs less than to take those out that do
        value = pl.when(fits).then(value)
        return value if pivot is None or not self.short_year else _by_pivot(value, pivot)

    def moment(self, text: pl.Expr) -> pl.Expr:
        """The moment of a text that `read` reads, as microseconds from 1970-01-01T00:00:00 in UTC on; of a date its first."""
        moment = self.read(text).cast(pl.Datetime("us")).dt.timestamp("us")
        if self.zone is None or self.has_time:
            return moment
        return moment - zone_minutes(text) * 60_000_000

    def render(self, value: pl.Expr) -> pl.Expr:
        """A date or date-time as text; where it has a zone, that of Greenwich."""
        if self.write == "%Y-%m-%d" and self.zone is None:
            return value.dt.date().cast(pl.String) if self.has_time else value.cast(pl.String)
        before, mark, after = self.write.partition(_MARK)
        text = value.dt.strftime(before) if before else pl.lit("")
        if mark:
            digits = _fraction_of(_zone_of(self.text)[0])[1]
            text = text + value.dt.strftime("%.9f").str.head(digits + 1)
        if after:
            text = text + value.dt.strftime(after)
        if self.zone is None:
            return text
        return text + (" " if f" {self.zone}" in self.text else "") + _ZONES[self.zone][1]


def _zone_of(text: str) -> tuple[str, str | None]:
    """A pattern without the distance to UTC at its end, and that."""
    found = re.fullmatch("(.*?) ?(X{1,3}|x{1,3})", text)
    return (found[1], found[2]) if found else (text, None)


def _zone_expression(zone: str | None, *, lenient: bool = False) -> str:
    if zone is None:
        return ""
    return f" ?{_ZONES[zone][0].replace('Z', '[zZ]')}" if lenient else f" ?{_ZONES[zone][0]}"


def _fraction_of(text: str) -> tuple[str, int]:
    """A pattern with a mark for the parts of a second behind a point, and of how many digits they are at most."""
    found = re.search(r"ss\.(S+)", text)
    if found is None:
        return text, 0
    if len(found[1]) > 9:
        raise ValueError(f"{found[1]!r} asks for more than nine digits")
    return text[: found.start() + 2] + _MARK + text[found.end() :], len(found[1])


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
