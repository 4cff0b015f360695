"""Nested records, as JSON and XML have them, as plain ones: dotted columns, child lists, several texts in one column."""

from __future__ import annotations

import json
from collections.abc import Container, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path
from typing import Any

import polars as pl

from mudanza.core.documents.errors import Place, SourceError, few
from mudanza.core.sources.headings import tell_apart
from mudanza.core.sources.reader import Batch, BrokenRow, Encoding, FileFacts, ReadOptions, WithoutCells, shorter
from mudanza.core.values.row_columns import LINE

#: stands between several texts in one column unless a setting says otherwise
TEXTS = "; "
_BATCH = 50_000

Tree = dict[str, Any]


@dataclass(frozen=True)
class NestedFile(WithoutCells):
    """Records of a tree, opened for reading. `#line` is the number of the record, or its line if `numbers` has them.

    `path` is that of the records in the tree; the columns of the lists above them stand behind their own, as `parent.column`.
    """

    known_as: Path
    format: str
    size: int
    encoding: Encoding
    tree: Any
    path: str
    texts: str
    several: bool
    numbers: tuple[int, ...] | None = None
    broken: tuple[BrokenRow, ...] = ()

    @cached_property
    def _rows(self) -> list[dict[str, str | None]]:
        rows = []
        for record, parents in records_at(self.tree, self.path):
            row: dict[str, str | None] = {}
            flatten(record, "", self.texts, row)
            row.update({k: v for k, v in parents.items() if k not in row})
            rows.append(row)
        return rows

    @cached_property
    def raw_headings(self) -> tuple[str, ...]:
        names = dict.fromkeys(name for row in self._rows for name in row)
        above = _above(self.tree, self.path)
        return (*(n for n in names if n not in above), *(n for n in names if n in above))

    @cached_property
    def headings(self) -> tuple[str, ...]:
        return tuple(tell_apart(self.raw_headings))

    @cached_property
    def facts(self) -> FileFacts:
        own = f'records = "{self.path or "."}"'
        children = [
            p for p in lists_in(self.tree) if p != self.path and p.startswith(f"{self.path}." if self.path else "")
        ]
        notes = [("records", f"at {self.path or 'the top'}")]
        if children:
            notes.append(("inner lists", f"{few(children)}; each can be read as a list of its own"))
        return FileFacts(
            path=self.known_as,
            format=self.format,
            size=self.size,
            heading_line=0,
            text=self.encoding,
            unit="line" if self.numbers is not None else "record",
            part=self.path or None if self.several else None,
            notes=tuple(notes),
            proposal=(own,) if self.path else (),
        )

    def batches(self, *, first: bool = False) -> Iterator[Batch]:
        """The records, in file order."""
        size = 2000 if first else _BATCH
        rows = self._rows
        numbers = self.numbers or range(1, len(rows) + 1)
        for start in range(0, max(len(rows), 1), size):
            part, places = rows[start : start + size], list(numbers[start : start + size])
            broken = list(self.broken) if start == 0 else []
            try:
                frame = self._frame(part, places)
            except UnicodeEncodeError:
                # half of a pair of surrogates (RFC 8259, section 8.2) is no character
                odd = [not _is_text(row) for row in part]
                broken += [_undecodable(row, place) for row, place, bad in zip(part, places, odd, strict=True) if bad]
                good = [(row, place) for row, place, bad in zip(part, places, odd, strict=True) if not bad]
                frame = self._frame([row for row, _ in good], [place for _, place in good])
            yield Batch(frame, tuple(sorted(broken, key=lambda b: b.line)))

    def _frame(self, rows: Sequence[dict[str, str | None]], places: Sequence[int]) -> pl.DataFrame:
        data: dict[str, pl.Series] = {
            heading: pl.Series([row.get(name) or None for row in rows], dtype=pl.String)
            for heading, name in zip(self.headings, self.raw_headings, strict=True)
        }
        data[LINE] = pl.Series(list(places), dtype=pl.Int64)
        return pl.DataFrame(data)


def _is_text(row: dict[str, str | None]) -> bool:
    try:
        "".join(value or "" for value in row.values()).encode()
    except UnicodeEncodeError:
        return False
    return True


def _undecodable(row: dict[str, str | None], place: int) -> BrokenRow:
    text = json.dumps(row)
    return BrokenRow(place, "read.undecodable", text, shorter(text), rule="text without halves of surrogate pairs")


def open_tree(
    tree: Any, options: ReadOptions, known_as: Path, numbers: tuple[int, ...] | None = None, **facts: Any
) -> NestedFile:
    """The reader of the records of a tree. Raises SourceError if there are none, or none at the path said."""
    said = options.own.get("records")
    paths = lists_in(tree)
    if said is None:
        path = _main(tree, paths)
    else:
        path = said.strip(".")
        if not any(True for _ in records_at(tree, path)):
            raise SourceError(
                f"there are no records at {said!r}.",
                place=Place(str(known_as)),
                hint=f"There are records at: {few([p or '.' for p in paths])}."
                if paths
                else "The text has no list of records.",
            )
    if path is None:
        raise SourceError(
            "the text has no list of records.",
            place=Place(str(known_as)),
            hint='If one object is one record, say records = ".".',
        )
    texts = options.own.get("texts", TEXTS)
    # only the outermost records stand one on a line
    numbers = numbers if path == "" else None
    return NestedFile(
        known_as=known_as, tree=tree, path=path, texts=texts, several=len(paths) > 1, numbers=numbers, **facts
    )


