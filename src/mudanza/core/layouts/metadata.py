"""The plain checks of a metadata document's objects (CSV on the Web), with the properties of our own."""

from __future__ import annotations

import json
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
_OWN = {KEY_IGNORES_CASE, KEY_IGNORES, KEY_LENGTH, LEFT_OUT_OF_ADDITIONS, CHANGED_FIELDS_ONLY, FORBIDDEN}


class Metadata:
    """A metadata document under reading."""

    def __init__(self, document: Document, root: KeyPath = ()) -> None:
        self.document, self.root = document, root

    def fail(self, where: KeyPath, what: str, hint: str | None = None) -> MudanzaError:
        """The error at a key."""
        return self.document.fail((*self.root, *where), what, hint)

    def known(self, node: Any, where: KeyPath, allowed: set[str], what: str) -> Mapping[str, Any]:
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

    def typed(self, node: Mapping[str, Any], key: str, kind: type, where: KeyPath) -> Any:
        """The value of a key if it is of that type, or None if it is absent."""
        value = node.get(key)
        wrong = not isinstance(value, kind) or (kind is int and isinstance(value, bool))
        if value is not None and wrong:
            raise self.fail((*where, key), f"{key} must be {_TYPE_NAMES[kind]}, not {_named(value)}.")
        if kind is int and value is not None and value < 0:
            raise self.fail((*where, key), f"{key} must not be negative.")
        return value

    def texts(self, value: Any, where: KeyPath) -> tuple[str, ...]:
        """A text or a list of texts, as a tuple."""
        items = value if isinstance(value, list) else [value]
        for index, item in enumerate(items):
            if not isinstance(item, str):
                raise self.fail((*where, index), f"a text is needed here, not {_named(item)}.")
        return tuple(items)


_TYPE_NAMES = {str: "a text", bool: "true or false", int: "a whole number", dict: "an object", list: "a list"}


def _named(value: Any) -> str:
    return "null" if value is None else _TYPE_NAMES.get(type(value), "a number") + f" ({json.dumps(value)[:40]})"
