"""How likely a column is meant for a field, with the evidence; and the best assignment of all columns to all fields."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import numpy.typing as npt
from scipy.optimize import linear_sum_assignment

from mudanza.core.layouts.layout import Field, Layout
from mudanza.core.layouts.types.text import TextType
from mudanza.core.values.kinds import Kind
from mudanza.core.work.matching.answers import RIGHT, WRONG, Said
from mudanza.core.work.matching.blocks import marks_of
from mudanza.core.work.matching.conversions import Conversion, conversion
from mudanza.core.work.matching.looks.contents import LOOKS
from mudanza.core.work.matching.meaning.headings import Headings, Meaning
from mudanza.core.work.matching.meaning.lexicon import Ideas, Lexicon, ideas
from mudanza.core.work.matching.meaning.likeness import Likeness, likeness, said
from mudanza.core.work.matching.meaning.tokens import words_of
from mudanza.core.work.matching.views import View
from mudanza.core.work.matching.weights import Weights, first_odds, second_odds, shipped
from mudanza.core.work.matching.witnesses import NAMED, Asked, particular, witnesses

#: below this a field is better left without a proposal
ENOUGH = 0.3
#: from here on a proposal is sure, if nothing else comes near
SURE = 0.98
#: a column that another may stand for as well is not sure
_RIVAL = 0.15
#: what is less likely than this is not taken where a better column went to another field
_LEFT_OVER = 0.8
#: odds that settle a pair, whatever else speaks
_SETTLED = 12.0
#: a column of which fewer values fit holds something else
_LEAST_FIT = 0.2

Matrix = npt.NDArray[np.float64]


@dataclass(frozen=True)
class Candidate:
    """A column proposed for a field: how likely it is meant, the evidence in words, the conversion, and the columns that come next with their likelihood."""

    field: Field
    view: View
    score: float
    evidence: tuple[str, ...]
    conversion: Conversion
    #: no other column, nor none, may be meant
    certain: bool = True
    #: a key book of the move gives the identifiers that the field takes
    given: bool = False
    rivals: tuple[tuple[str, float], ...] = ()


class Scorer:
    """Scores columns for the fields of a layout. `habits` are (field name, heading words) pairs of other plans, with words for it; `subject` is the name
    of the list."""

    def __init__(
        self,
        layout: Layout,
        lexicon: Lexicon,
        habits: Mapping[tuple[str, tuple[str, ...]], str],
        keys: Sequence[str] = (),
        subject: str = "",
        learned: Weights | None = None,
    ) -> None:
        self.lexicon, self.habits, self.keys = lexicon, habits, keys
        self.learned = learned or shipped()
        texts = [text for field in layout.fields for text in field.words]
        headings = Headings(lexicon, texts)
        refers = {name for reference in layout.references for name in reference.fields}
        self.subject = _subject(headings, subject, layout)
        marks = marks_of([headings.meaning(f.title).ideas for f in layout.fields])
        self.asked = {
            field.name: Asked(
                field,
                tuple(
                    replace(meaning, inherited=inherited)
                    for meaning in dict.fromkeys(map(headings.meaning, field.words))
                ),
                layout.primary_key == (field.name,),
                field.name in refers,
                self.is_given(field),
            )
            for field, inherited in zip(layout.fields, marks, strict=True)
        }

    def reader(self, names: Sequence[str]) -> Headings:
        """Who reads the headings of one source: with an eye to what the layout asks for."""
        return Headings(self.lexicon, names, (m.ideas for asked in self.asked.values() for m in asked.meanings))

    def is_given(self, field: Field) -> bool:
        """Whether a key book of the move gives what the field takes."""
        takes = field.type
        return isinstance(takes, TextType) and takes.regex is not None and any(map(takes.takes, self.keys))


def _subject(headings: Headings, name: str, layout: Layout) -> Ideas:
    """Whose records a list has, by its name and its key: what says so in a heading hardly tells its fields apart."""
    told = headings.meaning(name).ideas
    for field in layout.fields:
        if layout.primary_key == (field.name,):
            told |= headings.meaning(field.title).ideas | headings.meaning(field.name).ideas
    return frozenset(idea for idea in told if idea in ideas() and ideas()[idea].role == "whose")


class Scores:
    """The likelihood of every field and column of one source, in matrices of fields by columns."""

    def __init__(self, scorer: Scorer, fields: Sequence[Field], views: Sequence[View]) -> None:
        self.scorer, self.fields = scorer, fields
        inherited = marks_of([view.meaning.ideas for view in views])
        self.views = [
            replace(view, meaning=replace(view.meaning, inherited=marks))
            for view, marks in zip(views, inherited, strict=True)
        ]
        self._conversions: dict[tuple[object, int], Conversion] = {}

    @cached_property
    def likenesses(self) -> list[list[tuple[Meaning, Likeness]]]:
        """What each field's name or title has in common with each heading."""
        found = []
        for field in self.fields:
            asked = self.scorer.asked[field.name]
            row = []
            for view in self.views:
                free = (
                    frozenset({"date"}) if field.kind in (Kind.DATE, Kind.DATETIME) or view.dates > 0.8 else frozenset()
                )
                options = [
                    (meaning, likeness(meaning, view.meaning, self.scorer.subject, free)) for meaning in asked.meanings
                ]
                row.append(max(options, key=lambda one: one[1].score))
            found.append(row)
        return found

    def figures(self, row: int, column: int) -> dict[str, float]:
        """The witnesses for a field and a column, by name."""
        field, view = self.fields[row], self.views[column]
        return witnesses(
            self.scorer.asked[field.name],
            view,
            self.likenesses[row][column][1],
            self.conversion(row, column),
            (field.name, words_of(view.name)) in self.scorer.habits,
        )

    def conversion(self, row: int, column: int) -> Conversion:
        """The steps from a column to a field."""
        field, view = self.fields[row], self.views[column]
        plain = isinstance(field.type, TextType) and field.type.permitted is None and not particular(field.type)
        if plain and self.likenesses[row][column][1].score < 0.3:
            return Conversion("", 0.0)
        key = (field.type, column)
        if key not in self._conversions:
            self._conversions[key] = conversion(field, view)
        return self._conversions[key]

    @cached_property
    def first(self) -> Matrix:
        """Odds (natural logarithms) by each pair alone."""
        return np.array(
            [
                [first_odds(self.scorer.learned, self.figures(r, c)) for c in range(len(self.views))]
                for r in range(len(self.fields))
            ]
        ).reshape(len(self.fields), len(self.views))

    @cached_property
    def neighbourly(self) -> dict[str, Matrix]:
        """What the whole says of each pair, by name: how far it is before the next best column and the next best field, and how likely the fields and
        columns beside them belong together."""
        return neighbourly(self.first)

    @cached_property
    def second(self) -> Matrix:
        """Odds by each pair and its surroundings."""
        return second_odds(self.scorer.learned, self.first, self.neighbourly)

    def odds(self, said: Said) -> Matrix:
        """Odds by all that is known: what was said settles a pair, and values that a field cannot hold do."""
        odds = self.second.copy()
        for row, field in enumerate(self.fields):
            of_field = said.get(field.name, {})
            settled = "" in of_field or any(of_field.get(view.name) == RIGHT for view in self.views)
            for column, view in enumerate(self.views):
                answer = of_field.get(view.name)
                if answer == RIGHT:
                    odds[row, column] = _SETTLED
                elif settled or answer == WRONG or not self._can_hold(row, column):
                    odds[row, column] = -_SETTLED
        return odds

    def _can_hold(self, row: int, column: int) -> bool:
        field, view = self.fields[row], self.views[column]
        asked = self.scorer.asked[field.name]
        if not view.texts or asked.is_given:
            return True
        if field.kind is Kind.TEXT:
            return not (asked.needs & NAMED and view.numeric > 0.9)
        return self.conversion(row, column).fit >= _LEAST_FIT

    def likely(self, said: Said) -> Matrix:
        """Likelihoods, 0 to 1."""
        shares: Matrix = 1 / (1 + np.exp(-self.odds(said)))
        return shares

    def evidence(self, row: int, column: int) -> tuple[str, ...]:
        """In words, what speaks for a pair."""
        field, view = self.fields[row], self.views[column]
        asked = self.scorer.asked[field.name]
        told: list[str] = []
        habit = self.scorer.habits.get((field.name, words_of(view.name)))
        if habit:
            told.append(habit)
        _, like = self.likenesses[row][column]
        if like.share >= 0.3:
            told.append(said(like))
        looks = sorted(what for what in asked.wants if view.contents.get(what, 0.0) > 0.6)
        told += [f"values look like {LOOKS[what]}" for what in looks[:1] if what in LOOKS]
        if asked.is_key and view.unique:
            told.append("identifies the rows")
        if not view.texts:
            told.append("blank in the sample")
        elif not asked.is_given and (
            not isinstance(field.type, TextType) or field.type.permitted or field.type.pattern
        ):
            made = self.conversion(row, column)
            told.append("codes to be translated" if made.codes else f"{made.fit:.0%} of the values fit")
        return tuple(told)


