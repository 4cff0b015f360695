"""What was noticed about data: the shape of a finding, and the tally of many."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import polars as pl

from mudanza.core.codes import CODES, Severity

#: The shape of many findings: one row each, in the order they were met.
SCHEMA: dict[str, Any] = {
    "code": pl.String,
    "severity": pl.String,
    "file": pl.String,
    "line": pl.Int64,
    "cell": pl.String,
    "column": pl.String,
    "value": pl.String,
    "rule": pl.String,
    "hint": pl.String,
}


@dataclass(frozen=True)
class Finding:
    """Something noticed. `line` counts as a text editor does; `value` is what stands there."""

    code: str
    file: str | None = None
    line: int | None = None
    cell: str | None = None
    column: str | None = None
    value: str | None = None
    rule: str | None = None
    hint: str | None = None

    @property
    def severity(self) -> Severity:
        return CODES[self.code].severity

    def as_dict(self) -> dict[str, Any]:
        row = {name: getattr(self, name) for name in SCHEMA}
        row["severity"] = str(self.severity)
        row["hint"] = self.hint or CODES[self.code].next
        return row


def frame(findings: list[Finding]) -> pl.DataFrame:
    """Findings as a frame of `SCHEMA`."""
    return pl.DataFrame([f.as_dict() for f in findings], schema=SCHEMA)


@dataclass(frozen=True)
class Group:
    """Findings of one code on one column: how many, and the first of them."""

    code: str
    severity: Severity
    column: str | None
    count: int
    example: Finding


@dataclass
class Tally:
    """Counts findings by code and column as they pass, keeping the first of each as an example."""

    _groups: dict[tuple[str, str | None], tuple[int, Finding]] = field(default_factory=dict)

    def add(self, findings: pl.DataFrame) -> None:
        """Count a frame of `SCHEMA`."""
        if findings.is_empty():
            return
        grouped = findings.group_by("code", "column", maintain_order=True).agg(
            pl.len().alias("count"), pl.all().exclude("code", "column").first()
        )
        for row in grouped.iter_rows(named=True):
            count = row.pop("count")
            row.pop("severity")
            key = (row["code"], row["column"])
            seen, first = self._groups.get(key, (0, None))
            self._groups[key] = (seen + count, first or Finding(**row))

    def groups(self) -> list[Group]:
        """The groups, worst first, then most frequent, then by name."""
        order = list(Severity)
        groups = [
            Group(code, CODES[code].severity, column, count, example)
            for (code, column), (count, example) in self._groups.items()
        ]
        return sorted(groups, key=lambda g: (order.index(g.severity), -g.count, g.code, g.column or ""))
