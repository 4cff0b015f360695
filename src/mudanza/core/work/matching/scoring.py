"""How well a column suits a field, with the evidence; and the best assignment of all columns to all fields."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt
from scipy.optimize import linear_sum_assignment

from mudanza.core.layouts.layout import Field, Layout
from mudanza.core.layouts.types.text import TextType
from mudanza.core.values.kinds import Kind
from mudanza.core.work.matching.conversions import Conversion, conversion
from mudanza.core.work.matching.meanings import Meaning, Words, likeness, said, tells, words_of
from mudanza.core.work.matching.views import View

#: below this a field is better left without a proposal
ENOUGH = 0.36
#: from here on a proposal is sure, if nothing else comes near
SURE = 0.62
_MARGIN = 0.07
_CONTENT = {
    "email": "email",
    "phone": "phone",
    "web": "web",
    "iban": "iban",
    "post": "post",
    "barcode": "barcode",
    "year": "year",
}
_NUMBERS = {
    "price",
    "cost",
    "amount",
    "net",
    "gross",
    "balance",
    "quantity",
    "weight",
    "salary",
    "discount",
    "stock",
    "mileage",
    "limit",
    "rate",
    "pages",
}
_LETTERS = {
    "given",
    "family",
    "full",
    "town",
    "country",
    "title",
    "description",
    "author",
    "publisher",
    "breed",
    "colour",
    "job",
    "make",
}


@dataclass(frozen=True)
class Candidate:
    """A column proposed for a field: the score, the evidence in words, and the conversion."""

    field: Field
    view: View
    score: float
    evidence: tuple[str, ...]
    conversion: Conversion
    sure: bool = True
    #: a key book of the move gives the identifiers that the field takes
    given: bool = False


class Scorer:
    """Scores columns for the fields of a layout. `habits` are (field name, heading words) pairs of other plans, with these plans' names."""

    def __init__(
        self, layout: Layout, words: Words, habits: Mapping[tuple[str, tuple[str, ...]], str], keys: Sequence[str] = ()
    ) -> None:
        self.layout, self.words, self.habits, self.keys = layout, words, habits, keys
        self.meanings = {f.name: (words.meaning(f.name), words.meaning(f.title)) for f in layout.fields}
        self.refers = {name for reference in layout.references for name in reference.fields}

    def score(self, field: Field, view: View) -> Candidate:
        """The score, from 0 to 1."""
        heading, evidence = self._heading(field, view.meaning)
        habit = self.habits.get((field.name, tuple(words_of(view.name))))
        if habit:
            heading = max(heading, 0.97)
            evidence = [f"the plan {habit} does so", *evidence]
        if heading < 0.2 and not self._telling(field):
            return Candidate(field, view, heading * 0.5, tuple(evidence), Conversion("", 0))
        converted = conversion(field, view)
        given = self.is_given(field) and converted.share < 0.9
        if given:
            # the identifiers are given by a key book: the old ones need not look like them
            converted = replace(converted, share=0.9, doubt=None)
            values, words = 0.9, ["its identifiers are given by a key book"]
        else:
            values, words = self._values(field, view, converted)
        evidence += words
        score = 0.74 * heading + 0.26 * values
        if (
            heading < 0.3
            and self._telling(field)
            and converted.share >= 0.95
            and len(view.texts) > 1
            and not converted.codes
        ):
            score = max(score, 0.5)
        if field.kind in (Kind.NUMBER, Kind.DATE, Kind.DATETIME) and converted.share < 0.5 and view.texts:
            score *= 0.35
            evidence.append(f"only {converted.share:.0%} can be read as a {field.kind}")
        score *= self._identity(field, view, evidence)
        return Candidate(field, view, min(score, 1.0), tuple(evidence), converted, given=given)

    def is_given(self, field: Field) -> bool:
        """Whether a key book of the move gives what the field takes."""
        if not isinstance(field.type, TextType) or field.type.pattern is None:
            return False
        try:
            return any(re.fullmatch(field.type.pattern, key) for key in self.keys)
        except re.error:
            return False

    def _heading(self, field: Field, meaning: Meaning) -> tuple[float, list[str]]:
        best = max(self.meanings[field.name], key=lambda own: likeness(own, meaning))
        alike = likeness(best, meaning)
        if self.layout.primary_key != (field.name,) and field.name not in self.refers and not tells(best, meaning):
            alike = min(alike, 0.3)
        return alike, [said(best, meaning)] if alike >= 0.3 else []

    @staticmethod
    def _telling(field: Field) -> bool:
        """Whether what the field takes is so particular that values alone tell."""
        if not isinstance(field.type, TextType):
            return False
        particular = len(re.sub(r"[\[\]{}()?*+.\\,0-9-]", "", field.type.pattern or "")) >= 2
        return field.type.permitted is not None or particular

    def _values(self, field: Field, view: View, converted: Conversion) -> tuple[float, list[str]]:
        if not view.texts:
            return 0.4, ["blank in the sample"]
        score, words = converted.share, []
        if not isinstance(field.type, TextType) or field.type.permitted or field.type.pattern:
            words.append(
                f"{converted.share:.0%} of the values fit" if not converted.codes else "codes to be translated"
            )
        ideas = self.meanings[field.name][0].ideas | self.meanings[field.name][1].ideas
        for idea in ideas:
            if idea in _CONTENT:
                looks = view.looks(_CONTENT[idea])
                score = min(score, 0.2 + 0.8 * looks)
                if looks > 0.8:
                    words.append(f"values look like {idea}")
        if isinstance(field.type, TextType) and not field.type.permitted:
            if ideas & _LETTERS and view.wordy < 0.4:
                score = min(score, 0.25)
            if view.dates > 0.8 and "date" not in ideas:
                score = min(score, 0.3)
            if ideas & _NUMBERS and view.numeric > 0.8:
                score = max(score, 0.9)
        return score, words

    def _identity(self, field: Field, view: View, evidence: list[str]) -> float:
        """Keys want columns that identify, and references columns that repeat."""
        is_key = self.layout.primary_key == (field.name,)
        is_id = "id" in view.meaning.ideas
        if is_key:
            if view.unique and is_id:
                evidence.append("identifies the rows")
                return 1.35
            return 1.0 if view.unique else 0.6
        return 1.25 if field.name in self.refers and is_id else 1.0


