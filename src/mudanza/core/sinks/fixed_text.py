"""Text of fixed width: each field has so many characters, and is filled up with its padding. Encoding, line ends and headings are those of the dialect."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path

import polars as pl

from mudanza.core.documents.errors import MudanzaError
from mudanza.core.findings.problem import Problem
from mudanza.core.layouts.layout import Field, Layout
from mudanza.core.layouts.rules import unencodable
from mudanza.core.layouts.types import NumberType
from mudanza.core.sinks.csv_text import byte_order_mark, encoder_of
from mudanza.core.sinks.reading import has_no_records, no_records, read_as
from mudanza.core.sources.reader import ReadOptions

_ZEROS = r"^(-?)0+([0-9])"


class FixedWriter:
    """Writes each record on a line, its fields at their places."""

    def __init__(self, layout: Layout, titles: Sequence[str]) -> None:
        self._dialect = layout.dialect
        self._encoder = encoder_of(layout.dialect.encoding)
        self._titles = list(titles)
        self._fields = list(layout.fields)

    def head(self) -> bytes:
        """The byte order mark, if any, the lines that readers pass over, and the headings, cut to the width of their fields."""
        dialect = self._dialect
        heading = pl.DataFrame({one.title: [one.title[: one.form.width]] for one in self._fields})
        line = self._lines(heading, [pl.col(one.title).str.pad_end(one.form.width or 0) for one in self._fields])
        above = dialect.line_end * dialect.around.rows + line * dialect.header_rows
        return byte_order_mark(dialect) + self._encoder.encode(above)

    def rows(self, frame: pl.DataFrame) -> bytes:
        """The records of a frame. Fields that it does not have are blank."""
        if not frame.height:
            return b""
        blank = pl.lit(None, dtype=pl.String)
        padded = [_padded(one, pl.col(one.title) if one.title in self._titles else blank) for one in self._fields]
        return self._encoder.encode(self._lines(frame, padded))

    def tail(self) -> Iterator[bytes]:
        """Nothing stands behind the last record."""
        yield b""

    def _lines(self, frame: pl.DataFrame, cells: Sequence[pl.Expr]) -> str:
        """The lines of a frame, of its cells in their full width."""
        at, pieces = 1, []
        for one, cell in zip(self._fields, cells, strict=True):
            start = one.form.start or at
            pieces += [pl.lit(" " * (start - at)), cell]
            at = start + (one.form.width or 0)
        lines = frame.select(pl.concat_str(pieces).alias("line"))["line"]
        return str(lines.str.join(self._dialect.line_end).item()) + self._dialect.line_end


def _padded(field: Field, text: pl.Expr) -> pl.Expr:
    """A cell in its full width; a blank is spaces whatever it is filled up with."""
    form, text = field.form, text.fill_null("")
    width = form.width or 0
    if form.padding == "0" and form.at_start and isinstance(field.type, NumberType):
        # the sign stays in front of the zeros
        padded = text.str.zfill(width)
    else:
        padded = text.str.pad_start(width, form.padding) if form.at_start else text.str.pad_end(width, form.padding)
    return pl.when(text == "").then(pl.lit(" " * width)).otherwise(padded)


def layout_text(field: Field, text: pl.Expr) -> pl.Expr:
    """The text that the layout has for what a reader gives: without its padding."""
    form = field.form
    if form.padding == "0" and form.at_start and isinstance(field.type, NumberType):
        text = text.str.replace(_ZEROS, "${1}${2}")
    elif form.padding != " ":
        text = text.str.strip_chars_start(form.padding) if form.at_start else text.str.strip_chars_end(form.padding)
    return text.fill_null(field.null[0]) if field.null[0] else text


def writer(layout: Layout, titles: Sequence[str]) -> FixedWriter:
    """A writer of records with these headings."""
    return FixedWriter(layout, titles)


def problems(field: Field, layout: Layout, text: pl.Expr) -> list[Problem]:
    """Texts that are too long, that would break the line, or of which the padding would be a part."""
    form = field.form
    width = form.width or 0
    found = [
        Problem("value.unwritable", field.title, text.str.len_chars() > width, text, f"at most {width} characters")
    ]
    if not layout.dialect.encoding.startswith("utf"):
        found.append(unencodable(field, layout.dialect.encoding, text))
    broken = text.str.contains(r"[\x00-\x1F\x7F]")
    found.append(Problem("value.unwritable", field.title, broken, text, "no line breaks or other control characters"))
    spaced = text.str.contains(r"^\s|\s$")
    found.append(Problem("value.unwritable", field.title, spaced, text, "no spaces at its ends"))
    if form.padding not in (" ", "0") or (form.padding == "0" and not isinstance(field.type, NumberType)):
        padded = text.str.starts_with(form.padding) if form.at_start else text.str.ends_with(form.padding)
        where = "start" if form.at_start else "end"
        found.append(Problem("value.unwritable", field.title, padded, text, f"no {form.padding!r} at its {where}"))
    return found


def options(layout: Layout) -> ReadOptions:
    """How such a file is read again."""
    positions, at = {}, 1
    for one in layout.fields:
        start = one.form.start or at
        at = start + (one.form.width or 0)
        positions[one.title] = f"{start}-{at - 1}"
    dialect = layout.dialect
    return ReadOptions(
        format="fixed",
        encoding=dialect.encoding,
        heading=dialect.around.rows + dialect.header_rows,
        own={"positions": positions},
        exact=True,
    )


def read(path: Path, layout: Layout, shown: str, error: type[MudanzaError] = MudanzaError) -> pl.DataFrame:
    """A whole file; see `Sink.read`."""
    if has_no_records(path, writer(layout, [one.title for one in layout.fields])):
        return no_records(layout)
    return read_as(path, layout, shown, options(layout), error, layout_text)
