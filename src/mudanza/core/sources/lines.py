"""Text as a frame of lines, for formats that are made of lines rather than of delimited records."""

from __future__ import annotations

from collections.abc import Iterator

import polars as pl

from mudanza.core.documents.errors import Place, SourceError
from mudanza.core.sources.decoding import BLOCK, TextFile, utf8_chunks
from mudanza.core.sources.reader import BrokenRow, shorter
from mudanza.core.sources.structure import shown
from mudanza.core.values.row_columns import LINE

TEXT = "text"
_FIRST_BLOCK = 1 << 18
_LONGEST = 64 << 20
#: a character that no text has, so that a line is one value
_NONE = "\x1f"


def lines_of(text: TextFile, *, first: bool = False) -> Iterator[tuple[pl.DataFrame, list[BrokenRow]]]:
    """Frames of `text` (null for a blank line, line end left out) and `#line`, and the lines that cannot be decoded.

    With `first`, the first frame is small. Raises SourceError for a line that is too long to be one.
    """
    line, carry = 0, b""
    for chunk in utf8_chunks(text, _FIRST_BLOCK if first else BLOCK):
        block = carry + chunk
        if not chunk and block and not block.endswith(b"\n"):
            block += b"\n"
        end = block.rfind(b"\n") + 1
        body, carry = block[:end], block[end:]
        if len(carry) > _LONGEST:
            raise SourceError(
                f"a line is longer than {_LONGEST >> 20} MiB.",
                place=Place(str(text.path), line=line + 1),
                hint="Is this a text file with line breaks? Say the right encoding, or export it again.",
            )
        if body:
            frame, broken = _frame(body, line, text.encoding)
            line += body.count(b"\n")
            yield frame, broken


def _frame(body: bytes, line: int, encoding: str) -> tuple[pl.DataFrame, list[BrokenRow]]:
    count = body.count(b"\n")
    try:
        frame = pl.read_csv(
            body, has_header=False, schema={TEXT: pl.String}, separator=_NONE, quote_char=None, encoding="utf8"
        )
    except pl.exceptions.PolarsError:
        frame = None
    broken: list[BrokenRow] = []
    if frame is None or frame.height != count or b"\0" in body:
        lines: list[str | None] = []
        for number, raw in enumerate(body.split(b"\n")[:-1], start=line + 1):
            try:
                code = "read.nul" if b"\0" in raw else None
                lines.append(raw.decode() if code is None else None)
            except UnicodeDecodeError:
                code = "read.undecodable"
                lines.append(None)
            if code is not None:
                plain = shown(raw).replace("\0", "\\0")
                rule = "text without NUL" if code == "read.nul" else f"text in {encoding}"
                broken.append(BrokenRow(number, code, plain, shorter(plain), rule=rule))
        frame = pl.DataFrame({TEXT: pl.Series(lines, dtype=pl.String)})
    frame = frame.with_columns(
        pl.col(TEXT).str.strip_chars_end("\r"),
        pl.int_range(line + 1, line + 1 + frame.height, dtype=pl.Int64).alias(LINE),
    )
    bad = [b.line for b in broken]
    return (frame.filter(~pl.col(LINE).is_in(bad)) if bad else frame), broken


def is_blank_line() -> pl.Expr:
    """Whether a line has nothing but spaces."""
    return pl.col(TEXT).str.strip_chars().str.len_bytes().fill_null(0) == 0
