"""What a layout asks of cells and records that came back of a loan, where they stand in the returned sheet."""

from __future__ import annotations

from collections.abc import Sequence

import polars as pl

from mudanza.core.findings.problem import flags, gather
from mudanza.core.layouts.layout import Field, Layout
from mudanza.core.layouts.rules import blank_in_file, kind_problems, row_problems, value_problems
from mudanza.core.values.kinds import Kind
from mudanza.core.work.loans.carried import carried
from mudanza.core.work.loans.returned.table import Table


def broken_rules(rows: pl.DataFrame, fields: Sequence[Field], table: Table) -> pl.DataFrame:
    """What breaks the layout's rules in fields, of rows in its own texts."""
    problems = []
    for one in fields if rows.height else ():
        text = pl.col(one.title) if one.title in rows.columns else pl.lit(one.null[0] or None, dtype=pl.String)
        blank = blank_in_file(one, text)
        # a text that is as it came, since the layout's would be another value
        value = one.type.read_sheet(pl.when(~blank).then(text)) if one.kind is not Kind.TEXT else text
        problems += [*kind_problems(one, text, value), *value_problems(one, text, value, blank)]
    return gather(rows.with_columns(flags(problems)), problems, pl.lit(table.shown), _cell(table))


def broken_later(rows: pl.DataFrame, old: Layout, new: Layout, table: Table) -> pl.DataFrame:
    """What breaks the rules of the layout that the list has by now, of rows in the texts of the one that they were lent by; told by the headings of that."""
    found = broken_rules(carried(rows, old, new), new.fields, table)
    by_name = {one.name: one.title for one in old.fields}
    titles = {one.title: by_name[one.name] for one in new.fields if one.name in by_name}
    return found.with_columns(pl.col("field").replace(titles)).with_columns(_cell(table).alias("cell"))


def broken_rows(rows: pl.DataFrame, layout: Layout, table: Table) -> pl.DataFrame:
    """What breaks the rules that tie several fields."""
    there = {one.name: pl.col(one.title) for one in layout.fields if one.title in rows.columns}
    blanks = {one.name: blank_in_file(one, there[one.name]) for one in layout.fields if one.name in there}
    problems = [problem for problem, _ in row_problems(layout, there, blanks)] if rows.height else []
    return gather(rows.with_columns(flags(problems)), problems, pl.lit(table.shown), _cell(table))


def _cell(table: Table) -> pl.Expr:
    """The cells of findings on fields."""
    letters = {title: table.at(n, 0)[:-1] for title, n in table.places.items()}
    column = pl.col("field").replace_strict(letters, default=None, return_dtype=pl.String)
    return pl.concat_str(column, pl.col("line").cast(pl.String))
