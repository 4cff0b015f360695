"""What could be the key of a source: columns alone or together, and identifiers that are all but the same."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from itertools import combinations

import polars as pl

from mudanza.core.sources.reader import Batch
from mudanza.core.values.row_columns import LINE
from mudanza.core.work.survey.column_facts import ColumnFacts

#: Rows up to which columns are looked at together.
MOST_ROWS = 1 << 22
_COLUMNS = 6
_SHOWN = 5
_FILE = "file"
Places = list[tuple[int, int]]


@dataclass(frozen=True)
class KeyCandidate:
    """Columns that could be the key: filled and distinct but for `repeated` values, some of them with the lines they stand in.

    `alike` are values that differ only by capitals, spaces or leading zeros.
    """

    columns: tuple[str, ...]
    repeated: int
    examples: list[tuple[str, list[str]]]
    alike: list[tuple[str, ...]]
    alike_count: int = 0


def folded(text: pl.Expr) -> pl.Expr:
    """An identifier without what people take for the same: capitals, spaces, leading zeros."""
    return text.str.to_lowercase().str.replace_all(" ", "", literal=True).str.strip_chars_start("0")


class KeyWatch:
    """Hashes of the columns that could be keys, row by row."""

    def __init__(self, first: pl.DataFrame, amounts: set[str]) -> None:
        """`first` is the first batch; `amounts` are columns of amounts, which are no keys."""
        counted = []
        for name in first.columns:
            if name == LINE or name in amounts:
                continue
            values = first[name].drop_nulls()
            if values.len() >= 0.99 * first.height and first.height and values.n_unique() > 1:
                counted.append((-values.n_unique(), first.columns.index(name), name))
        counted.sort()
        # the most distinct ones, those further left first where they are alike
        self.columns = [name for *_, name in counted[:_COLUMNS]]
        self.parts: list[pl.DataFrame] = []
        self.rows = 0

    def add(self, rows: pl.DataFrame, file: int) -> None:
        """Remember a batch of a file, given by its number."""
        self.rows += rows.height
        if self.rows > MOST_ROWS and len(self.columns) > 1:
            self.columns = self.columns[:1]
            self.parts = [p.select(*self.columns, f"{self.columns[0]} folded", LINE, _FILE) for p in self.parts]
        text = [pl.col(c).str.strip_chars() for c in self.columns]
        self.parts.append(
            rows.select(
                *(t.hash(1).alias(c) for t, c in zip(text, self.columns, strict=True)),
                *(folded(t).hash(2).alias(f"{c} folded") for t, c in zip(text[:1], self.columns, strict=False)),
                pl.col(LINE),
                pl.lit(file, dtype=pl.Int32).alias(_FILE),
            )
        )

    def candidates(
        self, facts: dict[str, ColumnFacts], batches: Callable[[], Iterator[tuple[int, Batch]]], rows: int
    ) -> list[KeyCandidate]:
        """The columns that could be the key, the best first. `batches` reads the source once more, for examples."""
        if not self.columns or rows < 2:
            return []
        hashed = pl.concat(self.parts)
        repeats = {c: rows - hashed[c].n_unique() for c in self.columns}
        whole = [c for c in self.columns if facts[c].filled == rows and repeats[c] == 0]
        # a day tells records apart by chance at most
        singles = [c for c in whole if not facts[c].kind.startswith("date")] or whole
        near = [
            c for c in self.columns if facts[c].filled >= 0.99 * rows and repeats[c] <= 0.1 * rows and c not in whole
        ]
        near = [c for c in near if not facts[c].kind.startswith("date")]
        order = list(facts)
        singles.sort(key=order.index)
        near.sort(key=lambda c: (repeats[c], order.index(c)))
        found = [self._one((c,), hashed, batches) for c in singles[:2]]
        if not singles:
            found += [self._one((c,), hashed, batches) for c in near[:1]]
            found += [KeyCandidate(pair, 0, [], []) for pair in self._pairs(hashed, rows, order)[:2]]
        return found

    def _pairs(self, hashed: pl.DataFrame, rows: int, order: Sequence[str]) -> list[tuple[str, ...]]:
        # what tells rows apart alone needs no other column
        columns = [c for c in self.columns if hashed[c].n_unique() < rows]
        pairs = sorted(
            (tuple(sorted(p, key=order.index)) for p in combinations(columns, 2)),
            key=lambda p: [order.index(c) for c in p],
        )
        return [pair for pair in pairs if hashed.select(pl.struct(pair).n_unique()).item() == rows]

    def _one(
        self, columns: tuple[str, ...], hashed: pl.DataFrame, batches: Callable[[], Iterator[tuple[int, Batch]]]
    ) -> KeyCandidate:
        (column,) = columns
        places = pl.struct(_FILE, LINE).head(_SHOWN).alias("places")
        distinct = hashed[column].n_unique()
        again = hashed.filter(pl.col(column).is_duplicated()) if distinct < hashed.height else hashed.head(0)
        twice = again.group_by(column, maintain_order=True).agg(places)
        fold = f"{column} folded"
        alike = hashed.head(0)
        if fold in hashed.columns and hashed[fold].n_unique() < distinct:
            alike = hashed.unique(column, keep="first", maintain_order=True).filter(pl.col(fold).is_duplicated())
        groups = alike.group_by(fold, maintain_order=True).agg(places) if alike.height else alike
        shown = [[(p[_FILE], p[LINE]) for p in row] for row in twice["places"].head(_SHOWN).to_list()]
        near = groups["places"].head(_SHOWN).to_list() if alike.height else []
        same = [[(p[_FILE], p[LINE]) for p in row] for row in near]
        values = _values(column, {p for row in (*shown, *same) for p in row}, batches)
        return KeyCandidate(
            columns,
            twice.height,
            [(values[row[0]], [str(line) for _, line in row]) for row in shown],
            [tuple(values[place] for place in row) for row in same],
            groups.height,
        )


def _values(
    column: str, wanted: set[tuple[int, int]], batches: Callable[[], Iterator[tuple[int, Batch]]]
) -> dict[tuple[int, int], str]:
    """The values of a column in some lines."""
    values: dict[tuple[int, int], str] = {}
    if not wanted:
        return values
    for file, batch in batches():
        lines = [line for f, line in wanted if f == file]
        found = batch.rows.filter(pl.col(LINE).is_in(lines)).select(LINE, column)
        values.update({(file, line): value or "" for line, value in found.iter_rows()})
        if len(values) == len(wanted):
            break
    return values
