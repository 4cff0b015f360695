"""Rows as the bytes of a file, in a layout's dialect (RFC 4180 where the layout says nothing else)."""

from __future__ import annotations

import codecs
import io
import json
from typing import Any

import polars as pl

from mudanza.core.layouts.model import Dialect, Layout
from mudanza.core.layouts.reading import CONTEXT

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


def metadata_for(layout: Layout, file_name: str) -> str:
    """The CSVW metadata that stands beside a written file, as JSON. It depends on nothing but the layout."""
    node: dict[str, Any] = {"@context": CONTEXT, "url": file_name}
    node.update({k: v for k, v in layout.metadata.items() if k not in node})
    return json.dumps(node, indent=2, ensure_ascii=False) + "\n"
