"""Plans as plain data: how a list's sources become its layout."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

from mudanza.core.documents.document import Document
from mudanza.core.documents.errors import LanguageError, MudanzaError, Place
from mudanza.core.documents.marks import KeyPath
from mudanza.core.layouts.layout import Layout
from mudanza.core.plans.leavers import Leaving
from mudanza.core.plans.together import Together
from mudanza.core.plans.totals import WantedTotal
from mudanza.core.sources.reader import ReadOptions

#: the ends of a row that a plan can expect
ENDS = ("written", "held back", "skipped", "merged")
#: what becomes of a record whose reference leads nowhere: of all that is not said, the first
NOWHERE = ("hold back", "blank", "write")


@dataclass(frozen=True)
class Source:
    """What feeds a list: a file, the files of a pattern, or a database of the move. `lacks` names columns that it does not
    have, on purpose; `adds` are columns that it gets, with the value of all its rows."""

    name: str
    options: ReadOptions
    file: str | None = None
    database: str | None = None
    lacks: tuple[str, ...] = ()
    adds: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class LookupTable:
    """A table to look up in, with the columns that are its key: a source, or what another list's build wrote."""

    name: str
    keys: tuple[str, ...]
    fold: bool
    source: Source | None
    list: str | None = None


@dataclass(frozen=True)
class Expectation:
    """What a plan expects of one record, which is found by values of its `row` in the source or by its `key` in the target: how its row ends,
    and the texts of its fields."""

    row: Mapping[str, str]
    key: str | None
    ends: str
    fields: Mapping[str, str]

    @property
    def shown(self) -> str:
        return self.key or ", ".join(f"{column} {value}" for column, value in self.row.items())


@dataclass(frozen=True)
class Plan:
    """A plan as written. `flows` maps field names to flows; `left_behind` columns to reasons; `references` the fields of
    references to what becomes of one that leads nowhere, `leavers` sorts of leavers to what becomes of them, where that is said; `document` is the text that says it all."""

    name: str
    document: Document
    layout: Layout
    sources: tuple[Source, ...]
    keep: str | None = None
    sort: tuple[str, ...] = ()
    flows: Mapping[str, str] = field(default_factory=dict)
    left_behind: Mapping[str, str] = field(default_factory=dict)
    lookups: Mapping[str, LookupTable] = field(default_factory=dict)
    references: Mapping[tuple[str, ...], str] = field(default_factory=dict)
    leavers: Mapping[str, Leaving] = field(default_factory=dict)
    expectations: tuple[Expectation, ...] = ()
    totals: tuple[WantedTotal, ...] = ()
    together: tuple[Together, ...] = ()

    @property
    def path(self) -> Path:
        return self.document.path

    @property
    def text(self) -> str:
        return self.document.text

    def stays_behind(self, column: str) -> str | None:
        """Why a column is left behind: what is said of it by its name, or of a pattern in which * stands for anything; None if nothing is."""
        if column in self.left_behind:
            return self.left_behind[column]
        return next((why for name, why in self.left_behind.items() if "*" in name and matches(name, column)), None)

    def error(self, what: str, at: KeyPath, hint: str | None = None) -> MudanzaError:
        """An error at a key of the plan."""
        return self.document.fail(at, what, hint)

    def placed(self, error: LanguageError, at: KeyPath, flow: str) -> LanguageError:
        """A language error, with its caret moved from the flow to the plan's line."""
        inner = error.place or Place()
        place = self.document.within(at, flow, inner.start, inner.end)
        if place is None:
            # the plan writes the flow otherwise, with signs escaped
            begin = flow.rfind("\n", 0, inner.start) + 1
            piece = flow[begin:].split("\n")[0]
            line = self.document.place(at).line
            place = Place(
                str(self.path), line, str(at[-1]), text=piece, start=inner.start - begin, end=inner.end - begin
            )
        return error.moved(place)


def matches(pattern: str, column: str) -> bool:
    """Whether a column's name is one of a pattern, in which * stands for anything."""
    return re.fullmatch(".*".join(map(re.escape, pattern.split("*"))), column, re.DOTALL) is not None
