"""Loans of decisions: a plan as a mapping sheet to be agreed, or its crosswalks; noted in the ledger like loans of records."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from mudanza.core.documents.errors import LoanError, Place, unknown
from mudanza.core.plans.move import Move
from mudanza.core.state.evidence import ledger_of
from mudanza.core.state.ledger import Ledger
from mudanza.core.state.loans import Noted, accept_changes, all_loans, note_loan, noted_loan
from mudanza.core.state.running import running
from mudanza.core.work.loans.decision_sheets import Sheet, sheets_bytes
from mudanza.core.work.loans.returned.slips import read_slip


@dataclass(frozen=True)
class DecisionLoan:
    """A loan of decisions as it was made: `kind` is mapping or crosswalks."""

    id: str
    kind: str
    list_name: str
    workbook: str
    rows: int


def lend_sheets(
    move: Move,
    list_name: str,
    kind: str,
    make: Callable[[str], tuple[list[Sheet], dict[str, Any]]],
    to: Path | None,
    about: Path | None = None,
) -> DecisionLoan:
    """Write a workbook of decisions and note the loan. `make` gives the sheets and what is to be remembered of them, for the loan's name; a file that they are `about` is kept with the loan."""
    ledger = ledger_of(move)
    named, read = ([one] if one is not None else [] for one in (to, about))
    with running(ledger, "lend", f"{list_name} {kind}", to=named, inputs=read) as run:
        outputs, loan = run.outputs, f"{list_name}-{kind}-{run.id}"
        folder = move.folder / "loans"
        final = to or folder / f"{loan}.xlsx"
        sheets, detail = make(loan)
        written = []
        if about is not None:
            kept = outputs.create(folder / loan / about.name)
            with about.open("rb") as file:
                while piece := file.read(1 << 20):
                    kept.write(piece)
            detail = {**detail, "file": move.shown(kept.final)}
            written.append(kept.digest(move.shown(kept.final)))
        book = outputs.create_named(final)
        book.write(sheets_bytes(sheets, {"loan": loan, "move": move.name, "kind": kind, "list": list_name}))
        note_loan(ledger, run.id, loan, f"{list_name} {kind}", {**detail, "kind": kind, "list": list_name})
        rows = len(sheets[0].rows)
        shown = move.shown(final)
        written.append(book.digest(shown))
        run.commit({"read": rows, "written": rows}, [], [one.as_dict() for one in written])
    return DecisionLoan(loan, kind, list_name, shown, rows)


def kind_of_loan(move: Move, path: Path, loan: str | None = None) -> tuple[str, str, dict[str, Any]] | None:
    """The loan, its kind and what is remembered of it, if a workbook is of decisions; None if it is one of records, or of no known loan."""
    if not path.is_file():
        return None
    name = loan or read_slip(path)
    known = noted_loan(ledger_of(move), name) if name else None
    if known is None or "kind" not in known.detail:
        return None
    return known.id, known.detail["kind"], known.detail


def accept_decisions(move: Move, loan: str, texts: Mapping[Path, tuple[bytes, str]], *, whole: bool) -> list[str]:
    """Write what was decided, and note it, both or neither: for each file its bytes before, and the text that it is to be. Gives the files that changed.

    If the `whole` of it could be taken, the loan is back. Raises LoanError if it came back already, or a file was changed meanwhile.
    """
    ledger = ledger_of(move)
    _out(move, ledger, loan)
    with running(ledger, "receive", loan) as run, move.files.lock():
        known = _out(move, ledger, loan)
        changed = {path: after for path, (before, after) in texts.items() if after.encode() != before}
        for path in changed:
            if path.read_bytes() != texts[path][0]:
                what = "the file was changed while the workbook was read."
                raise LoanError(what, place=Place(move.shown(path)), hint="Receive it again.")
        written = [run.outputs.create_text(path, text) for path, text in changed.items()]
        accept_changes(ledger, known, [], back=whole)
        digests = [file.digest(move.shown(path)) for file, path in zip(written, changed, strict=True)]
        run.commit(written=[one.as_dict() for one in digests])
    return [one.path for one in digests]


def _out(move: Move, ledger: Ledger, loan: str) -> Noted:
    """A loan that is out."""
    known = noted_loan(ledger, loan)
    if known is None:
        raise LoanError(
            unknown("loan", loan, [one.id for one in all_loans(ledger)]),
            place=Place(move.shown(move.ledger_path)),
            hint="`mudanza ledger --loans` lists them.",
        )
    if known.state != "out":
        what = f"the loan {loan} is back already: what was decided in it was accepted."
        raise LoanError(what, place=Place(move.shown(move.ledger_path)), hint="Lend it anew for further decisions.")
    return known
