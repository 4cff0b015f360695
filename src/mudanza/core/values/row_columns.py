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
#: What stands between the texts of a key that has several. Ledgers keep it.
BETWEEN = "\x1f"
#: Prefix of columns that only live inside a computation; no heading can start with it.
INNER = "\x1f"
#: What begins the names of columns that are kept of the row a record was made of.
SOURCE_COLUMN = f"{INNER}of source:"

# the inner columns that rows and records carry from one room to another stand here alone, so that no two have one name

#: The file that has a row corrected, so that it is not to be looked at any more.
CORRECTED = f"{INNER}corrected"
#: Where a row stands among all rows of a plan: the total order by which identifiers, findings and repeated rows are decided.
WHERE = f"{INNER}where"
#: The number of a row in its batch, and whether it is one that goes.
ROW, STAYS = f"{INNER}row", f"{INNER}stays"
#: What is known of a row before anything is made of it: the key as it is compared (null if it is still to be given),
#: whether the target holds the record, the hash of what it holds, whether it was told that the record left, the number
#: of what somebody said of the row, whether it is written for the last time, and the old identifier by which others
#: refer to it.
KNOWN_KEY, IN_TARGET, THEIRS, LEFT = f"{INNER}known key", f"{INNER}in target", f"{INNER}theirs", f"{INNER}left"
SAID, LAST, IDENTITY = f"{INNER}said", f"{INNER}last", f"{INNER}identity"
#: The identifier that a row would be given at its turn, and whether somebody said that it is of the same record as
#: another.
AT_ITS_TURN, JOINED = f"{INNER}at its turn", f"{INNER}joined"
#: Where a repeated key was first written, and whether the record was the same.
FIRST, SAME = f"{INNER}first", f"{INNER}same"
#: A record's key, by which corrections are found, and its number.
RECORD_KEY, RECORD_NUMBER = f"{INNER}record key", f"{INNER}record"
#: The number of a header and its text, and the number of a line.
HEADER, HEADER_TEXT, LINE_NUMBER = f"{INNER}header", f"{INNER}header text", f"{INNER}line"
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
        pl.concat_str([part.fill_null("") for part in parts], separator=BETWEEN)
        if len(parts) > 1
        else parts[0].fill_null("")
    )


def shown_key(key: pl.Expr) -> pl.Expr:
    """A key of `key_text` as people write it."""
    return key.str.replace_all(BETWEEN, ", ", literal=True)
