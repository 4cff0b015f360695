"""Reading a layout: CSV on the Web metadata (W3C, "Metadata Vocabulary for Tabular Data"), strictly.

Whatever the standard does not know, or Mudanza would not obey, is an error with its place.
"""

from __future__ import annotations

import codecs
import json
import re
from collections.abc import Mapping
from decimal import Decimal, InvalidOperation
from pathlib import Path
from typing import Any

from mudanza.core.errors import LayoutError, Place, nearest
from mudanza.core.kinds import Kind
from mudanza.core.layouts import places
from mudanza.core.layouts.formats import ISO_DATE, ISO_DATETIME, DateFormat, NumberFormat, YesNoFormat
from mudanza.core.layouts.model import Dialect, Field, Layout, Reference

CONTEXT = "http://www.w3.org/ns/csvw"
KEY_IGNORES_CASE = "urn:mudanza:keyIgnoresCase"

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
_BASES = [*_NUMBERS, *_WHOLE, *_TEXTS, *_DATES, "boolean"]

_INHERITED = {
    "aboutUrl", "datatype", "default", "lang", "null", "ordered", "propertyUrl", "required", "separator",
    "textDirection", "valueUrl",
}  # fmt: skip
_TABLE = {
    "@context", "@id", "@type", "url", "dialect", "notes", "suppressOutput", "tableDirection", "tableSchema",
    "transformations",
} | _INHERITED  # fmt: skip
_SCHEMA = {"@id", "@type", "columns", "foreignKeys", "primaryKey", "rowTitles"} | _INHERITED
_COLUMN = {"@id", "@type", "name", "suppressOutput", "titles", "virtual"} | _INHERITED
_DATATYPE = {
    "@id", "@type", "base", "format", "length", "minLength", "maxLength", "minimum", "maximum", "minInclusive",
    "maxInclusive", "minExclusive", "maxExclusive",
}  # fmt: skip
_NUMBER_FORMAT = {"decimalChar", "groupChar", "pattern"}
_DIALECT = {
    "@id", "@type", "commentPrefix", "delimiter", "doubleQuote", "encoding", "header", "headerRowCount",
    "lineTerminators", "quoteChar", "skipBlankRows", "skipColumns", "skipInitialSpace", "skipRows", "trim",
}  # fmt: skip
_REFERENCE = {"columnReference", "reference"}
_REFERENCED = {"resource", "schemaReference", "columnReference"}
LEFT_OUT_OF_ADDITIONS = "urn:mudanza:leftOutOfAdditions"
_OWN = {KEY_IGNORES_CASE, LEFT_OUT_OF_ADDITIONS}


class _Document:
    """A metadata document under reading; knows where its keys stand."""

    def __init__(self, path: Path, text: str) -> None:
        self.path = path
        self.lines = places.lines_of(text)

    def fail(self, where: places.Path, what: str, hint: str | None = None) -> LayoutError:
        line = next((self.lines[where[:n]] for n in range(len(where), -1, -1) if where[:n] in self.lines), None)
        place = Place(file=str(self.path), line=line, key=places.shown(where))
        return LayoutError(what, place=place, hint=hint)

    def known(self, node: Any, where: places.Path, allowed: set[str], what: str) -> Mapping[str, Any]:
        """The node as an object whose every key is allowed."""
        if not isinstance(node, dict):
            raise self.fail(where, f"{what} must be an object in braces, not {_named(node)}.")
        for key in node:
            if key in allowed or (":" in key and not key.startswith("urn:mudanza:")) or key in _OWN:
                continue
            near = nearest(key, [*sorted(allowed), *sorted(_OWN)])
            raise self.fail(
                (*where, key),
                f"{key!r} is no property of {what}.",
                f"Did you mean {near!r}?" if near else f"It takes: {', '.join(sorted(allowed))}.",
            )
        return node

    def typed(self, node: Mapping[str, Any], key: str, kind: type, where: places.Path) -> Any:
        """The value of a key if it is of that type, or None if it is absent."""
        value = node.get(key)
        wrong = not isinstance(value, kind) or (kind is int and isinstance(value, bool))
        if value is not None and wrong:
            raise self.fail((*where, key), f"{key} must be {_TYPE_NAMES[kind]}, not {_named(value)}.")
        if kind is int and value is not None and value < 0:
            raise self.fail((*where, key), f"{key} must not be negative.")
        return value

    def texts(self, value: Any, where: places.Path) -> tuple[str, ...]:
        """A text or a list of texts, as a tuple."""
        items = value if isinstance(value, list) else [value]
        for index, item in enumerate(items):
            if not isinstance(item, str):
                raise self.fail((*where, index), f"a text is needed here, not {_named(item)}.")
        return tuple(items)


