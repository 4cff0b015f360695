"""Crosswalks as files: `from,to`, further columns to look up by, and `upto`, `note` and `state`."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from mudanza.core.documents.errors import MoveError, Place
from mudanza.core.plans.own_tables import own_entries, own_headings
from mudanza.core.tables.crosswalk import PROPOSED, Crosswalk, Entry, plain_number

_OWN = ("from", "upto", "to", "note", "state")


def heading_of(path: Path) -> list[str]:
    """The columns of a crosswalk's file. Raises MoveError where from or to is missing."""
    return own_headings(path, ("from", "to"))


def further_columns(headings: Sequence[str]) -> list[str]:
    """The columns to look up by beside the code, in their order."""
    return [h for h in headings if h not in _OWN]


def entries_of(path: Path) -> list[Entry]:
    """All entries of a crosswalk's file, proposals too.

    Raises MoveError for a missing column, a damaged row, a code that stands twice, or a range that is none.
    """
    headings = heading_of(path)
    when = further_columns(headings)
    entries = []
    for line, texts in own_entries(path):
        further = tuple(texts[w] for w in when)
        own = {name: texts.get(name, "") for name in ("upto", "note", "state")}
        entries.append(Entry(line, texts["from"], further, texts["to"], **own))
    _check(entries, path)
    return entries


def _check(entries: Sequence[Entry], path: Path) -> None:
    first: dict[tuple[str, ...], int] = {}
    for entry in entries:
        if entry.key in first:
            shown = ", ".join(part for part in entry.key if part)
            raise MoveError(
                f"the code {shown!r} stands in lines {first[entry.key]}, {entry.line}.",
                place=Place(str(path), line=entry.line),
                hint="A code has one meaning; take the wrong line out, or add a column that tells them apart.",
            )
        first[entry.key] = entry.line
        if entry.upto and (plain_number(entry.code) is None or plain_number(entry.upto) is None):
            raise MoveError(
                f"{entry.code!r} to {entry.upto!r} is no range of numbers.",
                place=Place(str(path), line=entry.line),
                hint="A range has plain numbers in from and upto; leave upto blank for a single code.",
            )
        if entry.state not in ("", PROPOSED, "confirmed"):
            raise MoveError(
                f"{entry.state!r} is no state of an entry.",
                place=Place(str(path), line=entry.line),
                hint=f"It is {PROPOSED} or confirmed; blank is confirmed.",
            )


def blank_crosswalk(further: Sequence[str]) -> str:
    """The text of a crosswalk without entries."""
    return ",".join(["from", "to", *further, "state", "note"]) + "\n"


def read_crosswalk(path: Path) -> Crosswalk:
    """The crosswalk of a file. Raises MoveError where it is wrong."""
    entries = entries_of(path)
    return Crosswalk(
        path.stem,
        ("from", *further_columns(heading_of(path))),
        tuple(e for e in entries if e.state != PROPOSED),
        tuple(e for e in entries if e.state == PROPOSED),
    )