def parts_of(tree: Any, options: ReadOptions) -> list[ReadOptions]:
    """The options that read the records and each list within them."""
    if "records" in options.own:
        return [options]
    paths = lists_in(tree)
    main = _main(tree, paths)
    if main is None:
        return [options]
    inner = [p for p in paths if p != main and p.startswith(f"{main}." if main else "")]
    return [replace(options, own={**options.own, "records": path or "."}) for path in (main, *inner)]


def lists_in(tree: Any, path: str = "", depth: int = 0) -> list[str]:
    """The paths of all lists of objects, outermost first."""
    found: dict[str, None] = {}
    if isinstance(tree, list):
        if any(isinstance(item, dict) for item in tree):
            found[path] = None
        for item in tree:
            if isinstance(item, dict):
                found.update(dict.fromkeys(lists_in(item, path, depth)))
    elif isinstance(tree, dict):
        for key, value in tree.items():
            if isinstance(value, dict | list):
                found.update(dict.fromkeys(lists_in(value, f"{path}.{key}" if path else key, depth + 1)))
    return sorted(found, key=lambda p: p.count(".") + (p != ""))


def _main(tree: Any, paths: list[str]) -> str | None:
    """The outermost list, and of several the longest."""
    outer = [p for p in paths if not any(p != q and (q == "" or p.startswith(f"{q}.")) for q in paths)]
    if not outer:
        return "" if isinstance(tree, dict) and tree else None
    return max(outer, key=lambda p: sum(1 for _ in records_at(tree, p)))


def records_at(tree: Any, path: str) -> Iterator[tuple[Tree, dict[str, str | None]]]:
    """The records at a path, each with the plain values of the lists it lies in, named `list.column`."""
    yield from _walk(tree, [p for p in path.split(".") if p], "", {})


def _walk(
    node: Any, rest: list[str], name: str, above: dict[str, str | None]
) -> Iterator[tuple[Tree, dict[str, str | None]]]:
    if isinstance(node, list):
        for item in node:
            inner = above
            if rest and isinstance(item, dict) and not name:
                inner = {**above, **_named(item, "record", rest)}
            yield from _walk(item, rest, name, inner)
    elif isinstance(node, dict):
        if not rest:
            yield node, above
            return
        # a key may itself have dots
        for size in range(len(rest), 0, -1):
            key = ".".join(rest[:size])
            if key in node:
                inner = {**above, **_named(node, name, rest)} if name else above
                yield from _walk(node[key], rest[size:], key, inner)
                return


def _above(tree: Any, path: str) -> set[str]:
    return {name for _, parents in records_at(tree, path) for name in parents}


def _named(record: Tree, name: str, rest: list[str]) -> dict[str, str | None]:
    """The plain values of a record on the way, without what the way leads on to."""
    row: dict[str, str | None] = {}
    for key, value in record.items():
        if key == rest[0] or ".".join(rest).startswith(f"{key}."):
            continue
        if isinstance(value, dict):
            flatten(value, key, TEXTS, row)
        elif not isinstance(value, list):
            row[key] = _text(value)
    return {f"{name}.{key}": value for key, value in row.items()}


def flatten(value: Any, prefix: str, texts: str, row: dict[str, str | None]) -> None:
    """Add a value to a plain record: objects as dotted columns, lists as several texts in one column."""
    if isinstance(value, dict):
        for key, inner in value.items():
            flatten(inner, f"{prefix}.{key}" if prefix else key, texts, row)
    elif isinstance(value, list):
        objects = [item for item in value if isinstance(item, dict)]
        if objects and len(objects) == len(value):
            rows: list[dict[str, str | None]] = []
            for item in objects:
                rows.append({})
                flatten(item, prefix, texts, rows[-1])
            for key in dict.fromkeys(k for one in rows for k in one):
                row[free_name(key, row)] = texts.join(one.get(key) or "" for one in rows)
        else:
            row[free_name(prefix, row)] = texts.join(_text(item) or "" for item in value) or None
    else:
        row[free_name(prefix, row)] = _text(value)


def free_name(name: str, taken: Container[str]) -> str:
    """A name, numbered if it is taken: `{"a.b": 1, "a": {"b": 2}}` has a column `a.b` and a column `a.b (2)`."""
    free, number = name, 1
    while free in taken:
        number += 1
        free = f"{name} ({number})"
    return free


def _text(value: Any) -> str | None:
    if value is None or isinstance(value, str):
        return value
    if isinstance(value, bool):
        return "true" if value else "false"
    return json.dumps(value, ensure_ascii=False) if isinstance(value, dict | list) else str(value)
