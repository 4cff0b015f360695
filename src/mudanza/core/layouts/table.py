"""A table of CSVW metadata as a layout ("Metadata Vocabulary", sections 5.4 to 5.6)."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import polars as pl

from mudanza.core.documents.errors import nearest
from mudanza.core.documents.marks import KeyPath
from mudanza.core.layouts.datatypes import BASES, type_of
from mudanza.core.layouts.demands import field_demands, table_demands
from mudanza.core.layouts.dialect import Dialect, dialect_of
from mudanza.core.layouts.form import FIXED, TSV, WHOLE, Form, field_form, form_of, misfit, way_to
from mudanza.core.layouts.layout import Field, ForeignKey, Layout
from mudanza.core.layouts.metadata import (
    ABSENT,
    BYTES_PER_FILE,
    CHANGED_FIELDS_ONLY,
    FORBIDDEN,
    FORM,
    KEY_IGNORES,
    KEY_IGNORES_CASE,
    KEY_LENGTH,
    LANGUAGE,
    LEFT_OUT_OF_ADDITIONS,
    OBSERVED,
    REQUIRED_WHEN,
    Metadata,
)
from mudanza.core.values.key_rule import CASE, SPACES, ZEROS, KeyRule
from mudanza.core.values.row_columns import MOST_COLUMNS

INHERITED = {
    "aboutUrl", "datatype", "default", "lang", "null", "ordered", "propertyUrl", "required", "separator",
    "textDirection", "valueUrl",
}  # fmt: skip
TABLE = {
    "@context", "@id", "@type", "url", "dialect", "notes", "suppressOutput", "tableDirection", "tableSchema",
    "transformations",
} | INHERITED  # fmt: skip
_SCHEMA = {"@id", "@type", "columns", "foreignKeys", "primaryKey", "rowTitles"} | INHERITED
_COLUMN = {"@id", "@type", "name", "suppressOutput", "titles", "virtual"} | INHERITED
_DATATYPE = {
    "@id", "@type", "base", "format", "length", "minLength", "maxLength", "minimum", "maximum", "minInclusive",
    "maxInclusive", "minExclusive", "maxExclusive",
}  # fmt: skip
_REFERENCE = {"columnReference", "reference"}
_REFERENCED = {"resource", "schemaReference", "columnReference"}


@dataclass(frozen=True)
class Within:
    """Where a table's description stands: the file, what the table is called, the language of the document, what its group says for it, and the
    addresses of the group's schemas with the table that each is of."""

    path: Path
    name: str
    language: str | None = None
    group: Mapping[str, Any] = field(default_factory=dict)
    schemas: Mapping[str, str] = field(default_factory=dict)


def layout_of_table(metadata: Metadata, table: Mapping[str, Any], within: Within) -> Layout:
    """The layout that a table's description is. Raises LayoutError with the place of what is wrong."""
    at: KeyPath = ("tableSchema",)
    if "tableSchema" not in table:
        raise metadata.fail((), "there is no tableSchema.", 'Add "tableSchema": {"columns": [...]}.')
    if isinstance(table["tableSchema"], str):
        raise metadata.fail(at, "a schema that stands elsewhere is not read.", "Write it here, in braces.")
    schema = metadata.known(table["tableSchema"], at, _SCHEMA, "a table schema", "Schema")
    inherited = {k: v for part in (within.group, table, schema) for k, v in part.items() if k in INHERITED}
    columns = schema.get("columns")
    if not isinstance(columns, list) or not columns:
        raise metadata.fail((*at, "columns"), "columns must be a list of at least one column.")
    if len(columns) > MOST_COLUMNS:
        raise metadata.fail(
            (*at, "columns"), f"there are {len(columns):,} columns, and no table has more than {MOST_COLUMNS:,}."
        )
    where = (*at, "columns")
    given = _without_virtual(metadata, columns, where)
    fields = tuple(
        _field(metadata, column, (*where, i), inherited, i, within.language or "und") for i, column in enumerate(given)
    )
    _no_twins(metadata, fields, where)
    for number, one in enumerate(fields):
        for other, _ in one.demands.required_when:
            _column_exists(metadata, other, [each.name for each in fields], (*where, number, REQUIRED_WHEN))
    names = [one.name for one in fields]
    whole = {**table, **schema}
    form = form_of(metadata, whole, () if FORM in table else at)
    if (
        wrong := misfit(form, [way_to(one.title, one.name, form) for one in fields], [one.form for one in fields])
    ) is not None:
        raise metadata.fail((*where, wrong[0]), *wrong[1:])
    if form.format in WHOLE and BYTES_PER_FILE in whole:
        raise metadata.fail(
            (*at, BYTES_PER_FILE),
            f"of {form.words} files nobody knows the bytes before their end.",
            "Say rows per file.",
        )
    usual = _usual_dialect(form)
    dialect = dialect_of(metadata, table["dialect"], usual) if "dialect" in table else usual
    if form.is_delimited and form.lines.lists and (dialect.quote is None or not dialect.double_quote):
        raise metadata.fail(
            ("dialect",),
            "lines in a text need quotes, and those inside doubled.",
            "Leave quoteChar and doubleQuote out.",
        )
    primary, _ = (_columns_named(metadata, schema, key, at, names) for key in ("primaryKey", "rowTitles"))
    return Layout(
        path=within.path,
        name=within.name,
        fields=fields,
        url=metadata.typed(table, "url", str, ()),
        # in the order of the fields: by it keys are joined, kept and compared
        primary_key=tuple(name for name in names if name in primary),
        key_rule=_key_rule(metadata, whole, at),
        changed_fields_only=bool(metadata.typed(whole, CHANGED_FIELDS_ONLY, bool, at)),
        demands=table_demands(metadata, whole, at, names),
        references=_references(metadata, schema, at, names, within),
        form=form,
        dialect=dialect,
        metadata=dict(table),
    )


