"""Datatypes of columns (CSVW section 5.11): kinds, formats and limits."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from dataclasses import replace
from datetime import date, datetime
from decimal import Decimal, InvalidOperation
from typing import Any

from mudanza.core.documents.marks import KeyPath
from mudanza.core.layouts.metadata import Metadata
from mudanza.core.layouts.types import Bounds, DateType, FieldType, NumberType, TextType, YesNoType
from mudanza.core.values.date_format import ISO_DATE, ISO_DATETIME, DateFormat
from mudanza.core.values.kinds import Kind
from mudanza.core.values.number_format import NumberFormat
from mudanza.core.values.yesno_format import YesNoFormat

_NUMBERS = {"decimal", "number", "double", "float"}
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
#: text-like datatypes and the lexical form XML Schema gives them, where there is one
_TEXTS: dict[str, str | None] = {
    "string": None, "any": None, "anyAtomicType": None, "normalizedString": None, "token": None, "xml": None,
    "html": None, "json": None, "anyURI": None,
    "language": r"[A-Za-z]{1,8}(-[A-Za-z0-9]{1,8})*", "Name": r"[A-Za-z_:][\w:.\-]*", "NMTOKEN": r"[\w:.\-]+",
    "time": r"([01]\d|2[0-3]):[0-5]\d:[0-5]\d(\.\d+)?(Z|[+-]\d\d:\d\d)?", "gYear": r"-?\d{4,}",
    "gYearMonth": r"-?\d{4,}-(0[1-9]|1[0-2])", "gMonth": r"--(0[1-9]|1[0-2])", "gDay": r"---([012]\d|3[01])",
    "gMonthDay": r"--(0[1-9]|1[0-2])-([012]\d|3[01])", "hexBinary": r"([0-9A-Fa-f]{2})*",
    "base64Binary": r"[A-Za-z0-9+/ ]*={0,2}", "binary": r"[A-Za-z0-9+/ ]*={0,2}",
    "duration": r"-?P(\d+Y)?(\d+M)?(\d+D)?(T(\d+H)?(\d+M)?(\d+(\.\d+)?S)?)?",
}  # fmt: skip
_DATES = {"date", "dateTime", "datetime", "dateTimeStamp"}
BASES = [*_NUMBERS, *_WHOLE, *_TEXTS, *_DATES, "boolean"]
_NUMBER_FORMAT = {"decimalChar", "groupChar", "pattern"}


def type_of(metadata: Metadata, datatype: Mapping[str, Any], base: str, at: KeyPath) -> FieldType:
    """The type of a column. Raises LayoutError at what is wrong in its datatype."""
    form = datatype.get("format")
    try:
        if base in _TEXTS:
            return _text_type(metadata, datatype, base, at)
        for key in ("length", "minLength", "maxLength"):
            if key in datatype:
                raise metadata.fail(
                    (*at, key), f"{key} goes with text, and this is a {base}.", "Use minimum and maximum."
                )
        if base == "boolean":
            if form is not None and not isinstance(form, str):
                raise ValueError("a yes/no format is a text such as 'Y|N'")
            return YesNoType(base, YesNoFormat.of(form) if form else YesNoFormat())
        if base in _DATES:
            kind = Kind.DATE if base == "date" else Kind.DATETIME
            default = ISO_DATE if kind is Kind.DATE else ISO_DATETIME
            if form is not None and not isinstance(form, str):
                raise ValueError("a date format is a text such as 'yyyy-MM-dd'")
            pattern = DateFormat.of(form) if form else default
            if not pattern.has_date or (kind is Kind.DATE and pattern.has_time):
                raise ValueError(f"{form!r} does not fit a {base}")
            return DateType(base, kind, pattern, _bounds(metadata, datatype, kind, at))
        number = _number_format(metadata, form, base, (*at, "format"))
        return NumberType(base, number, _within(_bounds(metadata, datatype, Kind.NUMBER, at), base))
    except ValueError as error:
        raise metadata.fail((*at, "format"), f"{error}.", "See docs/layouts.md for the patterns.") from error


def _within(bounds: Bounds, base: str) -> Bounds:
    """Bounds, and those that the datatype itself has (XML Schema, part 2)."""
    low, high = _RANGES.get(base, (None, None))
    least = [b for b in (bounds.minimum, None if low is None else Decimal(low)) if b is not None]
    most = [b for b in (bounds.maximum, None if high is None else Decimal(high)) if b is not None]
    return replace(bounds, minimum=max(least, default=None), maximum=min(most, default=None))


def _number_format(metadata: Metadata, form: Any, base: str, at: KeyPath) -> NumberFormat:
    whole, exponent = base in _WHOLE, base in ("double", "float", "number")
    if form is None:
        return NumberFormat.of(None, whole=whole, exponent=exponent)
    if isinstance(form, str):
        number = NumberFormat.of(form)
    else:
        parts = metadata.known(form, at, _NUMBER_FORMAT, "a number format")
        number = NumberFormat.of(
            metadata.typed(parts, "pattern", str, at),
            metadata.typed(parts, "decimalChar", str, at) or ".",
            metadata.typed(parts, "groupChar", str, at),
            whole=whole,
        )
    if whole and number.max_fraction:
        raise ValueError(f"a pattern with decimals does not fit {base}")
    return number


def _text_type(metadata: Metadata, datatype: Mapping[str, Any], base: str, at: KeyPath) -> TextType:
    for key in ("minimum", "maximum", "minInclusive", "maxInclusive", "minExclusive", "maxExclusive"):
        if key in datatype:
            raise metadata.fail(
                (*at, key), f"{key} goes with numbers and dates, and this is a {base}.", "Use maxLength."
            )
    length, least, most = (metadata.typed(datatype, k, int, at) for k in ("length", "minLength", "maxLength"))
    if least is not None and most is not None and least > most:
        raise metadata.fail((*at, "minLength"), f"minLength {least} is more than maxLength {most}.")
    if length is not None and ((least is not None and least > length) or (most is not None and most < length)):
        raise metadata.fail((*at, "length"), f"length {length} contradicts minLength or maxLength.")
    form = metadata.typed(datatype, "format", str, at)
    pattern = form if form is not None else _TEXTS[base]
    permitted = permitted_values(form) if form is not None else None
    if pattern is not None:
        import polars as pl

        try:
            pl.Series([""]).str.contains(f"^(?:{pattern})$")
        except pl.exceptions.PolarsError as error:
            reason = str(error).strip().splitlines()[-1]
            raise metadata.fail(
                (*at, "format"),
                f"the pattern {pattern!r} cannot be used: {reason}.",
                "Look-ahead, look-behind and back references are not supported.",
            ) from error
    for value in permitted or ():
        if (most is not None and len(value) > most) or (length is not None and len(value) != length):
            raise metadata.fail((*at, "format"), f"the permitted value {value!r} does not fit the length limits.")
    return TextType(base, pattern, permitted, length, least, most)


def permitted_values(form: str) -> tuple[str, ...] | None:
    """The values of a format that is nothing but a choice of words (`dog|cat`), or None."""
    body = re.sub(r"^\^?\(?(?:\?:)?(.*?)\)?\$?$", r"\1", form) if form.startswith(("(", "^")) else form
    pieces = re.split(r"(?<!\\)\|", body)
    if len(pieces) < 2 or any(re.search(r"(?<!\\)[.*+?\[\](){}^$]|\\[A-Za-z]", piece) for piece in pieces):
        return None
    return tuple(re.sub(r"\\(.)", r"\1", piece) for piece in pieces)


def _bounds(metadata: Metadata, datatype: Mapping[str, Any], kind: Kind, at: KeyPath) -> Bounds:
    found: dict[str, Decimal | date] = {}
    for keys, name in (
        (("minimum", "minInclusive"), "minimum"),
        (("maximum", "maxInclusive"), "maximum"),
        (("minExclusive",), "above"),
        (("maxExclusive",), "below"),
    ):
        given = [key for key in keys if key in datatype]
        if len(given) == 2:
            raise metadata.fail((*at, given[1]), f"{given[0]} and {given[1]} mean the same; give one of them.")
        for key in given:
            found[name] = _bound(metadata, datatype[key], kind, (*at, key))
    bounds = Bounds(**found)
    if bounds.low is not None and bounds.high is not None and bounds.low > bounds.high:
        raise metadata.fail(at, f"the lower bound {bounds.low} lies above the upper bound {bounds.high}.")
    return bounds


def _bound(metadata: Metadata, value: Any, kind: Kind, where: KeyPath) -> Decimal | date:
    try:
        if kind is Kind.NUMBER:
            if isinstance(value, bool):
                raise ValueError
            return Decimal(str(value))
        return date.fromisoformat(value) if kind is Kind.DATE else datetime.fromisoformat(value)
    except (ValueError, InvalidOperation, TypeError):
        raise metadata.fail(
            where, f"{json.dumps(value)} is no {kind}.", "Write numbers plainly and dates as 2024-01-31."
        ) from None
