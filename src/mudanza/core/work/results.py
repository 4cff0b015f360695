"""What a build gives back."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import date

from mudanza.core.engine.summary import Balance
from mudanza.core.engine.totals import Amount, Amounts
from mudanza.core.findings.codes import Severity
from mudanza.core.findings.tally import Group
from mudanza.core.values.digest import Digest
from mudanza.core.work.again.leavers import Leavers
from mudanza.core.work.difference import ChangedField, Compared


@dataclass(frozen=True)
class SourceIdentities:
    """What the written rows of a source asked a key book for: old identifiers that have a new one since an earlier run, those that are given one now, and those that
    the source brought in the build before and does not bring now."""

    source: str
    book: str
    known: int
    new: int
    missing: int


@dataclass(frozen=True)
class ToTarget:
    """What a build of a list is to the target, or to the run that it is compared with (`against`, in words): of the records written, how many are the same, new, changed and
    changed for the last time; of the others that the target holds, how many are marked, taken out, left as they are, and were told before; the leavers by their reasons; and
    whether files of it are written."""

    against: str
    same: int
    added: int
    changed: int
    last: int
    marked: int
    removed: int
    left: int
    told_before: int
    leavers: list[Leavers]
    files: bool
    #: where files are written: keys of some that are new, and the fields that change
    added_keys: list[str] = field(default_factory=list)
    fields: list[ChangedField] = field(default_factory=list)


@dataclass(frozen=True)
class Agreed:
    """That a sum is what the plan says, or what is `printed` with the rows: of a source (None: of all), by its end."""

    source: str | None
    end: str
    printed: bool


@dataclass(frozen=True)
class ControlTotal:
    """The sum of a field (its name and heading) by source and end, of all sources, and of leavers, where something is known of what the target holds; and which sums are as they should be."""

    field: str
    title: str
    by_source: dict[str, Amounts]
    total: Amounts
    left: Amount | None
    agreed: tuple[Agreed, ...] = ()


@dataclass(frozen=True)
class ListResult:
    """What became of one list. `name` is the list's; `files` are those written (or that would be, in a rehearsal), `read` those of sources and lookups,
    `made_by` plan, layout and crosswalks."""

    name: str
    balance: Balance
    by_source: dict[str, Balance]
    findings: list[Group]
    files: list[Digest]
    read: list[Digest]
    made_by: list[Digest]
    keys_given: dict[str, int]
    identities: list[SourceIdentities]
    compared: Compared | None = None
    to_target: ToTarget | None = None
    totals: list[ControlTotal] = field(default_factory=list)

    @property
    def clean(self) -> bool:
        """Whether nothing was held back and no finding is of severity stop."""
        return self.balance.held_back == 0 and not any(g.severity is Severity.STOP for g in self.findings)


@dataclass(frozen=True)
class Cascade:
    """How many rows of a list are held back because rows of another (`because_of`) are: held back themselves or, if not `held_back`, left out."""

    list_name: str
    because_of: str
    held_back: bool
    rows: int


@dataclass(frozen=True)
class BuildResult:
    """A run of build. `run` is None for a rehearsal."""

    run: int | None
    as_of: date
    lists: list[ListResult]
    #: the values that it was run with, by their names
    values: dict[str, str] = field(default_factory=dict)
    cascades: list[Cascade] = field(default_factory=list)
    #: the last number that each key book has given out
    given_out: dict[str, int] = field(default_factory=dict)
