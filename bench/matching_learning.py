"""Learns the weights of the witnesses for `match` on the cases, and tells how they hold for languages and domains that were left out.

    python bench/matching_learning.py [--left-out]

Needs scipy. Writes `weights.json` into the package. With --left-out nothing is written: each language, and each domain, is drafted by weights that
were learned without it, and the table of how it went is printed, with how often proposals of each likelihood were right;
then each language as if nobody had written its words.
"""

from __future__ import annotations

import argparse
import json
import tempfile
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
from scipy.optimize import minimize

from matching import cases, prepare, truth_of
from matching_made import Made
from mudanza import read_move
from mudanza.core.engine.intake import open_sources
from mudanza.core.plans.plan_reading import load_plan
from mudanza.core.work.matching import drafting, scoring, weights
from mudanza.core.work.matching.drafting import scorer_of
from mudanza.core.work.matching.meaning.lexicon import Lexicon, lexicon
from mudanza.core.work.matching.views import views
from mudanza.core.work.matching.witnesses import NAMES

#: what the cases cannot teach, because they have too little of it: where these weights begin
PRIOR = {
    "pattern fits": 0.5,
    "pattern does not fit": -1.0,
    "too long": -1.5,
    "blank": -0.5,
    "codes do not fit": -0.5,
    "reference": 0.5,
    "other number": -1.5,
}
#: how far a weight may go; the smaller, the less
STRENGTH = 0.5
PACKAGE = Path(__file__).parent.parent / "src/mudanza/core/work/matching"
#: witnesses that can only speak for a pair, and those that can only speak against it; the others may do either
FOR = {
    "share", "asked", "given", "telling", "same heading", "content fits", "content alone", "converts", "converts and share", "codes fit",
    "pattern fits", "key identifies", "reference", "born", "odds", "ahead of columns", "ahead of fields", "beside",
}  # fmt: skip
AGAINST = {
    "marks", "other number", "little in common", "nothing in common", "apart", "content does not fit", "other content", "converts not",
    "codes do not fit", "pattern does not fit", "key repeats", "key unlike", "not born", "decimals", "words for a number",
    "number for words", "too long", "blank", "id for words",
}  # fmt: skip


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
    scores = scoring.Scores(scorer, fields, columns)
    figures = np.array(
        [[[scores.figures(r, c).get(n, 0.0) for n in NAMES] for c in range(len(columns))] for r in range(len(fields))]
    )
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
    first = _fitted([e.figures for e in examples], examples, NAMES)
    seen = [_seen(e, first) for e in examples]
    # what the first pass says of its own examples is too good; so it is learned by halves
    for half in (0, 1):
        rest = examples[1 - half :: 2]
        other = _fitted([e.figures for e in rest], rest, NAMES)
        for at in range(half, len(examples), 2):
            seen[at] = _seen(examples[at], other)
    # a real source lacks columns and has some that nobody asks for
    rest_seen, rest = [], []
    for number, example in enumerate(examples):
        for time in range(1):
            thin = _thinned(example, number * 3 + time)
            rest.append(thin)
            rest_seen.append(_seen(thin, first))
    second = _fitted([*seen, *rest_seen], [*examples, *rest], weights.NEIGHBOURLY)
    return {
        which: {
            "base": float(round(found[0], 3)),
            **{n: float(round(w, 3)) for n, w in zip(names, found[1:], strict=True)},
        }
        for which, names, found in (("first", NAMES, first), ("second", weights.NEIGHBOURLY, second))
    }


def _thinned(example: Pairs, seed: int) -> Pairs:
    """A case with some of its fields and columns left out."""
    chance = np.random.default_rng(seed)
    rows = chance.random(example.figures.shape[0]) > 0.3
    columns = chance.random(example.figures.shape[1]) > 0.3
    rows[0] = columns[0] = True
    figures = example.figures[rows][:, columns]
    return Pairs(example.made, figures, example.belongs[rows][:, columns], example.counts[rows][:, columns])


def _fitted(figures: Sequence[np.ndarray], examples: Sequence[Pairs], names: Sequence[str]) -> np.ndarray:
    """The base and a weight for each witness: logistic regression, held small, each witness held to the side that it can speak for."""
    given = np.concatenate([f[e.counts] for f, e in zip(figures, examples, strict=True)])
    side = np.concatenate([e.belongs[e.counts] for e in examples]) * 2.0 - 1.0
    held = 1 / (2 * STRENGTH)
    prior = np.array([PRIOR.get(name, 0.0) for name in names])

    def loss(w: np.ndarray) -> tuple[float, np.ndarray]:
        margin = side * (given @ w[1:] + w[0])
        pull = -side / (1 + np.exp(np.clip(margin, -500, 500)))
        slope = np.concatenate([[pull.sum()], given.T @ pull + 2 * held * (w[1:] - prior)])
        return float(np.logaddexp(0, -margin).sum() + held * ((w[1:] - prior) ** 2).sum()), slope

    bounds = [(None, None), *((0.0 if n in FOR else None, 0.0 if n in AGAINST else None) for n in names)]
    return minimize(
        loss, np.zeros(len(bounds)), jac=True, bounds=bounds, method="L-BFGS-B", options={"maxiter": 5000}
    ).x


def _seen(example: Pairs, found: np.ndarray) -> np.ndarray:
    seen = scoring.neighbourly(example.figures @ found[1:] + found[0])
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
    print("\n## each language without its words, as one that nobody wrote a table for\n")
    whole, outcomes = lexicon(), []
    for one in sorted({e.made.language for e in everything} - {"en"}):
        rest = learned([e for e in everything if e.made.language != one])
        drafting.lexicon = lambda without=one: _without(whole, without)
        outcomes += [run(e.made, learned=rest) for e in everything if e.made.language == one]
    report(outcomes, "language")


def _without(whole: Lexicon, language: str) -> Lexicon:
    """The words of all languages but one."""
    senses = {phrase: {of: m for of, m in one.items() if of != language} for phrase, one in whole.senses.items()}
    return replace(
        whole,
        senses={phrase: one for phrase, one in senses.items() if one},
        joining={of: words for of, words in whole.joining.items() if of != language},
    )


if __name__ == "__main__":
    main()
