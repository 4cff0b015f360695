"""Lending rows that a build held back, as they stand in the sources; corrected, they go into the next build beside them."""

from __future__ import annotations

import json
from pathlib import Path

import polars as pl

from mudanza.core.disk.files import OutFile, Outputs
from mudanza.core.documents.errors import LoanError, Place
from mudanza.core.documents.names import checked_name
from mudanza.core.layouts.csvw import read_layout
from mudanza.core.plans.correction_files import held_back_corrections
from mudanza.core.plans.move import Move
from mudanza.core.sinks.csv_text import QuotedWriter, RowWriter, unquoted
from mudanza.core.sinks.formats import RecordFile
from mudanza.core.sources.opening import open_source
from mudanza.core.sources.reader import ReadOptions
from mudanza.core.values.row_columns import FILE, LINE, SOURCE, TEXT, WAS, WHY
from mudanza.core.work.loans.choosing import Choice
from mudanza.core.work.loans.lend import Subject
from mudanza.core.work.loans.lent import KEY, OF_HELD_BACK, WHY_HELD, Lent, with_changes

#: the columns that say which row of which source it is, and why it was held back, and what people read over them
_PLACES = {SOURCE: "(source)", FILE: "(file)", LINE: "(row)", WAS: "(was)"}
_SHOWN = {**_PLACES, WHY: WHY_HELD}


def held_back_subject(move: Move, list_name: str) -> tuple[Subject, Choice]:
    """The rows that the last build of a list held back, to be lent: their columns, with why they were held back to be seen. Raises LoanError if there are none."""
    path = move.out / f"{checked_name(list_name, 'list')}.held-back.csv"
    shown = move.shown(path)
    if not path.is_file():
        raise LoanError(
            f"{list_name} has not been built yet.",
            place=Place(shown),
            hint=f"Build it first (mudanza build {list_name}).",
        )
    rows = _rows(path)
    if rows.is_empty():
        what = f"the last build of {list_name} held nothing back."
        raise LoanError(what, place=Place(shown), hint="There is nothing to be corrected.")
    columns = [{"name": f"c{n}", "titles": title} for n, title in enumerate(rows.columns)]
    schema = {"columns": columns, "primaryKey": [f"c{rows.columns.index(title)}" for title in _PLACES.values()]}
    home = move.folder / ".mudanza"
    described, copy = home / f"{list_name}{OF_HELD_BACK}.json", home / f"{list_name}{OF_HELD_BACK}.csv"
    with Outputs(move.files) as outputs:
        layout = {"@context": "http://www.w3.org/ns/csvw", "tableSchema": schema}
        outputs.create_text(described, json.dumps(layout, ensure_ascii=False))
        file = RecordFile(outputs.create(copy), RowWriter(rows.columns))
        file.write(rows)
        file.close()
        outputs.publish()
    locked = [_SHOWN[WHY]] if _SHOWN[WHY] in rows.columns else []
    return Subject(f"{list_name}{OF_HELD_BACK}", copy, read_layout(described)), Choice(locked=locked)


def _rows(path: Path) -> pl.DataFrame:
    """A file of held-back rows, by the headings that people read; the texts of damaged rows are left out, for they are no columns."""
    reader = open_source(path, ReadOptions(exact=True))
    nothing = pl.DataFrame(schema={**dict.fromkeys(reader.headings, pl.String), LINE: pl.Int64})
    rows = pl.concat([nothing, *(batch.rows for batch in reader.batches())]).drop(LINE)
    raw = dict(zip(reader.headings, reader.raw_headings, strict=True))
    named = {one: _SHOWN.get(heading, heading) for one, heading in raw.items()}
    kept = [unquoted(pl.col(one)).alias(one) for one in rows.columns if raw[one] != TEXT]
    return rows.select(kept).rename(lambda one: named[one])


def _write(out: OutFile, rows: pl.DataFrame) -> OutFile:
    file = RecordFile(out, QuotedWriter(rows.columns))
    file.write(rows)
    file.close()
    return out


def of_held_back(lent: Lent) -> str | None:
    """The list whose held-back rows a loan is of; None if it is none of such."""
    return lent.subject.removesuffix(OF_HELD_BACK) if lent.held_back else None


def corrected_rows(move: Move, outputs: Outputs, lent: Lent, list_name: str, changes: pl.DataFrame) -> OutFile:
    """The file of corrected rows of a list, with those that came back now; a row that was corrected before is corrected anew."""
    path = held_back_corrections(move, list_name)
    touched = lent.before.filter(pl.col(KEY).is_in(changes["key"].implode()))
    rows = with_changes(touched, changes).select(f.title for f in lent.layout.fields)
    if path.is_file():
        earlier = _rows(path).join(rows, on=list(_PLACES.values()), how="anti", maintain_order="left")
        rows = pl.concat([earlier, rows], how="diagonal")
    own = {heading: name for name, heading in _SHOWN.items()}
    return _write(outputs.create(path), rows.rename(own, strict=False))
