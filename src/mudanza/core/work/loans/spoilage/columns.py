"""What happens to a column as a whole: blanked, filled with one value, filled down, slid, sorted without the others, its words written otherwise."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import polars as pl

#: so many cells at least, so many one after the other, so many rows apart at most
_LEAST, _RUN, _FAR = 3, 4, 3
_NEARLY, _MOST, _THIRD = 0.9, 0.6, 0.3
#: so few different words may have been written otherwise
_WORDS = 30


@dataclass(frozen=True)
class Whole:
    """What happened to a column: `cells` says of each row of the sheet whether it is hit, `of` how many could have been. If it is not `certain`, people do it too."""

    name: str
    words: str
    cells: pl.Series
    of: int
    certain: bool


def happened(rows: pl.DataFrame) -> Whole | None:
    """What happened to a column as a whole, the likeliest; None if nothing did. `rows` have `before` and `after`, in the order of the sheet."""
    differs = rows.select(pl.col("before").ne_missing(pl.col("after"))).to_series()
    if int(differs.sum()) < _LEAST:
        return None
    found = [one for one in _ways(rows, differs) if int(one.cells.sum()) >= _LEAST]
    return max(found, key=lambda one: int(one.cells.sum()), default=None)


def _ways(rows: pl.DataFrame, differs: pl.Series) -> Iterator[Whole]:
    before, after = rows["before"], rows["after"]
    filled = int(before.is_not_null().sum())
    gone = differs & after.is_null()
    if filled and int(gone.sum()) >= _NEARLY * filled:
        yield Whole("blanked", "blanked", gone, filled, certain=False)
        return
    yield from _one_value(before, after, differs)
    yield from _slid(before, after, differs)
    yield from _sorted_alone(before, after, differs)
    yield from _renamed(rows, differs)


def _one_value(before: pl.Series, after: pl.Series, differs: pl.Series) -> Iterator[Whole]:
    """The same value in most cells, or one that was filled down over several others."""
    common = after.filter(differs & after.is_not_null()).mode().sort()
    if common.is_empty():
        return
    value = common[0]
    hit = (differs & (after == value)).fill_null(False)
    filled = len(after) - after.null_count()
    several = before.filter(hit).n_unique() >= _LEAST or int(hit.sum()) >= _THIRD * filled
    if several and int((after == value).sum()) >= _NEARLY * filled:
        yield Whole("one value", "one value for all", hit, len(after), certain=False)
        return
    # each differing cell, with what stands above it
    at = differs.arg_true()
    columns = {"before": before, "after": after, "above": after.shift()}
    cells = pl.DataFrame({"at": at, **{name: column.gather(at) for name, column in columns.items()}})
    beside = pl.col("at").diff() == 1
    same = cells.with_columns(_run_of(beside & (pl.col("after") == pl.col("above"))))
    long = (pl.len().over("run") >= _RUN) & (pl.col("before").n_unique().over("run") >= _LEAST)
    hit = _marked(same.filter(long & pl.col("after").is_not_null())["at"], differs)
    yield Whole("filled down", "filled down", hit, len(after), certain=False)
    # a number that grows from cell to cell
    number = r"([0-9]{1,9})$"
    step = [pl.col(one).str.extract(number, 1).cast(pl.Int64, strict=False) for one in ("after", "above")]
    words = [pl.col(one).str.replace(number, "") for one in ("after", "above")]
    grows = ((step[0] - step[1] == 1) & (words[0] == words[1])).fill_null(False).alias("grows")
    counted = cells.with_columns(grows).with_columns(_run_of(beside & pl.col("grows")))
    many = pl.col("grows").sum().over("run") >= _RUN
    hit = _marked(counted.filter(many)["at"], differs)
    yield Whole("counted on", "filled down with numbers that count on", hit, len(after), certain=False)


def _run_of(goes_on: pl.Expr) -> pl.Expr:
    """The number of the run that each cell is in, of those that go on from the one before."""
    return (~goes_on.fill_null(False)).cast(pl.Int64).cum_sum().alias("run")


def _marked(at: pl.Series, like: pl.Series) -> pl.Series:
    """Which cells are hit, of a column as long as another."""
    return pl.repeat(False, len(like), eager=True).scatter(at, True)


def _slid(before: pl.Series, after: pl.Series, differs: pl.Series) -> Iterator[Whole]:
    """Values that stand some rows higher or lower than they were lent."""
    for far in (*range(1, _FAR + 1), *range(-1, -_FAR - 1, -1)):
        shifted = before.shift(far)
        if int(after.filter(differs).eq_missing(shifted.filter(differs)).sum()) < _MOST * int(differs.sum()):
            continue
        same = after.eq_missing(shifted)
        # from the first cell that differs on, nearly all agree
        runs = (~same).cast(pl.Int64).cum_sum()
        table = pl.DataFrame({"run": runs, "same": same, "differs": differs, "value": after})
        of_run = (
            table.filter(pl.col("same"))
            .group_by("run")
            .agg(pl.len(), pl.col("differs").sum(), pl.col("value").n_unique())
        )
        long = of_run.filter((pl.col("len") >= _RUN) & (pl.col("differs") >= _LEAST) & (pl.col("value") >= _LEAST))
        hit = runs.is_in(long["run"].implode()) & same & differs
        if int(hit.sum()) < _MOST * int(differs.sum()):
            continue
        # where it began and where it ended, a cell is left over
        beside = [hit.shift(by, fill_value=False) for by in range(-abs(far), abs(far) + 1)]
        edge = differs & after.is_null() & ~hit & pl.select(pl.any_horizontal(beside)).to_series()
        rows = f"{abs(far)} row{'s' if abs(far) > 1 else ''}"
        yield Whole("slid", f"slid {'down' if far > 0 else 'up'} by {rows}", hit | edge, len(after), certain=True)


def _sorted_alone(before: pl.Series, after: pl.Series, differs: pl.Series) -> Iterator[Whole]:
    """The same values in other rows."""
    if int(differs.sum()) < _RUN:
        return
    was, came = before.filter(differs), after.filter(differs)
    counts = pl.DataFrame({"value": was}).group_by("value").len("was")
    both = pl.DataFrame({"value": came}).group_by("value").len("came").join(counts, on="value", nulls_equal=True)
    kept = int(both.select(pl.min_horizontal("was", "came").sum()).item() or 0)
    if kept < _NEARLY * len(was):
        return
    values = after.drop_nulls()
    ordered = any(
        bool(one.is_sorted(descending=d)) for one in (values, values.str.to_lowercase()) for d in (False, True)
    )
    numbers = values.cast(pl.Float64, strict=False)
    ordered |= numbers.null_count() == 0 and any(bool(numbers.is_sorted(descending=d)) for d in (False, True))
    enough = kept == len(was) if not ordered else kept >= _NEARLY * len(was)
    if enough and (ordered or (was.n_unique() >= _LEAST and len(was) >= _MOST * len(after))):
        known = pl.Series(both["value"])
        blanks = after.is_null() & (was.null_count() > 0)
        hit = differs & (after.is_in(known.implode()).fill_null(False) | blanks)
        yield Whole("sorted", "sorted without the others", hit.fill_null(False), len(after), certain=True)


def _renamed(rows: pl.DataFrame, differs: pl.Series) -> Iterator[Whole]:
    """Each of a few words as another one throughout."""
    words = rows.with_columns(differs.alias("differs")).filter(
        pl.col("before").is_not_null() & pl.col("after").is_not_null()
    )
    if words["before"].n_unique() > _WORDS or words.height <= words["before"].n_unique():
        return
    pairs = words.group_by("before", "after").len().sort("len", "after", descending=[True, False])
    best = pairs.group_by("before", maintain_order=True).first()
    best = best.filter(
        (pl.col("before") != pl.col("after")) & ~pl.col("after").is_in(words["before"].unique().implode())
    )
    best = best.filter(~pl.col("after").is_duplicated())
    named = rows.select("before", "after").with_row_index("row").join(best, on=["before", "after"], how="semi")
    hit = differs & pl.Series(range(rows.height), dtype=pl.UInt32).is_in(named["row"].implode())
    of = int(words["before"].is_in(best["before"].implode()).sum())
    if of and int(hit.sum()) >= _NEARLY * of and best.height >= min(2, words["before"].n_unique()):
        yield Whole("words", "its words written otherwise", hit, of, certain=False)
