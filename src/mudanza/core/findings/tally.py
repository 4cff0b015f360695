"""Many findings counted."""

from __future__ import annotations

from dataclasses import dataclass, field

import polars as pl

from mudanza.core.findings.codes import CODES, Severity
from mudanza.core.findings.finding import Finding, subject


@dataclass(frozen=True)
class Group:
    """Findings of one code on one subject (a field or a column): how many, and the first of them."""

    code: str
    severity: Severity
    subject: str | None
    count: int
    example: Finding


@dataclass
class Tally:
    """Counts findings by code and subject as they pass, keeping the first of each as an example."""

    _groups: dict[tuple[str, str | None], tuple[int, Finding]] = field(default_factory=dict)

    def add(self, findings: pl.DataFrame) -> None:
        """Count a frame of findings."""
        if findings.is_empty():
            return
        grouped = findings.group_by("code", subject().alias("subject"), maintain_order=True).agg(
            pl.len().alias("count"), pl.all().exclude("code", "severity").first()
        )
        for row in grouped.iter_rows(named=True):
            count, about = row.pop("count"), row.pop("subject")
            self._count((row["code"], about), count, Finding(**row))

    def merge(self, later: Tally) -> None:
        """Count what another tally counted, whose findings come after all of these."""
        for key, (count, example) in later._groups.items():
            self._count(key, count, example)

    def _count(self, key: tuple[str, str | None], count: int, example: Finding) -> None:
        seen, first = self._groups.get(key, (0, example))
        self._groups[key] = (seen + count, first)

    def groups(self) -> list[Group]:
        """The groups, worst first, then most frequent, then by name."""
        order = list(Severity)
        groups = [
            Group(code, CODES[code].severity, about, count, example)
            for (code, about), (count, example) in self._groups.items()
        ]
        return sorted(groups, key=lambda g: (order.index(g.severity), -g.count, g.code, g.subject or ""))
