"""Reading a layout: CSV on the Web metadata (W3C, "Metadata Vocabulary for Tabular Data"), strictly.

Whatever the standard does not know, or Mudanza would not obey, is an error with its place.
"""

from __future__ import annotations

import codecs
import json
import re
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from mudanza.core.errors import LayoutError, Place, nearest
from mudanza.core.layouts import places
from mudanza.core.layouts.datatypes import BASES, kind_of
from mudanza.core.layouts.document import KEY_IGNORES_CASE, LEFT_OUT_OF_ADDITIONS, Document
from mudanza.core.layouts.model import Dialect, Field, Layout, Reference

CONTEXT = "http://www.w3.org/ns/csvw"

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
_DIALECT = {
    "@id", "@type", "commentPrefix", "delimiter", "doubleQuote", "encoding", "header", "headerRowCount",
    "lineTerminators", "quoteChar", "skipBlankRows", "skipColumns", "skipInitialSpace", "skipRows", "trim",
}  # fmt: skip
_REFERENCE = {"columnReference", "reference"}
_REFERENCED = {"resource", "schemaReference", "columnReference"}


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
    document = Document(path, text)
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


def _no_twins(document: Document, fields: tuple[Field, ...], where: places.Path) -> None:
    for what in ("name", "title"):
        seen: dict[str, int] = {}
        for i, field in enumerate(fields):
            word = getattr(field, what)
            if word in seen:
                raise document.fail((*where, i), f"the {what} {word!r} is also that of column {seen[word] + 1}.")
            seen[word] = i


def _column_exists(document: Document, name: str, names: list[str], where: places.Path) -> None:
    if name not in names:
        near = nearest(name, names)
        raise document.fail(
            where,
            f"there is no column named {name!r}.",
            f"Did you mean {near!r}?" if near else "Use a column's name.",
        )


def _titles(document: Document, column: Mapping[str, Any], where: places.Path) -> tuple[str, ...]:
    titles = column.get("titles")
    if titles is None:
        return ()
    if isinstance(titles, dict):
        return tuple(t for value in titles.values() for t in document.texts(value, (*where, "titles")))
    return document.texts(titles, (*where, "titles"))


def _field(document: Document, node: Any, where: places.Path, inherited: Mapping[str, Any], index: int) -> Field:
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
    if base not in BASES:
        near = nearest(str(base), BASES)
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
    return Field(**common, **kind_of(document, datatype, base, at))


def _references(
    document: Document, schema: Mapping[str, Any], at: places.Path, names: list[str]
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


def _dialect(document: Document, table: Mapping[str, Any]) -> Dialect:
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
