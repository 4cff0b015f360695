"""What a person confirmed and refused: kept in the move, so that nothing is asked twice, and drafts of other lists know it."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from pathlib import Path

from mudanza.core.documents.errors import MoveError, Place
from mudanza.core.work.matching.meaning.tokens import words_of
from mudanza.core.work.matching.own_tables import own_rows

#: where a move keeps answers
ANSWERS = "answers.csv"
RIGHT, WRONG, NONE = "right", "wrong", "none"
_HEADING = ("list", "field", "column", "answer")


@dataclass(frozen=True)
class Answer:
    """What somebody said of a field of a list: that a column is `right` or `wrong`, or that `none` is right (with no column)."""

    list_name: str
    field: str
    column: str
    answer: str


def read_answers(folder: Path) -> list[Answer]:
    """The answers of a move, the first first. Raises MoveError for a line that is none."""
    path = folder / ANSWERS
    if not path.is_file():
        return []
    found = []
    for line, (list_name, field, column, answer) in own_rows(path, _HEADING):
        if answer not in (RIGHT, WRONG, NONE) or not list_name or not field or (answer == NONE) != (not column):
            raise MoveError(
                "a line has a list, a field, a column and right or wrong; or no column and none.",
                place=Place(str(path), line),
                hint="As in: owners,phone2,Telefon privat,right",
            )
        found.append(Answer(list_name, field, column, answer))
    return found


def with_answers(answers: Iterable[Answer], new: Iterable[Answer]) -> list[Answer]:
    """Answers with new ones, which take the place of what was said of the same field and column, or, if they say what is right, of the same field."""
    kept = list(answers)
    for one in new:
        kept = [
            old
            for old in kept
            if (old.list_name, old.field) != (one.list_name, one.field)
            or (old.column != one.column and not (old.answer != WRONG and one.answer != WRONG))
        ]
        kept.append(one)
    return kept


def answers_text(answers: Iterable[Answer]) -> str:
    """The file of answers."""
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow(_HEADING)
    writer.writerows((a.list_name, a.field, a.column, a.answer) for a in answers)
    return text.getvalue()


Said = Mapping[str, Mapping[tuple[str, ...], str]]


def said_of(answers: Iterable[Answer], list_name: str) -> Said:
    """What was said of a list: by field, the words of a heading with the answer (no words: that none is right)."""
    found: dict[str, dict[tuple[str, ...], str]] = {}
    for one in answers:
        if one.list_name == list_name:
            found.setdefault(one.field, {})[words_of(one.column)] = one.answer
    return found
