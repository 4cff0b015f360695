"""Drafting a layout from whatever the target gives: templates, field lists, tables of databases, JSON Schemas, exports."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from mudanza.core.disk.files import Outputs
from mudanza.core.documents.document import read_json
from mudanza.core.documents.errors import LayoutError, MoveError, Place, SourceError
from mudanza.core.layouts.csvw import layouts_from, metadata_text
from mudanza.core.layouts.layout import Layout
from mudanza.core.plans.move import Move
from mudanza.core.sources.address import Database
from mudanza.core.sources.headings import find_heading
from mudanza.core.sources.opening import format_of, open_source
from mudanza.core.sources.reader import ReadOptions
from mudanza.core.sources.workbook import Workbook
from mudanza.core.work.progress import Tell, quietly
from mudanza.core.work.proposing.examples import examples_not_taken
from mudanza.core.work.proposing.facts import Proposal
from mudanza.core.work.proposing.from_database import from_database
from mudanza.core.work.proposing.from_export import from_export
from mudanza.core.work.proposing.from_field_list import from_field_list, is_field_list
from mudanza.core.work.proposing.from_schema import from_schema
from mudanza.core.work.proposing.from_template import from_csv_template, from_workbook
from mudanza.core.work.proposing.joining import joined
from mudanza.core.work.proposing.written import layout_text, metadata_from

KINDS = ("template", "fields", "schema", "export")
#: a template has a few rows of examples; what has more is an export
_MOST_EXAMPLES = 20
_MOST_FIELDS = 100_000


@dataclass(frozen=True)
class Given:
    """What a layout is drafted from: a file, taken for one of `KINDS` (None: for what it looks like), or a table of a database."""

    path: Path | None = None
    kind: str | None = None
    sheet: str | None = None
    database: Database | None = None
    table: str | None = None


@dataclass(frozen=True)
class LayoutDraft:
    """A drafted layout: where it stands, what each thing given was taken for and how many fields it has, and what could not be taken over."""

    path: Path
    layout: Layout
    text: str
    taken: tuple[tuple[str, str, int], ...]
    remarks: tuple[str, ...]


def draft_layout(
    move: Move,
    name: str,
    given: Sequence[Given],
    *,
    by_label: bool = False,
    replace: bool = False,
    tell: Tell = quietly,
) -> LayoutDraft:
    """Write `layouts/NAME.json` from what was given. Raises MoveError if it is there and not to be replaced, and as reading what was given does."""
    path = move.new_path("layouts", name, ".json")
    if not replace:
        _must_be_new(move, name, path)
    proposals = [proposal for one in given for proposal in _proposals(move, one, tell)]
    known = joined(proposals, by_label=by_label)
    if not known.fields:
        raise LayoutError(
            "nothing that was given has a field.", place=Place(proposals[0].source), hint="Look at its headings."
        )
    metadata, remarks = metadata_from(known)
    text = layout_text(metadata)
    (layout,) = layouts_from(read_json(text, path))
    with move.files.lock(), Outputs(move.files) as outputs:
        if not replace:
            # another command may have drafted it meanwhile
            _must_be_new(move, name, path)
        outputs.create_text(path, text)
        outputs.publish()
    taken = tuple((one.source, one.what, len(one.fields)) for one in proposals)
    odd = examples_not_taken(layout, known.fields)
    return LayoutDraft(path, layout, text, taken, (*known.remarks, *remarks, *odd))


def _must_be_new(move: Move, name: str, path: Path) -> None:
    if path.exists():
        raise MoveError(
            f"there is a layout {name!r} already.",
            place=Place(move.shown(path)),
            hint=f"Draft it under another name and compare: mudanza layout compare {name} OTHER. Or say --replace.",
        )


def _proposals(move: Move, given: Given, tell: Tell) -> list[Proposal]:
    if given.database is not None:
        return [
            from_database(
                given.database, given.table, f"{given.database.name}{f' {given.table}' if given.table else ''}"
            )
        ]
    path = given.path or Path()
    shown = move.shown(path)
    kind = given.kind or ("schema" if path.suffix.lower() == ".json" and _is_schema(path) else None)
    if kind == "schema":
        return [from_schema(read_json(metadata_text(path), path), shown)]
    if kind == "export":
        return [from_export(path, shown, ReadOptions(sheet=given.sheet), tell)]
    if format_of(path) == "workbook":
        return _of_workbook(path, shown, given.sheet, kind, tell)
    return [_of_text(path, shown, kind, tell)]


def _is_schema(path: Path) -> bool:
    try:
        content = read_json(metadata_text(path), path).content
    except LayoutError:
        # records of JSON may well be too many, and are read as such
        return False
    return isinstance(content, dict) and any(
        key in content for key in ("$schema", "properties", "$defs", "definitions", "allOf")
    )


def _of_text(path: Path, shown: str, kind: str | None, tell: Tell) -> Proposal:
    reader = open_source(path, ReadOptions())
    rows = []
    for batch in reader.batches(first=True):
        rows += [list(row) for row in batch.rows.select(*reader.headings).head(_MOST_FIELDS).iter_rows()]
        if len(rows) > _MOST_EXAMPLES and not is_field_list(reader.raw_headings):
            break
    headings = list(reader.raw_headings)
    if kind == "fields" or (kind is None and is_field_list(headings)):
        return _field_list(headings, rows, shown)
    if kind is None and len(rows) > _MOST_EXAMPLES:
        return from_export(path, shown, tell=tell)
    text = reader.facts.text
    encoding = text.name if text is not None and text.how != "ascii" else None
    return from_csv_template(headings, shown, reader.facts.delimiter, encoding)


def _field_list(headings: Sequence[str], rows: Sequence[Sequence[str]], shown: str) -> Proposal:
    found = from_field_list(headings, rows, shown)
    if not found.fields:
        raise SourceError(
            "no column of the list says what its fields are called.",
            place=Place(shown, 1),
            hint=f"It has: {', '.join(headings[:12])}. Head the column of names with Field.",
        )
    return found


def _of_workbook(path: Path, shown: str, sheet: str | None, kind: str | None, tell: Tell) -> list[Proposal]:
    """What the sheets of a workbook are: field lists, and one that is the template or the export."""
    book = Workbook(path, ReadOptions(sheet=sheet), path)
    names = [sheet] if sheet is not None else [name for name, (_, visible) in book.sheets.items() if visible]
    found: list[Proposal] = []
    tables: list[tuple[int, int, str, int]] = []
    for name in names:
        frame = book.sheets[name][0] if name in book.sheets else None
        if frame is None or frame.is_empty():
            continue
        rows = [[cell or "" for cell in row] for row in frame.head(_MOST_FIELDS).iter_rows()]
        at = find_heading(rows[:60])
        at = at if at is not None else next((i for i, row in enumerate(rows) if any(row)), 0)
        filled = sum(1 for cell in rows[at] if cell.strip())
        if kind != "template" and (kind == "fields" or is_field_list(rows[at])) and filled >= 2:
            source = f"{shown} [{name}]" if len(names) > 1 else shown
            found.append(_field_list(rows[at], rows[at + 1 :], source))
        elif filled >= 1:
            tables.append((filled, sum(any(row) for row in rows[at + 1 :]), name, at + 1))
    if tables and kind != "fields":
        # with a list beside it, the template is the sheet that has most of the headings in question
        filled, below, name, heading = max(tables, key=lambda one: (one[0] > 1, one[0]))
        source = f"{shown} [{name}]" if len(names) > 1 else shown
        if kind is None and below > _MOST_EXAMPLES:
            found.append(from_export(path, source, ReadOptions(sheet=name), tell))
        elif path.suffix.lower() in (".xlsx", ".xlsm"):
            found.append(from_workbook(path, source, name, heading))
        else:
            found.append(
                from_csv_template([cell for cell in _row(book, name, heading) if cell.strip()], source, None, None)
            )
    if not found:
        raise SourceError(
            "no sheet of the workbook has headings.", place=Place(shown), hint="Say which sheet: --sheet NAME."
        )
    return found


def _row(book: Workbook, name: str, number: int) -> list[str]:
    return [cell or "" for cell in book.sheets[name][0].row(number - 1)]
