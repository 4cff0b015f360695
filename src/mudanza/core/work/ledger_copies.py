"""Copies of the ledger: making one to go back to, and using one that does not know what the project's files tell."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import polars as pl

from mudanza.core.disk.files import Outputs
from mudanza.core.disk.temporary import temporary_folder
from mudanza.core.documents.errors import LedgerError, MudanzaError, Place
from mudanza.core.plans.move import Move
from mudanza.core.sources.opening import open_source
from mudanza.core.state.evidence import LENT, Evidence, accept_as_lost, ledger_of, unknown_to
from mudanza.core.state.ledger import Ledger
from mudanza.core.state.running import foreign_files, running, settle
from mudanza.core.values.digest import Digest

_PIECE = 1 << 20


def back_up(move: Move, to: Path) -> Digest:
    """Copy the ledger of a project into a file, whole and as of one moment; runs may be under way.

    Raises LedgerError where there is none, or it is older than the project's files; MoveError where the file may not
    be written.
    """
    ledger = ledger_of(move)
    if not ledger.exists():
        raise LedgerError(
            "there is no ledger yet.", place=Place(move.shown(move.ledger_path)), hint="It comes with the first build."
        )
    settle(ledger)
    with Outputs(move.files, command="ledger") as outputs:
        file = outputs.create_named(to, private=True)
        copy = temporary_folder() / "ledger.sqlite"
        ledger.back_up(copy)
        with copy.open("rb") as reading:
            while piece := reading.read(_PIECE):
                file.write(piece)
        copy.unlink()
        outputs.publish()
    return file.digest(move.shown(to.resolve()))


@dataclass(frozen=True)
class OlderLedger:
    """A ledger that is used as it is, noted by a `run`: what it does not know, the last number of each key book that
    is kept free, the loans that it does not know, and the lists that
    have identifiers which it may not know."""

    run: int
    unknown: list[Evidence]
    reserved: dict[str, int]
    loans: list[str]
    lists: list[str]


def accept_older_ledger(move: Move) -> OlderLedger:
    """Use the ledger as it is. Numbers that files of the project show, or that lost runs may have given out, are given
    to nobody again, nor are their runs' numbers.

    Raises LedgerError where the ledger knows all that the files tell.
    """
    ledger = ledger_of(move, checked=False)
    found = list(unknown_to(move, ledger))
    foreign = foreign_files(ledger)
    if not found and not foreign:
        raise LedgerError(
            "the ledger knows all that the project's files tell; it is not an older one.",
            place=Place(move.shown(move.ledger_path)),
            hint="Nothing has to be done.",
        )
    given = _given(move, found)
    ledger.create()
    ledger.tell("DELETE FROM pending WHERE part = ? AND final = ?", foreign)
    _skip_runs(ledger, max((one.run for one in found), default=0))
    with running(ledger, "older ledger", f"{len(found)} unknown") as run:
        reserved = accept_as_lost(ledger, run.id, found, given)
        run.commit({"unknown": len(found)})
    loans = [one.loan for one in found if one.loan is not None]
    lists = [name for name in move.names("plans", ".toml") if (move.out / f"{name}.held-back.csv").is_file()]
    return OlderLedger(run.id, found, reserved, loans, lists)


def _skip_runs(ledger: Ledger, last: int) -> None:
    """Numbers of runs up to the last that is known are those of other runs."""
    there = "SELECT 1 FROM sqlite_sequence WHERE name = 'runs'"
    ledger.tell(f"INSERT INTO sqlite_sequence (name, seq) SELECT 'runs', 0 WHERE NOT EXISTS ({there})", [()])
    ledger.tell("UPDATE sqlite_sequence SET seq = MAX(seq, ?) WHERE name = 'runs'", [(last,)])


def _given(move: Move, found: list[Evidence]) -> dict[str, int]:
    """The last number of each key book that anything tells of: what runs left behind, and identifiers in files that
    were built or lent."""
    given: dict[str, int] = {}
    for one in found:
        for book, last in one.given.items():
            given[book] = max(given.get(book, 0), last)
    for rows in _written(move):
        columns = [name for name, type_ in rows.schema.items() if type_ == pl.String]
        for book, pattern in move.key_patterns.items() if columns else ():
            seen = rows.select(pl.max_horizontal([pattern.numbers(pl.col(name)).max() for name in columns])).item()
            if seen is not None:
                given[book] = max(given.get(book, 0), seen)
    return given


def _written(move: Move) -> Iterator[pl.DataFrame]:
    """The records in files that were built or lent, block by block; files that cannot be read as such tell nothing."""
    paths = [path for path in sorted(move.out.glob("*")) if path.is_file() and not path.name.startswith(".")]
    for path in [*paths, *sorted((move.folder / "loans").glob(f"*/{LENT}"))]:
        if path.name != "run.json":
            yield from _rows(path)


def _rows(path: Path) -> Iterator[pl.DataFrame]:
    try:
        for batch in open_source(path).batches():
            if batch.rows.width and batch.rows.height:
                yield batch.rows
    except MudanzaError:
        return