def neighbourly(first: Matrix) -> dict[str, Matrix]:
    """What the whole says of each pair, from the odds of all pairs (fields by columns), by name."""
    rows, columns = first.shape
    likely = 1 / (1 + np.exp(-first))
    ahead_of_columns = _ahead(first)
    ahead_of_fields = _ahead(first.T).T
    beside = np.zeros_like(first)
    for step in (1, 2, 3):
        for down in (-step, step):
            for right in {step, down, -step} | {1, -1}:
                shifted = np.zeros_like(first)
                r0, r1 = max(0, -down), min(rows, rows - down)
                c0, c1 = max(0, -right), min(columns, columns - right)
                if r0 < r1 and c0 < c1:
                    shifted[r0:r1, c0:c1] = likely[r0 + down : r1 + down, c0 + right : c1 + right]
                beside = np.maximum(beside, shifted / (1 + 0.25 * (step - 1)))
    return {
        "ahead of columns": np.clip(ahead_of_columns, -4, 4),
        "ahead of fields": np.clip(ahead_of_fields, -4, 4),
        "beside": beside,
    }


def _ahead(odds: Matrix) -> Matrix:
    """How far each is before the best other of its row (behind it, below 0)."""
    if odds.shape[1] < 2:
        return np.full_like(odds, 4.0)
    top = np.sort(odds, axis=1)
    best, next_best = top[:, -1:], top[:, -2:-1]
    ahead: Matrix = np.where(odds == best, odds - next_best, odds - best)
    return ahead


