"""Delimited text (RFC 4180 and its relatives): blocks of bytes in, batches of rows with line numbers out."""

from __future__ import annotations

import json
from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path

import polars as pl

from mudanza.core.documents.errors import Place, SourceError
from mudanza.core.findings.finding import Finding, frame
from mudanza.core.sources.ahead import read_ahead
from mudanza.core.sources.decoding import BLOCK, share_of, utf8_chunks
from mudanza.core.sources.headings import Cells, printed_below, records_among, tell_apart
from mudanza.core.sources.reader import Batch, BrokenRow, FileFacts, ReadOptions, WithoutCells, shorter
from mudanza.core.sources.sniff import STAND_IN, TextForm, find_text_form, split_rows
from mudanza.core.sources.structure import (
    LONGEST_RECORD,
    Cut,
    Lines,
    Shape,
    body_of,
    cut_as_parsed,
    cut_exactly,
    cut_quickly,
    rows_alike,
)
from mudanza.core.values.row_columns import INNER, LINE

_FIRST_BLOCK = 1 << 18
#: whoever asks of the rows begins with a small block, rather than to wait for a large one
_SOON = 1 << 20
_MAX_CARRY = 16 * LONGEST_RECORD
#: Stand for an escaped delimiter and an escaped escape while a block is parsed.
_ESCAPED, _TWICE = b"\x1d", b"\x1c"
#: The blank column behind a delimiter at the end of every line.
_BEYOND = f"{INNER}beyond"


@dataclass(frozen=True)
class _Piece:
    """A block cut into records, their shape, the lines before it and the blocks up to it, and its rows if they are parsed."""

    cut: Cut
    shape: Shape
    line: int
    blocks: int
    rows: pl.DataFrame | None


