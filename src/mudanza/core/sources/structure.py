"""Cutting a block of delimited text into records (RFC 4180), exactly, and at the speed of a byte count.

A block is parsed, and kept as it is if its bytes are just those that its values, their delimiters, quotes and line
ends need (`cut_as_parsed`): a value too few would want one more. Where it is not parsed whole, or has more to it, its
delimiters must be as many as its rows need (`cut_quickly`); the parser refuses rows with too many, so none can have
too few, and it refuses undecodable bytes. Only a block in which something is wrong is walked record by record, so
that the damaged ones are named and the others kept.
"""

from __future__ import annotations

import csv
import re
from dataclasses import dataclass
from typing import Literal

import numpy as np
import numpy.typing as npt

from mudanza.core.sources.reader import BrokenRow

#: A record may have this many bytes; an open quote that runs further counts as never closed.
LONGEST_RECORD = 8 << 20
_STRETCH = 1 << 15

Lines = npt.NDArray[np.int64]


@dataclass(frozen=True)
class Shape:
    """How records are written: delimiter and quote as bytes, how many columns a record has, and what lines begin with that are no records."""

    delimiter: bytes
    quote: bytes | None
    columns: int
    comment: bytes | None = None


@dataclass(frozen=True)
class Cut:
    """A block cut into records.

    `body` holds whole good records; `rows` counts them and `lines` has the line each starts on, relative to
    the block (from 0). `used` bytes and `passed` physical lines were consumed; the rest belongs to the next block.
    """

    body: bytes
    rows: int
    lines: Lines
    broken: tuple[BrokenRow, ...]
    blank_lines: tuple[int, ...]
    used: int
    passed: int


@dataclass(frozen=True)
class Body:
    """The lines of a block up to its last line end, and the places of the quotes in it: each opens a value, closes one, or is one of a doubled pair."""

    text: bytes
    quotes: npt.NDArray[np.intp]


def body_of(block: bytes, shape: Shape) -> Body | None:
    """What of a block can be parsed as it is; None if a parser would not see it as it is meant: of one column it takes quotes anywhere."""
    if shape.columns == 1 or _is_odd(block, shape):
        return None
    text = block[: block.rfind(b"\n") + 1]
    if shape.quote is None:
        return Body(text, np.zeros(0, np.intp))
    data = np.frombuffer(text, np.uint8)
    quotes = np.flatnonzero(data == shape.quote[0])
    return Body(text, quotes) if _quotes_stand_well(data, quotes, shape) else None


def _is_odd(block: bytes, shape: Shape) -> bool:
    return b"\0" in block or (shape.comment is not None and shape.comment in block)


def cut_as_parsed(body: Body, rows: int, held: int, shape: Shape) -> Cut | None:
    """The body as so many records that were parsed of it, whose values have `held` bytes in all; None if that is not all that it has, each with all its values.

    Each byte is of a value, or a delimiter, a quote or a line end. A value that is missing has no delimiter: that
    makes the sum too large, and nothing makes it
    smaller.
    """
    data = np.frombuffer(body.text, np.uint8)
    line_ends = np.flatnonzero(data == 10)
    lines, passed = np.arange(rows, dtype=np.int64), len(line_ends)
    if rows != passed:
        outer = _outside(body.quotes, line_ends)
        lines, line_ends = _starts(outer), line_ends[outer]
    returns = int(np.count_nonzero(data[line_ends - 1] == 13))
    # of a doubled pair one quote is of the value
    doubled = int(np.count_nonzero(body.quotes[1:-1:2] + 1 == body.quotes[2::2]))
    size = held + rows * shape.columns + returns + len(body.quotes) - doubled
    is_whole = size == len(body.text) and rows == len(lines)
    return Cut(body.text, rows, lines, (), (), len(body.text), passed) if is_whole else None


def _outside(quotes: npt.NDArray[np.intp], places: npt.NDArray[np.intp]) -> npt.NDArray[np.bool_]:
    """Which places are not between quotes."""
    outside: npt.NDArray[np.bool_] = np.searchsorted(quotes, places) % 2 == 0
    return outside


