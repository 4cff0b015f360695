"""The learned weights of the witnesses: how likely a pair is, from its figures (`bench/matching_learning.py` learns them)."""

from __future__ import annotations

import json
from collections.abc import Mapping
from functools import cache
from importlib.resources import files

import numpy as np
import numpy.typing as npt

Matrix = npt.NDArray[np.float64]
#: the figures of the second pass, in which all pairs are seen, with words for each: if it speaks for a pair, and if it speaks against
NEIGHBOURLY = {
    "ahead of columns": ("no other column is as likely for the field", "another column is likelier for the field"),
    "ahead of fields": ("for no other field is the column as likely", "for another field the column is likelier"),
    "beside": ("the column beside it belongs to the field beside it", ""),
}


Weights = Mapping[str, Mapping[str, float]]


@cache
def shipped() -> Weights:
    """The weights that were learned on all cases: of the `first` pass and the `second`, by the figures' names; `base` is the odds without any."""
    kept: dict[str, dict[str, float]] = json.loads(
        files("mudanza.core.work.matching").joinpath("weights.json").read_text("utf-8")
    )
    return kept


def first_odds(learned: Weights, figures: Mapping[str, float]) -> float:
    """The odds (natural logarithm) of a pair, from its figures by name."""
    weights = learned["first"]
    return weights["base"] + sum(weights[name] * figure for name, figure in figures.items())


def second_odds(learned: Weights, first: Matrix, seen: Mapping[str, Matrix]) -> Matrix:
    """The odds of all pairs, from what the whole says of them."""
    weights = learned["second"]
    odds: Matrix = np.full_like(first, weights["base"])
    for name in NEIGHBOURLY:
        odds += weights[name] * seen[name]
    return odds
