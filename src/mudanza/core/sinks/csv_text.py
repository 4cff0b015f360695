"""CSV in a layout's dialect (RFC 4180 where the layout says nothing else): written, read back, and what it cannot hold."""

from __future__ import annotations

import codecs
import io
import re
from collections.abc import Iterator, Sequence
from pathlib import Path

import polars as pl

from mudanza.core.documents.errors import MudanzaError, Place
from mudanza.core.findings.problem import Problem
from mudanza.core.layouts.dialect import Dialect
from mudanza.core.layouts.form import QUOTED, TOLD
from mudanza.core.layouts.layout import Field, Layout
from mudanza.core.layouts.rules import unencodable
from mudanza.core.layouts.types import TextType
from mudanza.core.layouts.types.cell import SPACES
from mudanza.core.sinks.reading import advice, whole
from mudanza.core.sources.opening import open_source
from mudanza.core.sources.reader import ReadOptions
from mudanza.core.values.row_columns import INNER

#: stands for a quote inside a value until it is escaped
_QUOTE = "\x1c"
_ESCAPE = "\\"
#: asks for quotes around a value that would do without, and is then taken out; nothing that is data holds it
_BREAK = "\x1d\x1e\x1d\n"
#: a pattern of letters, digits and their classes, of which a letter or digit is the first
_PLAIN_PATTERN = re.compile(
    r"(?:[A-Za-z0-9]|\[(?:0-9|A-Z|a-z)+\])(?:[A-Za-z0-9_ -]|\[[A-Za-z0-9_ -]+\]|\{[1-9][0-9,]*\})*"
)
#: what programs take for a line that is no record if nobody tells them ("Metadata Vocabulary", section 5.9)
_USUAL_COMMENT = "#"


class RowWriter:
    """Turns frames of text into bytes, one after the other. The first call of `head` comes first."""

    def __init__(self, columns: list[str], dialect: Dialect | None = None, headings: Sequence[str] = ()) -> None:
        """Of a frame these columns are written, below their names or other `headings`."""
        self._columns, self._headings = columns, headings or columns
        self._dialect = dialect or Dialect()
        self._encoder = encoder_of(self._dialect.encoding)

    def head(self) -> bytes:
        """The byte order mark, if any, the rows that readers pass over, and the heading."""
        dialect = self._dialect
        row = pl.DataFrame([[c] for c in self._headings], schema=[f"c{i}" for i in range(len(self._headings))])
        above = self._encoded((dialect.line_end * dialect.around.rows).encode())
        return byte_order_mark(dialect) + above + b"".join(self._bytes(row) for _ in range(dialect.header_rows))

    def rows(self, frame: pl.DataFrame) -> bytes:
        """A frame that has at least the writer's columns."""
        return self._bytes(frame.select(self._columns)) if frame.height else b""

    def tail(self) -> Iterator[bytes]:
        """Nothing stands behind the last row."""
        yield b""

    def _bytes(self, frame: pl.DataFrame) -> bytes:
        dialect = self._dialect
        if frame.width == 1:
            # a blank value alone on its line would be no row at all
            frame = frame.select(pl.all().fill_null(""))
        if dialect.around.columns:
            frame = frame.select(
                *(pl.lit(None, dtype=pl.String).alias(f"{INNER}{i}") for i in range(dialect.around.columns)), pl.all()
            )
        escaped = not dialect.double_quote and dialect.quote is not None
        if escaped:
            text = pl.all().str.replace_all(_ESCAPE, _ESCAPE * 2, literal=True)
            frame = frame.select(text.str.replace_all(dialect.quote or "", _QUOTE, literal=True))
        whole = frame
        if dialect.quote is not None and frame.width:
            frame = self._no_comments(frame)
        buffer = io.BytesIO()
        frame.write_csv(
            buffer,
            include_header=False,
            separator=dialect.delimiter,
            quote_char=dialect.quote or '"',
            quote_style="never" if dialect.quote is None else "always" if escaped else "necessary",
            line_terminator=dialect.line_end,
        )
        data = buffer.getvalue()
        if frame is not whole:
            data = data.replace(_BREAK.encode(), b"")
        if escaped:
            data = data.replace(_QUOTE.encode(), (_ESCAPE + (dialect.quote or "")).encode())
        return self._encoded(data)

    def _no_comments(self, frame: pl.DataFrame) -> pl.DataFrame:
        """The rows, with a break that asks for quotes where they would begin as a line does that is no record."""
        sign = self._dialect.around.comment
        sign = _USUAL_COMMENT if sign is None else sign
        first = pl.col(frame.columns[0])
        odd = first.str.starts_with(sign)
        if not sign or not frame.select(odd.any()).item():
            return frame
        return frame.with_columns(pl.when(odd).then(first + _BREAK).otherwise(first))

    def _encoded(self, data: bytes) -> bytes:
        return data if self._dialect.encoding == "utf-8" else self._encoder.encode(data.decode())


