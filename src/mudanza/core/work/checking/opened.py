"""A file under check, opened as its layout says that it is written; where it is not, as it really is, with a finding."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path

import polars as pl

from mudanza.core.documents.errors import SourceError
from mudanza.core.findings.finding import Finding
from mudanza.core.layouts.dialect import Dialect
from mudanza.core.layouts.form import FIXED, OF_THEIR_OWN, WHOLE
from mudanza.core.layouts.layout import Layout
from mudanza.core.sinks.csv_text import as_read, options_of
from mudanza.core.sinks.formats import sink_of
from mudanza.core.sources.opening import open_source, recognise
from mudanza.core.sources.reader import Batch, Encoding, Reader, ReadOptions
from mudanza.core.values.row_columns import LINE
from mudanza.core.work.checking.line_ends import wrong_line_ends

_LOOK = 1 << 20


@dataclass(frozen=True)
class Opened:
    """A file that is checked: its reader, its columns without those that the dialect skips, what they are headed, and what was found on opening.

    `as_said` tells whether it is written in the layout's dialect; of workbooks, JSON and the like there is nothing to say.
    """

    reader: Reader
    columns: tuple[str, ...]
    headings: tuple[str, ...]
    findings: tuple[Finding, ...]
    dialect: Dialect
    as_said: bool
    #: the texts that the layout has for what the reader gives in some columns
    cells: Mapping[str, pl.Expr] = field(default_factory=dict)

    @property
    def in_sheet(self) -> bool:
        """Whether it is a sheet of a workbook."""
        return self.reader.facts.sheet is not None

    @property
    def in_records(self) -> bool:
        """Whether its values stand by name, in no order, as those of JSON and XML do."""
        return self.reader.facts.unit == "record"

    @property
    def line(self) -> int | None:
        """Where the headings stand."""
        return self.reader.facts.heading_line or None

    def cell(self, column: str, line: int) -> str | None:
        """The cell of a column in a row; None where there are no cells."""
        letters = self.reader.letters.get(column)
        return None if letters is None else f"{self.reader.facts.sheet}!{letters}{line}"

    def batches(self) -> Iterator[Batch]:
        """The rows, as the dialect means them; without what it lets stand around them."""
        around = self.dialect.around
        for batch in self.reader.batches():
            made = replace(batch, rows=batch.rows.with_columns(**self.cells)) if self.cells else batch
            if self.as_said and (around.columns or around.trim):
                made = replace(made, rows=batch.rows.select(*as_read(self.dialect, self.reader.headings), LINE))
            if self.as_said and around.blank_rows:
                made = _without_blank_rows(made)
            yield made


def _without_blank_rows(batch: Batch) -> Batch:
    filled = pl.any_horizontal(pl.all().exclude(LINE).fill_null("") != "")
    return replace(batch, rows=batch.rows.filter(filled), blank_lines=())


def open_to_check(path: Path, layout: Layout, shown: str, sheet: str | None = None) -> Opened:
    """Open a file in whatever format. Raises SourceError if it cannot be read at all."""
    form, dialect = layout.form, layout.dialect
    if form.format in OF_THEIR_OWN and (opened := in_its_form(path, layout)) is not None:
        return opened
    options = replace(options_of(dialect), encoding=None, sheet=sheet)
    first = open_source(path, options)
    if first.facts.sheet is not None or first.facts.unit == "record":
        # what is no delimited text has no dialect
        heading = None if first.facts.sheet is None else 1 if dialect.header else 0
        as_it_is = ReadOptions(sheet=sheet, heading=heading, exact=True)
        # to look at a large workbook twice takes its time
        if options.heading != heading or options.above:
            first = open_source(path, as_it_is)
        options = as_it_is
    reader = _best(first, path, options, layout)
    if (said := _decoding(reader, path, dialect)) is not None:
        # its own heading line stays
        again = replace(options, encoding=said, heading=reader.facts.heading_line or options.heading)
        reader = open_source(path, again)
    opened = _opened(reader, layout, shown)
    found = reader.facts
    if form.is_delimited or (form.format in WHOLE and found.sheet is not None):
        return opened
    other = Finding("file.form", shown, value=found.format, rule=form.words)
    return replace(opened, findings=(other, *opened.findings))


def in_its_form(path: Path, layout: Layout) -> Opened | None:
    """A file as the layout's form is read, in the texts that the layout has; None if it is in another form. Fields that no record has are blank."""
    if layout.form.format == FIXED and _is_headed(path, layout):
        return None
    sink = sink_of(layout)
    try:
        reader = open_source(path, sink.options(layout))
        names = layout.headings
        known = {raw: head for head, raw in zip(reader.headings, reader.raw_headings, strict=True) if raw in names}
    except SourceError:
        return None
    if not known:
        return None
    cells = {head: sink.layout_text(names[raw], pl.col(head)) for raw, head in known.items()}
    there = {names[raw].name for raw in known}
    absent = [one for one in layout.fields if one.name not in there]
    cells |= {one.title: sink.layout_text(one, pl.lit(None, dtype=pl.String)) for one in absent}
    titles = tuple(one.title for one in absent)
    raw = (*(names[one].title if one in names else one for one in reader.raw_headings), *titles)
    return Opened(reader, (*reader.headings, *titles), raw, (), layout.dialect, False, cells)