def _usual_dialect(form: Form) -> Dialect:
    """How files of a form are written where nothing is said of it: of fixed width, they have no headings as a rule."""
    if form.format == FIXED:
        return Dialect(header_rows=0)
    return Dialect(delimiter="\t" if form.format == TSV else ",")


def _without_virtual(metadata: Metadata, columns: list[Any], where: KeyPath) -> list[Any]:
    """The columns that files have; those that only descriptions have come behind them (section 5.6)."""
    virtual = [isinstance(column, dict) and column.get("virtual") is True for column in columns]
    count = virtual.index(True) if True in virtual else len(columns)
    for number, column in enumerate(columns[count:], count):
        metadata.known(column, (*where, number), _COLUMN, "a column", "Column")
        if not virtual[number]:
            raise metadata.fail((*where, number), "a column of the file stands behind a virtual one; those come last.")
    if not count:
        raise metadata.fail(where, "all columns are virtual; a file has at least one.")
    return columns[:count]


def _columns_named(
    metadata: Metadata, schema: Mapping[str, Any], key: str, at: KeyPath, names: list[str]
) -> tuple[str, ...]:
    """The columns that a property of a schema names."""
    if key not in schema:
        return ()
    named = metadata.texts(schema[key], (*at, key))
    for one in named:
        _column_exists(metadata, one, names, (*at, key))
    if len({*named}) < len(named):
        raise metadata.fail((*at, key), f"{key} names a column twice.")
    return named


