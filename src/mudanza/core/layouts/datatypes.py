"""Datatypes of columns: kinds, formats and limits (CSV on the Web, "Metadata Vocabulary", section 5.11; "Model for Tabular Data", sections 4.6 and 6.4)."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Mapping
from contextlib import suppress
from dataclasses import replace
from datetime import date, datetime, timedelta
from decimal import ROUND_CEILING, ROUND_FLOOR, Decimal, localcontext
from typing import Any, TypeVar

import polars as pl

from mudanza.core.documents.marks import KeyPath
from mudanza.core.layouts.metadata import Metadata
from mudanza.core.layouts.types import Bound, Bounds, DateType, FieldType, FormType, NumberType, TextType, YesNoType
from mudanza.core.layouts.types.form import FORM_BASES
from mudanza.core.layouts.types.number import BINARY
from mudanza.core.values import schema_forms
from mudanza.core.values.date_format import ISO_DATE, ISO_DATETIME, DateFormat
from mudanza.core.values.kinds import SCALE, Kind
from mudanza.core.values.number_format import NumberFormat
from mudanza.core.values.regular import translated
from mudanza.core.values.schema_forms import BYTES
from mudanza.core.values.yesno_format import YesNoFormat

_WHOLE = {
    "integer", "long", "int", "short", "byte", "nonNegativeInteger", "positiveInteger", "nonPositiveInteger",
    "negativeInteger", "unsignedLong", "unsignedInt", "unsignedShort", "unsignedByte",
}  # fmt: skip
_RANGES: dict[str, tuple[int | None, int | None]] = {
    "long": (-(2**63), 2**63 - 1),
    "int": (-(2**31), 2**31 - 1),
    "short": (-(2**15), 2**15 - 1),
    "byte": (-128, 127),
    "nonNegativeInteger": (0, None),
    "positiveInteger": (1, None),
    "nonPositiveInteger": (None, 0),
    "negativeInteger": (None, -1),
    "unsignedLong": (0, 2**64 - 1),
    "unsignedInt": (0, 2**32 - 1),
    "unsignedShort": (0, 2**16 - 1),
    "unsignedByte": (0, 255),
}
_NUMBERS = {*BINARY, "decimal", *_WHOLE}
#: the largest number that can be held, beside which no bound is asked
LARGEST = Decimal(10) ** (38 - SCALE) - 1
#: datatypes whose values have lengths ("Model for Tabular Data", section 4.6.1): string with what derives from it, and bytes
_STRINGS = ("string", "normalizedString", "token", "language", "Name", "NMTOKEN", "xml", "html", "json")
_OTHER_TEXTS = ("any", "anyAtomicType", "anyURI", "QName")
_DATES = ("date", "dateTime", "datetime", "dateTimeStamp")
BASES = [*BINARY, "decimal", *_WHOLE, *_STRINGS, *_OTHER_TEXTS, *BYTES, *_DATES, *FORM_BASES, "boolean"]
_NUMBER_FORMAT = {"decimalChar", "groupChar", "pattern"}
_LENGTHS = ("length", "minLength", "maxLength")
_LEAST = {"minimum": True, "minInclusive": True, "minExclusive": False}
_MOST = {"maximum": True, "maxInclusive": True, "maxExclusive": False}

T = TypeVar("T")


def type_of(metadata: Metadata, datatype: Mapping[str, Any], base: str, at: KeyPath) -> FieldType:
    """The type of a column. Raises LayoutError at what is wrong in its datatype."""
    if base not in (*_STRINGS, *BYTES):
        for key in _LENGTHS:
            if key in datatype:
                raise metadata.fail(
                    (*at, key), f"{key} goes with text, and this is a {base}.", "Use minimum and maximum, or string."
                )
    form = datatype.get("format")
    if form is not None and not isinstance(form, (str, dict) if base in _NUMBERS else str):
        metadata.typed(datatype, "format", str, at)
    try:
        if base in FORM_BASES:
            return _form_type(metadata, datatype, base, at)
        if base == "boolean":
            _no_bounds(metadata, datatype, base, at)
            return YesNoType(base, YesNoFormat.of(form) if form is not None else YesNoFormat())
        if base in _DATES:
            return _date_type(metadata, datatype, base, at)
        if base in _NUMBERS:
            number = _number_format(metadata, form, base, (*at, "format"))
            return NumberType(base, number, _number_bounds(metadata, datatype, base, at))
        return _text_type(metadata, datatype, base, at)
    except ValueError as error:
        raise metadata.fail((*at, "format"), f"{error}.", "See docs/layouts.md for the patterns.") from error


# numbers


def _number_format(metadata: Metadata, form: Any, base: str, at: KeyPath) -> NumberFormat:
    """How numbers are written ("Model for Tabular Data", section 6.4.2)."""
    whole = base in _WHOLE
    if form is None:
        # as XML Schema writes them
        plain = NumberFormat.of(whole=whole)
        return replace(plain, exponent=base in BINARY, bare=not whole)
    parts = {"pattern": form} if isinstance(form, str) else metadata.known(form, at, _NUMBER_FORMAT, "a number format")
    pattern, decimal, group = (metadata.typed(parts, key, str, at) for key in ("pattern", "decimalChar", "groupChar"))
    decimal = "." if decimal is None else decimal
    if pattern is None:
        plain = NumberFormat.of(decimal, group, whole=whole)
        groups = replace(plain.groups, sizes=()) if plain.groups is not None else None
        shares = replace(plain.affixes, free=not whole)
        return replace(plain, exponent=base in BINARY, groups=groups, affixes=shares)
    number = NumberFormat.by(pattern, decimal, group)
    if whole and (number.max_fraction or number.affixes.zeros or number.affixes.exponent):
        raise ValueError(f"a pattern with decimals does not fit {base}")
    if base == "decimal" and number.affixes.exponent:
        raise ValueError("a decimal has no exponent; a double has")
    return number


def _number_bounds(metadata: Metadata, datatype: Mapping[str, Any], base: str, at: KeyPath) -> Bounds[Decimal]:
    """Bounds, and those that the datatype itself has (XML Schema, part 2)."""

    def number(value: Any, key: str) -> Decimal | None:
        said = value if isinstance(value, str) else str(value)
        if base in BINARY and said in ("INF", "-INF"):
            # all numbers lie between these
            return None if (said == "INF") == (key in _MOST) else Decimal("1E+999") * (1 if said == "INF" else -1)
        exponent = "(?:[eE][+-]?[0-9]{1,6})?" if base in BINARY or not isinstance(value, str) else ""
        if isinstance(value, bool) or not re.fullmatch(rf"[+-]?(?:[0-9]+(?:\.[0-9]*)?|\.[0-9]+){exponent}", said):
            raise ValueError
        return Decimal(said)

    bounds = _bounds(metadata, datatype, at, number, "a number", "Write numbers plainly, as -12.5.")
    low, high = _RANGES.get(base, (None, None))
    least, most = bounds.least, bounds.most
    if low is not None and (least is None or least.value < low):
        least = Bound(Decimal(low), str(low))
    if high is not None and (most is None or most.value > high):
        most = Bound(Decimal(high), str(high))
    if least is not None and most is not None and least.value > most.value:
        raise metadata.fail(at, f"the bounds leave no {base}.", f"A {base} lies {_range_words(low, high)}.")
    return Bounds(_holdable(least, up=True), _holdable(most, up=False))


def _range_words(low: int | None, high: int | None) -> str:
    return " and ".join(
        [*([f"from {low} on"] if low is not None else []), *([f"up to {high}"] if high is not None else [])]
    )


def _holdable(bound: Bound[Decimal] | None, *, up: bool) -> Bound[Decimal] | None:
    """The same bound among the numbers that can be held: to so many decimal places, and of so many digits."""
    if bound is None:
        return None
    value, step = bound.value, Decimal(1).scaleb(-SCALE)
    if abs(value) > LARGEST:
        return Bound(LARGEST.copy_sign(value), bound.said, allowed=(value > 0) != up)
    with localcontext(prec=60):
        held = value.quantize(step, ROUND_CEILING if up == bound.allowed else ROUND_FLOOR)
    return Bound(held, bound.said, bound.allowed)


# dates, times and durations


def _date_type(metadata: Metadata, datatype: Mapping[str, Any], base: str, at: KeyPath) -> DateType:
    kind = Kind.DATE if base == "date" else Kind.DATETIME
    form = datatype.get("format")
    own = _STAMP if base == "dateTimeStamp" else ISO_DATE if kind is Kind.DATE else ISO_DATETIME
    pattern = own if form is None else DateFormat.of(form)
    if not pattern.has_date or (kind is Kind.DATE and pattern.has_time):
        raise ValueError(f"{form!r} does not fit a {base}")
    if base == "dateTimeStamp" and pattern.zone is None:
        raise ValueError(f"a dateTimeStamp has a zone, and {form!r} has none; put XXX behind it")

    def moment(value: Any, key: str) -> date | None:  # noqa: ARG001
        if kind is Kind.DATE and isinstance(value, str) and _PLAIN_DATE.fullmatch(value):
            # nearly all are written so, and to ask for all other ways takes a tenth of a second
            with suppress(ValueError):
                return date.fromisoformat(value)
        found = _asked(schema_forms.moment, value, "dateTime" if base == "datetime" else base)
        # what no program dates is as good as the last day, or the first, that is dated
        held = min(max(found, _FIRST), _LAST)
        when = datetime(1970, 1, 1) + timedelta(microseconds=held)
        return when if kind is Kind.DATETIME else when.date()

    bounds = _bounds(metadata, datatype, at, moment, f"a {kind}", f"Write it as {_EXAMPLES[kind]}.")
    return DateType(base, kind, pattern, form is None, bounds)


_PLAIN_DATE = re.compile("[0-9]{4}-[0-9]{2}-[0-9]{2}")
_STAMP = DateFormat.of("yyyy-MM-dd'T'HH:mm:ssXXX")
_EXAMPLES = {Kind.DATE: "2024-01-31", Kind.DATETIME: "2024-01-31T12:00:00"}
_FIRST, _LAST = -62_135_596_800_000_000, 253_402_300_799_000_000


def _form_type(metadata: Metadata, datatype: Mapping[str, Any], base: str, at: KeyPath) -> FormType:
    """Times by a date pattern, all else by a regular expression ("Model for Tabular Data", sections 6.4.4 to 6.4.6)."""
    form = datatype.get("format")
    pattern = DateFormat.of(form) if form is not None and base == "time" else None
    if pattern is not None and (pattern.has_date or not pattern.has_time or re.search("[yMd]", form or "")):
        raise ValueError(f"{form!r} does not fit a time")

    def bound(value: Any, key: str) -> str | None:  # noqa: ARG001
        if base in schema_forms.DURATIONS:
            fits = isinstance(value, str) and pl.select(schema_forms.fits(pl.lit(value), base)).item()
            if not fits:
                raise ValueError
            return str(value)
        _asked(schema_forms.moment, value, base)
        return str(value)

    def compared(one: str) -> int:
        measured = (
            schema_forms.lengths(pl.lit(one))[0]
            if base in schema_forms.DURATIONS
            else schema_forms.moment(pl.lit(one), base)
        )
        return int(pl.select(measured).item())

    bounds = _bounds(metadata, datatype, at, bound, f"a {base}", "Write it as XML Schema does.", compared)
    if form is not None and base != "time":
        _usable(metadata, form, at)
    return FormType(base, pattern, None if base == "time" else form, bounds)


def _asked(measure: Callable[[pl.Expr, str], pl.Expr], value: Any, base: str) -> int:
    found = pl.select(measure(pl.lit(value), base)).item() if isinstance(value, str) else None
    if found is None:
        raise ValueError
    return int(found)


# texts


def _text_type(metadata: Metadata, datatype: Mapping[str, Any], base: str, at: KeyPath) -> TextType:
    _no_bounds(metadata, datatype, base, at)
    length, least, most = (metadata.typed(datatype, k, int, at) for k in _LENGTHS)
    if least is not None and most is not None and least > most:
        raise metadata.fail((*at, "minLength"), f"minLength {least} is more than maxLength {most}.")
    if length is not None and ((least is not None and least > length) or (most is not None and most < length)):
        raise metadata.fail((*at, "length"), f"length {length} contradicts minLength or maxLength.")
    form = metadata.typed(datatype, "format", str, at)
    permitted = permitted_values(form) if form is not None else None
    for value in permitted or ():
        if base in BYTES or base in schema_forms.FORMS:
            break
        if (most is not None and len(value) > most) or (length is not None and len(value) != length):
            raise metadata.fail((*at, "format"), f"the permitted value {value!r} does not fit the length limits.")
    if form is not None:
        _usable(metadata, form, at)
    return TextType(base, form, permitted, length, least, most)


def _usable(metadata: Metadata, form: str, at: KeyPath) -> None:
    try:
        translated(form)
    except ValueError as error:
        raise metadata.fail(
            (*at, "format"),
            f"the pattern {form[:60]!r} cannot be used: {error}.",
            "Look-ahead, look-behind and back references are not supported.",
        ) from error


def _no_bounds(metadata: Metadata, datatype: Mapping[str, Any], base: str, at: KeyPath) -> None:
    for key in (*_LEAST, *_MOST):
        if key in datatype:
            raise metadata.fail(
                (*at, key), f"{key} goes with numbers and dates, and this is a {base}.", "Use maxLength."
            )


def permitted_values(form: str) -> tuple[str, ...] | None:
    """The values of a format that is nothing but a choice of words (`dog|cat`), or None."""
    body = re.sub(r"^\^?\(?(?:\?:)?(.*?)\)?\$?$", r"\1", form) if form.startswith(("(", "^")) else form
    pieces = re.split(r"(?<!\\)\|", body)
    if len(pieces) < 2 or any(re.search(r"(?<!\\)[.*+?\[\](){}^$]|\\[A-Za-z]", piece) for piece in pieces):
        return None
    return tuple(re.sub(r"\\(.)", r"\1", piece) for piece in pieces)


def _bounds(
    metadata: Metadata,
    datatype: Mapping[str, Any],
    at: KeyPath,
    read: Callable[[Any, str], T | None],
    noun: str,
    hint: str,
    compared: Callable[[T], Any] = lambda one: one,
) -> Bounds[T]:
    """The bounds of a datatype ("Model for Tabular Data", section 4.6.2), each `read` from its key and `compared` as such."""

    def side(keys: Mapping[str, bool]) -> Bound[T] | None:
        given = [key for key in keys if key in datatype]
        if len(given) > 1:
            raise metadata.fail((*at, given[1]), f"{given[0]} and {given[1]} both bound it; give one of them.")
        for key in given:
            said = datatype[key]
            try:
                value = read(said, key)
            except (ValueError, ArithmeticError):
                raise metadata.fail(
                    (*at, key), f"{json.dumps(said)[:60]} is no value for {key} of {noun}.", hint
                ) from None
            return None if value is None else Bound(value, str(said)[:60], keys[key])
        return None

    least, most = side(_LEAST), side(_MOST)
    if least is not None and most is not None:
        low, high = compared(least.value), compared(most.value)
        if low > high or (low == high and least.allowed != most.allowed):
            raise metadata.fail(
                at, f"the lower bound {least.said} lies above the upper bound {most.said}; nothing is left."
            )
    return Bounds(least, most)
