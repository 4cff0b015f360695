"""Lending: chosen rows and columns of a file in a workbook that helps people not to break anything."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date
from pathlib import Path
from typing import Any

import polars as pl

from mudanza.core.documents.errors import LanguageError, LoanError, Place
from mudanza.core.language.compiling import Compiler
from mudanza.core.language.parameters import Parameters
from mudanza.core.language.parsing import parse_condition
from mudanza.core.language.trying import without_tables
from mudanza.core.language.value import Stages, Value, run_stages
from mudanza.core.layouts.layout import Layout
from mudanza.core.layouts.rules import blank_in_file
from mudanza.core.plans.move import Move
from mudanza.core.sinks.csv_text import RowWriter
from mudanza.core.state.files import Outputs
from mudanza.core.state.ledger import ledger_of, sweep_behind
from mudanza.core.state.loans import note_loan
from mudanza.core.values.digest import digest_of
from mudanza.core.values.row_columns import LINE
from mudanza.core.work.loans.lent import key_fields, read_records
from mudanza.core.work.loans.loan_book import most_rows, workbook_bytes


@dataclass(frozen=True)
class Loan:
    """A loan as it was made. `fields` are the lent field titles, the key's first; `needed` those that a new record needs and that were not lent, so that none can be added."""

    id: str
    subject: str
    workbook: str
    rows: int
    fields: list[str]
    needed: list[str]


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
    ledger = ledger_of(move)
    ledger.settle()
    keys = key_fields(layout)
    wanted = [layout.field_named(name) for name in columns] or list(layout.fields)
    fields = keys + [f for f in wanted if f not in keys]
    needed = [
        f.title
        for f in layout.fields
        if f.required and f.default is None and not f.left_out_of_additions and f not in fields
    ]
    shown = move.shown(path)
    if not path.is_file():
        raise LoanError(
            f"{subject} has not been built yet, or the file is elsewhere.",
            place=Place(shown),
            hint=f"Build it first (mudanza build {subject}), or name the file.",
        )
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
    run = ledger.begin("lend", subject)
    loan = f"{subject}-{run}"
    folder = move.folder / "loans"
    final = to or folder / f"{loan}.xlsx"
    with ledger.held(run), Outputs(str(run)) as outputs:
        sweep_behind(move, ledger)
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
        book.write(workbook_bytes(subject, records, fields, keys, slip, needed))
        source = digest_of(path, shown)
        detail = {
            **slip,
            "file": move.shown(path.resolve()),
            "file_sha256": source.sha256,
            "layout": move.shown(layout.path.resolve()),
            "where": where,
        }
        note_loan(ledger, run, loan, subject, detail)
        counts = {"read": records.height, "written": records.height}
        name = move.shown(final)
        ledger.commit(run, outputs, counts, [source.as_dict()], [digest.as_dict(), book.digest(name).as_dict()])
    return Loan(loan, subject, name, records.height, [f.title for f in fields], needed)


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
        return Value(field.kind, field.type.read(cell))

    stages = Stages()
    around = without_tables(as_of, parameters)
    titles = [f.title for f in layout.fields]
    compiler = Compiler(titles, around, stages, typed, [f.name for f in layout.fields])
    try:
        value = compiler.condition(text, parse_condition(text), None)
    except LanguageError as error:
        place = error.place or Place()
        raise LanguageError(error.what, place=replace(place, key="--where"), hint=error.hint) from None
    rows = run_stages(records.lazy(), stages.early)
    if value.failed is not None:
        bad = rows.filter(value.failed).select(LINE).collect()
        if bad.height:
            raise LoanError(
                "--where cannot be told for this row.",
                place=Place(shown, bad[LINE][0]),
                hint="Add `or blank` to its step.",
            )
    return rows.filter(value.expr).select(records.columns).collect()
