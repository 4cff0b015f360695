"""Records with others that belong to them, as one text each: objects within objects, elements within elements, or lines that begin with the tag of their kind."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass
from functools import partial

import polars as pl

from mudanza.core.layouts.form import JSON, NDJSON, XML
from mudanza.core.layouts.layout import Layout
from mudanza.core.sinks.csv_text import byte_order_mark, encoder_of
from mudanza.core.sinks.json_text import JsonWriter, quoted
from mudanza.core.sinks.xml_text import XmlWriter
from mudanza.core.values.row_columns import HEADER_TEXT

#: the column in which the text of a header stands beside those of its lines, which stand under their headings


@dataclass(frozen=True)
class Envelope:
    """What stands around texts and between them: before the first, apart, behind the last if there is one, and at the end of all; and how they are encoded, with a mark before all."""

    start: str
    apart: str
    behind: str
    end: str
    mark: bytes = b""
    encoding: str = "utf-8"

    def bytes_of(self, texts: Iterable[pl.Series]) -> Iterator[bytes]:
        """A file of texts, piece by piece."""
        encoder = encoder_of(self.encoding)
        yield self.mark + encoder.encode(self.start)
        begun = False
        for piece in texts:
            if len(piece):
                yield encoder.encode((self.apart if begun else "") + str(piece.str.join(self.apart).item()))
                begun = True
        yield encoder.encode((self.behind if begun else "") + self.end)


@dataclass(frozen=True)
class Composition:
    """How such texts are made: those of headers, and those of lines by what they stand under, each of the records of
    its list; what stands `between` two lines; the `whole`, of the header in the column `HEADER_TEXT` and the joined
    lines in columns of their headings (null where there are none); and what is around all wholes."""

    header: Callable[[pl.DataFrame], pl.Series]
    lines: Mapping[str, Callable[[pl.DataFrame], pl.Series]]
    between: str
    whole: pl.Expr
    envelope: Envelope


def composition_of(layout: Layout, lines: Mapping[str, Layout]) -> Composition:
    """How records of a layout are written with their lines, by what those stand under."""
    if layout.form.format in (JSON, NDJSON):
        return _of_json(layout, lines)
    return _of_xml(layout, lines) if layout.form.format == XML else _tagged(layout, lines)


def _titles(layout: Layout) -> list[str]:
    return [one.title for one in layout.fields]


def _of_json(layout: Layout, lines: Mapping[str, Layout]) -> Composition:
    own = JsonWriter(layout, _titles(layout))
    header = pl.col(HEADER_TEXT)
    pieces = [header.str.head(-1)]
    for number, heading in enumerate(lines):
        comma = pl.lit(",") if number else pl.when(header == "{}").then(pl.lit("")).otherwise(pl.lit(","))
        pieces += [comma, pl.lit(f"{quoted(heading)}:["), pl.col(heading).fill_null(""), pl.lit("]")]
    in_list = layout.form.format == JSON
    return Composition(
        own.texts,
        {heading: JsonWriter(one, _titles(one)).texts for heading, one in lines.items()},
        ",",
        pl.concat_str([*pieces, pl.lit("}")]),
        Envelope(
            own.head().decode() + ("\n" if in_list else ""),
            ",\n" if in_list else "\n",
            "\n",
            b"".join(own.tail()).decode() if in_list else "",
        ),
    )


def _of_xml(layout: Layout, lines: Mapping[str, Layout]) -> Composition:
    own = XmlWriter(layout, _titles(layout))
    name = layout.form.records[-1]
    header, close = pl.col(HEADER_TEXT), f"</{name}>"
    bare = header.str.strip_suffix("/>") + pl.lit(">")
    opened = pl.when(header.str.ends_with(close)).then(header.str.strip_suffix(close)).otherwise(bare)
    inner = pl.concat_str([pl.col(heading).fill_null("") for heading in lines])
    return Composition(
        own.texts,
        {heading: XmlWriter(one, _titles(one), (heading,)).texts for heading, one in lines.items()},
        "",
        pl.when(inner == "").then(header).otherwise(opened + inner + pl.lit(close)),
        Envelope(own.head().decode(), "\n", "\n", b"".join(own.tail()).decode()),
    )


def _tagged(layout: Layout, lines: Mapping[str, Layout]) -> Composition:
    dialect = layout.dialect
    tag = layout.form.lines.tag or ""
    apart = pl.lit(dialect.line_end)
    further = [
        pl.when(pl.col(heading).is_not_null()).then(apart + pl.col(heading)).otherwise(pl.lit("")) for heading in lines
    ]
    kinds = {tag: layout, **lines}
    marked = [
        dialect.delimiter.join(
            [f"{layout.form.lines.marker}{kind}", *(_quoted(title, layout) for title in _titles(one))]
        )
        for kind, one in kinds.items()
    ]
    return Composition(
        partial(_lines, tag, layout, layout),
        {heading: partial(_lines, heading, one, layout) for heading, one in lines.items()},
        dialect.line_end,
        pl.concat_str([pl.col(HEADER_TEXT), *further]),
        Envelope(
            "".join(f"{one}{dialect.line_end}" for one in marked),
            dialect.line_end,
            dialect.line_end,
            "",
            byte_order_mark(dialect),
            dialect.encoding,
        ),
    )


def _lines(tag: str, layout: Layout, of: Layout, frame: pl.DataFrame) -> pl.Series:
    """Records as lines that begin with a tag, in the dialect of the header's layout."""
    delimiter, quote = of.dialect.delimiter, of.dialect.quote
    cells = []
    for title in _titles(layout):
        text = pl.col(title).fill_null("")
        if quote is not None:
            odd = text.str.contains_any([delimiter, quote, "\r", "\n"])
            within = pl.lit(quote) + text.str.replace_all(quote, quote * 2, literal=True) + pl.lit(quote)
            text = pl.when(odd).then(within).otherwise(text)
        cells.append(text)
    return frame.select(pl.concat_str([pl.lit(tag), *cells], separator=delimiter)).to_series()


def _quoted(title: str, layout: Layout) -> str:
    quote = layout.dialect.quote or '"'
    odd = any(sign in title for sign in (layout.dialect.delimiter, quote, "\n", "\r"))
    return f"{quote}{title.replace(quote, quote * 2)}{quote}" if odd else title