def byte_order_mark(dialect: Dialect) -> bytes:
    """The mark that files in a dialect begin with; those of more than eight bits have one whatever is said."""
    return codecs.BOM_UTF8 if dialect.bom and dialect.encoding == "utf-8" else "".encode(dialect.encoding)


def encoder_of(encoding: str) -> codecs.IncrementalEncoder:
    """What makes bytes of texts, one after the other, without the mark that stands before all."""
    encoder = codecs.getincrementalencoder(encoding)()
    encoder.setstate(0)
    return encoder


class QuotedWriter(RowWriter):
    """Writes texts that a spreadsheet program would run with an apostrophe in front, which it takes for the sign of a
    text: in all columns, or some. So are all files written that people open."""

    def __init__(
        self, columns: Sequence[str], dialect: Dialect | None = None, texts: Sequence[str] | None = None
    ) -> None:
        columns = list(columns)
        headings = pl.Series(columns, dtype=pl.String).to_frame("heading").select(quoted("heading")).to_series()
        super().__init__(columns, dialect, headings.to_list() if texts is None else ())
        self._texts = columns if texts is None else texts

    def rows(self, frame: pl.DataFrame) -> bytes:
        """A frame that has at least the writer's columns."""
        return super().rows(frame.with_columns(quoted(t) for t in self._texts if frame.schema[t] == pl.String))


def quoted(column: str) -> pl.Expr:
    """Texts, with an apostrophe in front of those that a spreadsheet program would run; and of those that begin as
    these are written, so that `unquoted` gives back what was."""
    text = pl.col(column)
    return pl.when(_may_run(text)).then(pl.lit("'") + text).otherwise(text).alias(column)


def unquoted(text: pl.Expr) -> pl.Expr:
    """Texts as they were before they were `quoted`."""
    return pl.when(text.str.starts_with("'") & _may_run(text)).then(text.str.slice(1)).otherwise(text)


_RUNS = r"(?:[=@\t\r]|[+\-].*[^0-9\s+\-().,/])"


def would_run(text: pl.Expr) -> pl.Expr:
    """Whether a spreadsheet program would take a text for a formula. One that begins with + or -, and has nothing but what numbers, telephone numbers among them, are written with, it computes at worst."""
    return text.str.contains(f"^{_RUNS}")


def _may_run(text: pl.Expr) -> pl.Expr:
    return text.str.contains(f"^'*{_RUNS}")


def _is_plain(field: Field) -> bool:
    """Whether what the field takes begins with a letter or digit, and has no control characters."""
    if field.is_typed:
        return True
    if not isinstance(field.type, TextType) or field.separator is not None:
        return False
    if field.type.permitted is not None:
        return all(word[:1].isalnum() and word.isprintable() for word in field.type.permitted)
    return _PLAIN_PATTERN.fullmatch(field.type.pattern or ".") is not None


def _quoted_texts(layout: Layout) -> list[str]:
    """The headings of fields whose texts get an apostrophe where they would run."""
    are_quoted = layout.form.formulas == QUOTED
    return [one.title for one in layout.fields if are_quoted and not one.is_typed]


def writer(layout: Layout, titles: Sequence[str]) -> RowWriter:
    """A writer of rows with these headings."""
    texts = [title for title in _quoted_texts(layout) if title in titles]
    return QuotedWriter(titles, layout.dialect, texts) if texts else RowWriter(list(titles), layout.dialect)