def _starts(outer: npt.NDArray[np.bool_]) -> Lines:
    """The lines on which records start, by which line ends are outside of quotes."""
    lines = np.zeros(int(np.count_nonzero(outer)), dtype=np.int64)
    lines[1:] = np.flatnonzero(outer)[:-1] + 1
    return lines


def cut_quickly(block: bytes, shape: Shape, at_end: bool) -> Cut | None:
    """The block as whole records if its counts add up in all together, the parser seeing those that are too long; None if it must be walked."""
    if _is_odd(block, shape):
        return None
    data = np.frombuffer(block, np.uint8)
    newline = data == 10
    if shape.quote is not None and shape.quote in block:
        return _cut_quoted(block, data, newline, shape, at_end)
    end = len(block) if at_end else block.rfind(b"\n") + 1
    body = block[:end]
    rows = int(np.count_nonzero(newline[:end]))
    delimiters = int(np.count_nonzero(data[:end] == shape.delimiter[0]))
    if delimiters != rows * (shape.columns - 1):
        return None
    return Cut(body, rows, np.arange(rows, dtype=np.int64), (), (), end, rows)


def rows_alike(body: bytes, shape: Shape) -> bool:
    """Whether all lines of a body without quotes have as many delimiters as a record needs."""
    data = np.frombuffer(body, np.uint8)
    starts = np.flatnonzero(data == 10)
    starts = np.concatenate((np.zeros(1, starts.dtype), starts[:-1] + 1))
    found = (data == shape.delimiter[0]).view(np.uint8)
    counts = np.add.reduceat(found, starts, dtype=np.uint8 if shape.columns < 100 else np.uint32)
    return bool((counts == shape.columns - 1).all())


def _cut_quoted(
    block: bytes, data: npt.NDArray[np.uint8], newline: npt.NDArray[np.bool_], shape: Shape, at_end: bool
) -> Cut | None:
    assert shape.quote is not None
    quotes = np.flatnonzero(data == shape.quote[0])
    line_ends = np.flatnonzero(newline)
    outer = _outside(quotes, line_ends)
    if not outer.any():
        return None
    end = int(line_ends[outer][-1]) + 1
    if at_end and end != len(block):
        return None
    quotes = quotes[: np.searchsorted(quotes, end)]
    if not _quotes_stand_well(data, quotes, shape):
        return None
    kept = np.searchsorted(line_ends, end)
    line_ends, outer = line_ends[:kept], outer[:kept]
    rows = int(np.count_nonzero(outer))
    delimiters = int(np.count_nonzero(data[:end] == shape.delimiter[0])) - _within(data, quotes, shape)
    body = block[:end]
    if delimiters != rows * (shape.columns - 1):
        return None
    return Cut(body, rows, _starts(outer), (), (), end, len(line_ends))


def _within(data: npt.NDArray[np.uint8], quotes: npt.NDArray[np.intp], shape: Shape) -> int:
    """How many delimiters stand between quotes."""
    starts, lengths = quotes[0::2] + 1, quotes[1::2] - quotes[0::2] - 1
    total = int(lengths.sum())
    skipped = np.cumsum(lengths) - lengths
    inside = data[np.repeat(starts - skipped, lengths) + np.arange(total)]
    return int(np.count_nonzero(inside == shape.delimiter[0]))


def _quotes_stand_well(data: npt.NDArray[np.uint8], places: npt.NDArray[np.intp], shape: Shape) -> bool:
    """Whether every quote opens a value, closes one, or is one of a doubled pair."""
    assert shape.quote is not None
    if len(places) % 2:
        return False
    opening, closing = places[0::2], places[1::2]
    before = np.where(opening > 0, data[opening - 1], 10)
    after = data[np.minimum(closing + 1, len(data) - 1)]
    delimiter, quote = shape.delimiter[0], shape.quote[0]
    good_before = (before == delimiter) | (before == 10) | (before == quote)
    good_after = (after == delimiter) | (after == 10) | (after == 13) | (after == quote)
    if not (good_before.all() and good_after.all()):
        return False
    # a quote that follows a quote directly must be the second of a doubled pair inside a value
    doubled = np.zeros(len(opening), dtype=bool)
    doubled[1:] = closing[:-1] + 1 == opening[1:]
    return bool((before[~doubled] != quote).all())


