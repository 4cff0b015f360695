"""Learns the weights of the witnesses for `match` on the cases, and tells how they hold for languages and domains that were left out.

    python bench/matching_learning.py [--left-out]

Needs scikit-learn. Writes `weights.json` into the package. With --left-out nothing is written: each language, and each domain, is drafted by weights that
were learned without it, and the table of how it went is printed, with how often proposals of each likelihood were right.
"""

from __future__ import annotations

import argparse
import json
import tempfile
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from matching import cases, prepare, truth_of
from matching_made import Made
from sklearn.linear_model import LogisticRegression

from mudanza import read_move
from mudanza.core.engine.intake import open_sources
from mudanza.core.plans.plan_reading import load_plan
from mudanza.core.work.matching import scoring, weights
from mudanza.core.work.matching.drafting import scorer_of
from mudanza.core.work.matching.views import views
from mudanza.core.work.matching.witnesses import NAMES

PACKAGE = Path(__file__).parent.parent / "src/mudanza/core/work/matching"
#: figures that can only speak for, or only against, a pair
FOR = {"share", "asked", "given", "telling", "same heading", "content fits", "content alone", "content and share", "converts and share", "codes fit", "pattern fits", "key identifies", "reference", "born", "certainty"}
AGAINST = {"marks", "other number", "nothing in common", "content does not fit", "other content", "converts not", "codes do not fit", "pattern does not fit", "key repeats", "key unlike", "not born", "decimals", "words for a number", "number for words", "too long", "blank", "id for words", "little in common"}


@dataclass(frozen=True)
class Pairs:
    """The figures of all pairs of one case, fields by columns by witnesses, and which belong together; pairs of a join's further columns are left out."""

    made: Made
    figures: np.ndarray
    belongs: np.ndarray
    counts: np.ndarray


def pairs(made: Made) -> Pairs:
    """The figures of a case."""
    with tempfile.TemporaryDirectory() as folder:
        prepare(made, Path(folder))
        move = read_move(Path(folder))
        plan = load_plan(move, made.domain, draft=True)
        intake = open_sources(plan, move)
        scorer = scorer_of(move, plan, {"first": {}, "second": {}})
        columns = next(iter(views(intake, scorer.reader).values()))
    fields = list(plan.layout.fields)
    scores = scorer.scores(fields, columns)
    figures = np.array([[[scores.figures(r, c).get(n, 0.0) for n in NAMES] for c in range(len(columns))] for r in range(len(fields))])
    truth = truth_of(made)
    belongs = np.zeros(figures.shape[:2], bool)
    counts = np.ones(figures.shape[:2], bool)
    for r, field in enumerate(fields):
        named = truth.get(field.name, [])
        for c, column in enumerate(columns):
            if column.name in named[:1]:
                belongs[r, c] = True
            elif column.name in named:
                counts[r, c] = False
    return Pairs(made, figures, belongs, counts)


def learned(examples: Sequence[Pairs]) -> dict[str, dict[str, float]]:
    """The weights that suit the examples best."""
    first = _fitted([e.figures for e in examples], examples, 0.3)
    seen = [_seen(e, first) for e in examples]
    # what the first pass says of its own examples is too good; so it is learned by halves
    for half in (0, 1):
        other = _fitted([e.figures for e in examples[1 - half :: 2]], examples[1 - half :: 2], 0.3)
        for at in range(half, len(examples), 2):
            seen[at] = _seen(examples[at], other)
    second = _fitted(seen, examples, 1.0)
    names = (NAMES, weights.NEIGHBOURLY)
    return {
        which: {"base": float(round(model.intercept_[0], 3)), **{n: float(round(w, 3)) for n, w in zip(own, model.coef_[0], strict=True)}}
        for which, own, model in (("first", names[0], first), ("second", names[1], second))
    }


def _fitted(figures: Sequence[np.ndarray], examples: Sequence[Pairs], strength: float) -> LogisticRegression:
    given = np.concatenate([f[e.counts] for f, e in zip(figures, examples, strict=True)])
    answers = np.concatenate([e.belongs[e.counts] for e in examples])
    return LogisticRegression(C=strength, max_iter=3000).fit(given, answers)


def _seen(example: Pairs, model: Any) -> np.ndarray:
    odds = example.figures @ model.coef_[0] + model.intercept_[0]
    seen = scoring.neighbourly(odds)
    return np.stack([seen[n] for n in weights.NEIGHBOURLY], axis=-1)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--left-out", action="store_true")
    arguments = parser.parse_args()
    everything = [pairs(made) for made in cases("tuned")]
    if not arguments.left_out:
        found = learned(everything)
        (PACKAGE / "weights.json").write_text(json.dumps(found, indent=1) + "\n", encoding="utf-8")
        print(json.dumps(found, indent=1))
        return
    from matching import report, run

    for what in ("language", "domain"):
        outcomes = []
        for one in sorted({getattr(e.made, what) for e in everything}):
            rest = learned([e for e in everything if getattr(e.made, what) != one])
            outcomes += [run(e.made, learned=rest) for e in everything if getattr(e.made, what) == one]
        print(f"\n## each {what} left out in its turn\n")
        report(outcomes, what)


if __name__ == "__main__":
    main()
