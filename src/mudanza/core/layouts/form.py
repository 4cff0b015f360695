"""The form that a target's files have where they are no CSV, as absolute-URL properties under urn:mudanza: (the standard permits those, "Metadata Vocabulary", section 5.8)."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from mudanza.core.documents.errors import nearest
from mudanza.core.documents.marks import KeyPath
from mudanza.core.layouts.metadata import ATTRIBUTE, FORM, PADDING, START, WIDTH, Metadata

CSV, TSV, XLSX, ODS, JSON, NDJSON, XML, FIXED, PARQUET = (
    "csv", "tsv", "xlsx", "ods", "json", "ndjson", "xml", "fixed", "parquet",
)  # fmt: skip
KEPT, TOLD, QUOTED = "kept", "told", "quoted"

#: what can be said of each form; of all, what the names of files end with
_SAID: dict[str, tuple[str, ...]] = {
    CSV: ("formulas", "lines", "tag", "marker"), TSV: ("formulas", "lines", "tag", "marker"), XLSX: ("sheet", "into"), ODS: ("sheet",), JSON: ("records", "nested", "blanks", "lines"),
    NDJSON: ("nested", "blanks", "lines"), XML: ("records", "nested", "lines"), FIXED: (), PARQUET: (),
}  # fmt: skip
_CHOICES = {"formulas": (TOLD, KEPT, QUOTED), "blanks": ("null", "left out")}
#: forms whose files have no beginning that could stand alone, so that how many bytes they have is known at their end
WHOLE = (XLSX, ODS, PARQUET)
#: forms that are read by what the layout says of them
OF_THEIR_OWN = (JSON, NDJSON, XML, FIXED, PARQUET)
#: forms in which a dot in a heading stands for what lies within
NESTED = (JSON, NDJSON, XML)

# a name without a prefix (Namespaces in XML 1.0, section 3, production 4), of letters that all programs take
XML_NAME = re.compile(r"[^\W\d][\w\-]*")
_TAG = re.compile(r"\w[\w.\-]{0,20}")


@dataclass(frozen=True)
class Lines:
    """The lists whose records stand in each record of another, with the heading that they stand under; in text, the tag that their lines begin with, `tag` being that of the records themselves, and `marker`
    what stands in front of a tag where its columns are named."""

    lists: Mapping[str, str] = field(default_factory=dict)
    tag: str | None = None
    marker: str = "#"


@dataclass(frozen=True)
class Form:
    """How files are written: the format; the `sheet` of a workbook, and the workbook `into` a copy of which records are written; the path at which `records`
    stand; whether dots in headings stand for what lies within (`nested`); whether `blanks` are "null" or "left out"; whether texts that a spreadsheet program would run as `formulas` are
    "told", "kept" or "quoted"; what names of files end with; and what stands in each record of other lists."""

    format: str = CSV
    sheet: str | None = None
    into: str | None = None
    records: tuple[str, ...] = ()
    nested: bool = True
    blanks: str = "null"
    formulas: str = TOLD
    ending: str = ".csv"
    lines: Lines = field(default_factory=Lines)

    @property
    def is_delimited(self) -> bool:
        """Whether it is written in the dialect."""
        return self.format in (CSV, TSV)

    @property
    def words(self) -> str:
        """The form as people call it."""
        names = {FIXED: "fixed width", PARQUET: "Parquet"}
        return names.get(self.format, self.format.upper())


@dataclass(frozen=True)
class FieldForm:
    """Where a field stands in a row of fixed width: how many characters it has, and which is its first, from 1 (None: behind the field before); with what it is filled up, and whether at its start.
    In XML, whether it is an `attribute`."""

    width: int | None = None
    start: int | None = None
    padding: str = " "
    at_start: bool = False
    attribute: bool = False


def form_of(metadata: Metadata, node: Mapping[str, Any], at: KeyPath) -> Form:
    """The form that a table says. Raises LayoutError at what is wrong."""
    said = node.get(FORM)
    if said is None:
        return Form()
    where = (*at, FORM)
    known = {"format": said} if isinstance(said, str) else said
    if not isinstance(known, dict) or not isinstance(known.get("format"), str):
        raise metadata.fail(
            where, 'a form is the name of a format, or an object with "format".', f"Formats: {', '.join(_SAID)}."
        )
    name = known["format"]
    if name not in _SAID:
        near = nearest(name, [*_SAID])
        raise metadata.fail(
            where,
            f"there is no format {name!r} to write.",
            f"Did you mean {near!r}?" if near else f"Formats: {', '.join(_SAID)}.",
        )
    allowed = ("format", "ending", *_SAID[name])
    for key in known:
        if key not in allowed:
            raise metadata.fail(
                (*where, key), f"{key!r} says nothing of {name} files.", f"It takes: {', '.join(allowed)}."
            )
    for key, choices in _CHOICES.items():
        if key in known and known[key] not in choices:
            raise metadata.fail((*where, key), f"{key} are {' or '.join(map(repr, choices))}.")
    ending = metadata.typed(known, "ending", str, where) or f".{'txt' if name == FIXED else name}"
    if not re.fullmatch(r"\.\w+", ending):
        raise metadata.fail((*where, "ending"), f"{ending!r} is no ending of a file's name.", 'Write ".txt".')
    nested = metadata.typed(known, "nested", bool, where)
    return Form(
        format=name,
        sheet=metadata.typed(known, "sheet", str, where),
        into=metadata.typed(known, "into", str, where),
        records=_path(metadata, known, name, where),
        nested=nested is None or nested,
        blanks=known.get("blanks", "null"),
        formulas=known.get("formulas", TOLD),
        ending=ending,
        lines=_lines(metadata, known, name, where),
    )


def _lines(metadata: Metadata, known: Mapping[str, Any], name: str, where: KeyPath) -> Lines:
    """What stands in each record of other lists."""
    said = metadata.typed(known, "lines", dict, where) or {}
    at = (*where, "lines")
    fits = {XML: XML_NAME, CSV: _TAG, TSV: _TAG}.get(name)
    for list_name, heading in said.items():
        if not isinstance(heading, str) or not heading or (fits is not None and not fits.fullmatch(heading)):
            raise metadata.fail(
                (*at, list_name),
                "it is the heading that the records of a list stand under.",
                'Write {"charges": "lines"}.',
            )
    if len({*said.values()}) < len(said):
        raise metadata.fail(at, "two lists cannot stand under one heading.")
    tag = known.get("tag")
    if said and name in (CSV, TSV) and not (isinstance(tag, str) and _TAG.fullmatch(tag) and tag not in said.values()):
        raise metadata.fail(
            at,
            "lines in a text have tags, and so have the records that they belong to.",
            'Add "tag": "BILL" to the form.',
        )
    return Lines(
        dict(said), metadata.typed(known, "tag", str, where), metadata.typed(known, "marker", str, where) or "#"
    )


def _path(metadata: Metadata, known: Mapping[str, Any], name: str, where: KeyPath) -> tuple[str, ...]:
    said = metadata.typed(known, "records", str, where)
    if name != XML:
        return tuple(said.split(".")) if said else ()
    path = tuple((said or "records.record").split("."))
    if len(path) < 2 or not all(map(XML_NAME.fullmatch, path)):
        raise metadata.fail(
            (*where, "records"),
            f"{said!r} is no path of elements.",
            'Write "export.clients.client": the root first, each record last.',
        )
    return path


def field_form(metadata: Metadata, column: Mapping[str, Any], at: KeyPath) -> FieldForm:
    """What a column says of where it stands. Raises LayoutError at what is wrong."""
    width, start = (metadata.typed(column, key, int, at) for key in (WIDTH, START))
    for key, count in ((WIDTH, width), (START, start)):
        if count == 0:
            raise metadata.fail((*at, key), "characters are counted from 1.")
    padding = metadata.typed(column, PADDING, dict, at) or {}
    sign, where = padding.get("with", " "), padding.get("at", "end")
    if set(padding) - {"with", "at"} or not isinstance(sign, str) or len(sign) != 1 or where not in ("start", "end"):
        raise metadata.fail(
            (*at, PADDING), "padding is one character, at the start or the end.", 'Write {"with": "0", "at": "start"}.'
        )
    return FieldForm(width, start, sign, where == "start", bool(metadata.typed(column, ATTRIBUTE, bool, at)))


def way_to(title: str, name: str, form: Form) -> tuple[str, ...]:
    """The names that lie within each other, of the heading of a field; one alone, where its dots are only signs (as in "Tel." and "Tel. 2").

    In XML, elements are named by the heading if it can be the name of one, else by the field's `name`.
    """
    parts = tuple(title.split("."))
    if form.format == XML and not all(map(XML_NAME.fullmatch, parts if form.nested else (title,))):
        title, parts = name, tuple(name.split("."))
    nests = form.nested and form.format in NESTED and all(part and part == part.strip() for part in parts)
    return parts if nests else (title,)


def misfit(form: Form, ways: Sequence[tuple[str, ...]], fields: Sequence[FieldForm]) -> tuple[int, str, str] | None:
    """Why a field cannot be written in a form, of the names that lead to each: its number, what is wrong, and what can be done."""
    taken = {way: number for number, way in enumerate(ways)} if form.format in NESTED else {}
    for number, way in enumerate(ways) if form.format in NESTED else ():
        if taken[way] != number:
            return number, f"{'.'.join(way)!r} would stand there twice.", "Give one of the two another heading or name."
        inside = next((way[:n] for n in range(1, len(way)) if way[:n] in taken), None)
        if inside is not None:
            return (
                number,
                f"{'.'.join(way)!r} would stand within {'.'.join(inside)!r}, which is a value itself.",
                'Say "nested": false in the form, or name one of them otherwise.',
            )
        wrong = next((name for name in way if form.format == XML and not XML_NAME.fullmatch(name)), None)
        if wrong is not None:
            return (
                number,
                f"{wrong!r} cannot be the name of an element.",
                "Its heading (titles), or else its name, names the element: letters, digits, _ and -, no spaces.",
            )
    if form.format == FIXED:
        end = 0
        for number, one in enumerate(fields):
            if one.width is None:
                return number, "a field of a file of fixed width has a width.", f'Add "{WIDTH}": 10.'
            start = one.start or end + 1
            if start <= end:
                return (
                    number,
                    f"it begins at character {start}, and the field before ends at {end}.",
                    "Fields stand in the order of their characters.",
                )
            end = start + one.width - 1
    return None
