"""What came back of a loan, as it is told: what is to become of the records, what was put right, what is asked."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

import polars as pl

from mudanza.core.findings.codes import Severity
from mudanza.core.findings.tally import Group
from mudanza.core.values.digest import Digest
from mudanza.core.work.loans.conflicts import Conflict
from mudanza.core.work.loans.returned.opened import Opened
from mudanza.core.work.loans.spoilage.judging import Answer, Told


@dataclass(frozen=True)
class Answers:
    """What was said of a return: whether rows that did not come back are to be kept or removed (`missing`), and of columns, by title, whether what is spoilt in them is to be undone or taken as edits."""

    missing: str | None = None
    columns: Mapping[str, Answer] = field(default_factory=dict)
    #: an export of what the target holds; and by field which of two values is taken in a conflict (returned, present)
    current: Path | None = None
    prefer: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class Outcome:
    """What is to become of the records. `changes` are the cells to be changed (of `CHANGES`), `additions` and `removals` whole rows, `held` the cells that are neither changed nor as they were lent (line, field, value, why), and
    `held_rows` the rows of these, and of rows that cannot be told, as they came."""

    changes: pl.DataFrame
    additions: pl.DataFrame
    removals: pl.DataFrame
    held: pl.DataFrame
    held_rows: pl.DataFrame
    #: records that are to go and are in conflict
    disputed: pl.DataFrame


@dataclass(frozen=True)
class Review:
    """A review that was lent: its name, the workbook, and how much is to be decided in it."""

    id: str
    workbook: str
    rows: int


@dataclass(frozen=True)
class LoanReturn:
    """What came back: how many `rows`, in which file, saved by whom; what is to become of the records; what was `told` of spoilage; conflicts and findings.

    `blocked` says why nothing can be accepted. `files` are those written, if it was accepted.
    """

    loan: str
    subject: str
    lent: str
    rows: int
    opened: Opened
    outcome: Outcome
    told: tuple[Told, ...]
    conflicts: list[Conflict]
    findings: pl.DataFrame
    groups: list[Group]
    blocked: str | None
    files: list[Digest] = field(default_factory=list)
    #: how much nobody has decided yet
    waiting: int = 0
    review: Review | None = None

    @property
    def clean(self) -> bool:
        return not self.conflicts and not any(g.severity is Severity.STOP for g in self.groups)

    @property
    def held(self) -> int:
        """How many rows have something that is held back."""
        return self.outcome.held_rows.height

    @property
    def size(self) -> int:
        """How much is to become of the records."""
        return self.outcome.changes.height + self.outcome.additions.height + self.outcome.removals.height
