"""The words of field lists in many languages: what their columns are headed, how they call types, and what they say for required.

They stand in `field_lists.csv`; a word that is not there is looked up in the words that `match` knows headings by.
"""

from __future__ import annotations

import csv
import re
from collections.abc import Mapping, Sequence
from functools import cache
from importlib.resources import files

from mudanza.core.work.matching.meaning.headings import Headings
from mudanza.core.work.matching.meaning.lexicon import lexicon
from mudanza.core.work.matching.meaning.tokens import folded

#: what the words of `match` mean for a field list
_BY_IDEA = {
    "type": "type",
    "length": "length",
    "size": "length",
    "description": "description",
    "note": "description",
    "format": "format",
    "minimum": "minimum",
    "maximum": "maximum",
    "name": "title",
    "reference": "refers",
}


@cache
def _words(kind: str) -> Mapping[str, tuple[str, ...]]:
    """Word → the meanings that it can have, those that stand first in the table first."""
    found: dict[str, tuple[str, ...]] = {}
    table = files("mudanza.core.work.proposing").joinpath("field_lists.csv").read_text("utf-8")
    for row in csv.DictReader(table.splitlines()):
        if row["kind"] == kind:
            for word in row["words"].split("|"):
                known = found.get(_plain(word), ())
                if row["meaning"] not in known:
                    found[_plain(word)] = (*known, row["meaning"])
    return found


def _plain(text: str) -> str:
    return " ".join(re.sub(r"[_\-.:*()/]+", " ", folded(text)).split())


def roles_of(headings: Sequence[str]) -> dict[str, int]:
    """The columns of a field list by what they say (name, title, type, length, required, values, …); a role has one column."""
    known = _words("role")
    wanted: list[tuple[int, str, int]] = []
    understood = Headings(lexicon(), headings)
    for at, heading in enumerate(headings):
        plain = _plain(re.sub(r"\(.*?\)|\[.*?\]", " ", heading)) or _plain(heading)
        meant = known.get(plain, ())
        if not meant:
            ideas = understood.meaning(heading).ideas if heading.strip() else frozenset()
            meant = (_BY_IDEA[next(iter(ideas))],) if len(ideas) == 1 and next(iter(ideas)) in _BY_IDEA else ()
        wanted += [(rank, role, at) for rank, role in enumerate(meant)]
    found: dict[str, int] = {}
    # the surer meaning of a heading goes first; a column has one role
    for _, role, at in sorted(wanted, key=lambda one: one[0]):
        if role not in found and at not in found.values():
            found[role] = at
    return found


def type_word(text: str) -> str | None:
    """The datatype that a word is for; None if it is for none."""
    plain = _plain(re.sub(r"\(.*?\)|\d+", " ", text))
    known = _words("type")
    for phrase in (plain, plain.split(" ")[0] if plain else ""):
        if phrase in known:
            return known[phrase][0]
    return next((known[word][0] for word in plain.split() if word in known), None)


def required_word(text: str) -> bool | None:
    """Whether a cell says that a field is required; None if it says neither."""
    plain = _plain(text)
    meant = _words("required").get(plain) or _words("required").get(plain.split(" ")[0] if plain else "")
    return None if not meant else meant[0] == "yes"


_DATE_PART = re.compile(r"([A-Za-z])\1*")


def date_pattern(text: str) -> str | None:
    """A date pattern as people write it (DD/MM/YYYY, TT.MM.JJJJ, jj/mm/aaaa hh:mm) in Unicode's letters; None if it is none."""
    made, seen = "", set()
    at = 0
    text = text.strip()
    for match in _DATE_PART.finditer(text):
        run, between = match.group(), text[at : match.start()]
        letter, size = run[0].lower(), len(run)
        if re.search(r"[A-Za-z0-9]", between):
            return None
        if letter == "t" and size == 1 and "d" in seen:
            part = "'T'"
        elif letter in "yaj" and size == 4:
            part = "yyyy"
        elif letter in "dtjg" and size <= 2 and "d" not in seen:
            part = "d" * size
        elif letter in "yaj" and size == 2:
            part = "yy"
        elif letter == "m" and size <= 2:
            part = "mm" if "H" in seen else "M" * size
        elif letter == "h" and size <= 2:
            part = "H" * size
        elif letter in "ni" and size <= 2 and "H" in seen:
            part = "mm"
        elif letter == "s" and size == 2:
            part = "ss"
        else:
            return None
        seen.add(part[0] if part != "'T'" else "T")
        made += between + part
        at = match.end()
    made += text[at:]
    return made if {"y", "M", "d"} <= seen or {"H", "m"} <= seen else None
