"""Which columns of one source seem to refer to the key of another, and how many references lead nowhere."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import polars as pl
from rapidfuzz import fuzz

from mudanza.core.survey.columns import EXACT_DISTINCT, ColumnFacts

_LEAST = 0.7
_FEW = 3
#: Short running numbers are in each other by chance; then the headings must say so as well.
_ALIKE = 55


@dataclass(frozen=True)
class Reference:
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
    """A source's columns, and those of them that could be its key."""

    name: str
    columns: Sequence[ColumnFacts]
    keys: Sequence[str]


def references(sources: Sequence[Surveyed]) -> list[Reference]:
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
                if key.name in target.keys
                and (reference := _compare(source.name, column, target.name, key)) is not None
            ]
            if candidates:
                found.append(
                    max(candidates, key=lambda r: ((r.values - r.missing) / r.values, fuzz.ratio(r.column, r.key)))
                )
    return found


def _can_refer(column: ColumnFacts) -> bool:
    return not column.kind.startswith(("date", "number", "yes", "e-mail", "blank"))


def _compare(source: str, column: ColumnFacts, target: str, key: ColumnFacts) -> Reference | None:
    if not _can_refer(key):
        return None
    mine, theirs = column.hashes, key.hashes
    exact = column.distinct_exact and key.distinct_exact
    if not exact:
        # both were sampled by the same hash, so what lies below the lower bound is a fair sample of either
        bound = min((one["h"].max() or 0) if one.height > EXACT_DISTINCT // 4 else 2**64 - 1 for one in (mine, theirs))
        mine, theirs = mine.filter(pl.col("h") <= bound), theirs.filter(pl.col("h") <= bound)
    if mine.height < _FEW:
        return None
    lost = mine.join(theirs, on="h", how="anti")
    share = 1 - lost.height / mine.height
    names = max(
        fuzz.token_set_ratio(column.name.lower(), key.name.lower()),
        fuzz.partial_ratio(column.name.lower(), target.rsplit("/", 1)[-1].split(".")[0].lower().rstrip("s")),
    )
    chance = column.kind == "whole number" and key.kind == "whole number" and (key.longest or 0) <= 6
    if share < _LEAST or (chance and names < _ALIKE):
        return None
    scale = column.distinct / mine.height
    hashes = pl.Series([value for value, _ in column.frequent], dtype=pl.String)
    missing = hashes.filter(~hashes.hash(7).is_in(theirs["h"].implode())).head(3).to_list() if exact else []
    return Reference(
        source, column.name, target, key.name, column.distinct, round(lost.height * scale), round(int(lost["n"].sum()) * scale), exact, tuple(missing)
    )  # fmt: skip
