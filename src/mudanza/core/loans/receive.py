"""Receiving: what came back from a loan, and the change set as import files."""

from __future__ import annotations

from pathlib import Path

import polars as pl

from mudanza.core.errors import LoanError, Place, unknown
from mudanza.core.files import Outputs, digest_of
from mudanza.core.layouts.writing import RowWriter
from mudanza.core.loans.comparing import KEY, Comparison, LoanReturn
from mudanza.core.loans.returned import read_slip
from mudanza.core.move import Move


def receive(
    move: Move,
    path: Path,
    *,
    loan: str | None = None,
    accept: bool = False,
    missing: str | None = None,
    whole_rows: bool = False,
) -> LoanReturn:
    """Compare a returned workbook with what was lent. With `accept`, write the change set.

    `loan` names the loan if the workbook has lost its slip; `missing` says whether rows that did not come back are
    to be kept ("keep") or removed ("remove"). Raises LoanError if the loan is unknown or was received already.
    """
    move.ledger.settle()
    shown = move.shown(path.resolve())
    if not path.is_file():
        raise LoanError("the file does not exist.", place=Place(shown), hint="Name the returned workbook.")
    name = read_slip(path) or loan
    if name is None:
        raise LoanError(
            "the workbook carries no slip, so it cannot be told which loan it is.",
            place=Place(shown),
            hint="Were the records copied into a new workbook? Name the loan with --loan; `mudanza ledger --loans` lists them.",
        )
    if loan is not None and name != loan:
        raise LoanError(f"the slip says loan {name!r}, not {loan!r}.", place=Place(shown), hint="Leave --loan out.")
    known = move.ledger.loan(name)
    if known is None:
        loans = [row[0] for row in move.ledger.loans()]
        raise LoanError(unknown("loan", name, loans), place=Place(shown), hint="Is it a loan of another move folder?")
    subject, lent, state, detail = known
    if accept and state != "out":
        raise LoanError(
            f"the loan {name!r} was accepted already.",
            place=Place(shown),
            hint="Lend the records again for further changes.",
        )
    work = Comparison(move, path, shown, name, subject, lent, detail, missing)
    result = work.compare()
    if not accept or work.blocked is not None:
        return result
    return _accept(move, work, result, whole_rows)


def _accept(move: Move, work: Comparison, result: LoanReturn, whole_rows: bool) -> LoanReturn:
    """Write the change set, and what would undo it; note the accepted cells in the ledger."""
    folder = move.folder / "loans" / work.loan
    run = move.ledger.begin("receive", work.loan)
    with move.ledger.held(run), Outputs(str(run)) as outputs:
        known = move.ledger.loan(work.loan)
        if known is None or known[2] != "out":
            raise LoanError(
                f"the loan {work.loan!r} was accepted by another run meanwhile.",
                hint="`mudanza ledger --loans` tells.",
            )
        written = []
        for name, titles, rows in _change_files(work, result, whole_rows):
            if rows.is_empty():
                continue
            out = outputs.create(folder / name)
            writer = RowWriter(titles, work.layout.dialect)
            out.write(writer.head())
            out.write(writer.rows(rows))
            written.append(out)
        if result.conflicts:
            out = outputs.create(folder / "conflicts.csv")
            conflicts = pl.DataFrame([c.__dict__ for c in result.conflicts])
            writer = RowWriter(conflicts.columns)
            out.write(writer.head())
            out.write(writer.rows(conflicts))
            written.append(out)
        digests = [out.digest(move.shown(out.final)) for out in written]
        cells = result.changes.select("key", "field", "before", "after").rows()
        move.ledger.accept_changes(work.loan, work.subject, cells)
        counts = {
            "read": result.rows,
            "changed": result.changes["key"].n_unique(),
            "added": result.additions.height,
            "removed": result.removals.height,
            "held_back": result.held,
        }
        move.ledger.commit(
            run, outputs, counts, [digest_of(work.path, work.shown).as_dict()], [d.as_dict() for d in digests]
        )
    return LoanReturn(**{**result.__dict__, "files": digests})


def _change_files(work: Comparison, result: LoanReturn, whole_rows: bool) -> list[tuple[str, list[str], pl.DataFrame]]:
    """The import files: name, columns and rows of each."""
    key_titles = [f.title for f in work.keys]
    touched = result.changes["field"].unique().to_list()
    all_titles = [f.title for f in work.layout.fields]
    columns = [t for t in all_titles if t in key_titles or whole_rows or t in touched]
    old = work.before.filter(pl.col(KEY).is_in(result.changes["key"].implode()))
    new = old
    for title in touched:
        after = result.changes.filter(pl.col("field") == title).select(
            pl.col("key").alias(KEY), pl.col("after"), pl.lit(True).alias("hit")
        )
        new = new.join(after, on=KEY, how="left", maintain_order="left")
        new = new.with_columns(pl.when(pl.col("hit")).then("after").otherwise(title).alias(title)).drop("after", "hit")
    added = [f.title for f in work.layout.fields if not f.left_out_of_additions]
    lacking = [pl.lit(None, dtype=pl.String).alias(t) for t in added if t not in result.additions.columns]
    additions = result.additions.with_columns(lacking)
    keyed = additions.filter(pl.col(KEY).is_not_null())
    return [
        ("changes.csv", columns, new),
        ("additions.csv", added, additions),
        ("removals.csv", key_titles, result.removals),
        ("undo-changes.csv", columns, old),
        ("undo-additions.csv", key_titles, keyed),
        ("undo-removals.csv", all_titles, result.removals),
    ]
