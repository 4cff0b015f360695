"""What a build gives back, and how it is told as JSON."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import date
from typing import Any

from mudanza.core.building.comparing import Compared
from mudanza.core.codes import Severity
from mudanza.core.files import Digest
from mudanza.core.findings import Group


@dataclass
class Balance:
    """The ends of rows. Every row that was read ends in exactly one of them."""

    read: int = 0
    written: int = 0
    merged: int = 0
    held_back: int = 0
    skipped: dict[str, int] = field(default_factory=dict)

    @property
    def skipped_total(self) -> int:
        return sum(self.skipped.values())

    @property
    def holds(self) -> bool:
        return self.read == self.written + self.skipped_total + self.merged + self.held_back

    def skip(self, rules: Mapping[str, int]) -> None:
        for rule, count in rules.items():
            self.skipped[rule] = self.skipped.get(rule, 0) + count

    def as_dict(self) -> dict[str, Any]:
        return {
            "read": self.read,
            "skipped": self.skipped_total,
            "merged": self.merged,
            "held_back": self.held_back,
            "written": self.written,
        }


@dataclass(frozen=True)
class ListResult:
    """What became of one list. `name` is the list's; `files` are those written (or that would be, in a rehearsal)."""

    name: str
    balance: Balance
    by_source: dict[str, Balance]
    findings: list[Group]
    files: list[Digest]
    read: list[Digest]
    keys_given: dict[str, int]
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


def group_document(group: Group) -> dict[str, Any]:
    """A group of findings as JSON."""
    example = {k: v for k, v in group.example.as_dict().items() if k not in ("code", "severity", "column")}
    return {
        "code": group.code,
        "severity": str(group.severity),
        "field": group.column,
        "count": group.count,
        "example": example,
    }


def build_document(result: BuildResult) -> dict[str, Any]:
    """A build as the JSON that is documented in docs/commands.md; the same in run.json."""
    return {
        "run": result.run,
        "as_of": result.as_of.isoformat(),
        "lists": [
            {
                "list": one.name,
                **one.balance.as_dict(),
                "skipped_by": one.balance.skipped,
                "sources": {name: balance.as_dict() for name, balance in one.by_source.items()},
                "keys_given": one.keys_given,
                "files": [d.as_dict() for d in one.files],
                "sources_read": [d.as_dict() for d in one.read],
                "findings": [group_document(g) for g in one.findings],
                **({"compared": one.compared.as_dict()} if one.compared else {}),
            }
            for one in result.lists
        ],
    }
