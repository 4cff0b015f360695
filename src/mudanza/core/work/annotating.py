"""A copy of a checked file as a workbook: a first sheet of findings that lead to their cells, then the records with what is wrong coloured and noted."""

from __future__ import annotations

import io
from collections import defaultdict
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import polars as pl

from mudanza.core.disk.files import OutFile
from mudanza.core.documents.errors import Place, SourceError
from mudanza.core.findings.codes import CODES
from mudanza.core.findings.finding import subject
from mudanza.core.layouts.layout import Layout
from mudanza.core.sinks.xlsx import new_book
from mudanza.core.sources.cells import column_letters
from mudanza.core.values.row_columns import LINE
from mudanza.core.work.check import CheckResult
from mudanza.core.work.checking.headings import match_headings
from mudanza.core.work.checking.opened import Opened, open_to_check
from mudanza.core.work.loans.decision_sheets import lines_of

_MOST_ROWS, _MOST_COLUMNS = 1_048_576, 16_384
#: a sheet holds so many links, and nobody reads more notes
_MOST_LINKS, _MOST_NOTES = 60_000, 20_000
_FINDINGS, _RECORDS = "Findings", "Records"
_HEADS = ("Where", "Column", "Value", "Asked", "What to do", "Code")
_WIDTHS = (12, 20, 26, 40, 60, 20)
_COLOURS = {"stop": "#F4C7C3", "warn": "#FBE8B4", "note": "#E3EAF0"}
_LONGEST = 32_000
#: a row as it is written: its line in the file, and its cells; those of a damaged row as far as they can be told
_Row = tuple[int, tuple[str | None, ...]]


@dataclass
class _Marked:
    """What is said of cells, by line and column (None: of the whole row): the severity that is worst, and the words."""

    severity: dict[tuple[int, str | None], str] = field(default_factory=dict)
    words: dict[tuple[int, str | None], list[str]] = field(default_factory=lambda: defaultdict(list))

    def add(self, at: tuple[int, str | None], severity: str, words: str) -> None:
        """Say one more thing of a cell."""
        order = list(_COLOURS)
        self.severity[at] = min(severity, self.severity.get(at, severity), key=order.index)
        self.words[at].append(words)


def annotate(path: Path, layout: Layout, result: CheckResult, out: OutFile, *, sheet: str | None = None) -> int:
    """Write the annotated copy of a file whose findings are all there; gives how many cells and rows are marked.

    Raises SourceError where a sheet cannot hold the file.
    """
    opened = open_to_check(path, layout, result.file, sheet)
    columns = list(opened.columns)
    if result.rows + 1 > _MOST_ROWS or len(columns) > _MOST_COLUMNS:
        raise SourceError(
            f"a sheet holds {_MOST_ROWS:,} rows and {_MOST_COLUMNS:,} columns, and the file has more.",
            place=Place(result.file),
            hint="--findings writes all that was found as CSV.",
        )
    headings = match_headings(opened, layout, result.file)
    marked = _marked(result.findings, headings.columns)
    buffer = io.BytesIO()
    book = new_book(buffer, in_memory=True)
    first, records = book.add_worksheet(_FINDINGS), book.add_worksheet(_RECORDS)
    places = _write_records(book, records, opened, marked)
    _write_findings(book, first, result, places, {title: columns.index(c) for title, c in headings.columns.items()})
    book.close()
    out.write(buffer.getvalue())
    return len(marked.severity)


def _marked(findings: pl.DataFrame, columns: Mapping[str, str]) -> _Marked:
    marked = _Marked()
    for row in findings.iter_rows(named=True):
        if row["line"] is None:
            continue
        title = row["field"] if row["field"] is not None else row["column"]
        # a finding on a key of several fields is on all of them
        parts = [columns.get(title, title)] if title is not None else [None]
        if title is not None and title not in columns and ", " in title:
            parts = [columns.get(part, part) for part in title.split(", ")]
        for part in parts:
            marked.add((row["line"], part), row["severity"], f"{_first_sentence(row['code'])} Asked: {row['rule']}.")
    return marked


def _first_sentence(code: str) -> str:
    return CODES[code].meaning.split(": ")[0].rstrip(".") + "."


# the records


def _rows(opened: Opened) -> Iterator[_Row]:
    """The rows in the order of the file, damaged ones in their places."""
    for batch in opened.batches():
        broken = sorted(batch.broken, key=lambda one: one.line)
        for line, *cells in batch.rows.select(LINE, *opened.columns).iter_rows():
            while broken and broken[0].line < line:
                one = broken.pop(0)
                yield one.line, tuple(one.cells or (one.text,))
            yield line, tuple(cells)
        yield from ((one.line, tuple(one.cells or (one.text,))) for one in broken)


