"""The plain checks of a metadata document's objects (CSV on the Web, "Metadata Vocabulary", sections 5 and 6), with the properties of our own."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from typing import Any

from mudanza.core.documents.document import Document
from mudanza.core.documents.errors import MudanzaError, nearest
from mudanza.core.documents.marks import KeyPath

KEY_IGNORES_CASE = "urn:mudanza:keyIgnoresCase"
KEY_IGNORES, KEY_LENGTH = "urn:mudanza:keyIgnores", "urn:mudanza:keyLength"
LEFT_OUT_OF_ADDITIONS = "urn:mudanza:leftOutOfAdditions"
FORBIDDEN = "urn:mudanza:forbidden"
CHANGED_FIELDS_ONLY = "urn:mudanza:changedFieldsOnly"
OBSERVED, ABSENT = "urn:mudanza:observed", "urn:mudanza:absent"
ONE_OF, AT_LEAST_ONE_OF = "urn:mudanza:oneOf", "urn:mudanza:atLeastOneOf"
REQUIRED_WHEN, ROW_LENGTH, SURVIVES = "urn:mudanza:requiredWhen", "urn:mudanza:rowLength", "urn:mudanza:survives"
COLUMN_ORDER = "urn:mudanza:columnOrder"
ROWS_PER_FILE, BYTES_PER_FILE = "urn:mudanza:rowsPerFile", "urn:mudanza:bytesPerFile"
ACTIONS, LABELS = "urn:mudanza:actions", "urn:mudanza:knownLabels"
FORM, ATTRIBUTE = "urn:mudanza:form", "urn:mudanza:attribute"
WIDTH, START, PADDING = "urn:mudanza:width", "urn:mudanza:start", "urn:mudanza:padding"
_OWN = {
    KEY_IGNORES_CASE, KEY_IGNORES, KEY_LENGTH, LEFT_OUT_OF_ADDITIONS, CHANGED_FIELDS_ONLY, FORBIDDEN, OBSERVED, ABSENT, ONE_OF,
    AT_LEAST_ONE_OF, REQUIRED_WHEN, ROW_LENGTH, SURVIVES, COLUMN_ORDER, ROWS_PER_FILE, BYTES_PER_FILE, ACTIONS, LABELS, FORM, ATTRIBUTE, WIDTH, START, PADDING,
}  # fmt: skip

#: a language as BCP 47 writes it, as far as its shape tells
LANGUAGE = re.compile(r"[A-Za-z]{2,8}(-[A-Za-z0-9]{1,8})*|[xi](-[A-Za-z0-9]{1,8})+")
_TEMPLATES = ("aboutUrl", "propertyUrl", "valueUrl")
_BOOLEANS = ("ordered", "suppressOutput", "virtual", "required")
_CHOICES = {"textDirection": ("ltr", "rtl", "auto", "inherit"), "tableDirection": ("ltr", "rtl", "auto", "default")}


class Metadata:
    """A metadata document under reading."""

    def __init__(self, document: Document, root: KeyPath = ()) -> None:
        self.document, self.root = document, root

    def fail(self, where: KeyPath, what: str, hint: str | None = None) -> MudanzaError:
        """The error at a key."""
        return self.document.fail((*self.root, *where), what, hint)

    def known(
        self, node: Any, where: KeyPath, allowed: set[str], what: str, type_: str | None = None
    ) -> Mapping[str, Any]:
        """The node as an object whose every key is allowed, and whose general properties are as they must be; `type_` is what its @type may say."""
        if not isinstance(node, dict):
            raise self.fail(where, f"{what} must be an object in braces, not {_named(node)}.")
        for key, value in node.items():
            at = (*where, key)
            if key in allowed or key in _OWN:
                self._general(key, value, at, node, type_)
            elif ":" in key and not key.startswith(("urn:mudanza:", "_:")):
                self._common(value, at)
            else:
                near = nearest(key, [*sorted(allowed), *sorted(_OWN)])
                raise self.fail(
                    at,
                    f"{key!r} is no property of {what}.",
                    f"Did you mean {near!r}?" if near else f"It takes: {', '.join(sorted(allowed))}.",
                )
        return node

    def _general(self, key: str, value: Any, at: KeyPath, node: Mapping[str, Any], type_: str | None) -> None:
        """The properties that say nothing of cells, but must be right all the same (sections 5.1, 5.7 and 6.2)."""
        if key == "@id" and (not isinstance(value, str) or value.startswith("_:")):
            raise self.fail(at, '@id is an address, and none that begins with "_:".')
        if key == "@type" and type_ is not None and value != type_:
            raise self.fail(at, f'@type must be "{type_}" here, not {_named(value)}.')
        if key in _TEMPLATES:
            self.typed(node, key, str, at[:-1])
        if key in _BOOLEANS:
            self.typed(node, key, bool, at[:-1])
        if key == "lang" and not (isinstance(value, str) and LANGUAGE.fullmatch(value)):
            raise self.fail(at, f"{_named(value)} is no language.", 'Languages are written as "pt" or "en-GB".')
        if key in _CHOICES and value not in _CHOICES[key]:
            raise self.fail(at, f"{key} is one of {', '.join(_CHOICES[key])}, not {_named(value)}.")
        if key == "notes":
            self._common(self.typed(node, key, list, at[:-1]), at)
        if key == "transformations":
            for number, one in enumerate(self.typed(node, key, list, at[:-1]) or []):
                inside = (*at, number)
                self.known(one, inside, _TRANSFORMATION, "a transformation", "Template")
                for part in ("url", "scriptFormat", "targetFormat"):
                    if not isinstance(one.get(part), str):
                        raise self.fail(inside, f"a transformation needs {part}, a text.")

    def _common(self, value: Any, at: KeyPath) -> None:
        """A value of a property from elsewhere (section 5.8)."""
        if isinstance(value, list):
            for number, one in enumerate(value):
                self._common(one, (*at, number))
        if not isinstance(value, dict):
            return
        for key, inner in value.items():
            inside = (*at, key)
            if key.startswith("@") and key not in ("@id", "@type", "@value", "@language"):
                raise self.fail(inside, f"{key} has no place in a common property (section 5.8).")
            if key == "@id" and (not isinstance(inner, str) or inner.startswith("_:")):
                raise self.fail(inside, '@id is an address, and none that begins with "_:".')
            if key == "@type" and any(
                not isinstance(one, str) or one.startswith("_:")
                for one in (inner if isinstance(inner, list) else [inner])
            ):
                raise self.fail(inside, "@type names a type.")
            if key == "@language" and (
                "@value" not in value or not (isinstance(inner, str) and LANGUAGE.fullmatch(inner))
            ):
                raise self.fail(inside, "@language is a language, and stands beside @value.")
            if key == "@value" and (
                set(value) - {"@value", "@language", "@type"} or {"@language", "@type"} <= set(value)
            ):
                raise self.fail(inside, "beside @value stands @language, or @type, and nothing else (section 5.8).")
            if not key.startswith("@"):
                if ":" not in key:
                    raise self.fail(inside, f"{key!r} is no common property: it has no prefix and is no address.")
                self._common(inner, inside)

    def typed(self, node: Mapping[str, Any], key: str, kind: type, where: KeyPath) -> Any:
        """The value of a key if it is of that type, or None if it is absent."""
        if key not in node:
            return None
        value = node[key]
        if not isinstance(value, kind) or (kind is int and isinstance(value, bool)):
            raise self.fail((*where, key), f"{key} must be {_TYPE_NAMES[kind]}, not {_named(value)}.")
        if kind is int and isinstance(value, int) and value < 0:
            raise self.fail((*where, key), f"{key} must not be negative.")
        if kind is int and isinstance(value, int) and value > 2**53:
            raise self.fail((*where, key), f"{key} {str(value)[:20]}… is too large.")
        return value

    def texts(self, value: Any, where: KeyPath) -> tuple[str, ...]:
        """A text or a list of texts, at least one, as a tuple."""
        if value == []:
            raise self.fail(where, "a list of at least one text is needed here.")
        items = value if isinstance(value, list) else [value]
        for index, item in enumerate(items):
            if not isinstance(item, str):
                raise self.fail((*where, index), f"a text is needed here, not {_named(item)}.")
        return tuple(items)


_TRANSFORMATION = {"@id", "@type", "url", "scriptFormat", "source", "targetFormat", "titles"}
_TYPE_NAMES = {str: "a text", bool: "true or false", int: "a whole number", dict: "an object", list: "a list"}


def _named(value: Any) -> str:
    return "null" if value is None else _TYPE_NAMES.get(type(value), "a number") + f" ({json.dumps(value)[:40]})"
