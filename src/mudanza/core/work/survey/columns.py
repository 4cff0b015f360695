"""One column under survey: counted batch by batch, in memory that does not grow with the rows."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from decimal import Decimal
from functools import cache
from heapq import nsmallest
from typing import Any, TypeVar

import polars as pl

from mudanza.core.values.kinds import DECIMAL
from mudanza.core.work.survey.column_facts import HASHES, ColumnFacts, Counts
from mudanza.core.work.survey.value_shapes import (
    CONTROL,
    ORDERED_DATE,
    KindTest,
    kind_tests,
    only_digits,
    pretends,
    shapes,
)

#: Up to so many distinct values are counted exactly, more by adaptive sampling (Wegman) in the same memory.
EXACT_DISTINCT = 1 << 19
#: Most frequent values and patterns kept while counting; what falls out is rare.
T = TypeVar("T", str, int)
_KEPT = 2000
_TAKEN = 200
_SAMPLE = 500
_SAMPLE_ROWS = 10_000
_LIKELY = 0.8
_SEPARATORS = [";", "|", "\n", ",", " / "]
_DECIMAL = r"^\s*[-+(]?[\d.\s]*\d,\d+\)?-?\s*$"
#: so many words at least stand first and further on, where cells hold lists of words
_STOCK = 2


def new_columns(first: pl.DataFrame, names: Sequence[str]) -> dict[str, Column]:
    """Columns to be surveyed; the first batch tells what of them is worth counting."""
    samples = [_sample(first.get_column(name)) for name in names]
    long = pl.concat([sample.with_columns(pl.lit(i).alias("column")) for i, sample in enumerate(samples)])
    looks = _first_look()
    # asked of all samples at once: asking costs more than answering here
    asked = long.lazy().select("column", *looks.values()).group_by("column").agg(pl.all().mean()).collect()
    seen = {row["column"]: row for row in asked.iter_rows(named=True)}
    nothing = dict.fromkeys(looks, 0.0)
    return {name: Column(name, samples[i], seen.get(i, nothing)) for i, name in enumerate(names)}


def _sample(values: pl.Series) -> pl.DataFrame:
    """Different values of a column, without spaces at their ends, in a frame of `t`."""
    begins = values.head(_SAMPLE_ROWS).alias("t").to_frame().lazy()
    text = pl.col("t").str.strip_chars()
    sample: pl.DataFrame = (
        begins.unique(maintain_order=True)
        .select(text)
        .filter(pl.col("t") != "")
        .unique(maintain_order=True)
        .head(_SAMPLE)
        .collect()
    )
    return sample


class Column:
    """A column under survey, with a sample of its values and what is `seen` in it: the share that is of each kind, has each separator, and is a date with an order."""

    def __init__(self, name: str, sample: pl.DataFrame, seen: Mapping[str, float]) -> None:
        self.name = name
        self.filled = self.spaces = self.leading_zeros = self.controls = 0
        self.shortest: int | None = None
        self.longest: int | None = None
        self.control_example = ""
        self.frequent: Counter[str] = Counter()
        self.pretending: Counter[str] = Counter()
        self.shapes: Counter[str] = Counter()
        self.lengths: Counter[int] = Counter()
        self.orders = [0, 0, 0]
        self.hashes = pl.DataFrame(schema=HASHES)
        self.waiting: list[pl.DataFrame] = []
        self.bound = 2**64
        self.samples = sample["t"].head(3).to_list()
        self.tests: list[KindTest] = []
        if sample.height:
            certain = {wider for test in kind_tests() if seen[test.name] == 1 for wider in test.is_case_of}
            self.tests = [t for t in kind_tests() if seen[t.name] >= _LIKELY and t.name not in certain]
        self.fits = dict.fromkeys((t.name for t in self.tests), 0)
        self.odd: dict[str, list[str]] = {t.name: [] for t in self.tests}
        self.extremes: dict[str, tuple[Any, Any]] = {}
        self.sums: dict[str, Decimal] = {t.name: Decimal(0) for t in self.tests if t.is_number}
        self.separators = [one for one in _SEPARATORS if seen[one] and _parts_values(sample["t"], one)]
        self.several = dict.fromkeys(self.separators, 0)
        self.has_shapes = self._has_shapes(sample)
        self.has_orders = seen["ordered"] > 0.5

    def _has_shapes(self, sample: pl.DataFrame) -> bool:
        """Whether the column is one of codes: few patterns, mostly with digits. Names have as many as there are lengths."""
        # the patterns of plain numbers are their lengths
        if sample.is_empty() or any(t.is_date or t.name in ("number", "e-mail", "digits") for t in self.tests):
            return False
        counts = shapes(sample["t"]).value_counts(sort=True)
        if int(counts.head(12)["count"].sum()) < 0.9 * sample.height:
            return False
        return counts.height <= 3 or int(sample["t"].str.contains(r"\d").sum()) > 0.5 * sample.height

    def values(self, rows: pl.DataFrame) -> pl.LazyFrame:
        """The distinct values of a batch that are not blank: as they stand, without spaces at the ends, and how often."""
        # a plan of one column; one that begins with all of them costs by their number
        filled = rows.get_column(self.name).drop_nulls().alias("raw").to_frame().lazy()
        counts = filled.select(pl.col("raw").value_counts(name="n")).unnest("raw")
        return counts.with_columns(pl.col("raw").str.strip_chars().alias("t")).filter(pl.col("t") != "")

    def queries(self, distinct: pl.DataFrame) -> list[pl.LazyFrame]:
        """What to ask of the distinct values of a batch."""
        n = pl.col("n")
        text = pl.col("t")
        values = distinct.lazy()
        # what several questions need is made once, as columns
        made = {"control": pl.col("raw").str.contains(CONTROL), "size": text.str.len_chars()}
        asked = [
            n.sum().alias("filled"),
            pl.col("size").min().alias("shortest"),
            pl.col("size").max().alias("longest"),
            n.filter(text.str.len_bytes() != pl.col("raw").str.len_bytes()).sum().alias("spaces"),
            n.filter(pl.col("control")).sum().alias("control"),
            pl.col("raw").filter(pl.col("control")).first().alias("control example"),
        ]
        for test in self.tests:
            fits, value = f"{test.name} fits", f"{test.name} value"
            made[fits] = test.fits(text).fill_null(False)
            asked += [
                n.filter(pl.col(fits)).sum().alias(test.name),
                text.filter(~pl.col(fits)).head(3).implode().alias(f"{test.name} odd"),
            ]
            if test.value is not None:
                made[value] = test.value(text)
                asked += [
                    pl.col(value).min().alias(f"{test.name} least"),
                    pl.col(value).max().alias(f"{test.name} most"),
                ]
                if test.is_number:
                    wide = pl.Int128 if test.name == "whole number" else DECIMAL
                    asked.append((pl.col(value).cast(wide) * n.cast(wide)).sum().alias(f"{test.name} sum"))
        if "digits" in self.fits:
            zero = text.str.starts_with("0") & (pl.col("size") > 1) & pl.col("digits fits")
            asked.append(n.filter(zero).sum().alias("zeros"))
        if not self.tests:
            asked += [text.min().alias("least"), text.max().alias("most")]
        for number, separator in enumerate(self.separators):
            asked.append(n.filter(text.str.contains(separator, literal=True)).sum().alias(f"separator {number}"))
        if self.has_orders:
            parts = text.str.extract_groups(ORDERED_DATE)
            made["first"], made["second"] = (parts.struct.field(i).cast(pl.Int16, strict=False) for i in ("1", "2"))
            first, second = pl.col("first"), pl.col("second")
            asked += [
                n.filter((first > 12) & (second <= 12)).sum().alias("day first"),
                n.filter((second > 12) & (first <= 12)).sum().alias("month first"),
                n.filter((first <= 12) & (second <= 12)).sum().alias("either"),
            ]
        by_hash = values.select(text.hash(7).alias("h"), n.cast(pl.UInt32))
        queries = [
            values.with_columns(expr.alias(name) for name, expr in made.items()).select(asked),
            by_hash,
            # among many values those that stand once are none of the frequent ones
            _top(values.select("t", "n").filter((n > 1) | (pl.len() <= _TAKEN))),
            values.filter(pretends(text)).group_by("t").agg(n.sum()),
        ]
        if self.has_shapes:
            shaped = distinct.select(shapes(distinct["t"]).alias("t"), n).lazy()
            queries.append(_top(shaped.group_by("t").agg(n.sum())))
        if "digits" in self.fits:
            queries.append(values.filter(only_digits(text)).group_by(text.str.len_chars().alias("t")).agg(n.sum()))
        return queries

    def take(self, answers: list[pl.DataFrame]) -> None:
        """Add the answers to the queries on one batch."""
        counted, hashes, frequent, pretending, *more = answers
        row = counted.row(0, named=True)
        if not row["filled"]:
            return
        self.filled += row["filled"]
        self.spaces += row["spaces"]
        self.leading_zeros += row.get("zeros", 0)
        self.controls += row["control"]
        self.control_example = self.control_example or row["control example"] or ""
        self.shortest = min(self.shortest or row["shortest"], row["shortest"])
        self.longest = max(self.longest or 0, row["longest"])
        for test in self.tests:
            self.fits[test.name] += row[test.name]
            self.odd[test.name] = (self.odd[test.name] + list(row[f"{test.name} odd"]))[:3]
            if test.value is not None:
                self._extreme(test.name, row[f"{test.name} least"], row[f"{test.name} most"])
            if test.is_number:
                self.sums[test.name] += Decimal(row[f"{test.name} sum"] or 0)
        if not self.tests:
            self._extreme("text", row["least"], row["most"])
        for number, separator in enumerate(self.separators):
            self.several[separator] += row[f"separator {number}"]
        if self.has_orders:
            self.orders = [a + row[k] for a, k in zip(self.orders, ("day first", "month first", "either"), strict=True)]
        _add(self.frequent, frequent)
        _add(self.pretending, pretending)
        if self.has_shapes:
            _add(self.shapes, more.pop(0))
        if "digits" in self.fits:
            self.lengths.update(dict(more.pop(0).iter_rows()))
        self.waiting.append(hashes.filter(pl.col("h") < self.bound) if self.bound < 2**64 else hashes)
        if sum(w.height for w in self.waiting) > max(self.hashes.height, 1 << 18):
            self._settle()

    def _extreme(self, name: str, least: Any, most: Any) -> None:
        if least is None:
            return
        known = self.extremes.get(name, (least, most))
        self.extremes[name] = (min(known[0], least), max(known[1], most))

    def _settle(self) -> None:
        self.hashes = pl.concat([self.hashes, *self.waiting]).group_by("h").agg(pl.col("n").sum())
        self.waiting = []
        while self.hashes.height > EXACT_DISTINCT:
            self.bound //= 2
            self.hashes = self.hashes.filter(pl.col("h") < self.bound)

    def facts(self, heading: str) -> ColumnFacts:
        """What was found."""
        self._settle()
        exact = self.bound == 2**64
        distinct = self.hashes.height if exact else round(self.hashes.height * (2**64 / self.bound))
        kind, share, test = self._kind(distinct)
        least, most = self.extremes.get(test.name if test else "text", (None, None))
        if test is not None and test.value is None:
            least = most = None
        placeholders = self._placeholders(distinct, test)
        several = max(self.several.items(), key=lambda item: item[1], default=("", 0))
        mixed = tuple(self.orders) if self.has_orders else None
        return ColumnFacts(
            name=self.name,
            heading=heading,
            filled=self.filled,
            distinct=distinct,
            distinct_exact=exact,
            kind=kind,
            kind_share=share,
            shortest=self.shortest,
            longest=self.longest,
            least=_shown(least),
            most=_shown(most),
            samples=self.samples,
            odd=self.odd.get(test.name, []) if test else [],
            frequent=[(v, c) for v, c in _most(self.frequent, 10) if c > 1 or distinct <= 10],
            shapes=self._patterns(),
            placeholders=placeholders,
            spaces=self.spaces,
            leading_zeros=self.leading_zeros,
            zeros_lost=self._zeros_lost(distinct),
            several=several if several[1] else None,
            date_orders=mixed,  # type: ignore[arg-type]
            control=(self.controls, self.control_example) if self.controls else None,
            total=_shown(self.sums[test.name]) if test is not None and test.is_number else None,
            hashes=self.hashes,
        )

    def _patterns(self) -> Counts:
        if "digits" not in self.fits:
            return _most(self.shapes, 10)
        # beyond a telephone number's length a pattern of nines says nothing
        return [("9" * length, count) for length, count in _most(self.lengths, 10) if length <= 24]

    def _kind(self, distinct: int) -> tuple[str, float, KindTest | None]:
        if self.filled == 0:
            return "blank", 1.0, None
        best = max(self.fits.values(), default=0)
        if best < _LIKELY * self.filled:
            return "text", 1.0, None
        # the strictest kind that fits equally well
        kinds = [test for test in self.tests if self.fits[test.name] == best]
        names = {test.name for test in kinds}
        test = kinds[0]
        if test.name == "yes/no" and distinct > 4:
            return "text", 1.0, None
        if {"date dd/MM/yyyy", "date MM/dd/yyyy"} <= names:
            return "date, day or month first", best / self.filled, test
        if test.name == "whole number" and self.leading_zeros:
            test = next((t for t in kinds if t.name == "digits"), test)
        return test.name, best / self.filled, test

    def _placeholders(self, distinct: int, test: KindTest | None) -> Counts:
        """Values that pretend to be filled: by what they are, and by standing out where others hardly repeat."""
        if distinct < 2:
            return []
        found = {value: count for value, count in self.pretending.items() if distinct > 2 or len(value) > 1}
        if test is not None:
            of_kind = pl.Series("t", list(self.frequent), dtype=pl.String)
            fits = of_kind.to_frame().select(test.fits(pl.col("t")).fill_null(False))["t"]
            for value, fit in zip(self.frequent, fits, strict=True):
                if not fit and self.frequent[value] >= max(3, 0.001 * self.filled):
                    found[value] = self.frequent[value]
        common = self.frequent.most_common(2)
        if len(common) == 2 and distinct > 0.5 * self.filled:
            (value, count), (_, second) = common
            latest = test is not None and test.is_date and self._is_latest(value, test)
            if count >= max(5, 0.01 * self.filled) and count >= 5 * second and not latest:
                found.setdefault(value, count)
        return sorted(found.items(), key=lambda item: (-item[1], item[0]))

    def _is_latest(self, value: str, test: KindTest) -> bool:
        """Whether a date is the last one of the column: the day of the export is often frequent and true."""
        assert test.value is not None
        day = pl.select(test.value(pl.lit(value))).item()
        return day is not None and day == self.extremes.get(test.name, (None, None))[1]

    def _zeros_lost(self, distinct: int) -> bool:
        """Whether codes of digits look as if a spreadsheet took their zeros: none has one in front, and a share as large as that
        of codes that begin with zero is a digit too short."""
        total = sum(self.lengths.values())
        if total < 20 or self.leading_zeros or total < _LIKELY * self.filled:
            return False
        usual, times = self.lengths.most_common(1)[0]
        short = sum(self.lengths[usual - i] for i in (1, 2, 3))
        least, most = self.extremes.get("whole number", (0, 0))
        running = int(most) - int(least) < 3 * distinct
        return (
            usual >= 4
            and max(self.lengths) == usual
            and times >= 0.6 * total
            and 0.02 * total <= self.lengths[usual - 1] <= 0.3 * total
            and short + times == total
            and not running
        )


@cache
def _first_look() -> dict[str, pl.Expr]:
    """What is asked of each value of a sample: whether it is of each kind, a separator stands in it, and it is a date with an order."""
    text = pl.col("t")
    asked = {
        **{test.name: test.fits(text).fill_null(False) for test in kind_tests()},
        **{one: text.str.contains(one, literal=True) for one in _SEPARATORS},
        "ordered": text.str.contains(ORDERED_DATE),
    }
    return {name: expr.alias(name) for name, expr in asked.items()}


def _add(counter: Counter[str], counts: pl.DataFrame) -> None:
    counter.update(dict(counts.iter_rows()))
    if len(counter) > 2 * _KEPT:
        kept = _most(counter, _KEPT)
        counter.clear()
        counter.update(dict(kept))


def _top(counts: pl.LazyFrame) -> pl.LazyFrame:
    return counts.top_k(_TAKEN, by=["n", "t"], reverse=[False, True])


def _most(counter: Counter[T], number: int) -> list[tuple[T, int]]:
    """The most frequent values; of those that stand as often, the first by their letters, whatever they came behind."""
    return nsmallest(number, counter.items(), key=lambda item: (-item[1], item[0]))


def _parts_values(sample: pl.Series, separator: str) -> bool:
    """Whether a separator that stands in some values of a sample parts texts that look like the values without one."""
    has = sample.str.contains(separator, literal=True)
    with_it = sample.filter(has)
    if with_it.str.contains(_DECIMAL).sum() > 0.9 * with_it.len():
        return False
    if _of_one_stock(with_it.str.split(separator)):
        return True
    if with_it.len() >= 0.9 * sample.len() or sample.len() < 10:
        return False
    alone = sample.filter(~has).to_frame("t").select(_rough(pl.col("t")))["t"].unique()
    parts = with_it.str.split(separator).explode().str.strip_chars()
    parts = parts.filter(parts != "").to_frame("t").select(_rough(pl.col("t")))["t"]
    alike = int(parts.is_in(alone.implode()).sum())
    # words are like words whatever they are; codes, numbers and addresses are only like their own kind
    plain = alone.len() and alone.is_in(["a", "a a", "A", "Aa", "Aa Aa"]).any()
    return alike > 0.95 * parts.len() and not plain


def _of_one_stock(lists: pl.Series) -> bool:
    """Whether the parts of cells are of one stock of words: what stands first in one stands further on in another. Surnames and first names are of two."""
    parts = lists.to_frame("t").select(pl.col("t").list.eval(pl.element().str.strip_chars()))["t"]
    first = parts.list.first().unique()
    later = parts.list.slice(1).explode().unique()
    first, later = (words.filter(words.is_not_null() & (words != "")) for words in (first, later))
    both = int(first.is_in(later.implode()).sum())
    return both >= _STOCK and both * 2 >= min(first.len(), later.len())


def _rough(text: pl.Expr) -> pl.Expr:
    """The pattern of a value, runs of one sort taken as one."""
    runs = text.str.replace_all(r"\d+", "9").str.replace_all(r"\p{Lu}+", "A")
    return runs.str.replace_all(r"[\p{Ll}\p{Lo}]+", "a").str.replace_all(r"(?:[Aa][.\-_9]?)+a?@", "a@")


def _shown(value: Any) -> str | None:
    if value is None or isinstance(value, str):
        return value
    if isinstance(value, Decimal):
        return f"{value.normalize():f}"
    return str(value)
