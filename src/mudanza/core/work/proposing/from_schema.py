"""A JSON Schema as a proposal (draft 2020-12, and what older drafts share with it): the properties of a record.

Source: JSON Schema, "Validation" (draft 2020-12), sections 6 and 7.3.
"""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from typing import Any

from mudanza.core.documents.document import Document
from mudanza.core.work.proposing.facts import Facts, Proposal, Takes

_KINDS = {"string": "string", "integer": "integer", "number": "decimal", "boolean": "boolean"}
_FORMATS = {"date": "date", "date-time": "dateTime", "time": "time", "duration": "duration"}
_PATTERNS = {
    "email": r"[^@\s]+@[^@\s]+",
    "uuid": r"[0-9a-fA-F]{8}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{12}",
    "uri": r"[A-Za-z][A-Za-z0-9+.\-]*:\S+",
    "ipv4": r"[0-9]{1,3}(\.[0-9]{1,3}){3}",
}
#: a record within a record, so deep at most
_DEEPEST = 5
_SHORT = {
    "$ref": "reference",
    "oneOf": "choice",
    "anyOf": "choice",
    "allOf": "part",
    "if": "condition",
    "not": "exclusion",
}


def from_schema(document: Document, source: str) -> Proposal:
    """The fields of a schema. Raises LayoutError where it describes no record."""
    root = document.content
    if not isinstance(root, dict):
        raise document.fail((), "a JSON Schema is an object in braces.")
    reading = _Schema(document, root)
    record = reading.record(root)
    fields = tuple(reading.fields(record, "", 0))
    if not fields:
        raise document.fail((), "the schema describes no record with properties.", "Give the schema of one record.")
    return Proposal("JSON Schema", source, fields, remarks=tuple(dict.fromkeys(reading.remarks)))