@dataclass(frozen=True)
class DelimitedFile(WithoutCells):
    """A delimited text file opened for reading."""

    path: Path
    options: ReadOptions
    known_as: Path
    #: the columns that rows have; all, if nothing is said
    wanted: tuple[str, ...] | None = None

    def narrowed(self, headings: Collection[str]) -> DelimitedFile:
        """The same reader, whose rows have these columns alone."""
        made = replace(self, wanted=tuple(one for one in self.headings if one in headings))
        # the form is found out once
        vars(made)["form"] = self.form
        return made

    @cached_property
    def form(self) -> TextForm:
        return find_text_form(self.path, self.options)

    @cached_property
    def raw_headings(self) -> tuple[str, ...]:
        return self.form.headings

    @cached_property
    def headings(self) -> tuple[str, ...]:
        return tuple(tell_apart(self.raw_headings))

    @cached_property
    def facts(self) -> FileFacts:
        form = self.form
        notes = []
        if form.escape:
            notes.append(("escape", f"quotes inside values are written {form.escape}{form.quote}"))
        if form.quote == "'":
            notes.append(("quote", "values stand in single quotes"))
        if form.width > len(form.headings):
            notes.append(("line ends", "every row ends with a delimiter"))
        return FileFacts(
            path=self.known_as,
            format="delimited text",
            size=self.path.stat().st_size,
            heading_line=form.heading_line,
            text=form.text.found,
            delimiter=form.delimiter,
            above=max(0, form.heading_line - 1),
            notes=tuple(notes),
            proposal=tuple(self._proposal()),
        )

    def _proposal(self) -> Iterator[str]:
        """What a plan would have to say for this file to be read so for certain; nothing for a plain one."""
        form, said = self.form, self.options
        if form.text.found.how in ("guess", "mostly valid", "zeros") and said.encoding is None:
            yield f'encoding = "{form.text.encoding}"'
        if form.delimiter not in (",", ";", "\t") and said.delimiter is None:
            yield f"delimiter = {json.dumps(form.delimiter, ensure_ascii=False)}"
        if form.heading_line != 1 and said.heading is None:
            yield f"heading = {form.heading_line}"
        if form.heading_rows > 1 and said.heading_rows is None:
            yield f"heading_rows = {form.heading_rows}"

    def batches(self, *, first: bool = False) -> Iterator[Batch]:
        """The rows below the heading. Raises SourceError where a line is too long to be text."""
        delimiter = self.form.delimiter.encode()
        shape = Shape(
            delimiter if len(delimiter) == 1 else STAND_IN.encode(),
            self.form.quote.encode() if self.form.quote else None,
            self.form.width,
            self.options.comment.encode() if self.options.comment else None,
        )
        pieces = self._pieces(shape, first=first)
        end = self.form.first_line
        # the next block is cut while one is parsed, where parsing leaves room for it
        for piece in read_ahead(pieces, 1) if self.wanted is not None else pieces:
            cut = piece.cut
            if cut.rows or cut.broken or cut.blank_lines:
                yield replace(self._batch(piece), share=share_of(self.form.text, piece.blocks))
            end = piece.line + cut.passed
        if self.form.below:
            below = [(split_rows(text, self.form.delimiter, self.form.quote, 1) or [[]])[0] for text in self.form.below]
            printed = printed_below(below, self.headings, end + 1)
            yield Batch(self._empty(), noticed=frame(self._below(below, end + 1)), printed=printed)

    def _pieces(self, shape: Shape, *, first: bool) -> Iterator[_Piece]:
        """The blocks of the file cut into records."""
        line = to_skip = self.form.first_line
        carry = b""
        chunks = self._chunks(_FIRST_BLOCK if first else min(_SOON, BLOCK))
        chunk: bytes | None = next(chunks)
        blocks = 0
        while chunk is not None:
            blocks += 1
            following = next(chunks, None)
            at_end = following is None
            block = carry + chunk if carry else chunk
            cut_off = at_end and bool(block) and not block.endswith(b"\n")
            if cut_off:
                block += b"\n"
            if to_skip:
                block, to_skip = _skip_lines(block, to_skip)
            if to_skip == 0 and block:
                # where there are no quotes, none are looked for any more
                bare = shape if shape.quote is None or shape.quote in block else replace(shape, quote=None)
                cut, rows = self._cut(block, bare, at_end)
                yield _Piece(_with_cut_off(cut) if cut_off else cut, bare, line, blocks, rows)
                line += cut.passed
                carry = block[cut.used :]
            else:
                carry = block
            if len(carry) > _MAX_CARRY:
                raise SourceError(
                    f"a line is longer than {_MAX_CARRY >> 20} MiB.",
                    place=Place(file=str(self.known_as), line=line + 1),
                    hint="Is this a text file with line breaks? Say the right encoding, or export it again.",
                )
            chunk = following

    def _below(self, rows: Sequence[Cells], line: int) -> list[Finding]:
        """What stands below the data, from a line on: what looks like a record; or all of it, if nobody said that it is there."""
        form = self.form
        found = [
            Finding(
                "read.record-below", line=line + at, value=shorter(form.below[at]), rule=f"below = {len(form.below)}"
            )
            for at in records_among(rows, len(form.headings))
        ]
        if self.options.below is None and not found:
            text = shorter(" | ".join(t.strip() for t in form.below if t.strip()), 120)
            found.append(Finding("read.below-data", line=line, value=text))
        return found

    def _empty(self) -> pl.DataFrame:
        return pl.DataFrame(schema={**dict.fromkeys(self.headings, pl.String), LINE: pl.Int64})

    def _cut(self, block: bytes, shape: Shape, at_end: bool) -> tuple[Cut, pl.DataFrame | None]:
        """The block cut into records, and their rows if they had to be parsed for it."""
        if self.form.text.encoding.startswith(("utf-16", "utf-32")) and b"\xef\xbf\xbd" in block:
            return cut_exactly(block, shape, at_end), None
        # some columns alone do not tell how many bytes a row has
        body = body_of(block, shape) if self._columns(shape) is None else None
        rows = self._parse(body.text, shape) if body is not None else None
        if body is not None and rows is not None:
            cut = cut_as_parsed(body, rows.height, _bytes_held(rows), shape)
            if cut is not None:
                return cut, rows
        return cut_quickly(block, shape, at_end) or cut_exactly(block, shape, at_end), None

    def _batch(self, piece: _Piece) -> Batch:
        cut, shape, start = piece.cut, piece.shape, piece.line + 1
        rows = piece.rows if piece.rows is not None else self._parse(cut.body, shape)
        if rows is None or rows.height != cut.rows or self._is_uneven(rows, cut.body, shape):
            # the counts agreed in all together: a record has too many values for its columns
            cut = cut_exactly(cut.body, shape, True)
            rows = self._parse(cut.body, shape)
            if rows is None or rows.height != cut.rows:
                raise SourceError(
                    "the rows of this part of the file cannot be told apart.",
                    place=Place(file=str(self.known_as), line=start),
                    hint="Say delimiter= and quote= in the plan's source.",
                )
        rows = self._as_meant(rows, cut.body, shape)
        rows = rows.with_columns(_numbered(cut.lines, start))
        broken = [replace(b, line=b.line + start, text=self._as_it_stands(b.text)) for b in cut.broken]
        if _BEYOND in rows.columns:
            beyond = rows.filter(pl.col(_BEYOND).is_not_null())
            broken = sorted([*broken, *self._too_wide(beyond)], key=lambda b: b.line)
            rows = rows.filter(pl.col(_BEYOND).is_null()).drop(_BEYOND)
        if self.wanted is not None:
            rows = rows.select(*self.wanted, LINE)
        return Batch(rows, tuple(broken), tuple(line + start for line in cut.blank_lines))

    def _is_uneven(self, rows: pl.DataFrame, body: bytes, shape: Shape) -> bool:
        """Whether some rows have more values than others, which a parser that passes over columns does not see. Where the last value is never blank, no row is too short,
        and so none too long."""
        if not rows.height or self._columns(shape) is None or rows.to_series(-1).null_count() == 0:
            return False
        return not rows_alike(body, shape)

    def _as_it_stands(self, text: str) -> str:
        if len(self.form.delimiter.encode()) > 1:
            text = text.replace(STAND_IN, self.form.delimiter)
        return text.replace(_ESCAPED.decode(), self.form.delimiter) if self.form.escape else text

    def _too_wide(self, rows: pl.DataFrame) -> list[BrokenRow]:
        width = len(self.headings)
        broken = []
        for *cells, line in rows.select(*self.headings, _BEYOND, LINE).iter_rows():
            text = self.form.delimiter.join(cell or "" for cell in cells)
            values = tuple(cell or "" for cell in cells)
            broken.append(BrokenRow(line, "read.ragged", text, f"{width + 1} values", values, f"{width} values"))
        return broken

    def _parse(self, body: bytes, shape: Shape) -> pl.DataFrame | None:
        """The values as they stand; None where the parser refuses them."""
        schema = dict.fromkeys(self.headings, pl.String)
        if shape.columns > len(self.headings):
            schema[_BEYOND] = pl.String
        if not body:
            return pl.DataFrame(schema=schema)
        try:
            return pl.read_csv(
                body,
                has_header=False,
                schema=schema,
                separator=shape.delimiter.decode(),
                quote_char=shape.quote.decode() if shape.quote else None,
                columns=self._columns(shape),
            )
        except pl.exceptions.PolarsError:
            return None

    def _as_meant(self, rows: pl.DataFrame, body: bytes, shape: Shape) -> pl.DataFrame:
        """Parsed values without what stands in for signs; of empty quotes nothing."""
        text = pl.col(pl.String)
        if shape.delimiter.decode() != self.form.delimiter:
            text = text.str.replace_all(STAND_IN, self.form.delimiter, literal=True)
        escaped = self.form.escape is not None and _ESCAPED in body
        if escaped:
            text = text.str.replace_all(_ESCAPED.decode(), self.form.delimiter, literal=True)
        # to look for values of two quotes and nothing else takes longer than to clear them
        if shape.quote is not None or shape.delimiter == STAND_IN.encode():
            rows = rows.with_columns(pl.when(text.str.len_bytes() > 0).then(text).name.keep())
        elif escaped:
            rows = rows.with_columns(text)
        return rows

    def _columns(self, shape: Shape) -> list[int] | None:
        """The columns to parse, by number, if not all. Among quotes all are, for then only the parser tells how many values a row has."""
        if self.wanted is None or shape.quote is not None or shape.columns > len(self.headings):
            return None
        # by the last one rows are counted
        last = len(self.headings) - 1
        return sorted({*(self.headings.index(one) for one in self.wanted), last})

    def _chunks(self, size: int) -> Iterator[bytes]:
        """The data as UTF-8, with signs of several bytes and escaped ones replaced by their stand-ins."""
        form = self.form
        delimiter = form.delimiter.encode()
        chunks = utf8_chunks(form.text, size, exactly=len(delimiter) == 1, end=form.end, block=BLOCK)
        if form.escape:
            chunks = self._without(_ESCAPED + _TWICE, chunks)
            chunks = _unescaped(chunks, form.escape.encode(), (form.quote or '"').encode(), delimiter)
        if len(delimiter) > 1:
            chunks = _stood_in(self._without(STAND_IN.encode(), chunks), delimiter)
        return chunks

    def _without(self, signs: bytes, chunks: Iterator[bytes]) -> Iterator[bytes]:
        """The same bytes. Raises SourceError where a control character stands in them that is needed as a stand-in."""
        for chunk in chunks:
            for sign in signs:
                if sign in chunk:
                    raise SourceError(
                        f"the file holds the control character U+{sign:04X}, which no text should.",
                        place=Place(str(self.known_as)),
                        hint="Take it out in an editor; with a delimiter of several signs, or an escape sign, it cannot be told from them.",
                    )
            yield chunk