_TYPE_NAMES = {str: "a text", bool: "true or false", int: "a whole number", dict: "an object", list: "a list"}


def _named(value: Any) -> str:
    return "null" if value is None else _TYPE_NAMES.get(type(value), "a number") + f" ({json.dumps(value)[:40]})"


def read_layout(path: Path) -> Layout:
    """Read a layout file. Raises LayoutError with the line and key of what is wrong."""
    try:
        text = path.read_text(encoding="utf-8-sig")
    except FileNotFoundError:
        beside = sorted(p.stem for p in path.parent.glob("*.json")) if path.parent.is_dir() else []
        near = nearest(path.stem, beside)
        raise LayoutError(
            "the layout does not exist.",
            place=Place(file=str(path)),
            hint=f"Did you mean {near!r}?" if near else "`mudanza init` makes an example of one.",
        ) from None
    except (UnicodeDecodeError, IsADirectoryError) as error:
        raise LayoutError(
            f"the layout is no text in UTF-8 ({error}).",
            place=Place(file=str(path)),
            hint="Is this the right file?",
        ) from error
    try:
        node = json.loads(text, object_pairs_hook=_no_repeats)
    except json.JSONDecodeError as error:
        source = text.splitlines()[error.lineno - 1] if text else ""
        place = Place(str(path), line=error.lineno, text=source, start=error.colno - 1, end=error.colno)
        raise LayoutError(f"the layout is no JSON: {error.msg}.", place=place, hint="Mend the JSON there.") from error
    except _RepeatedKeyError as error:
        raise LayoutError(f"the key {error.key!r} stands twice in one object.", place=Place(str(path))) from error
    return layout_from(node, path, text)


class _RepeatedKeyError(Exception):
    def __init__(self, key: str) -> None:
        self.key = key


