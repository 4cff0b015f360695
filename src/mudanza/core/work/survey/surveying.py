"""Surveying a source: every row is looked at once, batch by batch."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from datetime import date
from pathlib import Path

import polars as pl

from mudanza.core.documents.errors import counted
from mudanza.core.findings.finding import Finding, frame
from mudanza.core.findings.tally import Group, Tally
from mudanza.core.sources.ahead import read_ahead
from mudanza.core.sources.noticing import noticed_in
from mudanza.core.sources.opening import open_source, share_of_all
from mudanza.core.sources.reader import Batch, FileFacts, Reader, ReadOptions
from mudanza.core.work.progress import Progress, Tell, quietly
from mudanza.core.work.survey.column_facts import ColumnFacts
from mudanza.core.work.survey.columns import Column, new_columns
from mudanza.core.work.survey.keys import KeyCandidate, KeyWatch
from mudanza.core.work.survey.whole import wholeness

#: batches are put together up to so many rows or bytes
_POOL_ROWS = 25_000
_POOL_BYTES = 1 << 26
#: so many columns are asked at once; more would cost by the square of their number
_TOGETHER = 16


@dataclass(frozen=True)
class Subject:
    """What is surveyed: its name, the files it consists of (none for a database), and how its readers are opened.

    Several readers are several files of one shape.
    """

    name: str
    paths: tuple[Path, ...]
    open: Callable[[], list[Reader]]


@dataclass(frozen=True)
class SurveyResult:
    """What was found. `rows` counts readable and damaged rows; `keys` are columns that could be the key, the best first;
    `newest` is the latest date in a date column that is not in the future; `files` has the rows of each file."""

    name: str
    facts: FileFacts
    rows: int
    damaged: int
    columns: list[ColumnFacts]
    keys: list[KeyCandidate]
    findings: list[Group]
    newest: tuple[str, str] | None = None
    files: list[tuple[str, int]] = field(default_factory=list)

    @property
    def blank_columns(self) -> list[str]:
        return [c.name for c in self.columns if c.filled == 0]

    @property
    def constant_columns(self) -> list[ColumnFacts]:
        return [c for c in self.columns if c.constant]

    @property
    def key_names(self) -> list[str]:
        """The columns that could be the key alone."""
        return [k.columns[0] for k in self.keys if len(k.columns) == 1]


def survey(
    path: Path,
    options: ReadOptions | None = None,
    tell: Tell = quietly,
    *,
    expect: int | None = None,
    newer_than: date | None = None,
) -> SurveyResult:
    """Look at every row of a file. Raises SourceError if it cannot be read.

    `expect` is the number of rows that there should be, `newer_than` the day before which the file may not have been written.
    """
    subject = Subject(str(path), (path,), lambda: [open_source(path, options)])
    return survey_subject(subject, tell, expect=expect, newer_than=newer_than)


def survey_subject(
    subject: Subject, tell: Tell = quietly, *, expect: int | None = None, newer_than: date | None = None
) -> SurveyResult:
    """Look at every row of a subject. Raises SourceError if it cannot be read."""
    tell(Progress(f"surveying {subject.name}"))
    readers = subject.open()
    tally = Tally()
    columns: dict[str, Column] = {}
    keys: KeyWatch | None = None
    damaged = 0
    of_file = [0] * len(readers)
    for number, reader in enumerate(readers):
        # reading, asking and adding up go on at the same time, each with its own batch
        for batch, answers in read_ahead(_asked(read_ahead(_pooled(reader.batches())), reader.headings, columns)):
            of_file[number] += batch.rows.height + len(batch.broken)
            damaged += len(batch.broken)
            tally.add(noticed_in(batch, reader, reader.facts.name))
            for name, answer in answers.items():
                columns[name].take(answer)
            if batch.rows.height:
                if keys is None and number == 0:
                    keys = KeyWatch(batch.rows.select(reader.headings), _amounts(columns))
                if keys is not None and set(keys.columns) <= set(reader.headings):
                    keys.add(batch.rows, number)
            share = share_of_all(subject.paths, number, batch.share) if subject.paths else None
            tell(Progress(f"surveying {subject.name}", sum(of_file), share))
    rows = sum(of_file)
    headings = {n: raw for r in reversed(readers) for n, raw in zip(r.headings, r.raw_headings, strict=True)}
    order = dict.fromkeys(n for r in readers for n in r.headings)
    tell(Progress(f"adding up {subject.name}", rows, 1.0))
    facts = [columns[n].facts(headings[n]) if n in columns else ColumnFacts(n, headings[n]) for n in order]
    by_name = {c.name: c for c in facts}

    def batches() -> Iterator[tuple[int, Batch]]:
        for number, reader in enumerate(subject.open()):
            for batch in reader.batches():
                yield number, batch

    candidates = keys.candidates(by_name, batches, rows - damaged) if keys is not None else []
    first = readers[0].facts
    is_text = first.unit == "line" and first.encoding is not None
    # what a database gave was compared with its own count
    has_count = first.format.endswith("database")
    found = wholeness(
        subject.name, rows, subject.paths, is_text=is_text, has_count=has_count, expect=expect, newer_than=newer_than
    )
    found += [finding for c in facts for finding in column_findings(c, subject.name)]
    found += [f for k in candidates for f in _alike(k, subject.name)]
    if first.heading_line == 0 and (first.delimiter or first.sheet):
        found.append(Finding("read.no-heading", first.name, 1))
    tally.add(frame(found))
    files = [(r.facts.name, n) for r, n in zip(readers, of_file, strict=True)] if len(readers) > 1 else []
    return SurveyResult(subject.name, first, rows, damaged, facts, candidates, tally.groups(), _newest(facts), files)


def _pooled(batches: Iterator[Batch]) -> Iterator[Batch]:
    """The same rows in fewer batches where those have few rows: asking costs by column and batch, and rows of many columns are long."""
    waiting: list[Batch] = []
    rows, size = 0, 0.0
    for batch in batches:
        waiting.append(batch)
        rows += batch.rows.height
        size += batch.rows.estimated_size()
        if rows >= _POOL_ROWS or size >= _POOL_BYTES:
            yield _one_batch(waiting)
            waiting, rows, size = [], 0, 0.0
    if waiting:
        yield _one_batch(waiting)


def _one_batch(batches: Sequence[Batch]) -> Batch:
    if len(batches) == 1:
        return batches[0]
    noticed = [b.noticed for b in batches if b.noticed is not None]
    return Batch(
        pl.concat([b.rows for b in batches]),
        tuple(broken for b in batches for broken in b.broken),
        tuple(line for b in batches for line in b.blank_lines),
        pl.concat(noticed) if noticed else None,
        batches[-1].share,
    )


def _asked(
    batches: Iterator[Batch], headings: Sequence[str], columns: dict[str, Column]
) -> Iterator[tuple[Batch, dict[str, list[pl.DataFrame]]]]:
    """Each batch with the answers to what its columns ask. A column that is new is added, told by its first batch."""
    for batch in batches:
        if batch.rows.is_empty():
            yield batch, {}
            continue
        if new := [name for name in headings if name not in columns]:
            columns.update(new_columns(batch.rows, new))
        mine = [columns[name] for name in headings]
        answers = {}
        for start in range(0, len(mine), _TOGETHER):
            some = mine[start : start + _TOGETHER]
            distinct = pl.collect_all([column.values(batch.rows) for column in some])
            asked = [column.queries(values) for column, values in zip(some, distinct, strict=True)]
            answered = iter(pl.collect_all([query for queries in asked for query in queries]))
            answers.update({c.name: [next(answered) for _ in queries] for c, queries in zip(some, asked, strict=True)})
        yield batch, answers


def _amounts(columns: dict[str, Column]) -> set[str]:
    """Columns of numbers with decimals, which are no keys whatever they hold."""
    return {
        n for n, c in columns.items() if "digits" not in c.fits and any(t.name.startswith("number") for t in c.tests)
    }


def column_findings(column: ColumnFacts, name: str) -> list[Finding]:
    """What of a column is worth a look."""
    found = []

    def add(code: str, value: str, rule: str) -> None:
        found.append(Finding(code, name, column=column.name, value=value, rule=rule))

    for value, count in column.placeholders[:5]:
        add(
            "column.placeholder",
            value,
            f"a value that says something; it stands {'once' if count == 1 else f'{count:,} times'}",
        )
    if column.zeros_lost:
        add("column.zeros-lost", column.least or "", f"{column.longest} digits")
    if column.date_orders and column.date_orders[0] and column.date_orders[1]:
        day, month, either = column.date_orders
        add("column.mixed-dates", f"{day:,} day first, {month:,} month first", f"one order; {either:,} can be either")
    if column.several:
        separator, count = column.several
        shown = "line break" if separator == "\n" else separator.strip()
        add("column.several-texts", f"{counted(count, 'cell')} with {shown!r}", "one text in a cell")
    if column.control:
        count, example = column.control
        add("column.control", example, f"no control characters; {counted(count, 'value')}")
    if column.odd and not column.placeholders:
        add("column.odd-values", column.odd[0], f"{column.kind}, as {100 * column.kind_share:.1f}% are")
    return found


def _alike(candidate: KeyCandidate, name: str) -> list[Finding]:
    if not candidate.alike_count:
        return []
    shown = "; ".join(", ".join(group) for group in candidate.alike[:3])
    return [
        Finding(
            "key.alike",
            name,
            column=candidate.columns[0],
            value=shown,
            rule="identifiers that differ by more than capitals, spaces or leading zeros",
        )
    ]


def find_values(subject: Subject, column: str, hashes: pl.Series, most: int = 3) -> list[str]:
    """The first values of a column whose hashes are among some of its `ColumnFacts.hashes`."""
    found: dict[str, None] = {}
    for reader in subject.open():
        for batch in reader.batches():
            text = pl.col(column).str.strip_chars()
            values = (
                batch.rows.select(text).filter(text.hash(7).is_in(hashes.implode()))
                if column in batch.rows.columns
                else None
            )
            found.update(dict.fromkeys(values.to_series() if values is not None else ()))
            if len(found) >= most:
                return list(found)[:most]
    return list(found)


def _newest(columns: Sequence[ColumnFacts]) -> tuple[str, str] | None:
    """The latest day in a date column up to today, and the column."""
    today = date.today().isoformat()
    days = [(c.most[:10], c.name) for c in columns if c.kind.startswith("date") and c.most and c.most[:10] <= today]
    return max(days) if days else None
