"""What a person confirmed and refused: kept in the move, so that nothing is asked twice, and drafts of other lists know it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from pathlib import Path

from mudanza.core.documents.errors import MoveError, Place
from mudanza.core.plans.own_tables import own_rows, own_text

#: where a move keeps answers
ANSWERS = "answers.csv"
RIGHT, WRONG, NONE = "right", "wrong", "none"
_HEADING = ("list", "source", "field", "column", "answer")


@dataclass(frozen=True)
class Answer:
    """What somebody said of a field of a list and a source of its (blank: of each): that a column is `right` or `wrong`, or that `none` is right (with no
    column)."""

    list_name: str
    source: str
    field: str
    column: str
    answer: str

    @property
    def _about(self) -> tuple[str, str, str]:
        return self.list_name, self.source, self.field

    def replaces(self, old: Answer) -> bool:
        """Whether an older answer no longer holds: of the same column, or if both say what is right for the same field."""
        return self._about == old._about and (self.column == old.column or WRONG not in (self.answer, old.answer))


def read_answers(folder: Path) -> list[Answer]:
    """The answers of a move, the first first. Raises MoveError for a line that is none."""
    path = folder / ANSWERS
    if not path.is_file():
        return []
    found = []
    for line, texts in own_rows(path, _HEADING):
        one = Answer(*texts)
        known = one.answer in (RIGHT, WRONG, NONE)
        if not known or not one.list_name or not one.field or (one.answer == NONE) != (not one.column):
            raise MoveError(
                "a line has a list, a source (or none), a field, a column and right or wrong; or no column and none.",
                place=Place(str(path), line),
                hint="As in: owners,north,phone2,Telefon privat,right",
            )
        found.append(one)
    return found


def with_answers(answers: Iterable[Answer], new: Iterable[Answer]) -> list[Answer]:
    """Answers with new ones, which take the place of those that no longer hold."""
    kept = list(answers)
    for one in new:
        kept = [*(old for old in kept if not one.replaces(old)), one]
    return kept


def answers_text(answers: Iterable[Answer]) -> str:
    """The file of answers."""
    return own_text(_HEADING, [(a.list_name, a.source, a.field, a.column, a.answer) for a in answers])


#: by field, the headings of columns with what was answered; the heading of none is blank
Said = Mapping[str, Mapping[str, str]]


def said_of(answers: Iterable[Answer], list_name: str, source: str) -> Said:
    """What was said of a source of a list."""
    found: dict[str, dict[str, str]] = {}
    for one in answers:
        if one.list_name == list_name and one.source in ("", source):
            found.setdefault(one.field, {})[one.column] = one.answer
    return found
