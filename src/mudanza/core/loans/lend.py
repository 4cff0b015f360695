"""Lending: chosen rows and columns of a file in a workbook that helps people not to break anything."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date
from pathlib import Path
from typing import Any

import polars as pl

from mudanza.core.errors import LanguageError, LoanError, Place
from mudanza.core.files import Outputs, digest_of, sweep
from mudanza.core.kinds import Kind
from mudanza.core.language.compiling import Compiler
from mudanza.core.language.parsing import parse_condition
from mudanza.core.language.trying import without_tables
from mudanza.core.language.values import Stages, Value
from mudanza.core.layouts.model import Field, Layout
from mudanza.core.layouts.rules import blank_in_file, read_text
from mudanza.core.layouts.writing import RowWriter
from mudanza.core.loans.workbook import most_rows, workbook_bytes
from mudanza.core.move import Move
from mudanza.core.parameters import Parameters
from mudanza.core.sources.reading import LINE
from mudanza.core.written import read_written


@dataclass(frozen=True)
class Loan:
    """A loan as it was made. `fields` are the lent field titles, the key's first."""

    id: str
    subject: str
    workbook: str
    rows: int
    fields: list[str]


def read_records(path: Path, layout: Layout, shown: str) -> pl.DataFrame:
    """A whole file as text columns named by the layout's titles, plus `#line`.

    Raises LoanError if a row is damaged, a column is missing, or a key is blank or repeated: such a file cannot
    be lent or compared.
    """
    rows = read_written(path, layout, shown, LoanError)
    check = f"`mudanza check {shown} --layout {layout.path.stem}` tells everything that is wrong."
    keys = key_fields(layout)
    blank = rows.filter(pl.any_horizontal([blank_in_file(f, pl.col(f.title)) for f in keys]))
    if blank.height:
        raise LoanError(f"the key {keys[0].title!r} is blank.", place=Place(shown, blank[LINE][0]), hint=check)
    twice = rows.filter(pl.struct([f.title for f in keys]).is_duplicated())
    if twice.height:
        value = ", ".join(twice.select([f.title for f in keys]).row(0))
        raise LoanError(f"the key {value!r} stands twice.", place=Place(shown, twice[LINE][1]), hint=check)
    return rows


def key_fields(layout: Layout) -> list[Field]:
    """The fields of the primary key. Raises LoanError if the layout has none."""
    if not layout.primary_key:
        raise LoanError(
            "the layout has no primary key, so a returned row could not be matched.",
            place=Place(str(layout.path)),
            hint='Add "primaryKey" to its tableSchema.',
        )
    return [layout.field_named(name) for name in layout.primary_key]


def lend(
    move: Move,
    subject: str,
    path: Path,
    layout: Layout,
    *,
    columns: Sequence[str] = (),
    where: str | None = None,
    to: Path | None = None,
    as_of: date | None = None,
    parameters: Mapping[str, str] | None = None,
) -> Loan:
    """Lend rows of a file. `columns` are field names or titles (all if none), `where` a condition on `{Heading}`
    (text) or `{@field}` (typed). The workbook appears at `to`, or in the move's `loans/`.

    Raises LoanError where nothing fits, LanguageError where the condition is wrong.
    """
    move.ledger.settle()
    keys = key_fields(layout)
    wanted = [layout.field_named(name) for name in columns] or list(layout.fields)
    fields = keys + [f for f in wanted if f not in keys]
    shown = move.shown(path)
    records = read_records(path, layout, shown)
    if where is not None:
        given = Parameters(parameters or {}, move.parameters)
        records = _chosen(records, layout, where, as_of or date.today(), given, shown)
    if records.is_empty():
        raise LoanError("no row was chosen, so there is nothing to lend.", place=Place(shown), hint="Look at --where.")
    if records.height > most_rows():
        raise LoanError(
            f"{records.height:,} rows were chosen, and a sheet holds {most_rows():,}.",
            place=Place(shown),
            hint="Choose fewer with --where.",
        )
    run = move.ledger.begin("lend", subject)
    loan = f"{subject}-{run}"
    folder = move.folder / "loans"
    final = to or folder / f"{loan}.xlsx"
    with move.ledger.held(run), Outputs(str(run)) as outputs:
        sweep(folder, move.ledger.alive_runs())
        snapshot = outputs.create(folder / loan / "lent.csv")
        writer = RowWriter([f.title for f in layout.fields], layout.dialect)
        snapshot.write(writer.head())
        snapshot.write(writer.rows(records))
        digest = snapshot.digest(move.shown(folder / loan / "lent.csv"))
        slip: dict[str, Any] = {
            "loan": loan,
            "move": move.name,
            "subject": subject,
            "lent": digest.sha256,
            "columns": [f.title for f in fields],
            "rows": records.height,
        }
        book = outputs.create(final)
        book.write(workbook_bytes(subject, records, fields, keys, slip))
        source = digest_of(path, shown)
        detail = {
            **slip,
            "file": move.shown(path.resolve()),
            "file_sha256": source.sha256,
            "layout": move.shown(layout.path.resolve()),
            "where": where,
        }
        move.ledger.put_loan(loan, run, subject, detail)
        counts = {"read": records.height, "written": records.height}
        name = move.shown(final)
        move.ledger.commit(run, outputs, counts, [source.as_dict()], [digest.as_dict(), book.digest(name).as_dict()])
    return Loan(loan, subject, name, records.height, [f.title for f in fields])


def _chosen(
    records: pl.DataFrame, layout: Layout, text: str, as_of: date, parameters: Parameters, shown: str
) -> pl.DataFrame:
    """The records that meet a condition. Raises LoanError if it cannot be told for one of them."""

    def typed(name: str) -> Value | None:
        field = next((f for f in layout.fields if f.name == name), None)
        if field is None:
            return None
        text = pl.col(field.title)
        cell = pl.when(~blank_in_file(field, text)).then(text)
        return Value(field.kind, read_text(field, cell) if field.kind is not Kind.TEXT else cell)

    stages = Stages()
    around = without_tables(as_of, parameters)
    titles = [f.title for f in layout.fields]
    compiler = Compiler(titles, around, stages, typed, [f.name for f in layout.fields])
    try:
        value = compiler.condition(text, parse_condition(text), None)
    except LanguageError as error:
        place = error.place or Place()
        raise LanguageError(error.what, place=replace(place, key="--where"), hint=error.hint) from None
    rows = records.lazy()
    for stage in stages.early:
        rows = rows.with_columns(stage)
    if value.failed is not None:
        bad = rows.filter(value.failed).select(LINE).collect()
        if bad.height:
            raise LoanError(
                "--where cannot be told for this row.",
                place=Place(shown, bad[LINE][0]),
                hint="Add `or blank` to its step.",
            )
    return rows.filter(value.expr).select(records.columns).collect()
