"""JSON (RFC 8259) read value by value, so that no more than the largest record is held in memory."""

from __future__ import annotations

import codecs
import json
import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from functools import partial
from itertools import chain
from typing import Any

from mudanza.core.sources.decoding import BLOCK, TextFile
from mudanza.core.sources.nested import PIECE, Records, Walked
from mudanza.core.sources.reader import BrokenRow, shorter
from mudanza.core.sources.trees import Outline, Plain, Tree, free_name, joined, records_at, split, walk

#: Beyond so many keys above the lists, or values in a plain list, a text is not one of lists of records.
_MOST = 10_000
#: so many records tell the columns, where somebody only wants to look
_ENOUGH = 5_000
#: stands for a list whose items are not at hand
_LIST = "\0"
_SPACE = re.compile(r"[ \t\n\r\ufeff]*")


def _object(pairs: list[tuple[str, Any]]) -> Tree:
    """An object; a key that stands in it again is numbered, as a heading would be."""
    found = dict(pairs)
    if len(found) == len(pairs):
        return found
    found = {}
    for key, value in pairs:
        found[free_name(key, found)] = value
    return found


#: numbers stay exactly as they are written
DECODER = json.JSONDecoder(parse_float=str, parse_int=str, parse_constant=str, strict=False, object_pairs_hook=_object)


class NotStreamedError(Exception):
    """The text is no JSON, or of a shape that has to be read whole."""


class _Scan:
    """The text of a file, value by value."""

    def __init__(self, text: TextFile) -> None:
        self._pieces = _pieces(text)
        self._text, self._at, self._whole = "", 0, False

    def _more(self) -> bool:
        """Read on, at least as much again as is held, so that a large value is not sought too often."""
        kept = [self._text[self._at :]]
        size = 0
        while size <= len(kept[0]):
            piece = next(self._pieces, None)
            if piece is None:
                self._whole = True
                break
            kept.append(piece)
            size += len(piece)
        self._text, self._at = "".join(kept), 0
        return size > 0

    def peek(self) -> str:
        """The next sign that is no space; nothing at the end."""
        if self._at < len(self._text) and (sign := self._text[self._at]) > " " and sign != "\ufeff":
            return sign
        while True:
            match = _SPACE.match(self._text, self._at)
            self._at = match.end() if match else self._at
            if self._at < len(self._text):
                return self._text[self._at]
            if self._whole or not self._more():
                return ""

    def take(self, signs: str) -> str:
        """The next sign, one of these."""
        sign = self.peek()
        if not sign or sign not in signs:
            raise NotStreamedError
        self._at += 1
        return sign

    def value(self) -> Any:
        """The next value, whole."""
        self.peek()
        while True:
            try:
                value, end = DECODER.raw_decode(self._text, self._at)
            except json.JSONDecodeError:
                value, end = None, None
            except RecursionError:
                raise NotStreamedError from None
            # a number at the end of what was read may go on
            if end is not None and (end < len(self._text) or self._whole):
                self._at = end
                return value
            if self._whole or (not self._more() and end is None):
                raise NotStreamedError


def _pieces(text: TextFile) -> Iterator[str]:
    decoder = codecs.getincrementaldecoder(text.encoding)()
    with text.path.open("rb") as file:
        file.seek(text.skip)
        while raw := file.read(BLOCK):
            yield _decoded(decoder, raw, final=False)
        yield _decoded(decoder, b"", final=True)


def _decoded(decoder: codecs.IncrementalDecoder, raw: bytes, *, final: bool) -> str:
    try:
        return decoder.decode(raw, final=final)
    except UnicodeDecodeError:
        raise NotStreamedError from None


@dataclass
class _Listed:
    """A list above which there are only objects: how many objects it has, their outline, and its plain values."""

    count: int = 0
    seen: Outline = field(default_factory=Outline)
    plain: list[Any] = field(default_factory=list)
    waiting: list[Tree] = field(default_factory=list)

    def add(self, item: Any) -> None:
        if isinstance(item, dict):
            self.count += 1
            self.waiting.append(item)
            if len(self.waiting) == PIECE:
                self._settle()
            return
        self.plain.append(item)
        # lists of lists, and long lists of numbers, are rare
        if isinstance(item, list) or len(self.plain) > _MOST:
            raise NotStreamedError

    def _settle(self) -> None:
        self.seen.add(self.waiting)
        self.waiting = []

    def outline(self) -> list[Any]:
        if not self.count:
            return self.plain
        self._settle()
        return [*self.seen.trees(), *([None] if self.plain else [])]


class _Above(str):
    """Stands for the list at a path."""


