"""What is asked of the rows of a file that is checked, made once for all its batches."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Protocol

import polars as pl

from mudanza.core.findings.finding import Finding, frame
from mudanza.core.findings.problem import Problem, flags, gather
from mudanza.core.layouts.layout import Field, Layout
from mudanza.core.layouts.rules import blank_in_file, kind_problems, row_problems, value_problems
from mudanza.core.sources.reader import TellsText
from mudanza.core.values.kinds import Kind
from mudanza.core.values.row_columns import INNER, LINE
from mudanza.core.work.checking.headings import Headings
from mudanza.core.work.checking.keys import KeyCheck
from mudanza.core.work.checking.opened import Opened
from mudanza.core.work.labels import unknown_labels

#: what sheets hold as it is, and not as text
_HELD_AS_SUCH = (Kind.NUMBER, Kind.DATE, Kind.DATETIME)
#: so many fields that take the same are asked together
_MANY = 300
_FIELD, _TEXT, _VALUE = (f"{INNER}{one}" for one in ("field", "text", "value"))

#: The findings on the rows of a batch, and the values of a typed field in them.
Answers = tuple[pl.DataFrame, Callable[[Field], pl.Series]]


class _Asked(Protocol):
    @property
    def fields(self) -> Sequence[Field]:
        """Those that are asked."""
        ...

    def answered(self, rows: pl.DataFrame, file: pl.Expr, cell: pl.Expr | None) -> Answers:
        """What is wrong with the rows of a batch."""
        ...


def _problems_of(one: Field, text: pl.Expr, value: pl.Expr, in_sheet: bool) -> list[Problem]:
    """What is asked of a field's cells, by their texts and typed values."""
    if in_sheet and one.kind is Kind.TEXT:
        text = one.type.read_sheet(text)
        value = text
    found = [*kind_problems(one, text, value), *value_problems(one, text, value, blank_in_file(one, text))]
    # a text that was read in the format has no more digits than it writes
    return found if in_sheet else [problem for problem in found if problem.code != "value.too-exact"]


def _value_of(one: Field, text: pl.Expr, in_sheet: bool) -> pl.Expr:
    return one.type.read_sheet(text) if in_sheet else one.type.read(text)


@dataclass(frozen=True)
class _Each:
    """Fields that are asked each in its own column, and what is asked of several of them."""

    fields: Sequence[Field]
    typed: Mapping[str, pl.Expr]
    problems: Sequence[Problem]

    @classmethod
    def of(cls, fields: Sequence[Field], columns: Mapping[str, str], in_sheet: bool, more: Sequence[Problem]) -> _Each:
        """Ask some fields, whose columns are given by title, and `more`."""
        typed: dict[str, pl.Expr] = {}
        problems: list[Problem] = []
        for one in fields:
            text = value = pl.col(columns[one.title])
            if one.is_typed:
                typed[_value_name(one)] = _value_of(one, text, in_sheet)
                value = pl.col(_value_name(one))
            problems += _problems_of(one, text, value, in_sheet)
        return cls(fields, typed, [*problems, *more])

    def answered(self, rows: pl.DataFrame, file: pl.Expr, cell: pl.Expr | None) -> Answers:
        """What is wrong with the rows of a batch."""
        lazy = rows.lazy().with_columns(**self.typed) if self.typed else rows.lazy()
        flagged = lazy.with_columns(flags(self.problems, exact=False)).collect()
        return gather(flagged, self.problems, file, cell), lambda one: flagged[_value_name(one)]


def _value_name(one: Field) -> str:
    return f"{INNER}{one.name}"


@dataclass(frozen=True)
class _Together:
    """Many fields that take the same, asked as one long column: to plan a query of thousands of columns takes longer than to answer it."""

    fields: Sequence[Field]
    columns: Mapping[str, str]
    typed: pl.Expr | None
    problems: Sequence[Problem]

    @classmethod
    def of(cls, fields: Sequence[Field], columns: Mapping[str, str], in_sheet: bool) -> _Together:
        """Ask fields that take the same, whose columns are given by title."""
        one, text = fields[0], pl.col(_TEXT)
        typed = _value_of(one, text, in_sheet) if one.is_typed else None
        problems = _problems_of(one, text, text if typed is None else pl.col(_VALUE), in_sheet)
        return cls(fields, columns, typed, [replace(problem, field=pl.col(_FIELD)) for problem in problems])

    def answered(self, rows: pl.DataFrame, file: pl.Expr, cell: pl.Expr | None) -> Answers:
        """What is wrong with the rows of a batch."""
        titles = [one.title for one in self.fields]
        beside = rows.select(LINE, *(rows[self.columns[title]].alias(title) for title in titles))
        long = beside.unpivot(titles, index=LINE, variable_name=_FIELD, value_name=_TEXT)
        if self.typed is not None:
            long = long.with_columns(self.typed.alias(_VALUE))
        flagged = long.with_columns(flags(self.problems, exact=False))
        found = gather(flagged, self.problems, file, cell)
        places = {title: place for place, title in enumerate(titles)}
        if found.height:
            place = pl.col("field").replace_strict(places, return_dtype=pl.Int64)
            found = found.sort("line", place, maintain_order=True)
        return found, lambda one: flagged[_VALUE].slice(places[one.title] * rows.height, rows.height)