def _stood_in(chunks: Iterator[bytes], delimiter: bytes) -> Iterator[bytes]:
    """The same bytes with a stand-in for the delimiter, also where one falls across the border of two chunks."""
    keep = b""
    for chunk in chunks:
        whole = keep + chunk
        size = max((n for n in range(1, len(delimiter)) if whole.endswith(delimiter[:n])), default=0) if chunk else 0
        ready, keep = whole[: len(whole) - size], whole[len(whole) - size :]
        yield ready.replace(delimiter, STAND_IN.encode())


def _unescaped(chunks: Iterator[bytes], escape: bytes, quote: bytes, delimiter: bytes) -> Iterator[bytes]:
    """The same bytes with escaped quotes doubled, and escaped delimiters stood in for."""
    keep = b""
    for chunk in chunks:
        whole = keep + chunk
        size = (len(whole) - len(whole.rstrip(escape))) % 2 if chunk else 0
        ready, keep = whole[: len(whole) - size], whole[len(whole) - size :]
        ready = ready.replace(escape * 2, _TWICE).replace(escape + quote, quote * 2)
        yield ready.replace(escape + delimiter, _ESCAPED).replace(_TWICE, escape)


def _numbered(lines: Lines, start: int) -> pl.Series:
    """The lines of records as they stand in the file."""
    if not lines.size or lines[-1] == lines.size - 1:
        return pl.int_range(start, start + lines.size, eager=True).alias(LINE)
    return pl.Series(LINE, lines + start, dtype=pl.Int64)


def _bytes_held(rows: pl.DataFrame) -> int:
    """How many bytes all values have."""
    return sum(size or 0 for size in rows.select(pl.all().str.len_bytes().sum()).row(0))


def _with_cut_off(cut: Cut) -> Cut:
    """The last row, if it is damaged and no line end follows it, is one that was cut off."""
    if not cut.broken or cut.broken[-1].code not in ("read.ragged", "read.unclosed-quote"):
        return cut
    last = cut.broken[-1]
    if cut.lines.size and cut.lines[-1] > last.line:
        return cut
    return replace(cut, broken=(*cut.broken[:-1], replace(last, code="read.cut-off", value=shorter(last.text))))


def _skip_lines(block: bytes, count: int) -> tuple[bytes, int]:
    """The block without its first `count` physical lines, and how many are still to be skipped."""
    at = 0
    while count and (end := block.find(b"\n", at) + 1):
        at, count = end, count - 1
    return block[at:], count


def open_file(path: Path, options: ReadOptions, known_as: Path) -> DelimitedFile:
    """A delimited file's reader."""
    return DelimitedFile(path, options, known_as)
