"""`mudanza match --ask`: what is unsure, one field a screen."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping
from typing import TYPE_CHECKING

import click
from rich.text import Text

from mudanza.cli import look

if TYPE_CHECKING:
    from mudanza.core.work.matching.answers import Answer
    from mudanza.core.work.matching.drafting import Draft
    from mudanza.core.work.matching.questions import Question
    from mudanza.core.work.matching.scoring import Scores

_LETTERS = "abcdefgh"


def ask(
    list_name: str,
    scores: Mapping[str, Scores],
    answers: list[Answer],
    standing: Mapping[str, Collection[str]],
    redraft: Callable[[list[Answer]], Draft],
) -> tuple[list[Answer], list[Answer]]:
    """Ask until nothing is open, or it is enough. `standing` are the columns of flows that stand in the plan unsure. Gives all answers, old and new, and
    the new ones."""
    from mudanza.core.work.matching.answers import with_answers
    from mudanza.core.work.matching.questions import questions

    new: list[Answer] = []
    asked: set[tuple[str, str]] = set()
    while True:
        everything = with_answers(answers, new)
        left = questions(redraft(everything), scores, everything, standing)
        open_ones = [q for q in left if (q.source, q.field.name) not in asked]
        if not open_ones:
            if not asked:
                look.say("there is nothing to ask: no column is unsure.")
                look.say()
            return everything, new
        question = open_ones[0]
        asked.add((question.source, question.field.name))
        _show(list_name, question, len(asked), len(asked) + len(open_ones) - 1, scores)
        choice = _choice(question, scores[question.source])
        if choice == "q":
            return everything, new
        if choice == "s":
            continue
        new.append(question.answer(list_name, None if choice == "n" else choice.removeprefix("=")))


def _show(list_name: str, question: Question, number: int, of: int, scores: Mapping[str, Scores]) -> None:
    field = question.field
    if look.out.is_terminal:
        look.out.clear()
    where = f", source {question.source}" if len(scores) > 1 else ""
    look.heading(f"{list_name}: {field.name}", f"question {number} of {of}{where}")
    must = "must be filled" if field.required and field.default is None else "may be blank"
    title = "" if field.title == field.name else f"{field.title}: "
    look.say(f"  {title}{field.rule}; {must}")
    if field.description:
        look.say(f"  {field.description}", style="dim")
    look.say()
    rows: list[list[str | Text]] = []
    for letter, option in zip(_LETTERS, question.options, strict=False):
        told = ", ".join(option.evidence)
        rows.append([Text(letter, style="bold"), option.column, f"{option.score:.2f}", told])
        rows.append(["", "", "", Text(" · ".join(look.shorten(v) for v in option.values), style="dim")])
    look.columns(rows, right=(2,), fold=(3,))
    look.say()


def _choice(question: Question, scores: Scores) -> str:
    """A letter that leads on (n, s, q), or `=` and a column."""
    letters = _LETTERS[: len(question.options)]
    said = f"{'/'.join(letters)} that column, o another, n none, s later, q stop"
    while True:
        given = _prompt(said, "a" if question.has else "s").strip().lower()
        if given in ("n", "s", "q"):
            return str(given)
        if given in letters and len(given) == 1:
            return f"={question.options[letters.index(given)].column}"
        if given == "o":
            column = _named(_prompt("its heading", ""), scores)
            if column is not None:
                return f"={column}"
            continue
        look.say(f"{given!r} is none of the letters.")


def _prompt(said: str, default: str) -> str:
    """An answer; to break off says that it is enough, so that what was answered is kept."""
    try:
        return str(click.prompt(said, default=default, show_default=bool(default), prompt_suffix=": "))
    except click.Abort:
        look.say()
        return "q"


def _named(text: str, scores: Scores) -> str | None:
    """A column by its heading, which need not be written out."""
    from mudanza.core.documents.errors import nearest

    names = [view.name for view in scores.views]
    begins = [n for n in names if text and n.casefold().startswith(text.strip().casefold())]
    exact = [n for n in names if n.casefold() == text.strip().casefold()]
    if len(exact) == 1 or len(begins) == 1:
        return (exact or begins)[0]
    near = nearest(text, names, least=60)
    more = f" Did you mean {near!r}?" if near else ""
    look.say(f"no column is called {text!r}.{more}" if not begins else f"{', '.join(begins[:6])} begin so.")
    return None


def learn(scores: Mapping[str, Scores], answers: list[Answer]) -> list[tuple[str, str]]:
    """Ask whether headings that said nothing are to be known from now on; gives them with their meanings, if so."""
    from mudanza.core.work.matching.questions import new_words

    words = new_words(scores, answers)
    if not words:
        return []
    look.say()
    look.heading("words.csv", "headings that said nothing until now; other lists of the move can know them")
    look.columns([[heading, "means", meaning] for meaning, heading in words])
    agreed = _prompt("add them, y or n", "y").strip().lower().startswith("y")
    return words if agreed else []
