"""What is asked of records, and questions that are kept under a name in the move (`questions/NAME.toml`)."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass, fields, replace
from pathlib import Path
from typing import Any

from mudanza.core.disk.files import Outputs
from mudanza.core.documents.document import read_toml
from mudanza.core.documents.errors import MoveError, Place, unknown
from mudanza.core.plans.move import Move

FOLDER = "questions"


@dataclass(frozen=True)
class RecordQuestion:
    """Of what records are asked, and which: the columns (none: all), a condition, how they are sorted (a heading; with - in front, from the last to the first), one key, at most so many (None: all),
    whether rows that are alike count once, and by which columns they are only counted."""

    subject: str
    columns: tuple[str, ...] = ()
    where: str | None = None
    sort: tuple[str, ...] = ()
    key: str | None = None
    most: int | None = None
    distinct: bool = False
    count_by: tuple[str, ...] = ()

    def over(self, other: Mapping[str, Any]) -> RecordQuestion:
        """The same question with what is said anew."""
        return replace(
            self,
            **{
                name: value for name, value in other.items() if value is not None and value is not False and value != ()
            },
        )


def question_path(move: Move, name: str) -> Path:
    """Where a question stands."""
    return move.new_path(FOLDER, name, ".toml")


def load_question(move: Move, name: str) -> RecordQuestion:
    """A question that was kept. Raises MoveError if there is none of that name, or its file is wrong."""
    path = question_path(move, name)
    if not path.is_file():
        known = move.names(FOLDER, ".toml")
        raise MoveError(
            unknown("question", name, known),
            place=Place(FOLDER),
            hint=f"There are: {', '.join(known)}." if known else "Keep one: mudanza records … --save NAME.",
        )
    said = read_toml(path, MoveError).only(one.name for one in fields(RecordQuestion))
    subject = said.get("subject", str)
    if subject is None:
        raise said.fail("the question does not say of what.", None, 'Add subject = "owners".')
    return RecordQuestion(
        subject=subject,
        columns=said.texts("columns", 'Write columns = ["Name", "Town"].'),
        where=said.get("where", str),
        sort=said.texts("sort", 'Write sort = ["Town"].'),
        key=said.get("key", str),
        most=said.get("most", int),
        distinct=said.get("distinct", bool, False),
        count_by=said.texts("count_by", 'Write count_by = ["Town"].'),
    )


def question_text(question: RecordQuestion) -> str:
    """A question as its file has it."""
    lines = []
    for one in fields(question):
        value = getattr(question, one.name)
        if value is not None and value is not False and value != ():
            lines.append(
                f"{one.name} = {json.dumps(list(value) if isinstance(value, tuple) else value, ensure_ascii=False)}"
            )
    return "\n".join(lines) + "\n"


def keep_question(move: Move, name: str, question: RecordQuestion) -> Path:
    """Keep a question under a name; one that was kept under it before goes. Raises MoveError for a name that is none."""
    path = question_path(move, name)
    with Outputs(move.files) as outputs:
        outputs.create_text(path, question_text(question))
        outputs.publish()
    return path
