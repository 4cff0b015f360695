"""What records held before: as the ledger keeps it or, where it does not, as the file of the last build still has it."""

from __future__ import annotations

import polars as pl

from mudanza.core.documents.errors import MudanzaError
from mudanza.core.layouts.layout import Layout
from mudanza.core.plans.move import Move
from mudanza.core.sinks.formats import read_built
from mudanza.core.state.contents import KEY, RECORD, contents_of, looked_at
from mudanza.core.state.ledger import Ledger
from mudanza.core.values.hashing import fixed_hash
from mudanza.core.values.row_columns import key_text


def records_before(move: Move, ledger: Ledger, name: str, layout: Layout, wanted: pl.DataFrame) -> pl.DataFrame:
    """What some records (key, record, run) held: `KEY`, `RECORD`, the fields by their titles, and what `keep` looked at. Those of which nothing knows it any more are missing."""
    kept = contents_of(ledger, name, wanted)
    rest = wanted.join(kept, left_on=["key", "record"], right_on=[KEY, RECORD], how="anti")
    if rest.is_empty():
        return kept
    built = _built(move, name, layout)
    found = built.join(rest, left_on=[KEY, RECORD], right_on=["key", "record"], how="semi", maintain_order="left")
    if found.is_empty():
        return kept
    latest = int(rest["run"].max())  # type: ignore[arg-type]
    beside = looked_at(ledger, name, latest, found[RECORD])
    found = found.join(beside, on=RECORD, how="left", maintain_order="left") if beside.width > 1 else found
    return pl.concat([kept, found], how="diagonal")


def _built(move: Move, name: str, layout: Layout) -> pl.DataFrame:
    """The records of the last build; none where its file is not in the layout any more."""
    titles = [one.title for one in layout.fields]
    keys = layout.key_titles
    try:
        rows = read_built(move, name, layout)
    except MudanzaError:
        rows = None
    if rows is None:
        return pl.DataFrame(schema={KEY: pl.String, RECORD: pl.UInt64})
    hashed = fixed_hash([pl.col(title) for title in titles]).alias(RECORD)
    return rows.select(key_text([pl.col(k) for k in keys]).alias(KEY), hashed, *titles)


def in_layout(records: pl.DataFrame, layout: Layout) -> pl.DataFrame:
    """Records as they were, with the fields that the layout has by now, those that it did not have then being blank, and all other columns."""
    titles = [one.title for one in layout.fields]
    lacking = [pl.lit(None, dtype=pl.String).alias(title) for title in titles if title not in records.columns]
    return records.with_columns(lacking)
