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

from mudanza.core.documents.document import Document, read_json
from mudanza.core.documents.errors import LayoutError, Place, nearest
from mudanza.core.documents.marks import KeyPath
from mudanza.core.layouts.datatypes import BASES, type_of
from mudanza.core.layouts.layout import Dialect, Field, ForeignKey, Layout
from mudanza.core.layouts.metadata import (
    CHANGED_FIELDS_ONLY,
    FORBIDDEN,
    KEY_IGNORES,
    KEY_IGNORES_CASE,
    KEY_LENGTH,
    LEFT_OUT_OF_ADDITIONS,
    Metadata,
)
from mudanza.core.values.key_rule import CASE, SPACES, ZEROS, KeyRule

CONTEXT = "http://www.w3.org/ns/csvw"

_INHERITED = {
    "aboutUrl", "datatype", "default", "lang", "null", "ordered", "propertyUrl", "required", "separator",
    "textDirection", "valueUrl",
}  # fmt: skip
_TABLE = {
    "@context",
    "@id",
    "@type",
    "url",
    "dialect",
    "notes",
    "suppressOutput",
    "tableDirection",
    "tableSchema",
    "transformations",
} | _INHERITED
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
    return layout_from(read_json(text, path))


def layout_from(document: Document) -> Layout:
    """A layout from CSVW table metadata."""
    metadata, node, path = Metadata(document), document.content, document.path
    if isinstance(node, dict) and "tables" in node:
        tables = node["tables"]
        if not isinstance(tables, list) or len(tables) != 1:
            raise metadata.fail(
                ("tables",),
                "a layout describes one table; this group has several or none.",
                "Put each table into a file of its own.",
            )
        node = {"@context": node.get("@context"), **tables[0]}
        metadata = Metadata(document, ("tables", 0))
    table = metadata.known(node, (), _TABLE, "a table")
    context = table.get("@context")
    if context != CONTEXT and not (isinstance(context, list) and context and context[0] == CONTEXT):
        raise metadata.fail(
            ("@context",),
            f'"@context" must be "{CONTEXT}".',
            f'Add "@context": "{CONTEXT}" as the first line.',
        )
    if "tableSchema" not in table:
        raise metadata.fail((), "there is no tableSchema.", 'Add "tableSchema": {"columns": [...]}.')
    at: KeyPath = ("tableSchema",)
    schema = metadata.known(table["tableSchema"], at, _SCHEMA, "a table schema")
    inherited = {k: v for part in (table, schema) for k, v in part.items() if k in _INHERITED}
    columns = schema.get("columns")
    if not isinstance(columns, list) or not columns:
        raise metadata.fail((*at, "columns"), "columns must be a list of at least one column.")
    fields = tuple(
        _field(metadata, column, (*at, "columns", i), inherited, i)
        for i, column in enumerate(columns)
        if not (isinstance(column, dict) and column.get("virtual") is True)
    )
    _no_twins(metadata, fields, (*at, "columns"))
    primary = metadata.texts(schema["primaryKey"], (*at, "primaryKey")) if "primaryKey" in schema else ()
    names = [field.name for field in fields]
    for key in primary:
        _column_exists(metadata, key, names, (*at, "primaryKey"))
    return Layout(
        path=path,
        fields=fields,
        url=metadata.typed(table, "url", str, ()),
        # in the order of the fields: by it keys are joined, kept and compared
        primary_key=tuple(name for name in names if name in primary),
        key_rule=_key_rule(metadata, {**table, **schema}, at),
        changed_fields_only=bool(metadata.typed({**table, **schema}, CHANGED_FIELDS_ONLY, bool, at)),
        references=_references(metadata, schema, at, names),
        dialect=_dialect(metadata, table),
        metadata=dict(table),
    )