def _write_records(book: Any, sheet: Any, opened: Opened, marked: _Marked) -> dict[int, int]:
    """Write the sheet of records; gives the row (from 0) in which each line that something is said of stands."""
    text = {"num_format": "@", "valign": "top", "text_wrap": True}
    plain = book.add_format(text)
    head = book.add_format({**text, "bold": True, "bottom": 1})
    formats = {name: book.add_format({**text, "bg_color": colour}) for name, colour in _COLOURS.items()}
    heads = {name: book.add_format({**text, "bold": True, "bottom": 1, "bg_color": c}) for name, c in _COLOURS.items()}
    columns, line = list(opened.columns), opened.line or 1
    widths = [10] * len(columns)
    places: dict[int, int] = {line: 0}
    notes = 0
    said_of = {at[0] for at in marked.severity}
    for row, (at_line, cells) in enumerate(_with_heading(opened, line)):
        if at_line in said_of:
            places[at_line] = row
        whole = marked.severity.get((at_line, None))
        for at, cell in enumerate(cells[:_MOST_COLUMNS]):
            column = columns[at] if at < len(columns) else None
            severity = marked.severity.get((at_line, column)) if at_line in said_of and column else None
            known = heads if row == 0 else formats
            form = known[severity or whole] if severity or whole else head if row == 0 else plain  # type: ignore[index]
            if cell is None:
                sheet.write_blank(row, at, None, form)
            else:
                sheet.write_string(row, at, cell[:_LONGEST], form)
            if row < 200 and at < len(widths):
                widths[at] = min(40, max(widths[at], len(cell or "") + 2))
            if (severity or (whole and at == 0)) and notes < _MOST_NOTES:
                notes += 1
                said = marked.words.get((at_line, column), []) + (
                    marked.words.get((at_line, None), []) if at == 0 else []
                )
                sheet.write_comment(
                    row, at, "\n".join(dict.fromkeys(said)), {"x_scale": 2, "y_scale": 0.8 + 0.35 * len(said)}
                )
    for at, width in enumerate(widths):
        sheet.set_column(at, at, width, plain)
    sheet.freeze_panes(1, 0)
    sheet.set_landscape()
    sheet.fit_to_pages(1, 0)
    return places


def _with_heading(opened: Opened, line: int) -> Iterator[_Row]:
    yield line, tuple(opened.headings if any(opened.headings) else opened.columns)
    yield from _rows(opened)


# the findings


def _write_findings(
    book: Any, sheet: Any, result: CheckResult, places: Mapping[int, int], columns: Mapping[str, int]
) -> None:
    head = book.add_format({"bold": True, "bottom": 1, "valign": "top"})
    title = book.add_format({"bold": True, "font_size": 14})
    plain = book.add_format({"valign": "top", "text_wrap": True, "num_format": "@"})
    link = book.add_format({"valign": "top", "font_color": "#1F4E79", "underline": 1})
    many = "finding" if result.total == 1 else "findings"
    sheet.write_string(0, 0, f"{result.total:,} {many} in {Path(result.file).name}", title)
    sheet.write_string(
        1, 0, f"Checked against {result.layout}, {result.rows:,} rows. Correct the sheet {_RECORDS}, and send it back."
    )
    for at, (name, width) in enumerate(zip(_HEADS, _WIDTHS, strict=True)):
        sheet.write_string(3, at, name, head)
        sheet.set_column(at, at, width)
    rows = result.findings.with_columns(subject().alias("about")).head(_MOST_ROWS - 10)
    for row, one in enumerate(rows.iter_rows(named=True), start=4):
        place = places.get(one["line"]) if one["line"] is not None else None
        column = next(
            (columns[part] for part in [one["about"], *(one["about"] or "").split(", ")] if part in columns), 0
        )
        shown = one["cell"] or (f"line {one['line']}" if one["line"] is not None else "the file")
        if place is not None and row < _MOST_LINKS:
            sheet.write_url(row, 0, f"internal:'{_RECORDS}'!{column_letters(column)}{place + 1}", link, shown)
        else:
            sheet.write_string(row, 0, shown, plain)
        words = (one["about"], one["value"], one["rule"], one["hint"], one["code"])
        sheet.set_row(
            row, 15 * max(lines_of(word or "", width) for word, width in zip(words, _WIDTHS[1:], strict=True))
        )
        for at, word in enumerate(words, start=1):
            sheet.write_string(row, at, (word or "")[:_LONGEST], plain)
    sheet.freeze_panes(4, 0)
    sheet.autofilter(3, 0, 3 + max(rows.height, 1), len(_HEADS) - 1)
    sheet.set_landscape()
    sheet.fit_to_pages(1, 0)