def _is_headed(path: Path, layout: Layout) -> bool:
    """Whether a file is no text of fixed width, which any text could be: it has most of the layout's headings, apart from each other."""
    try:
        found = {one.strip() for one in open_source(path).raw_headings}
    except SourceError:
        return False
    return len(found) > 1 and sum(one.title in found for one in layout.fields) * 2 > len(layout.fields)


def _best(first: Reader, path: Path, options: ReadOptions, layout: Layout) -> Reader:
    """The reader that finds most of the headings: as the layout says; with another delimiter; with the heading where it seems to stand; in the format
    that it seems to have."""
    titles = {title for field in layout.fields for title in field.titles}
    headed = layout.dialect.header or first.facts.unit == "record"

    def matches(reader: Reader) -> int:
        if not headed:
            return -abs(len(reader.headings) - layout.dialect.around.columns - len(layout.fields))
        return len(titles & {heading.strip("\r") for heading in reader.raw_headings})

    best = len(layout.fields) if headed else 0
    if matches(first) == best:
        return first
    readers = [first, open_source(path, replace(options, delimiter=None))]
    if headed:
        readers.append(open_source(path, replace(options, delimiter=None, heading=None, above=0)))
    if not any(map(matches, readers)):
        other = recognise(path, ReadOptions())
        if other.format is not None:
            readers.append(open_source(path, other))
    return max(readers, key=matches)


def _decoding(reader: Reader, path: Path, dialect: Dialect) -> str | None:
    """The encoding in which the layout's file is to be read, where the one that it seems to be in is a guess that the layout contradicts."""
    found = reader.facts.text
    if found is None or found.how != "guess" or reader.facts.unit == "record":
        return None
    if dialect.encoding != "utf-8":
        # encodings of eight bits cannot be told apart for certain
        return None if dialect.encoding.startswith("utf") or found.name == dialect.encoding else dialect.encoding
    with path.open("rb") as file:
        text = file.read(_LOOK).decode("utf-8", "replace")
    wrong = text.count("\ufffd")
    right = len(text) - len(text.encode("ascii", "ignore")) - wrong
    # where nothing else is UTF-8, it is another encoding and no slip
    return "utf-8" if wrong <= right else None


def _first_beyond_ascii(path: Path) -> int | None:
    """The line of the first character that encodings write in different ways."""
    with path.open("rb") as file:
        head = file.read(_LOOK)
    place = next((at for at, byte in enumerate(head) if byte > 127), None)
    return None if place is None else head.count(b"\n", 0, place) + 1


def _opened(reader: Reader, layout: Layout, shown: str) -> Opened:
    facts, dialect = reader.facts, layout.dialect
    named = dialect.header or facts.unit == "record"
    plain = facts.text is not None and facts.delimiter is not None
    skipped = dialect.around.columns if plain else 0
    findings = []
    if named and facts.heading_line > (dialect.around.rows if plain else 0) + max(dialect.header_rows, 1):
        line = 1 + (dialect.around.rows if plain else 0)
        if dialect.around.comment is None:
            findings.append(Finding("heading.not-first", shown, facts.heading_line, rule=f"heading in line {line}"))
    if facts.delimiter is not None and facts.delimiter != dialect.delimiter and len(reader.headings) > 1:
        findings.append(
            Finding("file.delimiter", shown, value=facts.delimiter, rule=f"delimiter {dialect.delimiter!r}")
        )
    if plain and facts.text is not None and not _same_encoding(facts.text, dialect.encoding):
        first = _first_beyond_ascii(facts.path)
        findings.append(
            Finding("file.encoding", shown, first, value=facts.encoding, rule=f"encoding {dialect.encoding}")
        )
    if plain:
        findings += wrong_line_ends(facts.path, dialect, shown)
    columns = reader.headings[skipped:]
    return Opened(reader, columns, reader.raw_headings[skipped:], tuple(findings), dialect, plain)


def _same_encoding(text: Encoding, said: str) -> bool:
    found = text.name
    if found == said or text.how == "ascii":
        return True
    wide = found.startswith(("utf-16", "utf-32"))
    if said == "utf-8" or found == "utf-8" or wide:
        return wide and said.startswith(found[:6])
    # eight-bit encodings cannot be told apart for certain
    return True