def assign(views: Sequence[View], scorer: Scorer, taken: set[str], fields: Sequence[Field]) -> dict[str, Candidate]:
    """The best assignment as a whole of columns to fields, by field name. `taken` are columns that are used already, and less likely therefore."""
    if not fields or not views:
        return {}
    candidates = [[scorer.score(field, view) for view in views] for field in fields]
    scores = np.array([[c.score * (0.8 if c.view.name in taken else 1) for c in row] for row in candidates])
    # a column of its own for each field that is better left alone
    alone = np.full((len(fields), len(fields)), -1.0)
    np.fill_diagonal(alone, ENOUGH)
    rows, columns = linear_sum_assignment(np.hstack([scores, alone]), maximize=True)
    found = {}
    pairs = [(int(r), int(c)) for r, c in zip(rows, columns, strict=True) if c < len(views)]
    for row, column in zip(rows, columns, strict=True):
        if column >= len(views):
            continue
        best = candidates[row][column]
        others = np.delete(scores[row], column)
        rival = float(others.max()) if len(others) else 0.0
        clear = best.score - rival >= _MARGIN or best.score >= 0.93
        sure = (
            best.score >= SURE
            and clear
            and not _exchangeable(scores, row, column, pairs)
            and best.conversion.doubt is None
            and best.conversion.share >= 0.5
        )
        found[fields[row].name] = replace(best, score=round(best.score, 2), sure=sure)
    return {**found, **_left_over(views, fields, found, taken)}


def _exchangeable(scores: npt.NDArray[np.float64], row: int, column: int, pairs: Sequence[tuple[int, int]]) -> bool:
    """Whether this pair and another could as well be the other way round."""
    return any(
        r != row
        and min(scores[row, c], scores[r, column]) >= ENOUGH
        and scores[row, c] + scores[r, column] >= scores[row, column] + scores[r, c] - _MARGIN
        for r, c in pairs
    )


def _left_over(
    views: Sequence[View], fields: Sequence[Field], found: Mapping[str, Candidate], taken: set[str]
) -> dict[str, Candidate]:
    """Where one field of a kind is left and one column that can be nothing else, they may belong together; never for sure."""
    used = taken | {c.view.name for c in found.values()}
    made = {}
    for kind in (Kind.DATE, Kind.YESNO):
        asked = [f for f in fields if f.kind is kind and f.name not in found]
        fitting = []
        for view in views:
            if view.name in used or not view.texts or (kind is Kind.DATE and view.dates < 0.8):
                continue
            converted = conversion(asked[0], view) if asked else None
            if converted is not None and converted.share >= 0.95:
                fitting.append((view, converted))
        if len(asked) == 1 and len(fitting) == 1:
            view, converted = fitting[0]
            made[asked[0].name] = Candidate(
                asked[0], view, ENOUGH, (f"the only {kind} that is left",), converted, sure=False
            )
    return made