class _Schema:
    """A schema under reading."""

    def __init__(self, document: Document, root: Mapping[str, Any]) -> None:
        self.document, self.root = document, root
        self.remarks: list[str] = []

    def record(self, node: Mapping[str, Any]) -> Mapping[str, Any]:
        """The schema of a record: this one, or that of the items of a list."""
        node = self.whole(node)
        if "properties" not in node and isinstance(node.get("items"), dict):
            return self.record(node["items"])
        return node

    def whole(self, node: Mapping[str, Any]) -> Mapping[str, Any]:
        """A schema with what it refers to, and with all its parts."""
        seen: set[str] = set()
        while isinstance(node.get("$ref"), str):
            target = node["$ref"]
            if target in seen:
                raise self.document.fail((), f"the reference {target!r} leads back to itself.")
            seen.add(target)
            node = {**self._at(target), **{k: v for k, v in node.items() if k != "$ref"}}
        made: dict[str, Any] = dict(node)
        for part in node.get("allOf", ()) if isinstance(node.get("allOf"), list) else ():
            if isinstance(part, dict):
                part = self.whole(part)
                made = {**part, **made, "properties": {**_object(part, "properties"), **_object(made, "properties")}}
                made["required"] = [*_list(part, "required"), *_list(made, "required")]
        return made

    def _at(self, target: str) -> Mapping[str, Any]:
        node: Any = self.root
        if not target.startswith("#"):
            raise self.document.fail(
                (),
                f"the reference {target!r} leads out of the file.",
                "Put what it refers to into the file, under $defs.",
            )
        for step in filter(None, target[1:].split("/")):
            step = step.replace("~1", "/").replace("~0", "~")
            node = node.get(step) if isinstance(node, dict) else None
        if not isinstance(node, dict):
            raise self.document.fail((), f"the reference {target!r} leads nowhere.")
        return node

    def fields(self, record: Mapping[str, Any], before: str, depth: int) -> Iterator[Facts]:
        """The properties of a record; those of a record within it with both names, and a point between."""
        required = set(filter(lambda one: isinstance(one, str), _list(record, "required")))
        for name, said in _object(record, "properties").items():
            path = f"{before}{name}"
            if not isinstance(said, dict):
                self.remarks.append(f"{path}: says nothing of its values")
                yield Facts(path)
                continue
            node = self.whole(said)
            if "properties" in node:
                if depth >= _DEEPEST:
                    self.remarks.append(f"{path}: a record {depth} records deep is left out")
                    continue
                yield from self.fields(node, f"{path}.", depth + 1)
                continue
            yield self._field(path, node, name in required and not before)

    def _field(self, path: str, node: Mapping[str, Any], required: bool) -> Facts:
        for key in ("oneOf", "anyOf", "not", "if"):
            if key in node and not (key in ("oneOf", "anyOf") and _consts(node[key])):
                self.remarks.append(f"{path}: {key} is not taken over ({_SHORT[key]})")
        kinds = node.get("type", [])
        kinds = [kinds] if isinstance(kinds, str) else kinds if isinstance(kinds, list) else []
        kinds = [one for one in kinds if isinstance(one, str)]
        several = "array" in kinds
        inner = self.whole(node["items"]) if several and isinstance(node.get("items"), dict) else node
        kind = next((one for one in ([inner.get("type")] if several else kinds) if one in _KINDS), None)
        if several:
            self.remarks.append(f"{path}: several values; say in the layout which separator stands between them")
        description = node.get("description") if isinstance(node.get("description"), str) else None
        default = node.get("default")
        return Facts(
            title=path,
            takes=self._takes(path, inner, kind),
            label=node["title"] if isinstance(node.get("title"), str) else None,
            description=description,
            required=required and "null" not in kinds,
            default=None if default is None or isinstance(default, dict | list) else _text(default),
        )

    def _takes(self, path: str, node: Mapping[str, Any], kind: str | None) -> Takes:
        values = (
            node.get("enum") if isinstance(node.get("enum"), list) else _consts(node.get("oneOf") or node.get("anyOf"))
        )
        if "const" in node:
            values = [node["const"]]
        permitted = tuple(_text(one) for one in values or () if one is not None and not isinstance(one, dict | list))
        if permitted:
            return Takes("string", permitted=permitted)
        form = node.get("format")
        if kind == "string" and form in _FORMATS:
            return Takes(
                _FORMATS[str(form)], minimum=_said(node, "formatMinimum"), maximum=_said(node, "formatMaximum")
            )
        if kind in ("integer", "number"):
            places = None
            step = node.get("multipleOf")
            if isinstance(step, float) and kind == "number" and 0 < step < 1:
                plain = f"{step:.10f}".rstrip("0")
                places = len(plain.partition(".")[2])
            if step is not None and places is None and step != 1:
                self.remarks.append(f"{path}: multipleOf {step} is not taken over")
            low, high = _said(node, "minimum"), _said(node, "maximum")
            return Takes(_KINDS[kind], places=places, minimum=low, maximum=high)
        pattern = node.get("pattern") if isinstance(node.get("pattern"), str) else None
        made = None if pattern is None else _whole_value(pattern)
        if made is None and isinstance(form, str):
            made = _PATTERNS.get(form)
            if form not in _PATTERNS:
                self.remarks.append(f"{path}: the format {form!r} is not taken over")
        size = node.get("maxLength")
        return Takes(_KINDS.get(kind or ""), max_length=size if isinstance(size, int) else None, form=made)


def _whole_value(pattern: str) -> str:
    """A pattern that may stand anywhere in a value, as one for the whole."""
    start = pattern.removeprefix("^") if pattern.startswith("^") else f".*{pattern}"
    return start.removesuffix("$") if start.endswith("$") and not start.endswith("\\$") else f"{start}.*"


def _consts(parts: Any) -> list[Any] | None:
    if isinstance(parts, list) and parts and all(isinstance(one, dict) and "const" in one for one in parts):
        return [one["const"] for one in parts]
    return None


def _object(node: Mapping[str, Any], key: str) -> Mapping[str, Any]:
    return node[key] if isinstance(node.get(key), dict) else {}


def _list(node: Mapping[str, Any], key: str) -> list[Any]:
    return node[key] if isinstance(node.get(key), list) else []


def _said(node: Mapping[str, Any], key: str) -> str | None:
    value = node.get(key)
    return None if value is None or isinstance(value, bool | dict | list) else str(value)


def _text(value: Any) -> str:
    return value if isinstance(value, str) else json.dumps(value)
