"""What became of lent records elsewhere: in other loans, in new builds, at the target."""

from __future__ import annotations

from functools import partial
from pathlib import Path

import polars as pl

from mudanza.core.documents.errors import LoanError, Place
from mudanza.core.plans.move import Move
from mudanza.core.state.ledger import Ledger
from mudanza.core.state.loans import accepted_since, noted_loan
from mudanza.core.values.digest import digest_of
from mudanza.core.values.row_columns import BETWEEN
from mudanza.core.work.loans.carried import carried
from mudanza.core.work.loans.conflicts import ACCEPTED, Elsewhere
from mudanza.core.work.loans.lent import KEY, Lent, keyed, read_records
from mudanza.core.work.loans.present import present_records


def what_happened(move: Move, ledger: Ledger, lent: Lent, current: Path | None) -> Elsewhere:
    """What other loans and builds did to the records meanwhile; or what the target holds (`current`), if that is known."""
    noted = noted_loan(ledger, lent.id)
    cells = accepted_since(ledger, noted) if noted is not None else []
    accepted = pl.DataFrame(cells, schema=ACCEPTED, orient="row")
    if len(lent.keys) > 1:
        # earlier versions noted the keys of several fields with commas
        key = pl.col("key")
        commas = key.str.replace_all(", ", BETWEEN, literal=True)
        accepted = accepted.with_columns(pl.when(key.str.contains(BETWEEN, literal=True)).then(key).otherwise(commas))
    accepted = accepted.unique(["key", "field"], keep="last", maintain_order=True)
    if current is not None:
        shown = move.shown(current.resolve())
        if not current.is_file():
            raise LoanError(
                "the file of what the target holds does not exist.",
                place=Place(shown),
                hint="Name its export with --current.",
            )
        there = keyed(_as_lent(lent, read_records(current, lent.present_layout, shown)), lent.keys)
        now = there.filter(pl.col(KEY).is_in(lent.before[KEY].implode())).unique(KEY, keep="last", maintain_order=True)
        # what was accepted from other loans is in the target, or it is not
        return Elsewhere(accepted.clear(), lambda: there[KEY], now, "the target", of_target=True)
    path = move.path(lent.file)
    if not path.is_file():
        return Elsewhere(accepted, lambda: lent.before[KEY].clear(), None)
    if digest_of(path).sha256 == lent.file_sha256:
        keys = partial(present_records, ledger, lent.subject, path, lent.present_layout, lent.file)
        return Elsewhere(accepted, lambda: keys()[KEY], None, lent.file)
    there = _as_lent(lent, present_records(ledger, lent.subject, path, lent.present_layout, lent.file))
    now = there.filter(pl.col(KEY).is_in(lent.before[KEY].implode())).unique(KEY, keep="last", maintain_order=True)
    return Elsewhere(accepted, lambda: there[KEY], now, lent.file)


def _as_lent(lent: Lent, records: pl.DataFrame) -> pl.DataFrame:
    """Records of the list's layout in that of the loan."""
    return records if lent.changed_layout is None else carried(records, lent.changed_layout, lent.layout)
