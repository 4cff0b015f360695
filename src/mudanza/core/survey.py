"""A first look at any file: is it whole, what is in each column, what could be its key."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

import polars as pl

from mudanza.core.findings import Group, Tally
from mudanza.core.layouts.formats import DateFormat, NumberFormat
from mudanza.core.sources.noticing import noticed_in
from mudanza.core.sources.opening import open_source, read_ahead
from mudanza.core.sources.reading import LINE, FileFacts, ReadOptions

Progress = Callable[[int], None]

#: Up to so many distinct values are counted exactly, more by adaptive sampling (Wegman) in the same memory.
EXACT_DISTINCT = 1 << 20
_SAMPLE = 2000
_LIKELY = 0.8
_DATE_PATTERNS = [
    "yyyy-MM-dd", "dd/MM/yyyy", "MM/dd/yyyy", "dd.MM.yyyy", "dd-MM-yyyy", "yyyy/MM/dd", "dd/MM/yy", "MM/dd/yy",
    "yyyy-MM-dd HH:mm:ss", "yyyy-MM-dd'T'HH:mm:ss", "dd/MM/yyyy HH:mm", "MM/dd/yyyy HH:mm", "d MMM yyyy",
]  # fmt: skip
_YES_NO = [
    "yes",
    "no",
    "y",
    "n",
    "true",
    "false",
    "sim",
    "não",
    "s",
    "ja",
    "nein",
    "j",
    "oui",
    "non",
    "sí",
    "si",
]


def _kind_tests() -> dict[str, Callable[[pl.Expr], pl.Expr]]:
    """For each kind that text may be of: an expression that is true where it is."""
    tests: dict[str, Callable[[pl.Expr], pl.Expr]] = {
        "whole number": lambda t: t.str.contains(r"^-?(?:0|[1-9][0-9]*)$"),
        "digits": lambda t: t.str.contains(r"^[0-9]+$"),
        "yes/no": lambda t: t.str.to_lowercase().is_in(_YES_NO),
    }
    for name, form in (
        ("number", NumberFormat.of(None, ".", ",")),
        ("number, decimal comma", NumberFormat.of(None, ",", ".")),
    ):
        tests[name] = lambda t, form=form: t.str.contains(form.pattern)  # type: ignore[misc]
    for pattern in _DATE_PATTERNS:
        compiled = DateFormat.of(pattern)
        tests[f"date {pattern}"] = lambda t, compiled=compiled: compiled.read(t, lenient=True).is_not_null()  # type: ignore[misc]
    return tests


@dataclass
class ColumnFacts:
    """What is in a column. `distinct_exact` is false where the number is an estimate; `odd` are values that do
    not fit the kind most of them have."""

    name: str
    heading: str
    filled: int = 0
    distinct: int = 0
    distinct_exact: bool = True
    kind: str = "blank"
    kind_share: float = 1.0
    shortest: int | None = None
    longest: int | None = None
    samples: list[str] = field(default_factory=list)
    odd: list[str] = field(default_factory=list)
    spaces: int = 0


@dataclass(frozen=True)
class RepeatedKey:
    """A column that looks like the key of the file, and its values that stand more than once."""

    column: str
    repeated: int
    examples: list[tuple[str, list[int]]]


@dataclass(frozen=True)
class SurveyResult:
    """What was found. `rows` counts readable and damaged rows; `key` is None if nothing looks like one."""

    facts: FileFacts
    rows: int
    damaged: int
    columns: list[ColumnFacts]
    key: RepeatedKey | None
    findings: list[Group]

    @property
    def blank_columns(self) -> list[str]:
        return [c.name for c in self.columns if c.filled == 0]


def survey(path: Path, options: ReadOptions | None = None, progress: Progress | None = None) -> SurveyResult:
    """Look at every row of a file. Raises SourceError if it cannot be read."""
    reader = open_source(path, options)
    watch: dict[str, _Column] | None = None
    candidate: str | None = None
    keys: list[pl.DataFrame] = []
    rows = damaged = 0
    tally = Tally()
    for batch in read_ahead(reader.batches()):
        rows += batch.rows.height + len(batch.broken)
        damaged += len(batch.broken)
        tally.add(noticed_in(batch, reader, str(reader.facts.path)))
        if watch is None:
            watch = {n: _Column(n, batch.rows) for n in reader.headings}
            candidate = _likely_key(batch.rows, watch)
        if batch.rows.height:
            _count(batch.rows, watch)
            if candidate is not None:
                keys.append(batch.rows.select(pl.col(candidate).hash(1).alias("h"), pl.col(LINE)))
        if progress is not None:
            progress(rows)
    headings = dict(zip(reader.headings, reader.raw_headings, strict=True))
    columns = [
        watch[name].facts(headings[name]) if watch else ColumnFacts(name, headings[name]) for name in reader.headings
    ]
    key = None
    if candidate is not None and rows > 1:
        of_key = next(c for c in columns if c.name == candidate)
        if of_key.filled >= 0.99 * (rows - damaged) and of_key.distinct >= 0.9 * of_key.filled:
            key = _repeats(path, options, candidate, pl.concat(keys))
    return SurveyResult(reader.facts, rows, damaged, columns, key, tally.groups())


class _Column:
    """A column under survey."""

    def __init__(self, name: str, first: pl.DataFrame) -> None:
        self.name = name
        self.filled = self.spaces = 0
        self.shortest: int | None = None
        self.longest: int | None = None
        self.hashes = pl.Series([], dtype=pl.UInt64)
        self.waiting: list[pl.Series] = []
        self.bound = 2**64
        # the kinds that are worth counting are those that most of a sample is of
        sample = (
            first.select(pl.col(name).str.strip_chars().alias("t"))
            .filter(pl.col("t") != "")
            .unique(maintain_order=True)
        )
        sample = sample.head(_SAMPLE)
        self.samples = sample["t"].head(3).to_list()
        self.tests = {}
        self.fits: dict[str, int] = {}
        self.odd: dict[str, list[str]] = {}
        for kind, test in _kind_tests().items():
            if sample.height and sample.select(test(pl.col("t")).fill_null(False).mean()).item() >= _LIKELY:
                self.tests[kind] = test
                self.fits[kind] = 0
                self.odd[kind] = []

    def expressions(self) -> list[pl.Expr]:
        text = pl.col(f"{self.name}\x1f")
        length = text.str.len_chars()
        exprs = [
            text.count().alias(f"{self.name}\x1ffilled"),
            length.min().alias(f"{self.name}\x1fshortest"),
            length.max().alias(f"{self.name}\x1flongest"),
            (text.str.len_bytes() != pl.col(self.name).str.len_bytes()).sum().alias(f"{self.name}\x1fspaces"),
        ]
        for kind, test in self.tests.items():
            fits = test(text).fill_null(False)
            exprs.append(fits.sum().alias(f"{self.name}\x1f{kind}"))
            exprs.append(
                text.filter(~fits & text.is_not_null()).head(3).implode().alias(f"{self.name}\x1f{kind}\x1fodd")
            )
        return exprs

    def take(self, row: dict[str, object]) -> None:
        def got(what: str) -> object:
            return row[f"{self.name}\x1f{what}"]

        self.filled += int(str(got("filled")))
        self.spaces += int(str(got("spaces") or 0))
        if (least := got("shortest")) is not None:
            self.shortest = int(str(least)) if self.shortest is None else min(self.shortest, int(str(least)))
            self.longest = max(self.longest or 0, int(str(got("longest"))))
        for kind in self.tests:
            self.fits[kind] += int(str(got(kind)))
            self.odd[kind] = (self.odd[kind] + list(got(f"{kind}\x1fodd")))[:3]  # type: ignore[call-overload]

    def take_hashes(self, hashes: pl.Series) -> None:
        self.waiting.append(hashes.filter(hashes < self.bound) if self.bound < 2**64 else hashes)
        if sum(len(w) for w in self.waiting) > max(len(self.hashes), 1 << 18):
            self.settle()

    def settle(self) -> None:
        self.hashes = pl.concat([self.hashes, *self.waiting]).unique()
        self.waiting = []
        while len(self.hashes) > EXACT_DISTINCT:
            self.bound //= 2
            self.hashes = self.hashes.filter(self.hashes < self.bound)

    def facts(self, heading: str) -> ColumnFacts:
        self.settle()
        exact = self.bound == 2**64
        distinct = len(self.hashes) if exact else round(len(self.hashes) * (2**64 / self.bound))
        kind, share = self._kind(distinct)
        return ColumnFacts(
            self.name, heading, self.filled, distinct, exact, kind, share, self.shortest, self.longest, self.samples,
            self.odd.get(kind, []), self.spaces,
        )  # fmt: skip

    def _kind(self, distinct: int) -> tuple[str, float]:
        if self.filled == 0:
            return "blank", 1.0
        best = max(self.fits.values(), default=0)
        if best < _LIKELY * self.filled:
            return "text", 1.0
        kinds = [k for k, n in self.fits.items() if n == best]
        dates = [k for k in kinds if k.startswith("date")]
        if len(dates) > 1 and {"date dd/MM/yyyy", "date MM/dd/yyyy"} <= set(dates):
            return "date, day or month first", best / self.filled
        # the strictest kind that fits equally well
        order = ["yes/no", *dates, "whole number", "digits", "number", "number, decimal comma"]
        kind = next(k for k in order if k in kinds)
        if kind == "yes/no" and distinct > 4:
            kind = "text"
        return kind, best / self.filled


def _count(rows: pl.DataFrame, watch: dict[str, _Column]) -> None:
    trimmed = [pl.col(name).str.strip_chars().alias(f"{name}\x1f") for name in watch]
    inner = [pl.col(f"{name}\x1f") for name in watch]
    rows = (
        rows.lazy()
        .with_columns(trimmed)
        .with_columns(pl.when(text != "").then(text).name.keep() for text in inner)
        .collect()
    )
    counted = rows.select([expr for column in watch.values() for expr in column.expressions()])
    row = counted.row(0, named=True)
    hashes = rows.select(pl.col(f"{name}\x1f").hash(7) for name in watch)
    for name, column in watch.items():
        column.take(row)
        if row[f"{name}\x1ffilled"]:
            filled = hashes[f"{name}\x1f"].filter(rows[f"{name}\x1f"].is_not_null())
            column.take_hashes(filled.unique())


def _likely_key(rows: pl.DataFrame, watch: dict[str, _Column]) -> str | None:
    """The first column that is filled throughout and all but distinct in the first rows, and no date or amount."""
    for name, column in watch.items():
        values = rows[name].drop_nulls()
        amount = any(kind.startswith(("date", "number")) for kind in column.tests) and "digits" not in column.tests
        if len(values) >= 0.99 * rows.height and not amount and values.n_unique() >= 0.9 * max(len(values), 1):
            return name
    return None


def _repeats(path: Path, options: ReadOptions | None, key: str, hashed: pl.DataFrame) -> RepeatedKey:
    """The values of a column that stand more than once, and where the first of them stand."""
    twice = hashed.filter(pl.col("h").is_duplicated())
    if twice.is_empty():
        return RepeatedKey(key, 0, [])
    grouped = twice.group_by("h", maintain_order=True).agg(pl.col(LINE))
    shown = grouped[LINE].head(5).to_list()
    wanted = {lines[0] for lines in shown}
    values: dict[int, str] = {}
    for batch in open_source(path, options).batches():
        found = batch.rows.filter(pl.col(LINE).is_in(list(wanted))).select(LINE, key)
        values.update(found.iter_rows())
        if len(values) == len(wanted):
            break
    examples = [(values[lines[0]], lines[:5]) for lines in shown if values.get(lines[0])]
    return RepeatedKey(key, grouped.height, examples)
