"""A table of a database, or whatever else is no file of a layout, as something that can be lent: its records in the layout's texts."""

from __future__ import annotations

import polars as pl

from mudanza.core.disk.files import Outputs
from mudanza.core.documents.errors import LoanError, Place, counted
from mudanza.core.layouts.layout import Layout
from mudanza.core.plans.move import Move
from mudanza.core.sinks.formats import RecordFile, sink_of
from mudanza.core.sinks.native import as_layout_writes
from mudanza.core.sources.reader import ReadOptions
from mudanza.core.values.row_columns import LINE
from mudanza.core.work.crosswalks.proposing import fold
from mudanza.core.work.loans.lend import Subject
from mudanza.core.work.records.subject import view_of


def table_subject(move: Move, name: str, layout: Layout) -> Subject:
    """The records of a table by a layout, whose headings or names its columns have. Raises LoanError where one of the key is missing."""
    view = view_of(name, ReadOptions(), move)
    columns = layout.headings | {one.name: one for one in layout.fields}
    found = {columns[heading].title: heading for heading in view.headings if heading in columns}
    if lacking := [one.title for one in layout.fields if one.name in layout.primary_key and one.title not in found]:
        raise LoanError(
            f"{name} has no column {lacking[0]!r}.",
            place=Place(view.shown),
            hint=f"It has: {', '.join(view.headings)}.",
        )
    nothing = pl.lit(None, dtype=pl.String)
    texts = [
        (as_layout_writes(one, pl.col(found[one.title])) if one.title in found else nothing).alias(one.title)
        for one in layout.fields
    ]
    batches = []
    for rows, unread in view.batches(list(found.values())):
        if unread:
            raise LoanError(
                f"{counted(unread, 'row')} of {name} cannot be read, and would not be lent.",
                place=Place(view.shown),
                hint="`mudanza survey` tells which; have them mended first.",
            )
        batches.append(rows)
    empty = pl.DataFrame(schema={**dict.fromkeys(found.values(), pl.String), LINE: pl.Int64})
    records = pl.concat([empty, *batches], how="diagonal").select(texts)
    known_as = "-".join(fold(name.rpartition(":")[2]).split())
    path = move.folder / ".mudanza" / f"lent-{known_as}{layout.form.ending}"
    with Outputs(move.files) as outputs:
        file = RecordFile(outputs.create(path), sink_of(layout).writer(layout, [one.title for one in layout.fields]))
        file.write(records)
        file.close()
        outputs.publish()
    return Subject(known_as, path, layout)
