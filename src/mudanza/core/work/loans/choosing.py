"""What is lent: which rows of which records, and which fields of them, to be changed, to be seen, or masked."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from pathlib import Path

import polars as pl

from mudanza.core.documents.errors import LoanError, Place, counted
from mudanza.core.language.parameters import Declared, Parameters
from mudanza.core.layouts.layout import Field, Layout
from mudanza.core.sources.opening import open_source
from mudanza.core.sources.reader import ReadOptions
from mudanza.core.values.row_columns import LINE
from mudanza.core.work.crosswalks.proposing import fold
from mudanza.core.work.loans.lent import key_fields


@dataclass(frozen=True)
class Choice:
    """What is to be lent. `columns` are field names or titles (all if none), `locked` those that can be seen only, `masked` those whose values stay at home. Rows are chosen by a condition (`where`), by a file
    of keys, and by whether a check finds something in them (`found`: a code, or "" for any). `by` is a field: a loan for each of its values."""

    columns: Sequence[str] = ()
    locked: Sequence[str] = ()
    masked: Sequence[str] = ()
    where: str | None = None
    keys: Path | None = None
    found: str | None = None
    by: str | None = None
    #: the loan that is lent again: its records, as they are now
    again: str | None = None
    #: the day that `within` counts from, and values given at run time
    as_of: date | None = None
    parameters: Mapping[str, str] | None = None


@dataclass(frozen=True)
class ChosenFields:
    """The fields to be lent, the key's first, by what may be done with them, and those that a new record would need beside."""

    fields: list[Field]
    keys: list[Field]
    locked: list[str]
    masked: list[str]
    needed: list[str]


def chosen_fields(layout: Layout, choice: Choice) -> ChosenFields:
    """The fields of a choice. Raises LayoutError for a name that is none, LoanError where the key is to be masked."""
    keys = key_fields(layout)
    wanted = [layout.field_named(name) for name in choice.columns] or list(layout.fields)
    locked = [layout.field_named(name) for name in choice.locked]
    masked = [layout.field_named(name) for name in choice.masked]
    for one in masked:
        if one in keys:
            raise LoanError(
                f"{one.title} is of the key, by which the records come back, and cannot be masked.",
                place=Place(str(layout.path)),
                hint="Mask other fields.",
            )
    fields = keys + [f for f in [*wanted, *locked, *masked] if f not in keys]
    fields = list(dict.fromkeys(fields))
    shut = [*locked, *masked]
    needed = [
        f.title
        for f in layout.fields
        if f.required and f.default is None and not f.left_out_of_additions and (f not in fields or f in shut)
    ]
    return ChosenFields(
        fields,
        keys,
        [f.title for f in locked],
        [f.title for f in masked],
        [t for t in needed if t not in [k.title for k in keys]],
    )


def chosen_rows(
    records: pl.DataFrame, layout: Layout, choice: Choice, shown: str, defaults: Mapping[str, Declared]
) -> pl.DataFrame:
    """The rows of a choice. Raises LoanError where there is none."""
    if choice.where is not None:
        given = Parameters(choice.parameters or {}, defaults)
        titles = [one.title for one in layout.fields]
        # the language is loaded for conditions alone
        from mudanza.core.work.row_condition import RowCondition

        condition = RowCondition(choice.where, titles, layout, choice.as_of or date.today(), given)
        records = condition.of(records, shown, LoanError)
    if choice.keys is not None:
        records = _by_keys(records, key_fields(layout), choice.keys)
    if records.is_empty():
        raise LoanError(
            "no row was chosen, so there is nothing to lend.",
            place=Place(shown),
            hint="Look at what chooses the rows (--where, --keys, --findings).",
        )
    return records


def _by_keys(records: pl.DataFrame, keys: Sequence[Field], path: Path) -> pl.DataFrame:
    """The records whose keys stand in a file: in columns of the key's headings, or in its first."""
    if not path.is_file():
        raise LoanError(
            "the file of keys does not exist.", place=Place(str(path)), hint="Name a file with a column of keys."
        )
    reader = open_source(path, ReadOptions(exact=True))
    by_title = {fold(one): one for one in reader.headings}
    columns = [by_title.get(fold(one.title)) or by_title.get(fold(one.name)) for one in keys]
    listed = pl.concat([batch.rows for batch in reader.batches()])
    if all(one is not None for one in columns):
        wanted = listed.select(
            pl.col(str(c)).str.strip_chars().alias(k.title) for c, k in zip(columns, keys, strict=True)
        )
    elif len(keys) == 1:
        # a file of nothing but keys has no heading
        first = pl.concat([pl.Series([reader.raw_headings[0]]), listed[reader.headings[0]].rename("")])
        wanted = pl.DataFrame({keys[0].title: first.str.strip_chars()})
    else:
        titles = ", ".join(one.title for one in keys)
        raise LoanError(
            f"the file of keys has not all columns of the key ({titles}).",
            place=Place(str(path)),
            hint="Give it these headings.",
        )
    wanted = wanted.drop_nulls().unique(maintain_order=True)
    of_key = [one.title for one in keys]
    unknown = wanted.join(records.select(of_key), on=of_key, how="anti", maintain_order="left")
    if any(column is None for column in columns):
        unknown = unknown.filter(pl.col(of_key[0]) != reader.raw_headings[0])
    if unknown.height:
        some = ", ".join(" ".join(map(str, row)) for row in unknown.head(3).iter_rows())
        raise LoanError(
            f"{counted(unknown.height, 'key')} of the file {'is' if unknown.height == 1 else 'are'} in no record, as {some}.",
            place=Place(str(path)),
            hint="Take them out, or look whether they are written as in the records.",
        )
    return records.join(wanted, on=of_key, how="semi", maintain_order="left")


def with_findings(records: pl.DataFrame, findings: pl.DataFrame, code: str) -> pl.DataFrame:
    """The records in whose lines something was found: of a code, or anything."""
    lines = findings.filter(pl.col("code").str.starts_with(code) if code else pl.lit(True))["line"].drop_nulls()
    return records.filter(pl.col(LINE).is_in(lines.implode()))
