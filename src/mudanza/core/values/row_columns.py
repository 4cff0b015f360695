"""The columns that every row carries beside those of its source, and how several values are joined into one key."""

from __future__ import annotations

from collections.abc import Sequence

import polars as pl

#: Name of the column that says where a row stands: the line of a text file, the row of a sheet.
LINE = "#line"
#: Columns of a held-back file that say where its rows once stood; reading such a file gives them back.
SOURCE, FILE, WHY, TEXT = "#source", "#file", "#why", "#text"
#: And the one by which the row is known again: a hash of all that it held.
WAS = "#was"
#: What a file's own heading `#line` is called, the plain name being that of where its rows stand now.
OLD_LINE = f"{LINE} (2)"

#: No table of records has more columns; each costs its share of time, whatever is in it.
MOST_COLUMNS = 20_000
#: Prefix of columns that only live inside a computation; no heading can start with it.
INNER = "\x1f"
#: The file that has a row corrected, so that it is not to be looked at any more.
CORRECTED = f"{INNER}corrected"
#: Whether the target holds the row's record, as far as is known.
IN_TARGET = f"{INNER}in target"
#: What begins the names of columns that are kept of the row a record was made of.
SOURCE_COLUMN = f"{INNER}of source:"
#: Where a row stands among all rows of a plan: the total order by which identifiers, findings and repeated rows are decided.
WHERE = f"{INNER}where"
_LINES = 40


def where(file: int) -> pl.Expr:
    """The place of rows in the total order: the number of their file among all of the plan, then their line."""
    return (pl.col(LINE) + (file << _LINES)).alias(WHERE)


def file_and_line(place: pl.Expr) -> tuple[pl.Expr, pl.Expr]:
    """The number of the file and the line that a place of `where` stands for."""
    return place // (1 << _LINES), place % (1 << _LINES)


def key_text(parts: Sequence[pl.Expr]) -> pl.Expr:
    """The texts of a key's fields as one text, which is the same for the same texts alone; a blank is like an empty text."""
    return (
        pl.concat_str([part.fill_null("") for part in parts], separator=INNER)
        if len(parts) > 1
        else parts[0].fill_null("")
    )


def shown_key(key: pl.Expr) -> pl.Expr:
    """A key of `key_text` as people write it."""
    return key.str.replace_all(INNER, ", ", literal=True)
