"""What the target has taken in: the hand-overs of builds, and the records that it holds by them."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import polars as pl

from mudanza.core.state.bodies import packed, unpacked
from mudanza.core.state.ledger import Ledger

#: a record that the target holds: its key, a hash of it, the run that wrote it so first, whether it left (the target was told of it for the last time), and the
#: target's own identifier
HELD_RECORDS = {"key": pl.String, "record": pl.UInt64, "run": pl.Int64, "left": pl.Boolean, "there": pl.String}
#: what a hand-over changed of that (a record that is gone has no hash), whether the target took it, and what it said
TOLD = {**HELD_RECORDS, "took": pl.Boolean, "outcome": pl.String}


@dataclass(frozen=True)
class HandOver:
    """That the target took in a build's files of a list: noted by a `run`, with what was imported (`how`), whether the target was emptied before (`anew`), when and by whom,
    and how many records ended how. `taken_back` is the run that took the hand-over back."""

    run: int
    list_name: str
    build: int
    how: str
    anew: bool
    moment: str
    by: str | None
    note: str | None
    counts: Mapping[str, int] = field(default_factory=dict)
    taken_back: int | None = None


def hand_overs(ledger: Ledger, list_name: str | None = None) -> list[HandOver]:
    """The hand-overs of a list, or of all, oldest first; those that were taken back among them."""
    if not ledger.has("handed_over"):
        return []
    query = (
        "SELECT run, list, build, how, anew, moment, by, note, counts, taken_back FROM handed_over ORDER BY run, list"
    )
    every = [
        HandOver(run, name, build, how, bool(anew), moment, by, note, json.loads(counts), taken_back)
        for run, name, build, how, anew, moment, by, note, counts, taken_back in ledger.ask(query)
    ]
    return [one for one in every if list_name in (None, one.list_name)]


def standing(overs: Sequence[HandOver]) -> list[HandOver]:
    """Those that were not taken back."""
    return [one for one in overs if one.taken_back is None]


def told_by(ledger: Ledger, one: HandOver) -> pl.DataFrame:
    """What a hand-over changed (`TOLD`)."""
    ((body,),) = ledger.ask("SELECT body FROM handed_over WHERE run = ? AND list = ?", one.run, one.list_name)
    return unpacked(ledger, body, one.list_name, one.run)


def in_target(ledger: Ledger, list_name: str) -> pl.DataFrame:
    """The records of a list that the target holds (`HELD_RECORDS`), as far as hand-overs tell."""
    parts = [pl.DataFrame(schema=HELD_RECORDS)]
    for one in standing(hand_overs(ledger, list_name)):
        if one.anew:
            parts = parts[:1]
        parts.append(told_by(ledger, one).filter("took").select(list(HELD_RECORDS)))
    known = pl.concat(parts).unique("key", keep="last", maintain_order=True)
    return known.filter(pl.col("record").is_not_null())


def note_hand_over(ledger: Ledger, one: HandOver, told: pl.DataFrame) -> None:
    """Remember a hand-over and what it changed (`TOLD`). The ledger must be held by its run."""
    body = packed(told.select(list(TOLD)), one.list_name, one.run)
    known = (one.run, one.list_name, one.build, one.how, int(one.anew), one.moment, one.by, one.note)
    row = (*known, json.dumps(dict(one.counts)), None, body)
    ledger.tell(f"INSERT INTO handed_over VALUES ({','.join('?' * len(row))})", [row])


def take_hand_over_back(ledger: Ledger, one: HandOver, run: int) -> None:
    """Note that a `run` took a hand-over back; it must hold the ledger."""
    ledger.tell("UPDATE handed_over SET taken_back = ? WHERE run = ? AND list = ?", [(run, one.run, one.list_name)])
