"""Corrections of written records as files: `corrections/LIST.csv`."""

from __future__ import annotations

from pathlib import Path

import polars as pl

from mudanza.core.documents.errors import MoveError, Place, unknown
from mudanza.core.layouts.layout import Field, Layout
from mudanza.core.layouts.rules import blank_in_file, kind_problems, value_problems
from mudanza.core.plans.move import Move
from mudanza.core.plans.own_tables import own_rows, own_text
from mudanza.core.tables.corrections import SCHEMA, Corrections
from mudanza.core.values.row_columns import BETWEEN

COLUMNS = ("key", "field", "was", "is", "who", "when", "loan")
#: stands between the fields of a key in the file
_COMMA = " | "
#: what the source of corrected rows is called
CORRECTIONS = "corrections"


def held_back_corrections(move: Move, list_name: str) -> Path:
    """The file of rows of a list that were held back and came back corrected; builds read it as one more source."""
    return move.folder / CORRECTIONS / f"{list_name}.held-back.csv"


def corrections_path(move: Move, list_name: str) -> Path:
    """The file that says what was corrected in the records of a list."""
    return move.folder / CORRECTIONS / f"{list_name}.csv"


def read_corrections(move: Move, list_name: str, layout: Layout) -> Corrections:
    """The corrections of a list; a blank is blank. Raises MoveError with the line of what is wrong."""
    path = corrections_path(move, list_name)
    if not path.is_file():
        return Corrections()
    shown, titles = move.shown(path), [f.title for f in layout.fields]
    keys = {f.title for f in layout.fields if f.name in layout.primary_key}
    rows: list[tuple[str, str, str | None, str | None, str | None, int]] = []
    seen: dict[tuple[str, str], int] = {}
    for line, (key, title, was, now, who) in own_rows(path, COLUMNS[:5]):
        if title not in titles:
            raise MoveError(
                unknown("field", title, titles), place=Place(shown, line), hint=f"The layout has: {', '.join(titles)}."
            )
        if title in keys:
            raise MoveError(
                f"{title} is of the key, by which records are found, and cannot be corrected.",
                place=Place(shown, line),
                hint="Correct it in the plan.",
            )
        if (key, title) in seen:
            raise MoveError(
                f"{title} of {key} is corrected twice: also in line {seen[key, title]}.",
                place=Place(shown, line),
                hint="Take one of the lines out.",
            )
        seen[key, title] = line
        rows.append((key.replace(_COMMA, BETWEEN), title, was or None, now or None, who or None, line))
    cells = pl.DataFrame(rows, schema=SCHEMA, orient="row")
    for one in layout.fields:
        _keeps_the_rules(one, cells.filter(pl.col("field") == one.title), shown)
    return Corrections(shown, cells)


def _keeps_the_rules(field: Field, cells: pl.DataFrame, shown: str) -> None:
    """Raise MoveError where a correction is no value that the layout takes."""
    text = pl.col("is")
    blank = blank_in_file(field, text)
    value = field.type.read(pl.when(~blank).then(text)) if field.is_typed else text
    for problem in [*kind_problems(field, text, value), *value_problems(field, text, value, blank)]:
        bad = cells.filter(problem.exactly.fill_null(False)) if problem.stops else cells.clear()
        if bad.height:
            key, now, line = bad.select("key", "is", "line").row(0)
            asked = problem.rule if isinstance(problem.rule, str) else field.rule
            raise MoveError(
                f"{field.title} of {key.replace(BETWEEN, ', ')} cannot be {now or 'blank'!r}; it is to be {asked}.",
                place=Place(shown, line),
                hint="Correct the line, or take it out.",
            )


def with_corrections(
    move: Move, list_name: str, cells: list[tuple[str, str, str | None, str | None]], who: str, when: str, loan: str
) -> tuple[Path, str]:
    """The file of corrections with further ones (key, field, before, after), and what it is then; what was corrected before is corrected anew."""
    path = corrections_path(move, list_name)
    known = {(one[0], one[1]): list(one) for _, one in own_rows(path, COLUMNS)} if path.is_file() else {}
    for key, title, before, after in cells:
        shown = key.replace(BETWEEN, _COMMA)
        first = known.get((shown, title))
        known[shown, title] = [shown, title, first[2] if first else before or "", after or "", who, when, loan]
    return path, own_text(COLUMNS, known.values())