def _no_repeats(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    result: dict[str, Any] = {}
    for key, value in pairs:
        if key in result:
            raise _RepeatedKeyError(key)
        result[key] = value
    return result


def layout_from(node: Any, path: Path, text: str = "{}") -> Layout:
    """A layout from parsed CSVW table metadata."""
    document = _Document(path, text)
    if isinstance(node, dict) and "tables" in node:
        tables = node["tables"]
        if not isinstance(tables, list) or len(tables) != 1:
            raise document.fail(("tables",), "a layout describes one table; this group has several or none.",
                                "Put each table into a file of its own.")  # fmt: skip
        node = {"@context": node.get("@context"), **tables[0]}
    table = document.known(node, (), _TABLE, "a table")
    context = table.get("@context")
    if context != CONTEXT and not (isinstance(context, list) and context and context[0] == CONTEXT):
        raise document.fail(
            ("@context",),
            f'"@context" must be "{CONTEXT}".',
            f'Add "@context": "{CONTEXT}" as the first line.',
        )
    if "tableSchema" not in table:
        raise document.fail((), "there is no tableSchema.", 'Add "tableSchema": {"columns": [...]}.')
    at: places.Path = ("tableSchema",)
    schema = document.known(table["tableSchema"], at, _SCHEMA, "a table schema")
    inherited = {k: v for part in (table, schema) for k, v in part.items() if k in _INHERITED}
    columns = schema.get("columns")
    if not isinstance(columns, list) or not columns:
        raise document.fail((*at, "columns"), "columns must be a list of at least one column.")
    fields = tuple(
        _field(document, column, (*at, "columns", i), inherited, i)
        for i, column in enumerate(columns)
        if not (isinstance(column, dict) and column.get("virtual") is True)
    )
    _no_twins(document, fields, (*at, "columns"))
    primary = document.texts(schema["primaryKey"], (*at, "primaryKey")) if "primaryKey" in schema else ()
    names = [field.name for field in fields]
    for key in primary:
        _column_exists(document, key, names, (*at, "primaryKey"))
    return Layout(
        path=path,
        fields=fields,
        url=document.typed(table, "url", str, ()),
        primary_key=primary,
        key_ignores_case=bool(document.typed({**table, **schema}, KEY_IGNORES_CASE, bool, at)),
        references=_references(document, schema, at, names),
        dialect=_dialect(document, table),
        metadata=dict(table),
    )


def _no_twins(document: _Document, fields: tuple[Field, ...], where: places.Path) -> None:
    for what in ("name", "title"):
        seen: dict[str, int] = {}
        for i, field in enumerate(fields):
            word = getattr(field, what)
            if word in seen:
                raise document.fail((*where, i), f"the {what} {word!r} is also that of column {seen[word] + 1}.")
            seen[word] = i


def _column_exists(document: _Document, name: str, names: list[str], where: places.Path) -> None:
    if name not in names:
        near = nearest(name, names)
        raise document.fail(
            where,
            f"there is no column named {name!r}.",
            f"Did you mean {near!r}?" if near else "Use a column's name.",
        )


def _titles(document: _Document, column: Mapping[str, Any], where: places.Path) -> tuple[str, ...]:
    titles = column.get("titles")
    if titles is None:
        return ()
    if isinstance(titles, dict):
        return tuple(t for value in titles.values() for t in document.texts(value, (*where, "titles")))
    return document.texts(titles, (*where, "titles"))


def _field(document: _Document, node: Any, where: places.Path, inherited: Mapping[str, Any], index: int) -> Field:
    column = document.known(node, where, _COLUMN, "a column")
    titles = _titles(document, column, where)
    name = document.typed(column, "name", str, where)
    if name is None and not titles:
        raise document.fail(where, "a column needs a name or titles.")
    if name is None:
        name = re.sub(r"\W+", "_", titles[0]).strip("_") or f"column_{index + 1}"
    if not re.fullmatch(r"[^\W_][\w.]*", name):
        raise document.fail(
            (*where, "name"), f"{name!r} cannot be a column's name.", "Use letters, digits and _; no spaces."
        )
    whole = {**inherited, **column}
    said = whole.get("datatype", "string")
    at = (*where, "datatype")
    datatype = {"base": said} if isinstance(said, str) else document.known(said, at, _DATATYPE, "a datatype")
    base = datatype.get("base", "string")
    if base not in _BASES:
        near = nearest(str(base), _BASES)
        raise document.fail(
            (*at, "base") if isinstance(said, dict) else at,
            f"there is no datatype {base!r}.",
            f"Did you mean {near!r}?" if near else "Usual ones are string, decimal, integer, date, boolean.",
        )
    null = document.texts(whole["null"], (*where, "null")) if "null" in whole else ("",)
    common: dict[str, Any] = {
        "name": name,
        "title": titles[0] if titles else name,
        "base": base,
        "description": next((str(column[k]) for k in ("dc:description", "schema:description") if k in column), None),
        "required": bool(document.typed(whole, "required", bool, where)),
        "default": document.typed(whole, "default", str, where) or None,
        "left_out_of_additions": bool(document.typed(column, LEFT_OUT_OF_ADDITIONS, bool, where)),
        "null": null,
        "separator": document.typed(whole, "separator", str, where),
    }
    return Field(**common, **_kind_of(document, datatype, base, at))


def _kind_of(document: _Document, datatype: Mapping[str, Any], base: str, at: places.Path) -> dict[str, Any]:
    form = datatype.get("format")
    try:
        if base in _TEXTS:
            return _text_limits(document, datatype, base, at)
        for key in ("length", "minLength", "maxLength"):
            if key in datatype:
                raise document.fail(
                    (*at, key), f"{key} goes with text, and this is a {base}.", "Use minimum and maximum."
                )
        if base == "boolean":
            if form is not None and not isinstance(form, str):
                raise ValueError("a yes/no format is a text such as 'Y|N'")
            return {"kind": Kind.YESNO, "yesno": YesNoFormat.of(form) if form else YesNoFormat()}
        if base in _DATES:
            kind = Kind.DATE if base == "date" else Kind.DATETIME
            default = ISO_DATE if kind is Kind.DATE else ISO_DATETIME
            if form is not None and not isinstance(form, str):
                raise ValueError("a date format is a text such as 'yyyy-MM-dd'")
            date = DateFormat.of(form) if form else default
            if not date.has_date or (kind is Kind.DATE and date.has_time):
                raise ValueError(f"{form!r} does not fit a {base}")
            return {"kind": kind, "date": date, **_bounds(document, datatype, kind, at)}
        number = _number_format(document, form, base, (*at, "format"))
        bounds = _bounds(document, datatype, Kind.NUMBER, at)
        low, high = _RANGES.get(base, (None, None))
        if low is not None:
            bounds["minimum"] = max(Decimal(low), bounds.get("minimum", Decimal(low)))
        if high is not None:
            bounds["maximum"] = min(Decimal(high), bounds.get("maximum", Decimal(high)))
        return {"kind": Kind.NUMBER, "number": number, **bounds}
    except ValueError as error:
        raise document.fail((*at, "format"), f"{error}.", "See docs/layouts.md for the patterns.") from error


def _number_format(document: _Document, form: Any, base: str, at: places.Path) -> NumberFormat:
    whole, exponent = base in _WHOLE, base in ("double", "float", "number")
    if form is None:
        return NumberFormat.of(None, whole=whole, exponent=exponent)
    if isinstance(form, str):
        number = NumberFormat.of(form)
    else:
        parts = document.known(form, at, _NUMBER_FORMAT, "a number format")
        number = NumberFormat.of(
            document.typed(parts, "pattern", str, at),
            document.typed(parts, "decimalChar", str, at) or ".",
            document.typed(parts, "groupChar", str, at),
            whole=whole,
        )
    if whole and number.max_fraction:
        raise ValueError(f"a pattern with decimals does not fit {base}")
    return number


def _text_limits(document: _Document, datatype: Mapping[str, Any], base: str, at: places.Path) -> dict[str, Any]:
    for key in ("minimum", "maximum", "minInclusive", "maxInclusive", "minExclusive", "maxExclusive"):
        if key in datatype:
            raise document.fail(
                (*at, key), f"{key} goes with numbers and dates, and this is a {base}.", "Use maxLength."
            )
    length, least, most = (document.typed(datatype, k, int, at) for k in ("length", "minLength", "maxLength"))
    if least is not None and most is not None and least > most:
        raise document.fail((*at, "minLength"), f"minLength {least} is more than maxLength {most}.")
    if length is not None and ((least is not None and least > length) or (most is not None and most < length)):
        raise document.fail((*at, "length"), f"length {length} contradicts minLength or maxLength.")
    form = document.typed(datatype, "format", str, at)
    pattern = form if form is not None else _TEXTS[base]
    permitted = permitted_values(form) if form is not None else None
    if pattern is not None:
        import polars as pl

        try:
            pl.Series([""]).str.contains(f"^(?:{pattern})$")
        except pl.exceptions.PolarsError as error:
            reason = str(error).strip().splitlines()[-1]
            raise document.fail(
                (*at, "format"), f"the pattern {pattern!r} cannot be used: {reason}.",
                "Look-ahead, look-behind and back references are not supported.",
            ) from error  # fmt: skip
    for value in permitted or ():
        if (most is not None and len(value) > most) or (length is not None and len(value) != length):
            raise document.fail((*at, "format"), f"the permitted value {value!r} does not fit the length limits.")
    return {
        "kind": Kind.TEXT,
        "pattern": pattern,
        "permitted": permitted,
        "length": length,
        "min_length": least,
        "max_length": most,
    }


def permitted_values(form: str) -> tuple[str, ...] | None:
    """The values of a format that is nothing but a choice of words (`dog|cat`), or None."""
    body = re.sub(r"^\^?\(?(?:\?:)?(.*?)\)?\$?$", r"\1", form) if form.startswith(("(", "^")) else form
    pieces = re.split(r"(?<!\\)\|", body)
    if len(pieces) < 2 or any(re.search(r"(?<!\\)[.*+?\[\](){}^$]|\\[A-Za-z]", piece) for piece in pieces):
        return None
    return tuple(re.sub(r"\\(.)", r"\1", piece) for piece in pieces)


def _bounds(document: _Document, datatype: Mapping[str, Any], kind: Kind, at: places.Path) -> dict[str, Any]:
    found: dict[str, Any] = {}
    for keys, name in (
        (("minimum", "minInclusive"), "minimum"),
        (("maximum", "maxInclusive"), "maximum"),
        (("minExclusive",), "above"),
        (("maxExclusive",), "below"),
    ):
        given = [key for key in keys if key in datatype]
        if len(given) == 2:
            raise document.fail((*at, given[1]), f"{given[0]} and {given[1]} mean the same; give one of them.")
        for key in given:
            found[name] = _bound(document, datatype[key], kind, (*at, key))
    low = found.get("minimum", found.get("above"))
    high = found.get("maximum", found.get("below"))
    if low is not None and high is not None and low > high:
        raise document.fail(at, f"the lower bound {low} lies above the upper bound {high}.")
    return found


def _bound(document: _Document, value: Any, kind: Kind, where: places.Path) -> Decimal | str:
    from datetime import date, datetime

    try:
        if kind is Kind.NUMBER:
            if isinstance(value, bool):
                raise ValueError
            return Decimal(str(value))
        parsed = date.fromisoformat(value) if kind is Kind.DATE else datetime.fromisoformat(value)
        return parsed.isoformat()
    except (ValueError, InvalidOperation, TypeError):
        raise document.fail(
            where, f"{json.dumps(value)} is no {kind}.", "Write numbers plainly and dates as 2024-01-31."
        ) from None


def _references(
    document: _Document, schema: Mapping[str, Any], at: places.Path, names: list[str]
) -> tuple[Reference, ...]:
    references = []
    for i, node in enumerate(document.typed(schema, "foreignKeys", list, at) or []):
        where = (*at, "foreignKeys", i)
        key = document.known(node, where, _REFERENCE, "a foreign key")
        for part in _REFERENCE:
            if part not in key:
                raise document.fail(where, f"a foreign key needs {part}.")
        other = document.known(key["reference"], (*where, "reference"), _REFERENCED, "a reference")
        fields = document.texts(key["columnReference"], (*where, "columnReference"))
        for field in fields:
            _column_exists(document, field, names, (*where, "columnReference"))
        resource = document.typed(other, "resource", str, (*where, "reference"))
        if resource is None or "columnReference" not in other:
            raise document.fail((*where, "reference"), "a reference needs resource and columnReference.")
        columns = document.texts(other["columnReference"], (*where, "reference", "columnReference"))
        if len(columns) != len(fields):
            raise document.fail(where, f"{len(fields)} columns cannot refer to {len(columns)}.")
        references.append(Reference(fields, resource, columns))
    return tuple(references)


def _dialect(document: _Document, table: Mapping[str, Any]) -> Dialect:
    if "dialect" not in table:
        return Dialect()
    at: places.Path = ("dialect",)
    node = document.known(table["dialect"], at, _DIALECT, "a dialect")
    fixed: dict[str, tuple[Any, ...]] = {
        "doubleQuote": (True,), "commentPrefix": (None,), "skipRows": (0,), "skipColumns": (0,),
        "skipInitialSpace": (False,), "skipBlankRows": (True, False), "trim": (True, False, "true", "false"),
        "headerRowCount": (0, 1),
    }  # fmt: skip
    for key, allowed in fixed.items():
        if key in node and node[key] not in allowed:
            raise document.fail(
                (*at, key),
                f"{key} {json.dumps(node[key])} is not supported.",
                f"Use {json.dumps(allowed[0])}.",
            )
    delimiter = document.typed(node, "delimiter", str, at) or ","
    quote = node.get("quoteChar", '"')
    for key, sign in (("delimiter", delimiter), ("quoteChar", quote)):
        if sign is not None and (not isinstance(sign, str) or len(sign.encode()) != 1):
            raise document.fail((*at, key), f"{key} must be one plain character, not {json.dumps(sign)}.")
    if delimiter == quote:
        raise document.fail((*at, "quoteChar"), "delimiter and quoteChar are the same character.")
    encoding = document.typed(node, "encoding", str, at) or "utf-8"
    try:
        encoding, bom = codecs.lookup(encoding).name, encoding.lower().endswith("-sig")
    except LookupError:
        raise document.fail(
            (*at, "encoding"), f"there is no encoding {encoding!r}.", "Use utf-8 or windows-1252."
        ) from None
    ends = document.texts(node["lineTerminators"], (*at, "lineTerminators")) if "lineTerminators" in node else ("\r\n",)
    if ends[0] not in ("\r\n", "\n"):
        raise document.fail((*at, "lineTerminators"), "lines end with \\r\\n or \\n.")
    header = document.typed(node, "header", bool, at)
    count = document.typed(node, "headerRowCount", int, at)
    if header is not None and count is not None and header != bool(count):
        raise document.fail((*at, "headerRowCount"), f"header {json.dumps(header)} contradicts headerRowCount {count}.")
    return Dialect(
        delimiter=delimiter,
        quote=quote,
        encoding="utf-8" if bom else encoding,
        line_end=ends[0],
        header=bool(count) if count is not None else header is not False,
        bom=bom,
    )
