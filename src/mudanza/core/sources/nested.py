"""Nested records, as JSON and XML have them, as plain ones: dotted columns, child lists, several texts in one column."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from itertools import compress, islice
from pathlib import Path
from typing import Any

import polars as pl

from mudanza.core.documents.errors import Place, SourceError, few
from mudanza.core.sources.guard import guard_columns
from mudanza.core.sources.headings import tell_apart
from mudanza.core.sources.reader import Batch, BrokenRow, Encoding, FileFacts, ReadOptions, WithoutCells, shorter
from mudanza.core.sources.trees import (
    TEXTS,
    Plain,
    Tree,
    columns_of,
    flatten,
    is_unclear,
    lists_in,
    outermost,
    outline,
    records_at,
    text_of,
)
from mudanza.core.values.row_columns import LINE

#: records are made plain in pieces, since many objects at once cost the collector of garbage much time
PIECE, _PIECES = 2_000, 25
#: so many cells at most are made at once
_WIDE = 1_000_000

#: a record, the plain values of the lists it lies in, and the line it stands on if it has one of its own; or what is damaged
Walked = tuple[Tree, Plain, int | None] | BrokenRow


@dataclass(frozen=True)
class Records:
    """The records of a text: the outline of their tree, how many there are at the outermost paths, and how one walks them at a path.

    `lines` says that the outermost records stand one on a line.
    """

    outline: Any
    counts: Mapping[str, int]
    walk: Callable[[str], Iterator[Walked]]
    lines: bool = False

    @cached_property
    def paths(self) -> list[str]:
        """The paths of all lists of objects, outermost first."""
        return lists_in(self.outline)

    @cached_property
    def main(self) -> str | None:
        """The outermost list, and of several the longest."""
        outer = outermost(self.paths)
        if not outer:
            return "" if isinstance(self.outline, dict) and self.outline else None
        return max(outer, key=lambda p: self.counts[p])


def records_of(tree: Any) -> Records:
    """The records of a tree that is held in memory."""
    seen = outline(tree)
    counts = {path: sum(1 for _ in records_at(tree, path)) for path in outermost(lists_in(seen))}

    def walk(path: str) -> Iterator[Walked]:
        return ((record, above, None) for record, above in records_at(tree, path))

    return Records(seen, counts, walk)


@dataclass(frozen=True)
class NestedFile(WithoutCells):
    """Records of a tree, opened for reading. `#line` is the number of the record, or its line if it has one of its own.

    `path` is that of the records in the tree; the columns of the lists above them stand behind their own, as `parent.column`.
    """

    known_as: Path
    format: str
    size: int
    encoding: Encoding
    records: Records
    path: str
    texts: str

    @cached_property
    def _names(self) -> tuple[dict[str, None], dict[str, None]]:
        """The names of the records' own columns, and of those that come from the lists above them."""
        own: dict[str, None] = {}
        above: dict[str, None] = {}
        for record, values in self._examples():
            own.update(dict.fromkeys(_plain(record, {}, self.texts)))
            above.update(dict.fromkeys(values))
        guard_columns(len(own), self.known_as, records=self.records.counts.get(self.path, 0), size=self.size)
        return own, above

    def _examples(self) -> Iterator[tuple[Tree, Plain]]:
        if not is_unclear(self.records.outline):
            return records_at(self.records.outline, self.path)
        walked = self.records.walk(self.path)
        return ((one[0], one[1]) for one in walked if not isinstance(one, BrokenRow))

    @cached_property
    def raw_headings(self) -> tuple[str, ...]:
        own, above = self._names
        return (*(name for name in own if name not in above), *above)

    @cached_property
    def _takes_names_twice(self) -> bool:
        own, above = self._names
        return not own.keys().isdisjoint(above) or any(re.search(r" \(\d+\)$", name) for name in own)

    @cached_property
    def headings(self) -> tuple[str, ...]:
        return tuple(tell_apart(self.raw_headings))

    @property
    def _by_line(self) -> bool:
        return self.records.lines and self.path == ""

    @cached_property
    def facts(self) -> FileFacts:
        own = f'records = "{self.path or "."}"'
        children = [
            p for p in self.records.paths if p != self.path and p.startswith(f"{self.path}." if self.path else "")
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
            unit="line" if self._by_line else "record",
            part=self.path or None if len(self.records.paths) > 1 else None,
            notes=tuple(notes),
            proposal=(own,) if self.path else (),
        )

    def batches(self, *, first: bool = False) -> Iterator[Batch]:
        """The records, in file order."""
        frames: list[pl.DataFrame] = []
        broken: list[BrokenRow] = []
        read, count = 0, self.records.counts.get(self.path)
        for frame, damaged in self._pieces():
            frames.append(frame)
            broken += damaged
            read += frame.height
            if first or len(frames) == _PIECES or frame.width > _WIDE // PIECE:
                share = read / count if count else None
                yield Batch(pl.concat(frames), tuple(sorted(broken, key=lambda b: b.line)), share=share)
                frames, broken = [], []
        if frames or read == 0:
            yield Batch(pl.concat([self._frame([], []), *frames]), tuple(sorted(broken, key=lambda b: b.line)))

    def _pieces(self) -> Iterator[tuple[pl.DataFrame, list[BrokenRow]]]:
        walked = self.records.walk(self.path)
        number = 0
        # of wide records fewer at once
        size = max(1, min(PIECE, _WIDE // max(1, len(self.headings))))
        while block := list(islice(walked, size)):
            broken = [one for one in block if isinstance(one, BrokenRow)]
            records = [one for one in block if not isinstance(one, BrokenRow)]
            places = [line or at for at, (_, _, line) in enumerate(records, start=number + 1)]
            number += len(records)
            try:
                yield self._frame(records, places), broken
            except UnicodeEncodeError:
                # half of a pair of surrogates (RFC 8259, section 8.2) is no character
                whole = [_is_text(record) for record, _, _ in records]
                broken += [
                    _undecodable(record, place)
                    for (record, _, _), place, good in zip(records, places, whole, strict=True)
                    if not good
                ]
                yield self._frame(list(compress(records, whole)), list(compress(places, whole))), broken

    def _frame(self, records: Sequence[tuple[Tree, Plain, int | None]], places: Sequence[int]) -> pl.DataFrame:
        if self._takes_names_twice:
            rows = [_plain(record, above, self.texts) for record, above, _ in records]
            made: dict[str, list[Any]] = {name: [row.get(name) for row in rows] for name in self.raw_headings}
        else:
            made = {name: [above.get(name) for _, above, _ in records] for name in self._names[1]}
            made.update(columns_of([record for record, _, _ in records], self.texts))
        blank = [None] * len(records)
        data = {
            heading: _column(made.get(name, blank))
            for heading, name in zip(self.headings, self.raw_headings, strict=True)
        }
        data[LINE] = pl.Series(list(places), dtype=pl.Int64)
        text = pl.col(pl.String)
        return pl.DataFrame(data).with_columns(pl.when(text.str.len_bytes() > 0).then(text).name.keep())


def _plain(record: Tree, above: Plain, texts: str) -> Plain:
    row: Plain = {}
    flatten(record, "", texts, row)
    return {**above, **row}


def _column(values: list[Any]) -> pl.Series:
    try:
        return pl.Series(values, dtype=pl.String)
    except TypeError:
        # true and false are the only ones that are no text yet
        return pl.Series([text_of(value) for value in values], dtype=pl.String)


def _is_text(record: Tree) -> bool:
    try:
        json.dumps(record, ensure_ascii=False).encode()
    except UnicodeEncodeError:
        return False
    return True


def _undecodable(record: Tree, place: int) -> BrokenRow:
    text = json.dumps(record)
    return BrokenRow(place, "read.undecodable", text, shorter(text), rule="text without halves of surrogate pairs")


def open_records(records: Records, options: ReadOptions, known_as: Path, **facts: Any) -> NestedFile:
    """The reader of the records of a text. Raises SourceError if there are none, or none at the path said."""
    said = options.own.get("records")
    if said is None:
        path = records.main
    else:
        path = said.strip(".")
        if path not in records.paths and not any(True for _ in records_at(records.outline, path)):
            raise SourceError(
                f"there are no records at {said!r}.",
                place=Place(str(known_as)),
                hint=f"There are records at: {few([p or '.' for p in records.paths])}."
                if records.paths
                else "The text has no list of records.",
            )
    if path is None:
        raise SourceError(
            "the text has no list of records.",
            place=Place(str(known_as)),
            hint='If one object is one record, say records = ".".',
        )
    return NestedFile(known_as=known_as, records=records, path=path, texts=options.own.get("texts", TEXTS), **facts)


def parts_of(records: Records, options: ReadOptions) -> list[ReadOptions]:
    """The options that read the records and each list within them."""
    main = records.main
    if "records" in options.own or main is None:
        return [options]
    inner = [p for p in records.paths if p != main and p.startswith(f"{main}." if main else "")]
    return [replace(options, own={**options.own, "records": path or "."}) for path in (main, *inner)]
