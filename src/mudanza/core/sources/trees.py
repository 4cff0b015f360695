"""Trees of records, as JSON and XML have them: where lists of objects stand, walking to them, and making objects plain."""

from __future__ import annotations

import json
from collections.abc import Container, Iterator, Sequence
from itertools import chain
from typing import Any

from mudanza.core.values.row_columns import MOST_COLUMNS

#: stands between several texts in one column unless a setting says otherwise
TEXTS = "; "

_NESTED = frozenset((dict, list))

Tree = dict[str, Any]
Plain = dict[str, str | None]


class TooManyKeysError(Exception):
    """Objects have so many different keys that they are no records."""


class Outline:
    """What objects have in common: the keys of all of them in the order of their appearance, and what stands under each.

    It stays small, however many objects there are.
    """

    def __init__(self) -> None:
        #: by key, what its values are (plain, an object, a list of objects, a list of objects and others) with the outline of the objects
        self._keys: dict[str, dict[str, Outline]] = {}

    def add(self, objects: Sequence[Tree]) -> None:
        """Take in some objects."""
        alike: dict[tuple[str, ...], list[Tree]] = {}
        for one in objects:
            alike.setdefault(tuple(one), []).append(one)
        for keys, group in alike.items():
            for key, values in zip(keys, zip(*map(dict.values, group), strict=True), strict=True):
                self._add_values(values, self._keys.setdefault(key, {}))
        if len(self._keys) > MOST_COLUMNS:
            raise TooManyKeysError

    def _add_values(self, values: Sequence[Any], kinds: dict[str, Outline]) -> None:
        for kind in dict.fromkeys(map(type, values)):
            if kind is dict:
                kinds.setdefault("object", Outline()).add([one for one in values if type(one) is dict])
            elif kind is list:
                self._add_lists([one for one in values if type(one) is list], kinds)
            elif "plain" not in kinds:
                kinds["plain"] = Outline()

    def _add_lists(self, lists: Sequence[list[Any]], kinds: dict[str, Outline]) -> None:
        within: dict[str, list[Tree]] = {}
        for one in lists:
            direct = sum(type(item) is dict for item in one)
            kind = "plain" if not direct else "objects" if direct == len(one) else "mixed"
            within.setdefault(kind, []).extend(_objects(one))
        for kind, objects in within.items():
            kinds.setdefault(kind, Outline()).add(objects)

    def trees(self) -> list[Tree]:
        """Objects with blank values that have, between them, all there is: one, and more for keys under which different things stand."""
        first: Tree = {}
        others: list[Tree] = []
        for key, kinds in self._keys.items():
            variants = [tree for kind, own in kinds.items() for tree in own._variants(kind)]
            first[key] = variants[0]
            others += [{key: variant} for variant in variants[1:]]
        return [first, *others]

    def _variants(self, kind: str) -> list[Any]:
        if kind == "object":
            return list(self.trees())
        if kind == "plain":
            return [None]
        return [[*self.trees(), *([None] if kind == "mixed" else [])]]


def _objects(items: list[Any]) -> Iterator[Tree]:
    """The objects of a list, and of the lists in it."""
    for item in items:
        if isinstance(item, dict):
            yield item
        elif isinstance(item, list):
            yield from _objects(item)


def outline(tree: Any) -> Any:
    """A tree with all that another one has, its values blank, each list with few objects: what columns there are can be seen in it."""
    seen = Outline()
    seen.add([{"": tree}])
    return seen.trees()[0][""]


def is_unclear(seen: Any) -> bool:
    """Whether an outline does not tell the columns alone: different things stand under one key, or a key with a dot could be two."""
    if isinstance(seen, dict):
        return any("." in key or is_unclear(value) for key, value in seen.items())
    return isinstance(seen, list) and (sum(isinstance(item, dict) for item in seen) > 1 or any(map(is_unclear, seen)))


def lists_in(tree: Any, path: str = "") -> list[str]:
    """The paths of all lists of objects, outermost first."""
    found: dict[str, None] = {}
    if isinstance(tree, list):
        if any(isinstance(item, dict) for item in tree):
            found[path] = None
        for item in tree:
            if isinstance(item, dict):
                found.update(dict.fromkeys(lists_in(item, path)))
    elif isinstance(tree, dict):
        for key, value in tree.items():
            if isinstance(value, dict | list):
                found.update(dict.fromkeys(lists_in(value, joined(path, key))))
    return sorted(found, key=lambda p: p.count(".") + (p != ""))


def joined(path: str, key: str) -> str:
    """The path of a key."""
    return f"{path}.{key}" if path else key


def outermost(paths: list[str]) -> list[str]:
    """The paths that lie in no other."""
    return [p for p in paths if not any(p != q and (q == "" or p.startswith(f"{q}.")) for q in paths)]