def _key_rule(metadata: Metadata, node: Mapping[str, Any], at: KeyPath) -> KeyRule:
    """How the target compares keys."""
    ignores = set(metadata.texts(node[KEY_IGNORES], (*at, KEY_IGNORES)) if KEY_IGNORES in node else ())
    known = (CASE, SPACES, ZEROS)
    for one in ignores - {*known}:
        raise metadata.fail(
            (*at, KEY_IGNORES), f"{one!r} is nothing that a key can ignore.", f"It can: {', '.join(known)}."
        )
    if metadata.typed(node, KEY_IGNORES_CASE, bool, at):
        ignores.add(CASE)
    length = metadata.typed(node, KEY_LENGTH, int, at)
    if length == 0:
        raise metadata.fail((*at, KEY_LENGTH), "a key of no characters tells nothing apart.")
    return KeyRule(frozenset(ignores), length)


def _no_twins(metadata: Metadata, fields: tuple[Field, ...], where: KeyPath) -> None:
    for what in ("name", "title"):
        seen: dict[str, int] = {}
        for i, field in enumerate(fields):
            word = getattr(field, what)
            if word in seen:
                raise metadata.fail((*where, i), f"the {what} {word!r} is also that of column {seen[word] + 1}.")
            seen[word] = i


def _column_exists(metadata: Metadata, name: str, names: list[str], where: KeyPath) -> None:
    if name not in names:
        near = nearest(name, names)
        raise metadata.fail(
            where,
            f"there is no column named {name!r}.",
            f"Did you mean {near!r}?" if near else "Use a column's name.",
        )


def _titles(metadata: Metadata, column: Mapping[str, Any], where: KeyPath) -> tuple[str, ...]:
    titles = column.get("titles")
    if titles is None:
        return ()
    if isinstance(titles, dict):
        return tuple(t for value in titles.values() for t in metadata.texts(value, (*where, "titles")))
    return metadata.texts(titles, (*where, "titles"))


def _field(metadata: Metadata, node: Any, where: KeyPath, inherited: Mapping[str, Any], index: int) -> Field:
    column = metadata.known(node, where, _COLUMN, "a column")
    titles = _titles(metadata, column, where)
    name = metadata.typed(column, "name", str, where)
    if name is None and not titles:
        raise metadata.fail(where, "a column needs a name or titles.")
    if name is None:
        name = re.sub(r"\W+", "_", titles[0]).strip("_") or f"column_{index + 1}"
    if not re.fullmatch(r"[^\W_][\w.]*", name):
        raise metadata.fail(
            (*where, "name"), f"{name!r} cannot be a column's name.", "Use letters, digits and _; no spaces."
        )
    whole = {**inherited, **column}
    said = whole.get("datatype", "string")
    at = (*where, "datatype")
    datatype = {"base": said} if isinstance(said, str) else metadata.known(said, at, _DATATYPE, "a datatype")
    base = datatype.get("base", "string")
    if base not in BASES:
        near = nearest(str(base), BASES)
        raise metadata.fail(
            (*at, "base") if isinstance(said, dict) else at,
            f"there is no datatype {base!r}.",
            f"Did you mean {near!r}?" if near else "Usual ones are string, decimal, integer, date, boolean.",
        )
    null = metadata.texts(whole["null"], (*where, "null")) if "null" in whole else ("",)
    return Field(
        name=name,
        title=titles[0] if titles else name,
        type=type_of(metadata, datatype, base, at),
        description=next((str(column[k]) for k in ("dc:description", "schema:description") if k in column), None),
        required=bool(metadata.typed(whole, "required", bool, where)),
        left_out_of_additions=bool(metadata.typed(column, LEFT_OUT_OF_ADDITIONS, bool, where)),
        default=metadata.typed(whole, "default", str, where) or None,
        null=null,
        separator=metadata.typed(whole, "separator", str, where),
        forbidden=metadata.typed(column, FORBIDDEN, str, where) or "",
    )


