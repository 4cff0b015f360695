"""Which columns of one source seem to refer to the key of another, and how many references lead nowhere."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import polars as pl
from rapidfuzz import fuzz

from mudanza.core.work.survey.column_facts import ColumnFacts

_LEAST = 0.7
_FEW = 3
#: Running numbers, and keys, are in each other by chance; then the headings must be alike as well.
_ALIKE = 75
#: From this share on that values would hit by chance, their hits say nothing.
_CHANCE = 0.2
#: What keys are called in many sources.
_NUMBERS = ("id", "no", "nr", "no.", "nr.", "number", "code", "key", "row")
#: Words shorter than this are in others by chance.
_WORD = 4


@dataclass(frozen=True)
class LikelyReference:
    """A column that seems to refer to a key: how many of its values are keys there, and how many rows lead nowhere.

    `exact` is false where values were sampled. `examples` are values that lead nowhere.
    """

    source: str
    column: str
    target: str
    key: str
    values: int
    missing: int
    missing_rows: int
    exact: bool
    examples: tuple[str, ...] = ()


@dataclass(frozen=True)
class Surveyed:
    """A source's columns, those of them that could be its key, and how values of a column are found by their hashes."""

    name: str
    columns: Sequence[ColumnFacts]
    keys: Sequence[str]
    values: Callable[[str, pl.Series], list[str]]


def references(sources: Sequence[Surveyed]) -> list[LikelyReference]:
    """The likeliest reference of each column, by how many of its values are keys of the other source."""
    found = []
    for source in sources:
        for column in source.columns:
            if column.distinct < _FEW or not _can_refer(column):
                continue
            candidates = [
                (reference, key)
                for target in sources
                if target.name != source.name
                for key in target.columns
                if key.name in target.keys and (reference := _compare(source, column, target.name, key)) is not None
            ]
            if candidates:
                likeliest, _ = max(candidates, key=lambda one: _likeness(column, *one))
                found.append(likeliest)
    return found


def _can_refer(column: ColumnFacts) -> bool:
    return not column.kind.startswith(("date", "number", "yes", "e-mail", "blank"))


def _compare(source: Surveyed, column: ColumnFacts, target: str, key: ColumnFacts) -> LikelyReference | None:
    if not _can_refer(key):
        return None
    mine, theirs = column.hashes, key.hashes
    exact = column.distinct_exact and key.distinct_exact
    if not exact:
        # both were sampled by the same hash, so what lies below the lower bound is a fair sample of either
        full = 2**64 - 1
        bound = min(full if one.distinct_exact else int(str(one.hashes["h"].max() or 0)) for one in (column, key))
        mine, theirs = mine.filter(pl.col("h") <= bound), theirs.filter(pl.col("h") <= bound)
    if mine.height < _FEW:
        return None
    lost = mine.join(theirs, on="h", how="anti")
    share = 1 - lost.height / mine.height
    # numbers run through the keys of all sources; only the headings tell which are meant
    alone = column.name in source.keys or _by_chance(column, key) >= _CHANCE
    if share < _LEAST or (alone and _alike(column.name, key.name, target) < _ALIKE):
        return None
    scale = column.distinct / mine.height
    return LikelyReference(
        source.name,
        column.name,
        target,
        key.name,
        column.distinct,
        round(lost.height * scale),
        round(int(lost["n"].sum()) * scale),
        exact,
        tuple(source.values(column.name, lost["h"])) if exact and lost.height else (),
    )


def _likeness(column: ColumnFacts, reference: LikelyReference, key: ColumnFacts) -> tuple[bool, float, float]:
    """How likely a reference is, beside others of the same column: values that cannot hit by chance go first."""
    share = (reference.values - reference.missing) / reference.values
    return _by_chance(column, key) < _CHANCE, share, _alike(reference.column, reference.key, reference.target)


def _by_chance(column: ColumnFacts, key: ColumnFacts) -> float:
    """The share of a column's values that would be among a key's if they stood anywhere between its least and its most."""
    mine, theirs = _range(column), _range(key)
    if mine is None or theirs is None:
        return 0.0
    common = min(mine[1], theirs[1]) - max(mine[0], theirs[0]) + 1
    dense = min(1.0, key.distinct / (theirs[1] - theirs[0] + 1))
    return dense * max(0, common) / (mine[1] - mine[0] + 1)


def _range(column: ColumnFacts) -> tuple[int, int] | None:
    """The least and the most of a column of whole numbers."""
    try:
        return int(column.least or ""), int(column.most or "")
    except ValueError:
        return None


def _alike(column: str, key: str, target: str) -> float:
    """How much a heading is like that of a key, or like the name of what the key is of."""
    thing = target.rsplit("/", 1)[-1].split(".")[0].lower().rstrip("s")
    heading = column.lower().replace("_", " ")
    within = fuzz.partial_ratio(heading, thing) if min(len(heading), len(thing)) >= _WORD else 0
    # headings that both are but a word for a number agree with those of every source
    plain = heading in _NUMBERS and key.lower().replace("_", " ") in _NUMBERS
    return max(0 if plain else fuzz.ratio(heading, key.lower().replace("_", " ")), within, _words(heading, thing))


def _words(heading: str, thing: str) -> float:
    """How much one of the words of a heading is like the name of a thing."""
    return max((fuzz.ratio(word.rstrip("s"), thing) for word in heading.split() if len(word) >= _WORD), default=0)
