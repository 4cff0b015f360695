"""Looking into key books, and entering what people know of them: what the target gave, a correction, that two old identifiers are of one record."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import polars as pl

from mudanza.core.documents.errors import MoveError, Place, counted, few
from mudanza.core.language.value import identity
from mudanza.core.plans.move import Move
from mudanza.core.state.evidence import ledger_of
from mudanza.core.state.key_entries import (
    CORRECTED,
    ENTRIES,
    IMPORTED,
    JOINED,
    Entered,
    enter,
    entered,
    standing_entries,
)
from mudanza.core.state.key_pages import open_book
from mudanza.core.state.ledger import Ledger
from mudanza.core.state.running import running
from mudanza.core.tables.key_book import KeyBook
from mudanza.core.values.digest import digest_of
from mudanza.core.values.row_columns import BETWEEN, shown_key
from mudanza.core.work.given_files import given_columns

COMMAND = "keys"
#: more are not shown, but counted
_MOST = 50


@dataclass(frozen=True)
class BookFacts:
    """A key book: its name and pattern, how many old identifiers it knows, how many new ones builds gave out, and how many were entered how."""

    name: str
    pattern: str
    known: int
    given: int
    entered: dict[str, int]


@dataclass(frozen=True)
class FoundKey:
    """An old identifier as people write it, its new one, and what was entered of it: run, how, why, by whom, and the new identifier before."""

    old: str
    new: str
    entries: list[tuple[int, str, str | None, str | None, str | None]]


@dataclass(frozen=True)
class EnteredNow:
    """What was entered by a `run`: how many new, how many that were known just so, how many lines had no new identifier; and examples of old, new and the one before."""

    run: int
    book: str
    how: str
    count: int
    same: int
    blank: int
    examples: list[tuple[str, str, str | None]]


def key_books(move: Move) -> list[BookFacts]:
    """The key books of a move."""
    ledger = ledger_of(move)
    given = ledger.books()
    found = []
    for name, pattern in move.key_patterns.items():
        counts: dict[str, int] = {}
        for one in entered(ledger, name):
            counts[one.how] = counts.get(one.how, 0) + one.rows.height
        known = open_book(ledger, name, pattern).all().height
        found.append(BookFacts(name, pattern.shown, known, given.get(name, 0), counts))
    return found


@dataclass(frozen=True)
class FoundKeys:
    """How many old identifiers were found, and the first of them."""

    count: int
    keys: list[FoundKey]


def find_keys(move: Move, book: str, text: str) -> FoundKeys:
    """Old identifiers that are, or hold as one of their parts, a text, or whose new one it is."""
    ledger = ledger_of(move)
    every = open_book(ledger, book, move.key_pattern(book)).all()
    text = text.strip()
    parts = pl.col("identity").str.split(BETWEEN)
    mine = every.filter((pl.col("key") == text) | (shown_key(pl.col("identity")) == text) | parts.list.contains(text))
    log = entered(ledger, book)
    shown = []
    for old, new in mine.head(_MOST).iter_rows():
        entries = [
            (one.run, one.how, one.because, one.who, before)
            for one in log
            for before in one.rows.filter(pl.col("identity") == old)["before"]
        ]
        shown.append(FoundKey(_plain(old), new, entries))
    return FoundKeys(mine.height, shown)


def import_keys(
    move: Move,
    book: str,
    path: Path,
    old: Sequence[str],
    new: str,
    *,
    replace: bool = False,
    because: str | None = None,
    who: str | None = None,
) -> EnteredNow:
    """Enter new identifiers from a file: `old` are its columns of the old one (a text that begins with = stands for itself), `new` the one of the new.

    Raises SourceError where a column is missing or a row is damaged, MoveError where an old identifier has another new one already (unless they are to be replaced), or two old ones
    would have the same.
    """
    shown = move.shown(path.resolve())
    rows, blank = _rows_of(path, shown, old, new)
    ledger, pattern = ledger_of(move), move.key_pattern(book)
    # what cannot be is told before the ledger knows of a run
    _fresh(open_book(ledger, book, pattern), rows, shown, replace=replace)
    with running(ledger, COMMAND, f"{book}: import") as run:
        fresh = _fresh(open_book(ledger, book, pattern), rows, shown, replace=replace)
        if fresh.height:
            enter(ledger, book, Entered(run.id, IMPORTED, because or f"from {shown}", who, fresh))
        run.commit(read=[digest_of(path, shown).as_dict()])
    return EnteredNow(run.id, book, IMPORTED, fresh.height, rows.height - fresh.height, blank, _examples(fresh))


def _fresh(known: KeyBook, rows: pl.DataFrame, shown: str, *, replace: bool) -> pl.DataFrame:
    """What rows (identity, key) have that a book does not know so (`ENTRIES`). Raises MoveError where it cannot be entered."""
    before = known.find(rows["identity"]).rename({"key": "before"})
    made = rows.join(before, on="identity", how="left", maintain_order="left")
    fresh = made.filter(pl.col("key").ne_missing(pl.col("before")))
    other = fresh.filter(pl.col("before").is_not_null())
    if other.height and not replace:
        old, key, was = other.select(list(ENTRIES)).row(0)
        raise MoveError(
            f"{counted(other.height, 'old identifier')} would get another new one, as {_plain(old)}: {was}, not {key}.",
            place=Place(shown),
            hint="What was given out stays given out, unless --replace says that the file is right.",
        )
    _check_free(known, fresh, shown)
    return fresh


def _rows_of(path: Path, shown: str, old: Sequence[str], new: str) -> tuple[pl.DataFrame, int]:
    """The old and new identifiers of a file (identity, key), and how many of its lines lack one."""
    rows = given_columns(path, shown, [*(name for name in old if not name.startswith("=")), new])
    parts = [pl.lit(name.removeprefix("=")) if name.startswith("=") else pl.col(name) for name in old]
    made = rows.select(identity(parts).alias("identity"), pl.col(new).alias("key"))
    good = made.drop_nulls().unique("identity", keep="last", maintain_order=True)
    return good, made.height - made.drop_nulls().height


def _check_free(known: KeyBook, fresh: pl.DataFrame, shown: str | None = None) -> None:
    """Raise where a new identifier is, or ever was, another's: only a join says that two have one."""
    ever = known.taken().select("key", pl.col("identity").alias("other"))
    among = fresh.select("key", pl.col("identity").alias("other"))
    wrong = fresh.join(pl.concat([ever, among]), on="key", how="inner", maintain_order="left")
    wrong = wrong.filter(pl.col("other") != pl.col("identity"))
    if wrong.height:
        old, key, other = wrong.select("identity", "key", "other").row(0)
        raise MoveError(
            f"{key} cannot be the new identifier of {_plain(old)}: it is, or was, that of {_plain(other)}.",
            place=Place(shown) if shown else None,
            hint="If both are of one record, join them: mudanza keys BOOK --join OLD OTHER.",
        )


