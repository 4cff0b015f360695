"""Opening what came back, whatever it was saved as: its sheets as cells, what stands in them that is no value, and who saved it."""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path

import polars as pl

from mudanza.core.documents.errors import Place, SourceError
from mudanza.core.findings.finding import Finding
from mudanza.core.sources.cells import Spot, formulas_of
from mudanza.core.sources.decoding import look_at
from mudanza.core.sources.guard import is_workbook
from mudanza.core.sources.opening import open_source
from mudanza.core.sources.reader import ReadOptions
from mudanza.core.sources.sniff import split_rows
from mudanza.core.sources.workbook import Workbook
from mudanza.core.values.row_columns import LINE
from mudanza.core.work.crosswalks.proposing import fold
from mudanza.core.work.loans.loan_book import OWN_NAME, SLIP
from mudanza.core.work.loans.returned.notes import Note, notes_of
from mudanza.core.work.loans.returned.small_parts import elements_of

_CONSTANT = re.compile('"((?:[^"]|"")*)"')
_DELIMITERS = ",;\t|"
#: so far down a heading is looked for, unless so many of a row's cells are headings of loans
LOOK, CLEARLY = 200, 0.8
#: what a damaged row of a text file may be and still be taken apart
_READABLE = ("read.ragged", "read.undecodable", "read.stray-quote", "read.nul", "read.cut-off")


@dataclass(frozen=True)
class Grid:
    """The cells of a sheet, or of a text file, as texts in columns `c0`, `c1`, …, with `#line`, and by row and column from 0: formulas, errors, and cells that stand under a merged one."""

    name: str | None
    cells: pl.DataFrame
    formulas: Mapping[Spot, str] = field(default_factory=dict)
    errors: Mapping[Spot, str] = field(default_factory=dict)
    covered: Collection[Spot] = ()
    findings: tuple[Finding, ...] = ()


@dataclass(frozen=True)
class Opened:
    """What came back: the workbook it is (xlsx, xlsb, ods, xls) or text, its grids, who saved it last and when, and what is noted beside cells (by whom, the cell, the note)."""

    path: Path
    kind: str
    grids: tuple[Grid, ...]
    by: str | None = None
    saved: str | None = None
    notes: tuple[Note, ...] = ()


def open_returned(path: Path, shown: str, headings: Collection[str]) -> Opened:
    """Open a file by its content, whatever its ending says. `headings` are those of the loan, by which a text file is taken apart.

    Raises SourceError if it is damaged, protected, or of a kind that no spreadsheet program writes.
    """
    if path.stat().st_size == 0:
        raise SourceError("the file is empty.", place=Place(shown), hint="Ask for it again.")
    if not is_workbook(path):
        return Opened(path, "text", (_text(path, shown, headings),))
    book = Workbook(path, ReadOptions(), path)
    kind = book.kind
    # a sheet of one column is no table of records
    names = [name for name, (frame, _) in book.sheets.items() if frame.width > 1 or name == SLIP]
    grids = [_sheet(book.sheet(name), kind, name) for name in names]
    by, saved = _properties(path, kind)
    return Opened(path, kind, tuple(grids), by, saved, tuple(notes_of(path, kind)))


def with_notes_of_people(opened: Opened, lent: Collection[str]) -> Opened:
    """What came back without the notes that were lent with it, or that part of them; programs keep them, but not always who wrote them."""
    own = sorted((" ".join(one.split()) for one in lent), key=len, reverse=True)
    notes = []
    for by, cell, note in opened.notes:
        words = " ".join(note.split())
        lent_words = next((one for one in own if words.startswith(one)), "")
        if words != lent_words:
            notes.append(("" if by == OWN_NAME else by, cell, words[len(lent_words) :].strip() if lent_words else note))
    return replace(opened, notes=tuple(notes))


def _sheet(book: Workbook, kind: str, name: str) -> Grid:
    grid, facts = book.grid, book.cells
    covered = {
        (row, column)
        for top, left, bottom, right in facts.merged
        if bottom < grid.height and right < grid.width
        for row in range(top, bottom + 1)
        for column in range(left + 1, right + 1)
    }
    formulas = formulas_of(book.path, kind, name) if facts.formulas or facts.without_value else {}
    # a formula that is nothing but a text is that text
    texts = {
        spot: found[1].replace('""', '"')
        for spot, formula in formulas.items()
        if (found := _CONSTANT.fullmatch(formula))
    }
    for (row, column), text in texts.items():
        if row < grid.height and column < grid.width - 1:
            grid[row, f"c{column}"] = text
    formulas = {spot: formula for spot, formula in formulas.items() if spot not in texts}
    return Grid(name, grid, formulas, facts.errors, covered)


def _text(path: Path, shown: str, headings: Collection[str]) -> Grid:
    text = look_at(path, ReadOptions())
    known = {fold(one) for one in headings}
    best, heading, delimiter = 0, 1, ","
    for sign in _DELIMITERS:
        line = 1
        for row in split_rows(text.head, sign, '"', LOOK):
            hits = len(known & {fold(cell) for cell in row})
            if hits > best:
                best, heading, delimiter = hits, line, sign
            if hits > 1 and hits >= CLEARLY * len(row):
                break
            line += 1 + sum(cell.count("\n") for cell in row)
    reader = open_source(
        path, ReadOptions(format="delimited", delimiter=delimiter, heading=heading, below=0, exact=True)
    )
    width = len(reader.headings)
    names = {old: f"c{n}" for n, old in enumerate(reader.headings)}
    top = {f"c{n}": [raw] for n, raw in enumerate(reader.raw_headings)}
    schema = {**dict.fromkeys(names.values(), pl.String), LINE: pl.Int64}
    frames = [pl.DataFrame({**top, LINE: [heading]}, schema=schema)]
    findings = []
    for batch in reader.batches():
        frames.append(batch.rows.rename(names).select(*schema))
        for one in batch.broken:
            cells = split_rows(one.text, delimiter, '"', 1) if one.code in _READABLE else []
            beyond = [cell for cell in (cells[0][width:] if cells else []) if cell.strip()]
            if beyond:
                value = " | ".join(beyond)
                findings.append(Finding("loan.outside", shown, one.line, value=value, rule="under a heading"))
            elif not cells:
                findings.append(Finding(one.code, shown, one.line, value=one.value, rule=f"{width} values"))
            if cells:
                values: dict[str, list[str | int | None]] = {
                    f"c{n}": [cell or None] for n, cell in enumerate(cells[0][:width])
                }
                frames.append(
                    pl.DataFrame({**{one: [None] for one in schema}, **values, LINE: [one.line]}, schema=schema)
                )
    grid = pl.concat(frames)
    in_order = grid[LINE].is_sorted()
    return Grid(None, grid if in_order else grid.sort(LINE, maintain_order=True), findings=tuple(findings))


def _properties(path: Path, kind: str) -> tuple[str | None, str | None]:
    """Who saved a workbook last, and when, as it says itself (ISO/IEC 29500-2, section 11; OpenDocument 1.3, part 3, section 4.3)."""
    part = {"xlsx": "docProps/core.xml", "xlsb": "docProps/core.xml", "ods": "meta.xml"}.get(kind)
    found: dict[str, str] = {}
    for element in elements_of(path, part) if part else ():
        name = element.tag.rpartition("}")[2]
        if element.text and element.text.strip():
            found[name] = element.text.strip()
    by = found.get("lastModifiedBy") or found.get("creator")
    return by, found.get("modified") or found.get("date")
