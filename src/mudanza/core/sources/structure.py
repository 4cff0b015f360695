"""Cutting a block of delimited text into records (RFC 4180), exactly, and at the speed of a byte count.

A block whose counts add up is handed on whole. Only a block in which something is wrong is walked record by
record, so that the damaged ones can be named and the others kept.
"""

from __future__ import annotations

import codecs
import csv
import re
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from mudanza.core.sources.reading import BrokenRow

#: An open quote may run this many bytes past the end of a block before it counts as never closed.
LONGEST_RECORD = 4 << 20

Lines = npt.NDArray[np.int64]


@dataclass(frozen=True)
class Shape:
    """How records are written: delimiter and quote as bytes, and how many columns a record has."""

    delimiter: bytes
    quote: bytes | None
    columns: int


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


def cut_quickly(block: bytes, shape: Shape, at_end: bool) -> Cut | None:
    """The block as whole records if its counts add up, or None if it must be walked."""
    if b"\0" in block:
        return None
    if not _decodes(block, at_end):
        return None
    data = np.frombuffer(block, np.uint8)
    newline = data == 10
    if shape.quote is not None and shape.quote in block:
        return _cut_quoted(block, data, newline, shape, at_end)
    end = len(block) if at_end else block.rfind(b"\n") + 1
    body = block[:end]
    rows = int(np.count_nonzero(newline[:end]))
    delimiters = int(np.count_nonzero(data[:end] == shape.delimiter[0]))
    if delimiters != rows * (shape.columns - 1) or _has_blank_line(body):
        return None
    return Cut(body, rows, np.arange(rows, dtype=np.int64), (), (), end, rows)


def _cut_quoted(
    block: bytes, data: npt.NDArray[np.uint8], newline: npt.NDArray[np.bool_], shape: Shape, at_end: bool
) -> Cut | None:
    assert shape.quote is not None
    quote = data == shape.quote[0]
    inside = (np.cumsum(quote, dtype=np.uint8) & 1).astype(bool)
    line_ends = np.flatnonzero(newline)
    outer = ~inside[line_ends]
    if not outer.any():
        return None
    end = int(line_ends[outer][-1]) + 1
    if at_end and end != len(block):
        return None
    places = np.flatnonzero(quote[:end])
    if not _quotes_stand_well(data, places, shape):
        return None
    kept = line_ends < end
    line_ends, outer = line_ends[kept], outer[kept]
    rows = int(np.count_nonzero(outer))
    delimiters = int(np.count_nonzero((data[:end] == shape.delimiter[0]) & ~inside[:end]))
    body = block[:end]
    if delimiters != rows * (shape.columns - 1) or _has_blank_line(body):
        return None
    lines = np.zeros(rows, dtype=np.int64)
    lines[1:] = np.flatnonzero(outer)[:-1] + 1
    return Cut(body, rows, lines, (), (), end, len(line_ends))


def _quotes_stand_well(data: npt.NDArray[np.uint8], places: npt.NDArray[np.intp], shape: Shape) -> bool:
    """Whether every quote opens a value, closes one, or is one of a doubled pair."""
    assert shape.quote is not None
    if len(places) % 2:
        return False
    opening, closing = places[0::2], places[1::2]
    before = np.where(opening > 0, data[opening - 1], 10)
    after = data[np.minimum(closing + 1, len(data) - 1)]
    delimiter, quote = shape.delimiter[0], shape.quote[0]
    good_before = np.isin(before, [delimiter, 10, quote])
    good_after = np.isin(after, [delimiter, 10, 13, quote])
    if not (good_before.all() and good_after.all()):
        return False
    # a quote that follows a quote directly must be the second of a doubled pair inside a value
    doubled = np.zeros(len(opening), dtype=bool)
    doubled[1:] = closing[:-1] + 1 == opening[1:]
    return bool((before[~doubled] != quote).all())


def _has_blank_line(body: bytes) -> bool:
    return b"\n\n" in body or b"\n\r\n" in body or body.startswith((b"\n", b"\r\n"))


def _decodes(block: bytes, at_end: bool) -> bool:
    if block.isascii():
        return True
    try:
        codecs.getincrementaldecoder("utf-8")().decode(block, final=at_end)
    except UnicodeDecodeError:
        return False
    return True


def cut_exactly(block: bytes, shape: Shape, at_end: bool) -> Cut:
    """Walk the block record by record; name what is broken, keep what is good."""
    good, general, partial = _patterns(shape)
    size = len(block)
    at, line = 0, 0
    pieces: list[bytes] = []
    lines: list[int] = []
    broken: list[BrokenRow] = []
    blank: list[int] = []
    while at < size:
        match = good.match(block, at)
        if match is None and not at_end and size - at < LONGEST_RECORD and partial.fullmatch(block, at):
            break
        if match is not None and (text := match.group()).strip(b"\r\n") == b"" and shape.columns > 1:
            match = None
        if match is not None:
            end = match.end()
            code = _content_problem(text)
            if code is None:
                pieces.append(text)
                lines.append(line)
            else:
                broken.append(_broken(line, code, text, shape))
            line += text.count(b"\n")
            at = end
            continue
        end = block.find(b"\n", at) + 1 or size
        text = block[at:end]
        if text.strip(b"\r\n") == b"":
            blank.append(line)
        else:
            whole = general.match(block, at)
            if whole is not None:
                code = "read.ragged"
                # a ragged record over several lines is more likely an unclosed quote on the first
                if whole.group().count(b"\n") > 1:
                    code = "read.unclosed-quote"
            else:
                code = _quote_problem(text, shape)
            broken.append(_broken(line, code, text, shape))
        line += 1
        at = end
    return Cut(
        b"".join(pieces), len(lines), np.array(lines, dtype=np.int64), tuple(broken), tuple(blank), at, line
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
    partial = rb"(?:" + value + delimiter + rb")*" + unfinished
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
    quoting = csv.QUOTE_MINIMAL if shape.quote else csv.QUOTE_NONE
    limit = csv.field_size_limit(max(csv.field_size_limit(), len(plain) + 1))
    try:
        cells = next(csv.reader([plain], delimiter=shape.delimiter.decode(), quoting=quoting))
    finally:
        csv.field_size_limit(limit)
    if code == "read.ragged":
        value = f"{len(cells)} values, {shape.columns} columns"
    else:
        value = plain if len(plain) <= 80 else plain[:79] + "…"
    return BrokenRow(line, code, plain, value, tuple(cells))