def _read(
    scan: _Scan, path: str, key: str, left: list[int], put: Callable[[Any], None]
) -> Iterator[tuple[str, str, Any]]:
    """Each item of the lists in the next value, with the list's path and key. The value itself is put where it belongs at once, `_Above` standing for its lists."""
    sign = scan.peek()
    if sign == "{":
        scan.take("{")
        found: Tree = {}
        put(found)
        while scan.peek() != "}":
            if found:
                scan.take(",")
            if scan.peek() != '"':
                raise NotStreamedError
            name = free_name(scan.value(), found)
            left[0] -= 1
            # of a key with a dot only the whole tree tells which way a path goes
            if "." in name:
                raise NotStreamedError
            scan.take(":")
            yield from _read(scan, joined(path, name), name, left, partial(found.__setitem__, name))
            if left[0] < 0 or scan.peek() not in ",}":
                raise NotStreamedError
        scan.take("}")
    elif sign == "[":
        scan.take("[")
        put(_Above(path) if scan.peek() != "]" else [])
        while scan.peek() != "]":
            yield path, key, scan.value()
            if scan.take(",]") == "]":
                return
            if scan.peek() == "]":
                raise NotStreamedError
        scan.take("]")
    else:
        put(scan.value())


def _items(text: TextFile, into: list[Any]) -> Iterator[tuple[str, str, Any]]:
    """The items of a text's lists. What stands above them goes into a list. Raises NotStreamedError."""
    scan = _Scan(text)
    try:
        yield from _read(scan, "", "", [_MOST], into.append)
    except RecursionError:
        raise NotStreamedError from None
    if scan.peek():
        raise NotStreamedError


def _filled(node: Any, lists: Mapping[str, list[Any]]) -> Any:
    """What stands above lists, with these lists in it."""
    if isinstance(node, _Above):
        return lists[node]
    return {key: _filled(value, lists) for key, value in node.items()} if isinstance(node, dict) else node


def streamed(text: TextFile, of: str | None = None) -> tuple[Records, Callable[[str], bool]]:
    """The records of a text, and whether those at a path can be read one by one; with `of`, as far as the first records on the way to that path tell.

    Raises NotStreamedError where none can.
    """
    tops: list[Any] = []
    listed: dict[str, _Listed] = {}
    for path, _, item in _items(text, tops):
        if path not in listed:
            listed[path] = _Listed()
        listed[path].add(item)
        if of is not None and listed[path].count == _ENOUGH and (path in ("", of) or of.startswith(f"{path}.")):
            break
    (top,) = tops
    counts = {path: one.count for path, one in listed.items() if one.count}
    seen = {path: one.outline() for path, one in listed.items()}

    def above(path: str) -> tuple[str, Plain] | None:
        """The list that a path leads through, and the values above it; None if they are not all at hand."""
        at = next((p for p in counts if p in ("", path) or path.startswith(f"{p}.")), None)
        if at is None:
            return None
        lists: dict[str, list[Any]] = {p: [_LIST] if p in counts else one for p, one in seen.items()}
        found = next((values for _, values in records_at(_filled(top, {**lists, at: [{}]}), at)), None)
        if found is None or any(_LIST in (value or "") for value in found.values()):
            return None
        return at, found

    def walk_to(path: str) -> Iterator[Walked]:
        known = above(path)
        assert known is not None
        at, values = known
        rest = split(path[len(at) :])
        for where, key, item in _items(text, []):
            if where != at:
                continue
            if not rest and isinstance(item, dict):
                yield item, values, None
            else:
                yield from ((record, parents, None) for record, parents in walk([item], rest, key, values))

    return Records(_filled(top, seen), counts, walk_to), lambda path: above(path) is not None


def of_lines(text: TextFile, *, quick: bool = False) -> Records:
    """The records of a text that has one on a line; if `quick`, as far as the first ones tell. Raises NotStreamedError where it cannot be decoded."""
    records = _Listed()
    for _, record, _ in values_of_lines(text):
        if isinstance(record, dict):
            records.add(record)
        if quick and records.count == _ENOUGH:
            break

    def walk_to(path: str) -> Iterator[Walked]:
        rest = split(path)
        for number, record, line in values_of_lines(text):
            if not isinstance(record, dict):
                yield BrokenRow(number, "read.not-json", line, shorter(line), rule="one JSON object")
            elif not rest:
                yield record, {}, number
            else:
                yield from ((found, above, None) for found, above in walk([record], rest, "", {}))

    return Records(records.outline(), {"": records.count}, walk_to, lines=True)


def values_of_lines(text: TextFile) -> Iterator[tuple[int, Any, str]]:
    """The number of each line that is not blank, the value on it (None if it is no JSON), and the line."""
    number, carry = 0, ""
    for piece in chain(_pieces(text), [None]):
        lines = [carry] if piece is None else (carry + piece).split("\n")
        carry = "" if piece is None else lines.pop()
        for line in lines:
            number += 1
            if bare := line.strip():
                yield number, value_of(bare), line


def value_of(line: str) -> Any:
    """The JSON value that a line is; None if it is none."""
    try:
        return DECODER.decode(line)
    except (json.JSONDecodeError, RecursionError):
        return None
