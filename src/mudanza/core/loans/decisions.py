"""Loans of decisions: a plan as a mapping sheet to be agreed, or its crosswalks; noted in the ledger like loans of records."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from mudanza.core.errors import LoanError, Place, unknown
from mudanza.core.files import Outputs, sweep
from mudanza.core.loans.returned import read_slip
from mudanza.core.loans.sheets import Sheet, sheets_bytes
from mudanza.core.move import Move


@dataclass(frozen=True)
class DecisionLoan:
    """A loan of decisions as it was made: `kind` is mapping or crosswalks."""

    id: str
    kind: str
    list_name: str
    workbook: str
    rows: int


def lend_sheets(
    move: Move, list_name: str, kind: str, make: Callable[[str], tuple[list[Sheet], dict[str, Any]]], to: Path | None
) -> DecisionLoan:
    """Write a workbook of decisions and note the loan. `make` gives the sheets and what is to be remembered of them, for the loan's name."""
    run = move.ledger.begin("lend", f"{list_name} {kind}")
    loan = f"{list_name}-{kind}-{run}"
    folder = move.folder / "loans"
    final = to or folder / f"{loan}.xlsx"
    with move.ledger.held(run), Outputs(str(run)) as outputs:
        sweep(folder, move.ledger.alive_runs())
        sheets, detail = make(loan)
        book = outputs.create(final)
        book.write(sheets_bytes(sheets, {"loan": loan, "move": move.name, "kind": kind, "list": list_name}))
        move.ledger.put_loan(loan, run, f"{list_name} {kind}", {**detail, "kind": kind, "list": list_name})
        rows = len(sheets[0].rows)
        shown = move.shown(final)
        move.ledger.commit(run, outputs, {"read": rows, "written": rows}, [], [book.digest(shown).as_dict()])
    return DecisionLoan(loan, kind, list_name, shown, rows)


def kind_of_loan(move: Move, path: Path, loan: str | None = None) -> tuple[str, str, dict[str, Any]] | None:
    """The loan, its kind and what is remembered of it, if a workbook is of decisions; None if it is one of records, or of no known loan."""
    if not path.is_file():
        return None
    name = loan or read_slip(path)
    known = move.ledger.loan(name) if name else None
    if known is None or "kind" not in known[3]:
        return None
    assert name is not None
    return name, known[3]["kind"], known[3]


def finish(move: Move, loan: str) -> None:
    """Note that a loan of decisions came back. Raises LoanError if another run was first."""
    run = move.ledger.begin("receive", loan)
    with move.ledger.held(run), Outputs(str(run)) as outputs:
        known = move.ledger.loan(loan)
        if known is None:
            raise LoanError(unknown("loan", loan, []), place=Place(loan))
        move.ledger.accept_changes(loan, known[0], [])
        move.ledger.commit(run, outputs, {}, [], [])
