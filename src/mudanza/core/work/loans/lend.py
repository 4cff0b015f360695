"""Lending: chosen rows and columns of a file in a workbook that helps people not to break anything."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from pathlib import Path
from typing import Any

from mudanza.core.documents.errors import LoanError, Place
from mudanza.core.language.parameters import Parameters
from mudanza.core.layouts.layout import Layout
from mudanza.core.plans.move import Move
from mudanza.core.sinks import csv_text
from mudanza.core.state.files import Outputs
from mudanza.core.state.ledger import ledger_of, sweep_behind
from mudanza.core.state.loans import note_loan
from mudanza.core.values.digest import digest_of
from mudanza.core.work.loans.lent import LAYOUT, key_fields, read_records
from mudanza.core.work.loans.loan_book import most_rows, workbook_bytes
from mudanza.core.work.row_condition import RowCondition


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
        titles = [one.title for one in layout.fields]
        condition = RowCondition(where, titles, layout, as_of or date.today(), given)
        records = condition.of(records, shown, LoanError)
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
        writer = csv_text.writer(layout, [f.title for f in layout.fields])
        snapshot.write(writer.head())
        snapshot.write(writer.rows(records))
        kept = outputs.create(folder / loan / LAYOUT)
        kept.write(layout.path.read_bytes())
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
