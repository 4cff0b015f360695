"""Of what records are asked: a built list, a source of a list, a file, a table of a database."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

import polars as pl

from mudanza.core.documents.errors import MoveError, Place, SourceError
from mudanza.core.layouts.layout import Layout
from mudanza.core.plans.move import Move
from mudanza.core.plans.plan_reading import load_plan
from mudanza.core.sinks.formats import built_file, sink_of
from mudanza.core.sources.ahead import read_ahead
from mudanza.core.sources.reader import Reader, ReadOptions, TakesColumns
from mudanza.core.values.row_columns import LINE
from mudanza.core.work.survey.subjects import subjects


@dataclass(frozen=True)
class Viewed:
    """Records that are asked of: what they are called, their headings, the layout if they are a built list, the files that they come from, and the rows, batch by batch, with `#line` and at least the columns that are wanted.

    What cannot be read is left out, and counted.
    """

    shown: str
    headings: tuple[str, ...]
    layout: Layout | None
    paths: tuple[Path, ...]
    batches: Callable[[Collection[str]], Iterator[tuple[pl.DataFrame, int]]]


def view_of(name: str, options: ReadOptions, move: Move | None) -> Viewed:
    """What a name stands for. Raises MoveError for a name that is none, SourceError for a file that cannot be read."""
    if move is not None and not Path(name).exists() and name in move.names("plans", ".toml"):
        return _list(name, move)
    found = subjects([name], options, move).subjects
    if len(found) > 1:
        raise SourceError(
            f"there are {len(found)} tables in it: {', '.join(one.name for one in found[:8])}.",
            place=Place(name),
            hint="Say which: DATABASE:TABLE, LIST/SOURCE, or --sheet, --table, --records.",
        )
    subject = found[0]
    readers = subject.open()
    headings = tuple(dict.fromkeys(heading for one in readers for heading in one.headings))
    return Viewed(
        subject.name,
        headings,
        None,
        subject.paths,
        lambda wanted: _rows(readers, [one for one in headings if one in wanted]),
    )


def _list(name: str, move: Move) -> Viewed:
    layout = load_plan(move, name).layout
    path = built_file(move, name, layout)
    shown = move.shown(path)
    if not path.is_file():
        raise MoveError(
            f"{name} has not been built yet.",
            place=Place(shown),
            hint=f"Build it first (mudanza build {name}), or name its source: {name}/SOURCE.",
        )
    titles = tuple(one.title for one in layout.fields)
    return Viewed(name, titles, layout, (path,), lambda _: iter([(sink_of(layout).read(path, layout, shown), 0)]))


def _rows(readers: Sequence[Reader], headings: Sequence[str]) -> Iterator[tuple[pl.DataFrame, int]]:
    nothing = pl.lit(None, dtype=pl.String)
    for reader in readers:
        lacking = [nothing.alias(one) for one in headings if one not in reader.headings]
        narrow = reader.narrowed(headings) if isinstance(reader, TakesColumns) else reader
        for batch in read_ahead(narrow.batches()):
            yield batch.rows.with_columns(lacking).select(*headings, LINE), len(batch.broken)
