"""A layout written from what is known of its fields, as CSV on the Web metadata that says no more than that."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping, Sequence
from decimal import Decimal
from pathlib import Path
from typing import Any

from mudanza.core.documents.document import read_json
from mudanza.core.documents.errors import LayoutError
from mudanza.core.layouts.csvw import CONTEXT, layouts_from
from mudanza.core.layouts.metadata import ABSENT, OBSERVED
from mudanza.core.work.proposing.facts import Facts, Takes, name_of
from mudanza.core.work.proposing.joining import Joined

_SPECIAL = re.compile(r"([\\.^$|?*+()\[\]{}])")
#: what is taken out of a datatype that cannot be used, the least needed first
_DISPENSABLE = ("format", "minimum", "maximum", "maxLength")


def metadata_from(known: Joined) -> tuple[dict[str, Any], list[str]]:
    """The metadata of a table, and remarks on what could not be said in it."""
    remarks: list[str] = []
    columns: list[dict[str, Any]] = []
    taken: set[str] = set()
    for facts in known.fields:
        name = (
            facts.name
            if re.fullmatch(r"[A-Za-z][A-Za-z0-9_]*", facts.name) and facts.name not in taken
            else name_of(facts.title, taken)
        )
        taken.add(name)
        column, said = _column(facts, name, known.decimal)
        columns.append(column)
        remarks += said
    schema: dict[str, Any] = {"columns": columns}
    keys = [column["name"] for column, facts in zip(columns, known.fields, strict=True) if facts.key]
    if keys:
        schema["primaryKey"] = keys[0] if len(keys) == 1 else keys
    elif columns:
        remarks.append(
            f'no field is said to be the key; add "primaryKey": "{columns[0]["name"]}", or another, to the tableSchema'
        )
    references = [
        {
            "columnReference": column["name"],
            "reference": {"resource": f"{facts.refers[0]}.csv", "columnReference": facts.refers[1]},
        }
        for column, facts in zip(columns, known.fields, strict=True)
        if facts.refers
    ]
    if references:
        schema["foreignKeys"] = references
    metadata: dict[str, Any] = {"@context": CONTEXT}
    dialect = {"delimiter": known.delimiter, "encoding": known.encoding}
    said_of_files = {
        k: v for k, v in dialect.items() if v is not None and (k, v) not in (("delimiter", ","), ("encoding", "utf-8"))
    }
    if said_of_files:
        metadata["dialect"] = said_of_files
    return {**metadata, "tableSchema": schema}, remarks


def _column(facts: Facts, name: str, decimal: str | None) -> tuple[dict[str, Any], list[str]]:
    column: dict[str, Any] = {"name": name, "titles": facts.title}
    if facts.label:
        column["dc:title"] = facts.label
    if facts.description:
        column["dc:description"] = facts.description
    if facts.required or facts.key:
        column["required"] = True
    datatype = _datatype(facts.takes, decimal)
    if datatype:
        column["datatype"] = datatype
    if facts.default is not None:
        column["default"] = _default(facts, decimal)
    if facts.observed:
        column[OBSERVED] = True
    if facts.absent:
        column[ABSENT] = True
    return _usable(column, facts.title)


def _default(facts: Facts, decimal: str | None) -> str:
    """A default as the field writes it."""
    said, places = facts.default or "", facts.takes.places
    if not places or not re.fullmatch(r"-?[0-9]+(\.[0-9]+)?", said):
        return said
    return f"{Decimal(said):.{places}f}".replace(".", decimal or ".")


def _datatype(takes: Takes, decimal: str | None) -> dict[str, Any] | str | None:
    if takes.permitted:
        return {"base": "string", "format": permitted_form(takes.permitted)}
    datatype: dict[str, Any] = {"base": takes.base or "string"}
    if takes.base in ("decimal", "integer", "double") and (takes.places or decimal):
        sign = decimal or "."
        pattern = f"0{sign}{'0' * takes.places}" if takes.places else None
        datatype["format"] = (
            pattern
            if sign == "." and pattern
            else {k: v for k, v in (("pattern", pattern), ("decimalChar", sign)) if v}
        )
    elif takes.form is not None:
        datatype["format"] = takes.form
    for key, value in (
        ("maxLength", takes.max_length),
        ("minimum", takes.minimum),
        ("maximum", takes.maximum),
    ):
        if value is not None:
            datatype[key] = value
    if len(datatype) > 1:
        return datatype
    return None if datatype["base"] == "string" else str(datatype["base"])


def permitted_form(values: Sequence[str]) -> str:
    """The format of a field that takes these texts alone."""
    plain = [_SPECIAL.sub(r"\\\1", one) for one in values]
    return "|".join(plain) if len(plain) > 1 else f"(?:{plain[0]})"


def _usable(column: dict[str, Any], title: str) -> tuple[dict[str, Any], list[str]]:
    """The column without what the standard does not permit of it, which a list may well say."""
    remarks: list[str] = []
    for _ in range(len(_DISPENSABLE) + 2):
        try:
            check_column(column)
            return column, remarks
        except LayoutError as error:
            key = (error.place.key or "") if error.place is not None else ""
            part = key.rpartition(".")[2]
            remarks.append(f"{title}: {error.what.rstrip('.')}; left out")
            if part == "default":
                column = {k: v for k, v in column.items() if k != "default"}
                continue
            datatype = column.get("datatype")
            if not isinstance(datatype, dict):
                column = {k: v for k, v in column.items() if k not in ("datatype", "default")}
                continue
            gone = (
                part if part in datatype and part != "base" else next((k for k in _DISPENSABLE if k in datatype), None)
            )
            left = {k: v for k, v in datatype.items() if k != gone}
            column = {**column, "datatype": left if gone else "string"}
    return {k: v for k, v in column.items() if k not in ("datatype", "default")}, remarks


def check_column(column: Mapping[str, Any]) -> None:
    """Raise LayoutError where the standard does not permit a column so."""
    text = json.dumps({"@context": CONTEXT, "tableSchema": {"columns": [column]}})
    layouts_from(read_json(text, Path("layout.json")))


def layout_text(metadata: Mapping[str, Any]) -> str:
    """Metadata as people like to read it and git to compare it: a column in a line, all else indented."""
    schema = metadata.get("tableSchema")
    if not isinstance(schema, dict) or not isinstance(schema.get("columns"), list):
        return json.dumps(metadata, indent=2, ensure_ascii=False) + "\n"
    lines = ",\n".join(f"      {json.dumps(column, ensure_ascii=False)}" for column in schema["columns"])
    mark = "\x00columns\x00"
    whole = {**metadata, "tableSchema": {**schema, "columns": mark}}
    text = json.dumps(whole, indent=2, ensure_ascii=False)
    return text.replace(json.dumps(mark), f"[\n{lines}\n    ]") + "\n"