def _references(metadata: Metadata, schema: Mapping[str, Any], at: KeyPath, names: list[str]) -> tuple[ForeignKey, ...]:
    references = []
    for i, node in enumerate(metadata.typed(schema, "foreignKeys", list, at) or []):
        where = (*at, "foreignKeys", i)
        key = metadata.known(node, where, _REFERENCE, "a foreign key")
        for part in _REFERENCE:
            if part not in key:
                raise metadata.fail(where, f"a foreign key needs {part}.")
        other = metadata.known(key["reference"], (*where, "reference"), _REFERENCED, "a reference")
        fields = metadata.texts(key["columnReference"], (*where, "columnReference"))
        for field in fields:
            _column_exists(metadata, field, names, (*where, "columnReference"))
        resource = metadata.typed(other, "resource", str, (*where, "reference"))
        if resource is None or "columnReference" not in other:
            raise metadata.fail((*where, "reference"), "a reference needs resource and columnReference.")
        columns = metadata.texts(other["columnReference"], (*where, "reference", "columnReference"))
        if len(columns) != len(fields):
            raise metadata.fail(where, f"{len(fields)} columns cannot refer to {len(columns)}.")
        references.append(ForeignKey(fields, resource, columns))
    return tuple(references)


def _dialect(metadata: Metadata, table: Mapping[str, Any]) -> Dialect:
    if "dialect" not in table:
        return Dialect()
    at: KeyPath = ("dialect",)
    node = metadata.known(table["dialect"], at, _DIALECT, "a dialect")
    fixed: dict[str, tuple[Any, ...]] = {
        "doubleQuote": (True,),
        "commentPrefix": (None,),
        "skipRows": (0,),
        "skipColumns": (0,),
        "skipInitialSpace": (False,),
        "skipBlankRows": (True, False),
        "trim": (True, False, "true", "false"),
        "headerRowCount": (0, 1),
    }
    for key, allowed in fixed.items():
        if key in node and node[key] not in allowed:
            raise metadata.fail(
                (*at, key),
                f"{key} {json.dumps(node[key])} is not supported.",
                f"Use {json.dumps(allowed[0])}.",
            )
    delimiter = metadata.typed(node, "delimiter", str, at) or ","
    quote = node.get("quoteChar", '"')
    for key, sign in (("delimiter", delimiter), ("quoteChar", quote)):
        if sign is not None and (not isinstance(sign, str) or len(sign.encode()) != 1):
            raise metadata.fail((*at, key), f"{key} must be one plain character, not {json.dumps(sign)}.")
    if delimiter == quote:
        raise metadata.fail((*at, "quoteChar"), "delimiter and quoteChar are the same character.")
    encoding = metadata.typed(node, "encoding", str, at) or "utf-8"
    try:
        encoding, bom = codecs.lookup(encoding).name, encoding.lower().endswith("-sig")
    except LookupError:
        raise metadata.fail(
            (*at, "encoding"), f"there is no encoding {encoding!r}.", "Use utf-8 or windows-1252."
        ) from None
    ends = metadata.texts(node["lineTerminators"], (*at, "lineTerminators")) if "lineTerminators" in node else ("\r\n",)
    if ends[0] not in ("\r\n", "\n"):
        raise metadata.fail((*at, "lineTerminators"), "lines end with \\r\\n or \\n.")
    header = metadata.typed(node, "header", bool, at)
    count = metadata.typed(node, "headerRowCount", int, at)
    if header is not None and count is not None and header != bool(count):
        raise metadata.fail((*at, "headerRowCount"), f"header {json.dumps(header)} contradicts headerRowCount {count}.")
    return Dialect(
        delimiter=delimiter,
        quote=quote,
        encoding="utf-8" if bom else encoding,
        line_end=ends[0],
        header=bool(count) if count is not None else header is not False,
        bom=bom,
    )


def metadata_of(layout: Layout, file_name: str) -> str:
    """The metadata that stands beside a written file, as JSON. It depends on nothing but the layout."""
    node: dict[str, Any] = {"@context": CONTEXT, "url": file_name}
    node.update({k: v for k, v in layout.metadata.items() if k not in node})
    return json.dumps(node, indent=2, ensure_ascii=False) + "\n"
