"""Which loan came back: by what the file says of itself, or by its records."""

from __future__ import annotations

import polars as pl

from mudanza.core.documents.errors import LoanError, Place, few
from mudanza.core.plans.move import Move
from mudanza.core.state.ledger import Ledger
from mudanza.core.state.loans import all_loans, noted_loan
from mudanza.core.values.digest import mark_of
from mudanza.core.work.loans.lent import Lent, open_loan
from mudanza.core.work.loans.loan_book import MARKS, REMOVAL
from mudanza.core.work.loans.returned.opened import Opened
from mudanza.core.work.loans.returned.slips import slips_of
from mudanza.core.work.loans.returned.table import Table, find_table

_KNOWN = 0.5


def headings_of_loans(ledger: Ledger) -> list[str]:
    """The headings that returned files may have."""
    found = dict.fromkeys([REMOVAL, MARKS])
    for loan in all_loans(ledger):
        found |= dict.fromkeys(loan.detail.get("columns", []))
    return list(found)


def whose_loan(
    move: Move, ledger: Ledger, opened: Opened, shown: str, said: str | None, likely: Lent | None = None
) -> Lent:
    """The loan that a file is of; the `likely` one, if it is that. Raises LoanError where that cannot be told, or is not the one that was `said`."""

    def of(name: str) -> Lent:
        return likely if likely is not None and likely.id == name else open_loan(move, ledger, name, shown)

    slips = slips_of(opened)
    if not slips:
        return of(said) if said is not None else _by_records(move, ledger, opened, shown)
    ours = [one for one in slips if noted_loan(ledger, one.loan) is not None]
    if said is not None and said not in [one.loan for one in slips]:
        raise LoanError(
            f"the slip says loan {slips[0].loan!r}, not {said!r}.", place=Place(shown), hint="Leave --loan out."
        )
    if not ours:
        move_said = f", of the move {slips[0].move!r}" if slips[0].move else ""
        raise LoanError(
            f"it is the loan {slips[0].loan!r}{move_said}, which this move does not know.",
            place=Place(shown),
            hint="Receive it in the move folder that it was lent from; `mudanza ledger --loans` lists the loans of this one.",
        )
    slip = next((one for one in ours if one.loan == said), ours[0])
    lent = of(slip.loan)
    if slip.lent is not None and mark_of(slip.lent) != lent.mark:
        raise LoanError(
            f"it is another loan of the name {slip.loan!r}: what was lent in it is not what this move lent.",
            place=Place(shown),
            hint="Receive it in the move folder that it was lent from.",
        )
    return lent


def _by_records(move: Move, ledger: Ledger, opened: Opened, shown: str) -> Lent:
    """The loan that has the records of a file, if there is one."""
    found: list[Lent] = []
    alike = False
    for loan in all_loans(ledger):
        if "kind" in loan.detail or loan.state != "out":
            continue
        titles = loan.detail["columns"]
        tables = [t for grid in opened.grids if (t := find_table(grid, titles, shown)) is not None and not t.missing]
        alike |= bool(tables)
        if tables:
            lent = open_loan(move, ledger, loan.id, shown)
            if any(_known(lent, table) >= _KNOWN for table in tables):
                found.append(lent)
    if not alike:
        raise LoanError(
            "it has the headings of no loan that is out.",
            place=Place(shown),
            hint="Is it the right file? `mudanza ledger --loans` lists the loans; --loan names one whose headings were changed.",
        )
    if len(found) != 1:
        names = f" It could be {few([one.id for one in found])}." if found else ""
        raise LoanError(
            f"the file carries no slip, so it cannot be told which loan it is.{names}",
            place=Place(shown),
            hint="Were the records copied into a new file? Name the loan with --loan; `mudanza ledger --loans` lists them.",
        )
    return found[0]


def _known(lent: Lent, table: Table) -> float:
    """How many of the rows have a key of the loan."""
    titles = [f.title for f in lent.keys]
    keys = table.rows.select(pl.col(t).str.strip_chars() for t in titles)
    known = keys.join(lent.before.select(titles).unique(), on=titles, how="semi")
    return known.height / max(1, keys.height)
