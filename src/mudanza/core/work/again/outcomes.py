"""What the target said of single records: a file of results, in whatever shape it has."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from pathlib import Path

import polars as pl

from mudanza.core.documents.errors import Place, SourceError, few
from mudanza.core.layouts.layout import Layout
from mudanza.core.values.row_columns import BETWEEN
from mudanza.core.values.written import REJECTED_WORDS, TAKEN_WORDS
from mudanza.core.work.given_files import given_columns

#: a record's key, whether the target took it, the target's own identifier, and what it said
OUTCOMES = {"key": pl.String, "took": pl.Boolean, "there": pl.String, "outcome": pl.String}


@dataclass(frozen=True)
class ResultsFile:
    """A file of results: which columns are the key (those of the layout's key, if none are named), which says what became of a record, and which has the target's own identifier;
    the texts of the outcome that say that it was taken, or rejected (well-known words, if none are named)."""

    path: Path
    key: Sequence[str] = ()
    outcome: str | None = None
    gave: str | None = None
    taken: Collection[str] = ()
    rejected: Collection[str] = ()


def read_outcomes(results: ResultsFile, layout: Layout, shown: str) -> tuple[pl.DataFrame, int]:
    """The outcomes of a file of results (`OUTCOMES`), each record once (the last line counts), and how many lines name no record. Without a column of the outcome, a record was taken if
    the target gave it an identifier.

    Raises SourceError where a column is missing, a row is damaged or an outcome is not understood.
    """
    keys = list(results.key) or layout.key_titles
    if len(keys) != len(layout.primary_key):
        raise SourceError(
            f"the key has {len(layout.primary_key)} fields, and {len(keys)} columns are named.",
            place=Place(shown),
            hint=f"Give --key once for each of {', '.join(layout.key_titles)}, in this order.",
        )
    asked = [name for name in (results.outcome, results.gave) if name is not None]
    rows = given_columns(results.path, shown, [*keys, *asked])
    nothing = pl.lit(None, dtype=pl.String)
    made = rows.select(
        pl.concat_str(keys, separator=BETWEEN).alias("key"),
        (nothing if results.gave is None else pl.col(results.gave)).alias("there"),
        (nothing if results.outcome is None else pl.col(results.outcome)).alias("outcome"),
    )
    named = made.filter(pl.col("key").is_not_null())
    took = named["there"].is_not_null() if results.outcome is None else _took(named["outcome"], results, shown)
    outcomes = named.with_columns(took.alias("took")).select(list(OUTCOMES))
    return outcomes.unique("key", keep="last", maintain_order=True), made.height - named.height


def _took(outcomes: pl.Series, results: ResultsFile, shown: str) -> pl.Series:
    words = outcomes.unique(maintain_order=True).to_list()
    meaning = {word: _means(word, results) for word in words}
    unknown = [str(word) for word, took in meaning.items() if took is None]
    if unknown:
        raise SourceError(
            f"it cannot be told whether these say that a record was taken: {few(unknown)}.",
            place=Place(shown),
            hint="Say it with --taken TEXT or --rejected TEXT. With one of them alone, whatever it does not name is the other.",
        )
    took = pl.Series([word for word, took in meaning.items() if took], dtype=pl.String)
    return outcomes.is_in(took.implode(), nulls_equal=True)


def _means(word: str | None, results: ResultsFile) -> bool | None:
    """Whether an outcome says that a record was taken; None if that cannot be told."""
    plain = (word or "").strip().lower()
    taken, rejected = ({one.strip().lower() for one in named} for named in (results.taken, results.rejected))
    if plain in taken or plain in rejected:
        return plain in taken
    if taken or rejected:
        return None if taken and rejected else not taken
    first = plain.split()[0].strip(":;,.-!") if plain else ""
    if plain in TAKEN_WORDS or first in TAKEN_WORDS:
        return True
    return False if plain in REJECTED_WORDS or first in REJECTED_WORDS else None
