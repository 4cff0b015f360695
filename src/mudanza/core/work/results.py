"""What a build gives back."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date

from mudanza.core.engine.summary import Balance
from mudanza.core.findings.codes import Severity
from mudanza.core.findings.tally import Group
from mudanza.core.values.digest import Digest
from mudanza.core.work.difference import Compared


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

    @property
    def clean(self) -> bool:
        """Whether nothing was held back and no finding is of severity stop."""
        return self.balance.held_back == 0 and not any(g.severity is Severity.STOP for g in self.findings)


@dataclass(frozen=True)
class BuildResult:
    """A run of build. `run` is None for a rehearsal."""

    run: int | None
    as_of: date
    lists: list[ListResult]
