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
_ALIKE = 60


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
                reference
                for target in sources
                if target.name != source.name
                for key in target.columns
                if key.name in target.keys and (reference := _compare(source, column, target.name, key)) is not None
            ]
            if candidates:
                found.append(
                    max(candidates, key=lambda r: ((r.values - r.missing) / r.values, fuzz.ratio(r.column, r.key)))
                )
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
    runs = column.kind == "whole number" and key.kind == "whole number" and (key.longest or 0) <= 6
    if share < _LEAST or ((runs or column.name in source.keys) and _alike(column.name, key.name, target) < _ALIKE):
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


def _alike(column: str, key: str, target: str) -> float:
    """How much a heading is like that of a key, or like the name of what the key is of."""
    thing = target.rsplit("/", 1)[-1].split(".")[0].lower().rstrip("s")
    return max(fuzz.token_set_ratio(column.lower(), key.lower()), fuzz.partial_ratio(column.lower(), thing))
