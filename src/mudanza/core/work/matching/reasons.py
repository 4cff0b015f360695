"""Why a column is proposed for a field, or is not: all that speaks for it and against it, in points."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from mudanza.core.work.matching.answers import Answer, said_of
from mudanza.core.work.matching.scoring import Scores
from mudanza.core.work.matching.weights import NEIGHBOURLY
from mudanza.core.work.matching.witnesses import NAMES

#: what counts less is not told
_LEAST = 0.05
#: a column that is less likely is only shown if it comes next
_UNLIKELY = 0.01


@dataclass(frozen=True)
class Reason:
    """A column for a field: how likely it is meant (0 to 1), what speaks for it and against it with its points (natural logarithms of odds) by itself and
    among the others, what was answered of it (None if nothing), and some of its values."""

    source: str
    column: str
    score: float
    alone: tuple[tuple[str, float], ...]
    among: tuple[tuple[str, float], ...]
    answer: str | None
    values: tuple[str, ...]


def reasons(
    scores: Mapping[str, Scores], list_name: str, field: str, answers: Sequence[Answer], most: int = 4
) -> list[Reason]:
    """The columns of all sources that come first for a field, the likeliest of each source first."""
    found = []
    for source, of_source in scores.items():
        row = next((at for at, one in enumerate(of_source.fields) if one.name == field), None)
        if row is None or not of_source.views:
            continue
        said = said_of(answers, list_name, source)
        likely, learned = of_source.likely(said)[row], of_source.scorer.learned
        best = sorted(range(len(of_source.views)), key=lambda c: (-likely[c], -of_source.first[row, c]))
        # the one that comes first, its runner-up, and what is at all likely
        for column in [c for at, c in enumerate(best[:most]) if at < 2 or likely[c] >= _UNLIKELY]:
            view, figures = of_source.views[column], of_source.figures(row, column)
            alone = [(NAMES[n], learned["first"][n] * value) for n, value in figures.items()]
            among = []
            for name, (for_it, against) in NEIGHBOURLY.items():
                points = learned["second"][name] * float(of_source.neighbourly[name][row, column])
                among.append((for_it if points > 0 else against, points))
            answer = said.get(field, {}).get(view.name) or said.get(field, {}).get("")
            found.append(
                Reason(
                    source,
                    view.name,
                    round(float(likely[column]), 2),
                    _weighty(alone),
                    _weighty(among),
                    answer,
                    tuple(view.texts[:5]),
                )
            )
    return found


def _weighty(points: list[tuple[str, float]]) -> tuple[tuple[str, float], ...]:
    """What counts, the weightiest first."""
    return tuple((n, round(p, 1)) for n, p in sorted(points, key=lambda one: -abs(one[1])) if abs(p) >= _LEAST)