def _decodes(block: bytes) -> bool:
    try:
        block.decode()
    except UnicodeDecodeError:
        return False
    return True


def cut_exactly(block: bytes, shape: Shape, at_end: bool) -> Cut:
    """Walk the block record by record; name what is broken, keep what is good."""
    walk = _Walk(block, shape, at_end)
    while walk.at < len(block):
        clean = _clean_lines(block, walk.at, shape)
        if clean:
            walk.take(clean)
            continue
        # something is odd in this stretch: record by record to its end, then on with whole stretches
        stretch = walk.at + _STRETCH
        while walk.at < min(stretch, len(block)):
            if not walk.step():
                return walk.cut()
    return walk.cut()


def _clean_lines(block: bytes, at: int, shape: Shape) -> int:
    """How many bytes from `at` are plain lines with the right number of values and no quotes; 0 if not the whole stretch."""
    end = block.rfind(b"\n", at, at + _STRETCH) + 1
    piece = block[at:end]
    if shape.comment is not None and shape.comment in piece:
        return 0
    if not piece or b"\0" in piece or (shape.quote is not None and shape.quote in piece) or not _decodes(piece):
        return 0
    data = np.frombuffer(piece, np.uint8)
    line_ends = np.flatnonzero(data == 10)
    counts = np.diff(np.searchsorted(np.flatnonzero(data == shape.delimiter[0]), line_ends), prepend=0)
    blank = shape.columns == 1 and (b"\n\n" in piece or piece.startswith(b"\n"))
    return len(piece) if (counts == shape.columns - 1).all() and not blank else 0


class _Walk:
    """One walk through a block, record by record."""

    def __init__(self, block: bytes, shape: Shape, at_end: bool) -> None:
        self.block, self.shape, self.at_end = block, shape, at_end
        self.good, self.general, self.partial = _patterns(shape)
        self.at, self.line = 0, 0
        self.pieces: list[bytes] = []
        self.lines: list[int] = []
        self.broken: list[BrokenRow] = []
        self.blank: list[int] = []

    def take(self, size: int) -> None:
        """Keep so many bytes of plain lines."""
        piece = self.block[self.at : self.at + size]
        count = piece.count(b"\n")
        self.pieces.append(piece)
        self.lines.extend(range(self.line, self.line + count))
        self.line, self.at = self.line + count, self.at + size

    def step(self) -> bool:
        """One record on. False if it may go on in the next block."""
        block, at, shape = self.block, self.at, self.shape
        if shape.comment is not None and block.startswith(shape.comment, at):
            end = block.find(b"\n", at) + 1
            if not end and not self.at_end:
                return False
            self.line, self.at = self.line + 1, end or len(block)
            return True
        match = self.good.match(block, at)
        rest = len(block) - at
        if match is not None and match.end() - at > LONGEST_RECORD:
            match = None
        elif match is None and not self.at_end and rest < LONGEST_RECORD and self.partial.fullmatch(block, at):
            return False
        if match is not None and not (match.group().strip(b"\r\n") == b"" and shape.columns > 1):
            text = match.group()
            code = _content_problem(text)
            if code is None:
                self.pieces.append(text)
                self.lines.append(self.line)
            else:
                self.broken.append(_broken(self.line, code, text, shape))
            self.line, self.at = self.line + text.count(b"\n"), match.end()
            return True
        end = block.find(b"\n", at) + 1
        if not end and not self.at_end:
            return False
        text = block[at : end or len(block)]
        if text.strip(b"\r\n") == b"":
            self.blank.append(self.line)
        else:
            self.broken.append(_broken(self.line, self._problem(text), text, shape))
        self.line, self.at = self.line + 1, at + len(text)
        return True

    def _problem(self, text: bytes) -> str:
        whole = self.general.match(self.block, self.at)
        if whole is None:
            return _quote_problem(text, self.shape)
        # a ragged record over several lines is more likely an unclosed quote on the first
        return "read.ragged" if whole.group().count(b"\n") == 1 else "read.unclosed-quote"

    def cut(self) -> Cut:
        """What the walk gave so far."""
        lines = np.array(self.lines, dtype=np.int64)
        return Cut(
            b"".join(self.pieces),
            len(lines),
            lines,
            tuple(self.broken),
            tuple(self.blank),
            self.at,
            self.line,
        )