def problems(field: Field, layout: Layout, text: pl.Expr) -> list[Problem]:
    """Characters that the file's encoding cannot write, or that would break its rows for want of quotes; spaces that readers take off; texts that spreadsheet programs would run."""
    dialect = layout.dialect
    found = []
    if not dialect.encoding.startswith("utf"):
        found.append(unencodable(field, dialect.encoding, text))
    if dialect.quote is None:
        wrong = text.str.contains_any([dialect.delimiter, "\r", "\n"])
        found.append(
            Problem("value.unquotable", field.title, wrong, text, f"without {dialect.delimiter!r} or line breaks")
        )
    if dialect.around.trim:
        wrong = text != trimmed(text, dialect.around.trim)
        found.append(Problem("value.unquotable", field.title, wrong, text, "without spaces at its ends"))
    if _is_plain(field):
        return found
    nul = text.str.contains("\0", literal=True)
    found.append(Problem("value.unwritable", field.title, nul, text, "no NUL, which no text file should have"))
    if layout.form.formulas == TOLD and not field.is_typed:
        rule = 'no text that a spreadsheet program would run; "formulas" in the form: kept or quoted'
        # nearly all texts begin otherwise
        odd = (text < "0") | ((text >= ":") & (text < "A"))
        found.append(Problem("value.formula", field.title, odd, text, rule, unless=~would_run(text)))
    return found


def trimmed(text: pl.Expr, where: str) -> pl.Expr:
    """A text without spaces at its "start", its "end", or "both"."""
    if where == "start":
        return text.str.strip_chars_start(SPACES)
    return text.str.strip_chars_end(SPACES) if where == "end" else text.str.strip_chars(SPACES)


def options_of(dialect: Dialect) -> ReadOptions:
    """How a file in a dialect is read again: with its last row of headings, if it has several, for the heading."""
    around = dialect.around
    # a comment may stand above the heading; then the first line that is none has it
    counted = around.comment is None or around.rows or dialect.header_rows != 1
    return ReadOptions(
        encoding=dialect.encoding,
        delimiter=dialect.delimiter,
        quote=dialect.quote,
        escape=None if dialect.double_quote else _ESCAPE,
        heading=0 if not dialect.header else around.rows + dialect.header_rows if counted else None,
        above=around.rows,
        comment=around.comment,
        exact=True,
    )


def options(layout: Layout) -> ReadOptions:
    """How a file of a layout is read again."""
    return options_of(layout.dialect)


def layout_text(field: Field, text: pl.Expr) -> pl.Expr:  # noqa: ARG001
    """The text that the layout has for what a reader gives."""
    return text


def as_read(dialect: Dialect, columns: Sequence[str]) -> list[pl.Expr]:
    """The columns of a file as its dialect means them: without those that are skipped, and without the spaces that do not count."""
    kept = [pl.col(name) for name in columns[dialect.around.columns :]]
    return [trimmed(one, dialect.around.trim) for one in kept] if dialect.around.trim else kept


def read(path: Path, layout: Layout, shown: str, error: type[MudanzaError] = MudanzaError) -> pl.DataFrame:
    """A whole file as text columns named by the layout's titles, plus `#line`. Blanks are null.

    Raises `error` if a row is damaged or a column is missing.
    """
    dialect = layout.dialect
    reader = open_source(path, options_of(dialect))
    titles = [f.title for f in layout.fields]
    skipped = dialect.around.columns
    raw = reader.raw_headings[skipped:] if dialect.header else titles
    named = {title: one.title for one in layout.fields for title in reversed(one.titles)}
    names = {named.get(title, title): name for name, title in zip(reader.headings[skipped:], raw, strict=False)}
    missing = [t for t in titles if t not in names]
    if missing:
        what = f"the file lacks the layout's column {missing[0]!r}."
        raise error(what, place=Place(shown, 1), hint=advice(layout, shown))
    with_apostrophes = _quoted_texts(layout)
    read_as_meant = dict(zip(reader.headings[skipped:], as_read(dialect, reader.headings), strict=True))
    texts = [
        (unquoted(read_as_meant[names[title]]) if title in with_apostrophes else read_as_meant[names[title]]).alias(
            title
        )
        for title in titles
    ]
    return whole(reader, layout, shown, texts, error)