def _alike(fields: Sequence[Field]) -> tuple[list[Field], list[list[Field]]]:
    """The fields that are asked each by itself, and groups of many that take the same."""
    groups: dict[object, list[Field]] = {}
    for one in fields:
        takes = replace(one, name="", title="", label=None, description=None, other_titles=())
        try:
            groups.setdefault(takes, []).append(one)
        except TypeError:
            # one of a kind that has no hash
            groups[one.name] = [one]
    many = [group for group in groups.values() if len(group) >= _MANY]
    together = {one.name for group in many for one in group}
    return [one for one in fields if one.name not in together], many


class AskedRows:
    """What is asked of the rows of a file."""

    def __init__(
        self, opened: Opened, layout: Layout, headings: Headings, references: Sequence[Problem], shown: str
    ) -> None:
        self.opened, self.shown, self.columns = opened, shown, headings.columns
        self.fields = [one for one in layout.fields if one.title in headings.columns]
        texts = {one.name: pl.col(headings.columns[one.title]) for one in self.fields}
        more = list(references)
        if layout.asks_of_rows:
            blanks = {one.name: blank_in_file(one, texts[one.name]) for one in self.fields}
            more += [problem for problem, _ in row_problems(layout, texts, blanks)]
        for one in self.fields:
            more += unknown_labels(one, layout, texts[one.name])
        each, many = _alike(self.fields) if len(self.fields) >= _MANY else (self.fields, [])
        self.asked: list[_Asked] = [_Together.of(group, self.columns, opened.in_sheet) for group in many]
        if each or more:
            self.asked.append(_Each.of(each, self.columns, opened.in_sheet, more))
        self.keys = KeyCheck(opened, layout, headings, shown)
        self.nameless = list(headings.nameless)

    def findings(self, rows: pl.DataFrame) -> list[pl.DataFrame]:
        """What is wrong with the rows of a batch, but for their keys."""
        if rows.is_empty():
            return []
        found = []
        file, cell = pl.lit(self.shown), self._cells(self.columns)
        for asked in self.asked:
            wrong, values = asked.answered(rows, file, cell)
            found += [wrong, *self._as_text(rows, asked.fields, values)]
        return [*found, *self._without_heading(rows)]

    def _as_text(
        self, rows: pl.DataFrame, fields: Sequence[Field], values: Callable[[Field], pl.Series]
    ) -> list[pl.DataFrame]:
        """Of each column of a sheet, the first number or date that is text, and how many there are; they come in thousands."""
        reader = self.opened.reader
        if not isinstance(reader, TellsText):
            return []
        columns = {self.columns[one.title]: one for one in fields if one.kind in _HELD_AS_SUCH and one.is_typed}
        found = []
        for column, lines in reader.texts_in(list(columns)).items():
            if not lines:
                continue
            one = columns[column]
            # by its series: to plan a query of a sheet with thousands of columns takes longer than to answer it
            where = rows[LINE].is_in(lines) & values(one).is_not_null()
            count = int(where.sum())
            if count:
                at = int(where.arg_max() or 0)
                line, value = rows[LINE][at], rows[column][at]
                many = f"{count} hold text" if count > 1 else "it holds text"
                rule = f"a cell that holds a {one.kind}; {many}"
                cell = self.opened.cell(column, line)
                found.append(
                    Finding("cell.number-as-text", self.shown, line, cell, field=one.title, value=value, rule=rule)
                )
        return [frame(found)]

    def _without_heading(self, rows: pl.DataFrame) -> list[pl.DataFrame]:
        """The first value of each column that has none; once told, it is not looked for any more."""
        found = []
        for column in list(self.nameless):
            text = pl.col(column)
            first = rows.select(LINE, column).filter(text.str.strip_chars() != "").head(1)
            if first.height:
                self.nameless.remove(column)
                line, value = first[LINE][0], first[column][0]
                cell = self.opened.cell(column, line)
                found.append(
                    Finding("heading.none", self.shown, line, cell, column=column, value=value, rule="a heading above")
                )
        return [frame(found)]

    def _cells(self, columns: Mapping[str, str]) -> pl.Expr | None:
        """The cells of findings on fields, whose columns in the file are given."""
        if not self.opened.in_sheet:
            return None
        letters = {
            title: self.opened.reader.letters[column]
            for title, column in columns.items()
            if column in self.opened.reader.letters
        }
        letter = pl.col("field").replace_strict(letters, default=None, return_dtype=pl.String)
        return pl.format("{}!{}{}", pl.lit(self.opened.reader.facts.sheet), letter, "line")
