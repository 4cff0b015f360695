"""CSV in a layout's dialect (RFC 4180 where the layout says nothing else): written, read back, and what it cannot hold."""

from __future__ import annotations

import codecs
import io
from pathlib import Path

import polars as pl

from mudanza.core.documents.errors import MudanzaError, Place
from mudanza.core.findings.problem import Problem
from mudanza.core.layouts.layout import Dialect, Field, Layout
from mudanza.core.sources.opening import open_source
from mudanza.core.sources.reader import ReadOptions
from mudanza.core.values.row_columns import LINE

ENDING = ".csv"
_BOMS = {"utf-8": codecs.BOM_UTF8, "utf-16": b"", "utf-32": b""}


class RowWriter:
    """Turns frames of text into bytes, one after the other. The first call of `head` comes first."""

    def __init__(self, columns: list[str], dialect: Dialect | None = None) -> None:
        self._columns = columns
        self._dialect = dialect or Dialect()
        self._encoder = codecs.getincrementalencoder(self._dialect.encoding)()

    def head(self) -> bytes:
        """The byte order mark, if any, and the heading."""
        mark = _BOMS.get(self._dialect.encoding, b"") if self._dialect.bom else b""
        if not self._dialect.header:
            return mark
        row = pl.DataFrame([[c] for c in self._columns], schema=[f"c{i}" for i in range(len(self._columns))])
        return mark + self._bytes(row)

    def rows(self, frame: pl.DataFrame) -> bytes:
        """A frame that has at least the writer's columns."""
        return self._bytes(frame.select(self._columns)) if frame.height else b""

    def _bytes(self, frame: pl.DataFrame) -> bytes:
        if frame.width == 1:
            # a blank value alone on its line would be no row at all
            frame = frame.select(pl.all().fill_null(""))
        buffer = io.BytesIO()
        frame.write_csv(
            buffer,
            include_header=False,
            separator=self._dialect.delimiter,
            quote_char=self._dialect.quote or '"',
            quote_style="necessary" if self._dialect.quote else "never",
            line_terminator=self._dialect.line_end,
        )
        data = buffer.getvalue()
        return data if self._dialect.encoding == "utf-8" else self._encoder.encode(data.decode())


def cannot_hold(field: Field, dialect: Dialect, text: pl.Expr) -> list[Problem]:
    """Characters that the file's encoding cannot write, or that would break its rows for want of quotes."""
    problems = []
    if not dialect.encoding.startswith("utf"):
        signs = bytes(range(256)).decode(dialect.encoding, "ignore")
        escaped = "".join(f"\\x{{{ord(sign):x}}}" for sign in signs)
        wrong = text.str.contains(f"[^{escaped}]")
        problems.append(Problem("value.unencodable", field.title, wrong, text, f"encoding {dialect.encoding}"))
    if dialect.quote is None:
        wrong = text.str.contains_any([dialect.delimiter, "\r", "\n"])
        problems.append(
            Problem("value.unquotable", field.title, wrong, text, f"without {dialect.delimiter!r} or line breaks")
        )
    return problems


def options_of(dialect: Dialect) -> ReadOptions:
    """How a file in a dialect is read again."""
    return ReadOptions(
        encoding=dialect.encoding,
        delimiter=dialect.delimiter,
        quote=dialect.quote,
        heading=1 if dialect.header else 0,
        exact=True,
    )


def read(path: Path, layout: Layout, shown: str, error: type[MudanzaError] = MudanzaError) -> pl.DataFrame:
    """A whole file as text columns named by the layout's titles, plus `#line`. Blanks are null.

    Raises `error` if a row is damaged or a column is missing.
    """
    dialect = layout.dialect
    reader = open_source(path, options_of(dialect))
    titles = [f.title for f in layout.fields]
    names = dict(zip(reader.headings, reader.raw_headings if dialect.header else titles, strict=False))
    missing = [t for t in titles if t not in names.values()]
    check = f"`mudanza check {shown} --layout {layout.path.stem}` tells everything that is wrong."
    if missing:
        raise error(f"the file lacks the layout's column {missing[0]!r}.", place=Place(shown, 1), hint=check)
    parts = []
    for batch in reader.batches():
        if batch.broken:
            bad = batch.broken[0]
            raise error(f"the row is damaged: {bad.value}.", place=Place(shown, bad.line), hint=check)
        parts.append(
            batch.rows.rename({k: v for k, v in names.items() if k in batch.rows.columns}).select(*titles, LINE)
        )
    schema = {**dict.fromkeys(titles, pl.String), LINE: pl.Int64}
    return pl.concat([pl.DataFrame(schema=schema), *parts])