def assign(scores: Scores, wanted: Collection[str], taken: Collection[str], said: Said) -> dict[str, Candidate]:
    """The best assignment as a whole of columns to the fields that are `wanted`, by field name. `taken` are columns that other fields have already, and
    less likely therefore; `said` is what was answered."""
    fields, views = scores.fields, scores.views
    rows = [row for row, field in enumerate(fields) if field.name in wanted]
    if not rows or not views:
        return {}
    odds = scores.odds(said) - np.array([2.0 if view.name in taken else 0.0 for view in views])
    likely = 1 / (1 + np.exp(-odds))
    least = float(np.log(ENOUGH / (1 - ENOUGH)))
    # a column of its own for each field that is better left alone
    alone = np.full((len(rows), len(rows)), -1e6)
    np.fill_diagonal(alone, least)
    found_rows, columns = linear_sum_assignment(np.hstack([odds[rows], alone]), maximize=True)
    chosen = {rows[r]: int(c) for r, c in zip(found_rows, columns, strict=True) if c < len(views)}
    found = {}
    for row, column in chosen.items():
        candidate = _candidate(scores, likely, chosen, row, column, said)
        if candidate is not None:
            found[candidate.field.name] = candidate
    return found


def _candidate(
    scores: Scores, likely: Matrix, chosen: Mapping[int, int], row: int, column: int, said: Said
) -> Candidate | None:
    """The column that a field was given, with what is doubtful about it; None if it is but what others left."""
    field, view, mine = scores.fields[row], scores.views[column], float(likely[row, column])
    order = [c for c in np.argsort(-likely[row], kind="stable").tolist() if c != column and likely[row, c] >= _RIVAL]
    gone = [c for c in order if c in chosen.values()]
    if mine < _LEFT_OVER and any(likely[row, c] > mine + 0.3 for c in gone):
        return None
    made = conversion(field, view)
    given = scores.scorer.asked[field.name].is_given and made.share < 0.9
    if given:
        # the identifiers are given by a key book: the old ones need not look like them
        made = replace(made, share=0.9, doubt=None)
    # fields that could as well have this column, and were given none, or one that this could have
    others = [
        r
        for r in np.flatnonzero(likely[:, column] >= _RIVAL).tolist()
        if r != row and (r not in chosen or likely[row, chosen[r]] >= _RIVAL)
    ]
    near = others or len(gone) < len(order)
    answered = said.get(field.name, {}).get(view.name) == RIGHT
    evidence = list(scores.evidence(row, column))
    if answered:
        evidence.insert(0, "confirmed")
    if given:
        evidence.append("its identifiers are given by a key book")
    return Candidate(
        field,
        view,
        round(mine, 2),
        tuple(evidence),
        made,
        answered or bool(mine >= SURE and not near and made.share >= 0.5),
        given,
        tuple((scores.views[c].name, round(float(likely[row, c]), 2)) for c in order[:3]),
    )