def _column_exists(metadata: Metadata, name: str, names: list[str], where: KeyPath) -> None:
    if name not in names:
        near = nearest(name, names)
        raise metadata.fail(
            where,
            f"there is no column named {name!r}.",
            f"Did you mean {near!r}?" if near else "Use a column's name.",
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
        for i, one in enumerate(fields):
            word = getattr(one, what)
            if word in seen:
                raise metadata.fail((*where, i), f"the {what} {word!r} is also that of column {seen[word] + 1}.")
            seen[word] = i


# columns


def _said(column: Mapping[str, Any], *properties: str) -> str | None:
    """What the first of some common properties says of a column, in the first of several languages (section 5.8)."""
    for one in properties:
        value = column.get(one)
        value = value[0] if isinstance(value, list) and value else value
        value = value.get("@value") if isinstance(value, dict) else value
        if isinstance(value, str | int | float) and str(value).strip():
            return str(value)
    return None


def _titles(metadata: Metadata, column: Mapping[str, Any], where: KeyPath, language: str) -> tuple[str, ...]:
    """The headings that a column may have, that in the document's language first (section 5.6)."""
    titles, at = column.get("titles"), (*where, "titles")
    if titles is None and "titles" not in column:
        return ()
    if not isinstance(titles, dict):
        return tuple(dict.fromkeys(metadata.texts(titles, at)))
    found: list[str] = []
    for key in titles:
        if not LANGUAGE.fullmatch(key):
            raise metadata.fail((*at, key), f"{key!r} is no language.", 'Languages are written as "pt" or "en-GB".')
    for key in sorted(titles, key=lambda key: key.split("-")[0] != language.split("-")[0]):
        found += metadata.texts(titles[key], (*at, key))
    if not found:
        raise metadata.fail(at, "titles in no language are none.")
    return tuple(dict.fromkeys(found))


def _name(metadata: Metadata, column: Mapping[str, Any], where: KeyPath, titles: tuple[str, ...], index: int) -> str:
    said = metadata.typed(column, "name", str, where)
    if said is None and not titles:
        raise metadata.fail(where, "a column needs a name or titles.")
    if said is None:
        return re.sub(r"\W+", "_", titles[0]).strip("_") or f"column_{index + 1}"
    name = str(said)
    # the name of a variable in a URI template (RFC 6570, section 2.3), and none that begins with _
    if not re.fullmatch(r"(?!_)(?:[A-Za-z0-9_]|%[0-9A-Fa-f]{2})+(?:\.(?:[A-Za-z0-9_]|%[0-9A-Fa-f]{2})+)*", name):
        plain = re.sub(
            r"[^A-Za-z0-9]+", "_", unicodedata.normalize("NFKD", name).encode("ascii", "ignore").decode()
        ).strip("_")
        raise metadata.fail(
            (*where, "name"),
            f"{name!r} cannot be a column's name.",
            f"Use letters from a to z, digits and _; no spaces{f': {plain}' if plain else ''}. Its heading stands in titles.",
        )
    return name


def _field(
    metadata: Metadata, node: Any, where: KeyPath, inherited: Mapping[str, Any], index: int, language: str
) -> Field:
    column = metadata.known(node, where, _COLUMN, "a column", "Column")
    titles = _titles(metadata, column, where, language)
    name = _name(metadata, column, where, titles, index)
    whole = {**inherited, **column}
    said = whole.get("datatype", "string")
    at = (*where, "datatype")
    datatype = {"base": said} if isinstance(said, str) else metadata.known(said, at, _DATATYPE, "a datatype")
    base = datatype.get("base", "string")
    if not isinstance(base, str) or base not in BASES:
        near = nearest(str(base), BASES)
        raise metadata.fail(
            (*at, "base") if isinstance(said, dict) else at,
            f"there is no datatype {base!r}.",
            f"Did you mean {near!r}?" if near else "Usual ones are string, decimal, integer, date, boolean.",
        )
    made = Field(
        name=name,
        title=titles[0] if titles else name,
        type=type_of(metadata, datatype, base, at),
        label=_said(column, "dc:title", "schema:name", "rdfs:label"),
        description=_said(column, "dc:description", "schema:description"),
        required=bool(metadata.typed(whole, "required", bool, where)),
        left_out_of_additions=bool(metadata.typed(column, LEFT_OUT_OF_ADDITIONS, bool, where)),
        default=metadata.typed(whole, "default", str, where) or None,
        null=metadata.texts(whole["null"], (*where, "null")) if "null" in whole else ("",),
        separator=_separator(metadata, whole, where),
        forbidden=metadata.typed(column, FORBIDDEN, str, where) or "",
        observed=bool(metadata.typed(column, OBSERVED, bool, where)),
        demands=field_demands(metadata, column, where),
        form=field_form(metadata, column, where),
        absent=bool(metadata.typed(column, ABSENT, bool, where)),
        other_titles=titles[1:],
    )
    _default_fits(metadata, made, where)
    return made


def _separator(metadata: Metadata, whole: Mapping[str, Any], where: KeyPath) -> str | None:
    if whole.get("separator") is None:
        return None
    said = metadata.typed(whole, "separator", str, where)
    if said == "":
        raise metadata.fail((*where, "separator"), "a separator of no characters cuts nothing.")
    return str(said)


def _default_fits(metadata: Metadata, made: Field, where: KeyPath) -> None:
    """A default is a value of its column ("Model for Tabular Data", section 6.4, step 6)."""
    if made.default is None or made.separator is not None or made.default in made.null:
        return
    if not pl.select(made.type.fits(pl.lit(made.default))).item():
        raise metadata.fail(
            (*where, "default"), f"the default {made.default!r} is no value of the column.", f"It takes: {made.rule}."
        )


# references


def _references(
    metadata: Metadata, schema: Mapping[str, Any], at: KeyPath, names: list[str], within: Within
) -> tuple[ForeignKey, ...]:
    references = []
    for i, node in enumerate(metadata.typed(schema, "foreignKeys", list, at) or []):
        where = (*at, "foreignKeys", i)
        if isinstance(node, dict) and set(node) - _REFERENCE:
            # no common properties here (section 5.5.2.1)
            raise metadata.fail(
                where, f"a foreign key has columnReference and reference alone, not {min(set(node) - _REFERENCE)!r}."
            )
        key = metadata.known(node, where, _REFERENCE, "a foreign key")
        for part in sorted(_REFERENCE):
            if part not in key:
                raise metadata.fail(where, f"a foreign key needs {part}.")
        other = metadata.known(key["reference"], (*where, "reference"), _REFERENCED, "a reference")
        fields = metadata.texts(key["columnReference"], (*where, "columnReference"))
        for one in fields:
            _column_exists(metadata, one, names, (*where, "columnReference"))
        resource = _resource(metadata, other, (*where, "reference"), within)
        if "columnReference" not in other:
            raise metadata.fail((*where, "reference"), "a reference needs columnReference.")
        columns = metadata.texts(other["columnReference"], (*where, "reference", "columnReference"))
        if len(columns) != len(fields):
            raise metadata.fail(where, f"{len(fields)} columns cannot refer to {len(columns)}.")
        references.append(ForeignKey(fields, resource, columns))
    return tuple(references)


def _resource(metadata: Metadata, other: Mapping[str, Any], where: KeyPath, within: Within) -> str:
    """The file that a reference leads to: the one it names, or the one whose schema it names (section 5.5.2.1)."""
    resource, schema = (metadata.typed(other, key, str, where) for key in ("resource", "schemaReference"))
    if (resource is None) == (schema is None):
        raise metadata.fail(where, "a reference needs either resource or schemaReference.")
    if schema is not None and schema not in within.schemas:
        raise metadata.fail((*where, "schemaReference"), f"no table of the group has the schema {schema!r}.")
    return str(resource if resource is not None else within.schemas[schema])
