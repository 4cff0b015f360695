"""Small tables that people keep in a move and edit in whatever they have: `words.csv`, `answers.csv`."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from mudanza.core.documents.errors import MoveError, Place
from mudanza.core.sources.opening import open_source
from mudanza.core.sources.reader import ReadOptions
from mudanza.core.values.row_columns import LINE


def own_rows(path: Path, columns: Sequence[str]) -> list[tuple[int, tuple[str, ...]]]:
    """The rows of a table with these columns, trimmed, with their lines; those that are blank are left out. Raises MoveError if a column is missing, or a
    row is damaged."""
    opened = open_source(path, ReadOptions(heading=1, exact=True))
    missing = [column for column in columns if column not in opened.headings]
    if missing:
        raise MoveError(
            f"the table has no column {missing[0]!r}.",
            place=Place(str(path), 1),
            hint=f"Its first line is: {','.join(columns)}",
        )
    found = []
    for batch in opened.batches():
        if batch.broken:
            bad = batch.broken[0]
            raise MoveError(
                f"the row is damaged: {bad.value}.",
                place=Place(str(path), bad.line),
                hint="Quote values that hold the delimiter.",
            )
        for row in batch.rows.to_dicts():
            texts = tuple((row[column] or "").strip() for column in columns)
            if any(texts):
                found.append((row[LINE], texts))
    return found
