"""Delimited text (RFC 4180 and its relatives): blocks of bytes in, batches of rows with line numbers out."""

from __future__ import annotations

import codecs
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

import numpy as np
import polars as pl

from mudanza.core.errors import Place, SourceError
from mudanza.core.sources.reading import LINE, Batch, BrokenRow, FileFacts, ReadOptions, tell_apart
from mudanza.core.sources.sniff import TextForm, find_text_form
from mudanza.core.sources.structure import LONGEST_RECORD, Cut, Shape, cut_exactly, cut_quickly

#: Bytes read at a time. Measured: 8 MiB is the fastest on two cores and keeps memory small.
BLOCK = 8 << 20
_FIRST_BLOCK = 1 << 18
_MAX_CARRY = 16 * LONGEST_RECORD
#: Stands for a delimiter of several bytes while a block is parsed.
_STAND_IN = "\x1e"


@dataclass(frozen=True)
class DelimitedFile:
    """A delimited text file opened for reading."""

    path: Path
    options: ReadOptions

    @cached_property
    def form(self) -> TextForm:
        return find_text_form(self.path, self.options)

    @cached_property
    def raw_headings(self) -> tuple[str, ...]:
        return self.form.headings

    @cached_property
    def headings(self) -> tuple[str, ...]:
        return tuple(tell_apart(list(self.raw_headings)))

    @cached_property
    def facts(self) -> FileFacts:
        form = self.form
        return FileFacts(
            path=self.path,
            format="delimited text",
            size=self.path.stat().st_size,
            heading_line=form.heading_line,
            encoding=form.encoding,
            encoding_because=form.because,
            delimiter=form.delimiter,
        )

    def cell(self, heading: str, line: int) -> str | None:  # noqa: ARG002
        """Text files have no cells."""
        return None

    def batches(self, *, first: bool = False) -> Iterator[Batch]:
        """The rows below the heading. Raises SourceError where a line is too long to be text."""
        quote = self.options.quote.encode() if self.options.quote else None
        delimiter = self.form.delimiter.encode()
        columns = len(self.headings)
        shape = Shape(delimiter if len(delimiter) == 1 else _STAND_IN.encode(), quote, columns)
        line = self.form.heading_line + sum(heading.count("\n") for heading in self.raw_headings)
        carry = b""
        chunks = self._utf8_chunks(_FIRST_BLOCK if first else BLOCK)
        chunk: bytes | None = next(chunks)
        to_skip = line
        while chunk is not None:
            following = next(chunks, None)
            at_end = following is None
            block = carry + chunk if carry else chunk
            if at_end and block and not block.endswith(b"\n"):
                block += b"\n"
            if to_skip:
                block, to_skip = _skip_lines(block, to_skip)
            if to_skip == 0 and block:
                cut = self._cut(block, shape, at_end)
                if cut.rows or cut.broken or cut.blank_lines:
                    yield self._batch(cut, line + 1, shape)
                line += cut.passed
                carry = block[cut.used :]
            else:
                carry = block
            if len(carry) > _MAX_CARRY:
                raise SourceError(
                    f"a line is longer than {_MAX_CARRY >> 20} MiB.",
                    place=Place(file=str(self.path), line=line + 1),
                    hint="Is this a text file with line breaks? Say the right encoding, or export it again.",
                )
            chunk = following

    def _cut(self, block: bytes, shape: Shape, at_end: bool) -> Cut:
        suspect = self.form.encoding.startswith(("utf-16", "utf-32")) and b"\xef\xbf\xbd" in block
        cut = None if suspect else cut_quickly(block, shape, at_end)
        return cut or cut_exactly(block, shape, at_end)

    def _batch(self, cut: Cut, start: int, shape: Shape) -> Batch:
        rows = self._parse(cut.body, shape)
        if rows is None or rows.height != cut.rows:
            # the counts agreed but the parser did not: a record too many for its columns
            cut = cut_exactly(cut.body, shape, True)
            rows = self._parse(cut.body, shape)
            if rows is None or rows.height != cut.rows:
                raise SourceError(
                    "the rows of this part of the file cannot be told apart.",
                    place=Place(file=str(self.path), line=start),
                    hint="Say delimiter= and quote= in the plan's source.",
                )
        rows = rows.with_columns(pl.Series(LINE, cut.lines + start, dtype=pl.Int64))
        broken = tuple(BrokenRow(b.line + start, b.code, b.text, b.value, b.cells) for b in cut.broken)
        return Batch(rows, broken, tuple(line + start for line in cut.blank_lines))

    def _parse(self, body: bytes, shape: Shape) -> pl.DataFrame | None:
        schema = dict.fromkeys(self.headings, pl.String)
        if not body:
            return pl.DataFrame(schema=schema)
        try:
            rows = pl.read_csv(
                body,
                has_header=False,
                schema=schema,
                separator=shape.delimiter.decode(),
                quote_char=shape.quote.decode() if shape.quote else None,
            )
        except pl.exceptions.PolarsError:
            return None
        text = pl.col(pl.String)
        if shape.delimiter.decode() != self.form.delimiter:
            text = text.str.replace_all(_STAND_IN, self.form.delimiter, literal=True)
        if (shape.quote and b'""' in body) or shape.delimiter == _STAND_IN.encode():
            rows = rows.with_columns(pl.when(text.str.len_bytes() > 0).then(text).name.keep())
        return rows

    def _utf8_chunks(self, size: int) -> Iterator[bytes]:
        """The file's bytes as UTF-8. What cannot be decoded stays visible as an invalid sequence."""
        form = self.form
        delimiter = form.delimiter.encode()
        with self.path.open("rb") as file:
            file.seek(form.skip)
            if form.encoding == "utf-8" and len(delimiter) == 1:
                decoder = None
            else:
                wide = form.encoding.startswith(("utf-16", "utf-32"))
                decoder = codecs.getincrementaldecoder(form.encoding)("replace" if wide else "surrogateescape")
            while True:
                raw = file.read(size)
                size = BLOCK
                chunk = raw
                if form.encoding == "cp1252" and len(delimiter) == 1 and not _has_c1(raw):
                    # without the 32 characters in which they differ, the quicker codec does
                    chunk = raw.decode("latin-1").encode()
                elif decoder is not None:
                    chunk = decoder.decode(raw, final=not raw).encode("utf-8", "surrogatepass")
                if form.carriage_returns:
                    chunk = chunk.replace(b"\r", b"\n")
                if len(delimiter) > 1:
                    chunk = chunk.replace(delimiter, _STAND_IN.encode())
                yield chunk
                if not raw:
                    return


def _has_c1(raw: bytes) -> bool:
    data = np.frombuffer(raw, np.uint8)
    return bool(((data & 0xE0) == 0x80).any())


def _skip_lines(block: bytes, count: int) -> tuple[bytes, int]:
    """The block without its first `count` physical lines, and how many are still to be skipped."""
    at = 0
    while count and (end := block.find(b"\n", at) + 1):
        at, count = end, count - 1
    return block[at:], count