def _patterns(shape: Shape) -> tuple[re.Pattern[bytes], re.Pattern[bytes], re.Pattern[bytes]]:
    delimiter = re.escape(shape.delimiter)
    if shape.quote is None:
        value = rb"[^\n" + delimiter + rb"]*+"
        unfinished = value
    else:
        quote = re.escape(shape.quote)
        quoted = quote + rb"(?:[^" + quote + rb"]++|" + quote + quote + rb")*+"
        plain = rb"[^\n" + quote + delimiter + rb"]*+"
        value = rb"(?:" + quoted + quote + rb"(?!" + quote + rb")|" + plain + rb")"
        unfinished = rb"(?:" + quoted + quote + rb"?|" + plain + rb")"
    more = rb"(?:" + delimiter + value + rb")"
    good = value + more + b"{%d}" % (shape.columns - 1) + rb"\r?\n"
    general = value + more + rb"*+\r?\n"
    # a line end may fall apart between two blocks
    partial = rb"(?:" + value + delimiter + rb")*" + unfinished + rb"\r?"
    return re.compile(good), re.compile(general), re.compile(partial)


def _content_problem(text: bytes) -> str | None:
    if b"\0" in text:
        return "read.nul"
    try:
        text.decode("utf-8")
    except UnicodeDecodeError:
        return "read.undecodable"
    return None


def shown(text: bytes) -> str:
    """Bytes as text, with those that cannot be decoded written as \\xNN."""
    plain = text.decode("utf-8", "surrogatepass") if b"\xed" in text and _passes(text) else None
    if plain is None:
        return text.decode("utf-8", "backslashreplace").rstrip("\r\n")
    return "".join(f"\\x{ord(c) - 0xDC00:02x}" if 0xDC80 <= ord(c) <= 0xDCFF else c for c in plain).rstrip("\r\n")


def _passes(text: bytes) -> bool:
    try:
        text.decode("utf-8", "surrogatepass")
    except UnicodeDecodeError:
        return False
    return True


def _quote_problem(text: bytes, shape: Shape) -> str:
    """Whether a line's trouble is a quote that never closes or one that stands astray."""
    assert shape.quote is not None
    closed = rb"(?:^|" + re.escape(shape.delimiter) + rb")" + shape.quote + rb"(?:[^" + shape.quote + rb"]|"
    closed += shape.quote * 2 + rb")*+$"
    return "read.unclosed-quote" if re.search(closed, text.rstrip(b"\r\n")) else "read.stray-quote"


def _broken(line: int, code: str, text: bytes, shape: Shape) -> BrokenRow:
    plain = shown(text).replace("\0", "\\0")
    quoting: Literal[0, 3] = 3 if shape.quote is None else 0  # csv.QUOTE_NONE, csv.QUOTE_MINIMAL
    try:
        cells = next(csv.reader([plain], delimiter=shape.delimiter.decode(), quoting=quoting))
    except csv.Error:
        # a carriage return in the middle, for one, or a value of unusual length
        cells = plain.split(shape.delimiter.decode())
    if code == "read.ragged":
        value = f"{len(cells)} values"
    else:
        value = plain if len(plain) <= 80 else plain[:79] + "…"
    return BrokenRow(line, code, plain, value, tuple(cells))
