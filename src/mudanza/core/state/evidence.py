"""What lies beside the ledger and knows of runs: by that an older, a replaced or an incomplete ledger is noticed
before it gives an identifier to somebody else."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from hashlib import sha256
from pathlib import Path
from typing import Any

from mudanza.core.documents.errors import LedgerError, Place
from mudanza.core.plans.move import Move
from mudanza.core.state.ledger import Ledger

#: beside the ledger, what its last run left behind
_WITNESS = "last-run.json"
#: no project has more runs
_MOST_RUNS = 1 << 40
#: what the lent records of a loan are kept as, in a folder of the loan's name
LENT = "lent.csv"


@dataclass(frozen=True)
class Evidence:
    """Something that the ledger should know and does not.

    Its name, the file that tells of it, what the ledger lacks, the run, the last number that was given out by key book,
    and the loan, if it is one.
    """

    name: str
    place: str
    what: str
    run: int = 0
    given: Mapping[str, int] = field(default_factory=dict)
    loan: str | None = None


def ledger_of(move: Move, *, checked: bool = True) -> Ledger:
    """The ledger of a project. Nothing is made before something is written.

    Raises LedgerError, unless it is not to be `checked`, where files of the project know of runs that it does not:
    identifiers would be given out a second time.
    """
    ledger = Ledger(move.ledger_path, move.files)
    found = next(unknown_to(move, ledger), None) if checked else None
    # what was read while a run ended may be a file of before; then it is gone by now
    found = next(unknown_to(move, ledger), None) if found is not None else None
    if found is not None:
        gone = "is not there" if not ledger.exists() else "is older than the project's files, or another one"
        raise LedgerError(
            f"the ledger {gone}: {found.what}. Identifiers that were given out would be given to other records.",
            place=Place(found.place),
            hint=f"Bring back the newest {move.shown(move.ledger_path)} from a backup. If there is none, or this one is "
            "meant, `mudanza ledger --older-ledger` takes it, and tells what must be done then. To begin anew, move "
            f"{move.shown(move.out)}/, loans/ and .mudanza/ away.",
        )
    return ledger


def witness(ledger: Ledger, run: int) -> tuple[Path, str]:
    """The file that a run leaves beside the ledger, and its text: the run, and the last number that each key book has
    given out."""
    return ledger.path.absolute().with_name(_WITNESS), json.dumps({"run": run, "given_out": given_out(ledger)}) + "\n"


def given_out(ledger: Ledger) -> dict[str, int]:
    """The last number that each key book has given out."""
    return dict(ledger.ask("SELECT book, MAX(last) FROM key_pages GROUP BY book ORDER BY book"))


def unknown_to(move: Move, ledger: Ledger) -> Iterator[Evidence]:
    """What the ledger should know and does not, but for what was accepted as lost."""
    # files first: what they tell was in the ledger before
    told = list(_told(move))
    # what a committed run is still to replace or to remove is of before
    pending = [Path(final).name for (final,) in ledger.ask("SELECT final FROM pending")]
    lost = {name for (name,) in ledger.ask("SELECT name FROM lost")} if ledger.has("lost") else set()
    reserved = _reserved(ledger)
    last = {book: max(number, reserved.get(book, 0)) for book, number in given_out(ledger).items()}
    runs = dict[int, list[dict[str, Any]]]()
    for one, written in told:
        if one.run not in runs:
            notes = ledger.ask("SELECT written FROM runs WHERE id = ? AND state IN ('done', 'taken back')", one.run)
            runs[one.run] = [{}, *(ledger.noted(notes[0][0], list) or [])] if notes else []
        short = any({**reserved, **last}.get(book, -1) < number for book, number in one.given.items())
        known = {str(file.get("sha256")) for file in runs[one.run]}
        if (
            Path(one.place).name not in pending
            and one.name not in lost
            and (not runs[one.run] or short or not written <= known)
        ):
            yield one
    yield from (one for one in (*_loans(move, ledger), *_incomplete(ledger)) if one.name not in lost)
    if not ledger.ask("SELECT 1 FROM runs WHERE state IN ('done', 'taken back') LIMIT 1"):
        yield from (one for one in _built(move) if one.name not in lost)


def _told(move: Move) -> Iterator[tuple[Evidence, set[str]]]:
    """What the last run left beside the ledger and the last build in out/, each with the digests of the files that it
    wrote."""
    for path in (move.ledger_path.with_name(_WITNESS), move.out / "run.json"):
        try:
            raw = path.read_bytes()
            noted = json.loads(raw)
            run = int(noted["run"])
            if not 0 < run < _MOST_RUNS:
                continue
            given = {str(book): int(last) for book, last in noted.get("given_out", {}).items()}
            written = {str(file["sha256"]) for one in noted.get("lists", ()) for file in one["files"]}
        except (OSError, ValueError, KeyError, TypeError, AttributeError, RecursionError):
            # there is none, or it is not as it was written, and so it tells nothing
            continue
        name = f"{path.name} {sha256(raw).hexdigest()}"
        yield (
            Evidence(name, move.shown(path), f"it does not know run {run}, as {path.name} tells of it", run, given),
            written,
        )


def _loans(move: Move, ledger: Ledger) -> Iterator[Evidence]:
    """Loans that were made."""
    folders = sorted(path.parent for path in (move.folder / "loans").glob(f"*/{LENT}"))
    known = {loan for (loan,) in ledger.ask("SELECT id FROM loans")} if folders else set()
    for folder in folders:
        if folder.name not in known:
            number = folder.name.rpartition("-")[2]
            run = int(number) if number.isdecimal() and len(number) < 10 else 0
            yield Evidence(
                f"loan {folder.name}",
                move.shown(folder),
                f"it does not know the loan {folder.name}",
                run,
                loan=folder.name,
            )


def _built(move: Move) -> Iterator[Evidence]:
    """Lists of which out/ has what a build writes."""
    for name in move.names("plans", ".toml"):
        path = move.out / f"{name}.held-back.csv"
        if path.is_file():
            yield Evidence(f"file {path.name}", move.shown(path), f"it knows of no run, and {name} was built")


def _reserved(ledger: Ledger) -> dict[str, int]:
    return dict(ledger.ask("SELECT book, last FROM reserved")) if ledger.has("reserved") else {}


def _incomplete(ledger: Ledger) -> Iterator[Evidence]:
    """Identifiers that a run is known to have given out, and that no page has."""
    pages: dict[str, list[tuple[int, int]]] = {}
    for book, first, last in ledger.ask("SELECT book, first, last FROM key_pages"):
        pages.setdefault(book, []).append((first, last))
    given = ledger.ask("SELECT book, first, run FROM given ORDER BY book, first") if ledger.has("given") else []
    for book, number, run in given:
        if not any(first <= number <= last for first, last in pages.get(book, ())):
            what = f"it lacks the identifiers of {book} that run {run} gave out, from number {number} on"
            yield Evidence(f"page {book} {number}", str(ledger.path), what, given={book: number})


def accept_as_lost(ledger: Ledger, run: int, evidence: list[Evidence], given: Mapping[str, int]) -> dict[str, int]:
    """Note that what the ledger does not know is lost, so that it is used as it is: numbers up to `given` are given
    out to nobody any more.

    Gives the last number of each key book that is kept free. The ledger must be held by the run.
    """
    now, before = given_out(ledger), _reserved(ledger)
    reserved = {}
    for book, last in sorted(given.items()):
        known = max(now.get(book, 0), before.get(book, 0))
        if last > known:
            # of groups it is not known which lost how many; none lost more than all together
            earlier = (reserved_of(ledger, book) or (0, 0))[1]
            row = (book, last, earlier + last - known)
            ledger.tell("INSERT OR REPLACE INTO reserved VALUES (?,?,?)", [row])
            reserved[book] = last
    ledger.tell("INSERT OR IGNORE INTO lost VALUES (?,?)", [(one.name, run) for one in evidence])
    return reserved


def reserved_of(ledger: Ledger, book: str) -> tuple[int, int] | None:
    """The last number of a key book that is given out to nobody, and how many numbers of each of its groups are not;
    None if there are none."""
    rows = ledger.ask("SELECT last, per_group FROM reserved WHERE book = ?", book) if ledger.has("reserved") else []
    return (int(rows[0][0]), int(rows[0][1])) if rows else None