def correct_key(move: Move, book: str, old: str, new: str, because: str, who: str | None = None) -> EnteredNow:
    """Give an old identifier another new one. Raises MoveError where it is not known, or another has the new one."""
    return _one(move, book, CORRECTED, old, new.strip(), because, who)


def join_keys(move: Move, book: str, old: str, other: str, because: str, who: str | None = None) -> EnteredNow:
    """Say that two old identifiers are of one record: the other gets the new identifier of the first. Raises MoveError where one is not known."""
    return _one(move, book, JOINED, other, None, because, who, like=old)


def _one(
    move: Move, book: str, how: str, old: str, new: str | None, because: str, who: str | None, like: str = ""
) -> EnteredNow:
    if not because.strip():
        raise MoveError("a reason is needed.", hint='Say why: --because "…".')
    ledger, pattern = ledger_of(move), move.key_pattern(book)
    # what cannot be is told before the ledger knows of a run
    _entry(open_book(ledger, book, pattern), old, new, like)
    with running(ledger, COMMAND, f"{book}: {how} {old}") as run:
        rows = _entry(open_book(ledger, book, pattern), old, new, like)
        enter(ledger, book, Entered(run.id, how, because, who, rows))
        run.commit()
    return EnteredNow(run.id, book, how, 1, 0, 0, _examples(rows))


def _entry(known: KeyBook, old: str, new: str | None, like: str) -> pl.DataFrame:
    """The entry (`ENTRIES`) that gives an old identifier a new one or, if that is None, the one of another. Raises MoveError where it cannot be."""
    mine, before = _identity(known, old)
    other = mine if new is not None else _identity(known, like)[0]
    key = new if new is not None else _identity(known, like)[1]
    if not key or key == before:
        said = f"{_plain(mine)} and {_plain(other)}" if other != mine else _plain(mine)
        raise MoveError(
            f"{said} has {before} already." if key else "the new identifier is blank.",
            hint=f"`mudanza keys {known.name} --find {before}` tells who has it.",
        )
    rows = pl.DataFrame([(mine, key, before)], schema=ENTRIES, orient="row")
    if new is not None:
        _check_free(known, rows)
    return rows


def _identity(known: KeyBook, text: str) -> tuple[str, str]:
    """The old identifier that a text means, as it stands or by its new one, with the new one."""
    every = known.all()
    text = text.strip()
    found = every.filter((shown_key(pl.col("identity")) == text) | (pl.col("key") == text))
    if found.is_empty():
        parts = pl.col("identity").str.split(BETWEEN)
        found = every.filter(parts.list.contains(text))
    if found.is_empty():
        raise MoveError(
            f"the key book {known.name!r} does not know {text!r}.",
            hint=f"`mudanza keys {known.name} --find TEXT` looks for it; several parts are written with commas: north, 01003.",
        )
    if found.height > 1:
        raise MoveError(
            f"{text!r} may be {few([_plain(one) for one in found['identity']])}.",
            hint="Write all of its parts, with commas.",
        )
    old, key = found.row(0)
    return str(old), str(key)


def _examples(rows: pl.DataFrame) -> list[tuple[str, str, str | None]]:
    return rows.head(3).select(shown_key(pl.col("identity")), "key", "before").rows()


def _plain(identity: str) -> str:
    return identity.replace(BETWEEN, ", ")


def replaced_keys(ledger: Ledger, book: str) -> pl.DataFrame:
    """New identifiers that an old one had before it was joined to another, corrected, or imported: `before`, the one that it has now (key), and how that came."""
    log = entered(ledger, book)
    now = standing_entries(log).select("identity", "key", "how")
    had = [one.rows.filter(pl.col("before").is_not_null()).select("before", "identity") for one in log]
    every = pl.concat([pl.DataFrame(schema={"before": pl.String, "identity": pl.String}), *had])
    last = every.unique("before", keep="last", maintain_order=True)
    return last.join(now, on="identity", how="inner", maintain_order="left").select("before", "key", "how")
