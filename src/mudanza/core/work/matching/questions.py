"""What a draft is not sure of, as questions with columns to choose from; and what the answers teach."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from mudanza.core.language.asking import columns_of
from mudanza.core.layouts.layout import Field
from mudanza.core.plans.own_tables import own_rows, own_text
from mudanza.core.plans.plan import Plan
from mudanza.core.work.matching.answers import NONE, RIGHT, Answer, said_of
from mudanza.core.work.matching.drafting import Draft
from mudanza.core.work.matching.meaning.headings import Meaning
from mudanza.core.work.matching.meaning.lexicon import OWN_WORDS, WORDS_HEADING
from mudanza.core.work.matching.meaning.tokens import words_of
from mudanza.core.work.matching.scoring import Scores

#: a column that is less likely is not offered, unless the field must have one
_OFFERED = 0.03
#: a field without a proposal is asked for if a column is as likely
_WORTH_ASKING = 0.1
#: a column that a field has already is offered again if it is as likely
_AGAIN = 0.5
_MOST = 5
#: two headings that have less in common share no meaning that is known
_UNLIKE = 0.3


@dataclass(frozen=True)
class Option:
    """A column to choose: how likely it is meant (0 to 1), the evidence, and some of its values."""

    column: str
    score: float
    evidence: tuple[str, ...]
    values: tuple[str, ...]


@dataclass(frozen=True)
class Question:
    """Which column of a source a field is filled from; the first option is what the draft has, or the plan, if one `has` any."""

    source: str
    field: Field
    options: tuple[Option, ...]
    has: bool

    def answer(self, list_name: str, column: str | None) -> Answer:
        """What it means to say that a column is right, or (None) that none is."""
        if column is None:
            return Answer(list_name, self.source, self.field.name, "", NONE)
        return Answer(list_name, self.source, self.field.name, column, RIGHT)


def standing_columns(plan: Plan, fields: Collection[str]) -> dict[str, list[str]]:
    """The columns of the flows that stand in a plan for some fields."""
    return {name: columns_of(plan.flows[name]) for name in fields}


def settled_fields(draft: Draft, standing: Mapping[str, Collection[str]]) -> set[str]:
    """The fields whose flows stand in the plan unsure, and of which a draft is sure by now, because of other answers or words."""
    return {
        p.field.name
        for p in draft.proposals
        if p.doubt is None and set(standing.get(p.field.name, ())) == set(p.columns)
    }


def questions(
    draft: Draft, scores: Mapping[str, Scores], answers: Sequence[Answer], standing: Mapping[str, Collection[str]]
) -> list[Question]:
    """All that is to be asked, by source and in layout order. What is only doubtful about values is no question of columns. `standing` are the fields
    whose flows stand in the plan unsure, with their columns: they are asked for in any case."""
    found = []
    open_fields = {*draft.parts, *(f.name for f in draft.without)}
    for source, of_source in scores.items():
        said = said_of(answers, draft.name, source)
        likely = of_source.likely(said)
        names = [view.name for view in of_source.views]
        settled = {c for by in draft.parts.values() if source in by and by[source].certain for c in by[source].columns}
        for row, field in enumerate(of_source.fields):
            part = draft.parts.get(field.name, {}).get(source)
            stands = [c for c in standing.get(field.name, ()) if c in names]
            settled_here = part is not None and part.certain and (not stands or set(stands) == set(part.columns))
            if field.name not in open_fields or settled_here or "" in said.get(field.name, {}):
                continue
            order = sorted(range(len(names)), key=lambda c: -likely[row, c])
            must = field.required and field.default is None
            chosen = [names.index(c) for c in dict.fromkeys([*(part.columns[:1] if part else ()), *stands])]
            chosen += [
                c
                for c in order
                if c not in chosen
                and names[c] not in settled
                and (names[c] not in draft.used or likely[row, c] >= _AGAIN)
                and (likely[row, c] >= _OFFERED or (must and not part))
                and of_source.views[c].filled
            ]
            if (
                not part
                and not stands
                and not (must and chosen)
                and not any(likely[row, c] >= _WORTH_ASKING for c in chosen)
            ):
                continue
            options = tuple(
                Option(
                    names[c],
                    round(float(likely[row, c]), 2),
                    (*(["in the plan now"] if names[c] in stands else []), *of_source.evidence(row, c)),
                    tuple(of_source.views[c].texts[:4]),
                )
                for c in chosen[:_MOST]
            )
            found.append(Question(source, field, options, bool(part or stands)))
    return found


def new_words(scores: Mapping[str, Scores], confirmed: Collection[Answer]) -> list[tuple[str, str]]:
    """Words to learn: the meaning of a field, and the heading that was said to be right for it though it says nothing that is known."""
    found: dict[tuple[str, str], None] = {}
    for answer in confirmed:
        of_source = scores[answer.source]
        rows = [r for r, f in enumerate(of_source.fields) if f.name == answer.field]
        columns = [c for c, view in enumerate(of_source.views) if view.name == answer.column]
        for row, column in ((r, c) for r in rows for c in columns):
            meaning, like = of_source.likenesses[row][column]
            if like.score < _UNLIKE and "|" not in answer.column:
                found[_meaning(meaning), answer.column] = None
    return list(found)


def _meaning(asked: Meaning) -> str:
    """A field's meaning in ideas, if they say what its words do; else in its own words."""
    words = [word for word in words_of(asked.text) if not word.isdigit()]
    if asked.ideas and not asked.readings[0].others and len(asked.ideas) <= len(words) + 1:
        return " ".join(sorted(asked.ideas))
    return " ".join(words)


def with_words(folder: Path, words: Sequence[tuple[str, str]]) -> tuple[Path, str]:
    """The move's own words with more: the file, and its text."""
    path = folder / OWN_WORDS
    kept = [texts for _, texts in own_rows(path, WORDS_HEADING)] if path.is_file() else []
    return path, own_text(WORDS_HEADING, [*kept, *words])
