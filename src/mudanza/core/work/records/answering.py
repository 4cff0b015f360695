"""The answer to a question: chosen rows and columns, distinct ones, or counts."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import date

import polars as pl

from mudanza.core.documents.errors import MoveError, Place, SourceError, few, nearest, unknown
from mudanza.core.language.parameters import Parameters
from mudanza.core.layouts.layout import Field, Layout
from mudanza.core.values.kinds import Kind
from mudanza.core.values.row_columns import LINE
from mudanza.core.work.progress import Progress, Tell, quietly
from mudanza.core.work.records.question import RecordQuestion
from mudanza.core.work.records.subject import Viewed
from mudanza.core.work.row_condition import RowCondition

COUNT = "records"
_LITERAL = re.compile(r'"([^"\\]+)"')
_MOST_VALUES = 20_000
_PLAIN_NUMBER = r"^-?[0-9]+(\.[0-9]+)?$"


@dataclass(frozen=True)
class RecordAnswer:
    """What was found: the headings, the rows as text with `#line` (the counts of `count_by` without), how many records met the question and how many were looked at, how many could not be read, and what values a
    column has that are like those asked for, where nothing was found; and which headings are of numbers."""

    shown: str
    headings: tuple[str, ...]
    rows: pl.DataFrame
    found: int
    looked_at: int
    damaged: int
    near: Mapping[str, Sequence[str]]
    numbers: frozenset[str] = frozenset()


@dataclass(frozen=True)
class Chooser:
    """A question made ready for the records that it is asked of: which columns, which rows. Raises MudanzaError where it asks for what there is not."""

    question: RecordQuestion
    viewed: Viewed
    columns: tuple[str, ...]
    condition: RowCondition | None

    @property
    def _looked_at(self) -> Collection[str]:
        """The columns that are needed."""
        if self.question.key is not None:
            return self.viewed.headings
        sorted_by = (one.removeprefix("-") for one in self.question.sort)
        by = {column_named(one, self.viewed) for one in sorted_by if one != COUNT or COUNT in self.viewed.headings}
        return {*self.columns, *by, *(self.condition.used if self.condition is not None else ())}

    def batches(self, tell: Tell = quietly) -> Iterator[tuple[pl.DataFrame, int, int]]:
        """The rows that meet it, all their columns, batch by batch; and how many were looked at, and were damaged."""
        done = 0
        for rows, damaged in self.viewed.batches(self._looked_at):
            done += rows.height
            chosen = rows if self.condition is None else self.condition.of(rows, self.viewed.shown, SourceError)
            if self.question.key is not None:
                chosen = chosen.filter(_has_key(self.viewed, self.question.key))
            yield chosen, rows.height, damaged
            tell(Progress(f"looking at {self.viewed.shown}", done))


def ready(question: RecordQuestion, viewed: Viewed, as_of: date, parameters: Parameters) -> Chooser:
    """Make a question ready. Raises MoveError for a column that there is not, LanguageError where the condition is wrong."""
    names = question.count_by or question.columns
    columns = tuple(column_named(one, viewed) for one in names) or viewed.headings
    for one in question.sort:
        if not (question.count_by and one.removeprefix("-") == COUNT):
            column_named(one.removeprefix("-"), viewed)
    condition = None
    if question.where is not None:
        condition = RowCondition(question.where, viewed.headings, viewed.layout, as_of, parameters)
    if question.key is not None and viewed.layout is not None and not viewed.layout.primary_key:
        raise MoveError(f"the layout of {viewed.shown} has no key.", hint="Choose with --where.")
    return Chooser(question, viewed, columns, condition)


def column_named(name: str, viewed: Viewed) -> str:
    """The heading that a heading or the name of a field stands for. Raises MoveError with the nearest if there is none."""
    if name in viewed.headings:
        return name
    fields = viewed.layout.fields if viewed.layout is not None else ()
    by_name = {one.name: one.title for one in fields}
    if name in by_name:
        return by_name[name]
    known = [*viewed.headings, *by_name]
    raise MoveError(
        unknown("column", name, known), place=Place(viewed.shown), hint=f"There are: {few([*viewed.headings])}."
    )


def answer(chooser: Chooser, tell: Tell = quietly) -> RecordAnswer:
    """Ask. All rows are looked at; those that are shown are held in memory."""
    question, viewed = chooser.question, chooser.viewed
    kept: list[pl.DataFrame] = []
    found = looked_at = damaged = held = 0
    values = _Values(question, chooser.condition)
    whole = bool(question.sort or question.distinct or question.count_by) or question.most is None
    for rows, count, broken in chooser.batches(tell):
        found, looked_at, damaged = found + rows.height, looked_at + count, damaged + broken
        if question.count_by:
            kept.append(rows.group_by(chooser.columns, maintain_order=True).len(COUNT))
        elif question.distinct:
            kept.append(rows.unique(chooser.columns, keep="first", maintain_order=True))
        elif whole or held < (question.most or 0):
            kept.append(rows if whole else rows.head((question.most or 0) - held))
            held += kept[-1].height
    if not found:
        values.look(viewed)
    schema = {**dict.fromkeys(viewed.headings, pl.String), LINE: pl.Int64}
    made = pl.concat(kept) if kept else pl.DataFrame(schema=schema)
    if question.count_by:
        return _counted(
            chooser,
            made,
            RecordAnswer(viewed.shown, (*chooser.columns, COUNT), made, found, looked_at, damaged, values.near),
        )
    if question.distinct:
        made = made.unique(chooser.columns, keep="first", maintain_order=True)
        found = made.height
    if question.sort:
        made = made.sort(_orders(question.sort, viewed, made), maintain_order=True)
    made = made.head(question.most) if question.most is not None else made
    fields = viewed.layout.fields if viewed.layout is not None else ()
    numbers = frozenset(one.title for one in fields if one.kind is Kind.NUMBER and one.separator is None)
    rows = made.select(*chooser.columns, LINE)
    return RecordAnswer(viewed.shown, chooser.columns, rows, found, looked_at, damaged, values.near, numbers)


def _counted(chooser: Chooser, parts: pl.DataFrame, so_far: RecordAnswer) -> RecordAnswer:
    if not parts.height:
        parts = pl.DataFrame(schema={**dict.fromkeys(chooser.columns, pl.String), COUNT: pl.UInt32})
    counts = parts.group_by(chooser.columns, maintain_order=True).agg(pl.col(COUNT).sum())
    counts = counts.sort(COUNT, *chooser.columns, descending=[True, *([False] * len(chooser.columns))], nulls_last=True)
    if chooser.question.sort:
        counts = counts.sort(_orders(chooser.question.sort, chooser.viewed, counts), maintain_order=True)
    shown = counts.head(chooser.question.most) if chooser.question.most is not None else counts
    return RecordAnswer(
        so_far.shown, so_far.headings, shown, so_far.found, so_far.looked_at, so_far.damaged, so_far.near
    )


def _orders(sort: Sequence[str], viewed: Viewed, rows: pl.DataFrame) -> list[pl.Expr]:
    """By what rows are sorted: the values of fields; of other columns numbers, if all are such, else texts. Blanks come last, and rows that are alike stay in their order."""
    orders = []
    for one in sort:
        name = one.removeprefix("-")
        if name in rows.columns:
            heading = name
        else:
            heading = column_named(name, viewed)
        value = pl.col(heading)
        field = _field(viewed.layout, heading)
        if field is not None and field.is_typed:
            value = field.type.read(value)
        elif rows[heading].dtype == pl.String and rows[heading].drop_nulls().str.contains(_PLAIN_NUMBER).all():
            value = value.cast(pl.Float64)
        place = value.rank("dense", descending=one.startswith("-"))
        orders.append(place.fill_null(rows.height + 1))
    return orders


def _field(layout: Layout | None, heading: str) -> Field | None:
    return next((one for one in layout.fields if one.title == heading), None) if layout is not None else None


def _has_key(viewed: Viewed, key: str) -> pl.Expr:
    """Rows with a key: that of the layout, its parts joined by a comma; else any column that holds just that."""
    if viewed.layout is None:
        return pl.any_horizontal(pl.col(list(viewed.headings)) == key)
    parts = [pl.col(title).fill_null("") for title in viewed.layout.key_titles]
    return pl.concat_str(parts, separator=", ") == key


class _Values:
    """Values like those that a condition asks for, of the columns that it looks at."""

    def __init__(self, question: RecordQuestion, condition: RowCondition | None) -> None:
        self._literals = _LITERAL.findall(question.where or "") if condition is not None else []
        self._used = condition.used if condition is not None else frozenset()
        self.near: dict[str, list[str]] = {}

    def look(self, viewed: Viewed) -> None:
        """Find them."""
        columns = [one for one in viewed.headings if one in self._used]
        if not columns or not self._literals:
            return
        there: dict[str, dict[str, None]] = {one: {} for one in columns}
        for rows, _ in viewed.batches(columns):
            for one in columns:
                if len(there[one]) < _MOST_VALUES:
                    there[one].update(dict.fromkeys(rows[one].drop_nulls().unique(maintain_order=True).to_list()))
        for one in columns:
            known = [*there[one]]
            if any(literal in there[one] for literal in self._literals):
                continue
            like = [near for literal in self._literals if (near := nearest(literal, known)) is not None]
            self.near[one] = like or known[:5]
