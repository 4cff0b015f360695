"""Fixed-width text: columns by the positions of their characters."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

import polars as pl

from mudanza.core.documents.errors import Place, SourceError
from mudanza.core.sources.decoding import TextFile, look_at, share_of
from mudanza.core.sources.guard import is_workbook
from mudanza.core.sources.headings import find_heading, tell_apart
from mudanza.core.sources.lines import TEXT, is_blank_line, lines_of
from mudanza.core.sources.reader import Batch, BrokenRow, FileFacts, ReadOptions, WithoutCells, shorter
from mudanza.core.sources.sniff import find_text_form
from mudanza.core.values.row_columns import LINE

_SAMPLE = 200
_ENOUGH = 20
_RULE = re.compile(r"[-=]+(\s+[-=]+)+\s*")
_SPAN = re.compile(r"\s*(\d+)\s*(?:(-)\s*(\d+)?)?\s*")

Span = tuple[int, int | None]


@dataclass(frozen=True)
class Columns:
    """Where columns stand: first and last character from 0 (the last exclusive, None for the line's end); the line of the heading,
    and the last line before the data."""

    names: tuple[str, ...]
    spans: tuple[Span, ...]
    heading_line: int
    first_line: int


def open_file(path: Path, options: ReadOptions, known_as: Path) -> FixedFile:
    """The reader of a fixed-width file. Raises SourceError if its columns are not said and cannot be seen."""
    text = look_at(path, options)
    columns = _said(options, known_as) if "positions" in options.own else guess_columns(text.head, options.heading)
    if columns is None:
        raise SourceError(
            "no columns can be seen in the text.",
            place=Place(str(known_as)),
            hint='Say where they stand: positions = { "Code" = "1-5", "Name" = "6-30" } in the plan\'s source.',
        )
    return FixedFile(path, options, known_as, text, columns)


def recognises(path: Path, options: ReadOptions) -> bool:
    """Whether a text has no delimiter but columns that can be seen."""
    if is_workbook(path) or options.delimiter is not None:
        return False
    form = find_text_form(path, options)
    columns = guess_columns(form.text.head)
    if columns is None or form.width == 1:
        return columns is not None
    return "\t" not in form.text.head and 2 * form.width <= len(columns.spans)


def _said(options: ReadOptions, path: Path) -> Columns:
    spans: list[Span] = []
    for name, words in options.own["positions"].items():
        match = _SPAN.fullmatch(words)
        first = int(match.group(1)) if match else 0
        last = (int(match.group(3)) if match.group(3) else None) if match and match.group(2) else first
        if match is None or first < 1 or (last is not None and last < first):
            raise SourceError(
                f"the position of {name!r} is {words!r}.",
                place=Place(str(path)),
                hint='Write first-last, counted from 1: "6-30", or "31-" for the rest of the line.',
            )
        spans.append((first - 1, last))
    heading = options.heading or 0
    return Columns(tuple(options.own["positions"]), tuple(spans), heading, heading)


def guess_columns(head: str, heading: int | None = None) -> Columns | None:
    """Columns as they can be seen: under a line of dashes, or between gutters of blanks. None if there are none."""
    lines = [line.rstrip("\r").expandtabs() for line in head.split("\n")[:_SAMPLE]]
    ruled = next((i for i, line in enumerate(lines[:30]) if i and _RULE.fullmatch(line)), None)
    if ruled is not None:
        starts = [m.start() for m in re.finditer(r"[-=]+", lines[ruled])]
        spans = list(zip(starts, [*starts[1:], None], strict=True))
        names = _cut(lines[ruled - 1], spans)
        return Columns(tuple(names), tuple(spans), ruled, ruled + 1)
    body = [line for line in lines if line.strip()]
    width = max((len(line) for line in body), default=0)
    if len(body) < 3 or width < 8:
        return None
    ink = [any(i < len(line) and line[i] != " " for line in body) for i in range(width)]
    # in a few lines, words may happen to end at the same place
    gutter = 1 if len(body) >= _ENOUGH else 2
    starts = [i for i in range(width) if ink[i] and not any(ink[max(0, i - gutter) : i])]
    if len(starts) < 2:
        return None
    spans = list(zip(starts, [*starts[1:], None], strict=True))
    rows = [_cut(line, spans) for line in body]
    if sum(sum(1 for cell in row if cell) >= max(2, len(starts) // 2) for row in rows) < 0.8 * len(rows):
        return None
    index = find_heading(rows[:30]) if heading is None else heading - 1 if heading else None
    if index is None:
        return Columns(("",) * len(starts), tuple(spans), 0, 0)
    line = heading or lines.index(body[index]) + 1
    return Columns(tuple(rows[index] if heading is None else _cut(lines[heading - 1], spans)), tuple(spans), line, line)


def _cut(line: str, spans: list[Span]) -> list[str]:
    return [line[first:last].strip() for first, last in spans]


@dataclass(frozen=True)
class FixedFile(WithoutCells):
    """A fixed-width file opened for reading."""

    path: Path
    options: ReadOptions
    known_as: Path
    text: TextFile
    columns: Columns

    @property
    def raw_headings(self) -> tuple[str, ...]:
        return self.columns.names

    @cached_property
    def headings(self) -> tuple[str, ...]:
        return tuple(tell_apart(self.columns.names))

    @cached_property
    def facts(self) -> FileFacts:
        pairs = zip(self.headings, self.columns.spans, strict=True)
        where = ", ".join(f'"{name}" = "{first + 1}-{last or ""}"' for name, (first, last) in pairs)
        heading = self.columns.first_line
        proposal = ['format = "fixed"', f"positions = {{ {where} }}", *([f"heading = {heading}"] if heading else [])]
        return FileFacts(
            path=self.known_as,
            format="fixed-width text",
            size=self.path.stat().st_size,
            heading_line=self.columns.heading_line,
            text=self.text.found,
            above=max(0, self.columns.heading_line - 1) if "positions" not in self.options.own else 0,
            proposal=tuple(proposal),
        )

    def batches(self, *, first: bool = False) -> Iterator[Batch]:
        """The rows. A line with more characters than there are positions is damaged."""
        spans = self.columns.spans
        ends = [last for _, last in spans]
        end = None if None in ends else max(last for last in ends if last is not None)
        exprs = []
        for name, (start, last) in zip(self.headings, spans, strict=True):
            value = pl.col(TEXT).str.slice(start, None if last is None else last - start).str.strip_chars()
            exprs.append(pl.when(value.str.len_bytes() > 0).then(value).alias(name))
        for blocks, (frame, broken) in enumerate(lines_of(self.text, first=first), start=1):
            rows = frame.filter(pl.col(LINE) > self.columns.first_line)
            blank = rows.filter(is_blank_line())[LINE].to_list()
            rows = rows.filter(~is_blank_line())
            if end is not None:
                beyond = pl.col(TEXT).str.slice(end).str.strip_chars().str.len_bytes() > 0
                broken += [
                    BrokenRow(line, "read.ragged", text, shorter(text), rule=f"at most {end} characters")
                    for text, line in rows.filter(beyond).select(TEXT, LINE).iter_rows()
                ]
                rows = rows.filter(~beyond)
            yield Batch(
                rows.select(*exprs, LINE),
                tuple(sorted(broken, key=lambda b: b.line)),
                tuple(blank),
                share=share_of(self.text, blocks),
            )
