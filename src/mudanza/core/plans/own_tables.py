"""Small tables that people keep in a move and edit in whatever they have: crosswalks, `words.csv`, `answers.csv`, `exclusions/`."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Sequence
from pathlib import Path

from mudanza.core.documents.errors import MoveError, Place
from mudanza.core.sources.opening import open_source
from mudanza.core.sources.reader import ReadOptions
from mudanza.core.values.row_columns import LINE

_AS_IT_STANDS = ReadOptions(heading=1, exact=True)


def own_headings(path: Path, columns: Sequence[str]) -> list[str]:
    """The headings of a table that has at least these columns. Raises MoveError if one is missing."""
    headings = list(open_source(path, _AS_IT_STANDS).headings)
    missing = [column for column in columns if column not in headings]
    if missing:
        raise MoveError(
            f"the table has no column {missing[0]!r}.",
            place=Place(str(path), 1),
            hint=f"Its first line is: {','.join(columns)}",
        )
    return headings


def own_entries(path: Path) -> list[tuple[int, dict[str, str]]]:
    """The rows of a table with their lines, trimmed, by its headings; those that are blank are left out. Raises MoveError if a row is damaged."""
    opened = open_source(path, _AS_IT_STANDS)
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
            texts = {heading: (row[heading] or "").strip() for heading in opened.headings}
            if any(texts.values()):
                found.append((row[LINE], texts))
    return found


def own_rows(path: Path, columns: Sequence[str]) -> list[tuple[int, tuple[str, ...]]]:
    """The rows of a table with these columns, with their lines. Raises MoveError if a column is missing, or a row is damaged."""
    own_headings(path, columns)
    rows = [(line, tuple(texts[column] for column in columns)) for line, texts in own_entries(path)]
    return [(line, texts) for line, texts in rows if any(texts)]


def own_text(columns: Sequence[str], rows: Iterable[Sequence[str]]) -> str:
    """A table as the text of its file."""
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow(columns)
    writer.writerows(rows)
    return text.getvalue()