def records_at(tree: Any, path: str) -> Iterator[tuple[Tree, Plain]]:
    """The records at a path, each with the plain values of the lists it lies in, named `list.column`."""
    yield from walk(tree, split(path), "", {})


def split(path: str) -> list[str]:
    """The parts of a path."""
    return [p for p in path.split(".") if p]


def walk(node: Any, rest: list[str], name: str, above: Plain) -> Iterator[tuple[Tree, Plain]]:
    """The records further on: below a node that is called `name`, along the rest of a path."""
    if isinstance(node, list):
        for item in node:
            inner = above
            if rest and isinstance(item, dict) and not name:
                inner = {**above, **_named(item, "record", rest)}
            yield from walk(item, rest, name, inner)
    elif isinstance(node, dict):
        if not rest:
            yield node, above
            return
        # a key may itself have dots
        for size in range(len(rest), 0, -1):
            key = ".".join(rest[:size])
            if key in node:
                inner = {**above, **_named(node, name, rest)} if name else above
                yield from walk(node[key], rest[size:], key, inner)
                return


def _named(record: Tree, name: str, rest: list[str]) -> Plain:
    """The plain values of a record on the way, without what the way leads on to."""
    row: Plain = {}
    for key, value in record.items():
        if key == rest[0] or ".".join(rest).startswith(f"{key}."):
            continue
        if isinstance(value, dict):
            flatten(value, key, TEXTS, row)
        elif not isinstance(value, list):
            row[key] = text_of(value)
    return {f"{name}.{key}": value for key, value in row.items()}


def flatten(value: Any, prefix: str, texts: str, row: Plain) -> None:
    """Add a value to a plain record: objects as dotted columns, lists as several texts in one column."""
    if isinstance(value, dict):
        for key, inner in value.items():
            flatten(inner, joined(prefix, key), texts, row)
    elif isinstance(value, list):
        objects = [item for item in value if isinstance(item, dict)]
        if objects and len(objects) == len(value):
            rows: list[Plain] = []
            for item in objects:
                rows.append({})
                flatten(item, prefix, texts, rows[-1])
            for key in dict.fromkeys(k for one in rows for k in one):
                row[free_name(key, row)] = texts.join([one.get(key) or "" for one in rows])
        else:
            row[free_name(prefix, row)] = texts.join([text_of(item) or "" for item in value]) or None
    else:
        row[free_name(prefix, row)] = text_of(value)


def columns_of(records: Sequence[Tree], texts: str, prefix: str = "") -> dict[str, list[Any]]:
    """The same for many records at once, as columns, where no name is taken twice; what is no text yet is left as it is."""
    found: dict[str, list[Any]] = {}
    for key in dict.fromkeys(chain.from_iterable(records)):
        name = joined(prefix, key)
        values = [record.get(key) for record in records]
        kinds = set(map(type, values))
        if dict in kinds:
            within = [one if type(one) is dict else {} for one in values]
            for own, texts_ in columns_of(within, texts, name).items():
                _put(found, own, texts_)
        if list in kinds:
            for own, texts_ in _listed(values, name, texts).items():
                _put(found, own, texts_)
        if kinds - _NESTED - {type(None)}:
            _put(found, name, [None if type(one) in _NESTED else one for one in values] if kinds & _NESTED else values)
    return found


def _listed(values: Sequence[Any], name: str, texts: str) -> dict[str, list[Any]]:
    """The columns that those values make which are lists."""
    found: dict[str, list[Any]] = {}
    for at, value in enumerate(values):
        if type(value) is list:
            row: Plain = {}
            flatten(value, name, texts, row)
            for own, text in row.items():
                if own not in found:
                    found[own] = [None] * len(values)
                found[own][at] = text
    return found


def _put(found: dict[str, list[Any]], name: str, values: list[Any]) -> None:
    """Add a column; where another key made it in other records, its values stay."""
    have = found.get(name)
    found[name] = values if have is None else [b if a is None else a for a, b in zip(have, values, strict=True)]


def free_name(name: str, taken: Container[str]) -> str:
    """A name, numbered if it is taken: `{"a.b": 1, "a": {"b": 2}}` has a column `a.b` and a column `a.b (2)`."""
    free, number = name, 1
    while free in taken:
        number += 1
        free = f"{name} ({number})"
    return free


def text_of(value: Any) -> str | None:
    """A value that is neither object nor list, as text; what is one, as JSON."""
    if value is None or isinstance(value, str):
        return value
    if isinstance(value, bool):
        return "true" if value else "false"
    return json.dumps(value, ensure_ascii=False) if isinstance(value, dict | list) else str(value)
