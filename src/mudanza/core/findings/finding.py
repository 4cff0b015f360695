"""What was noticed about data: the one shape of a finding, alone and in frames."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import KW_ONLY, dataclass
from typing import Any

import polars as pl

from mudanza.core.findings.codes import CODES, Severity

#: The columns of many findings, one row each: what a `Finding` has, and the severity of its code.
SCHEMA: dict[str, Any] = {
    "code": pl.String,
    "severity": pl.String,
    "file": pl.String,
    "line": pl.Int64,
    "cell": pl.String,
    "field": pl.String,
    "column": pl.String,
    "value": pl.String,
    "rule": pl.String,
    "hint": pl.String,
}
#: What people are shown of findings: there `column` is the field's heading, or the source's column where no field is spoken of.
SHOWN = [name for name in SCHEMA if name != "field"]


@dataclass(frozen=True)
class Finding:
    """Something noticed in a file, at a line (counted as a text editor does) or a cell: about the field of that heading, or about a column of a source.

    `value` is what stands there, `rule` what was asked.
    """

    code: str
    file: str | None = None
    line: int | None = None
    cell: str | None = None
    _: KW_ONLY
    field: str | None = None
    column: str | None = None
    value: str | None = None
    rule: str | None = None
    hint: str | None = None

    @property
    def severity(self) -> Severity:
        return CODES[self.code].severity

    @property
    def subject(self) -> str | None:
        """What it is about: the field, or else the column."""
        return self.field if self.field is not None else self.column


def frame(findings: Sequence[Finding]) -> pl.DataFrame:
    """Findings as a frame of `SCHEMA`."""
    rows = [
        (f.code, str(f.severity), *(getattr(f, name) for name in list(SCHEMA)[2:-1]), f.hint or CODES[f.code].next)
        for f in findings
    ]
    return pl.DataFrame(rows, schema=SCHEMA, orient="row")


def joined(parts: Sequence[pl.DataFrame]) -> pl.DataFrame:
    """Findings of one file in the order of their lines, those without a line last."""
    return pl.concat([pl.DataFrame(schema=SCHEMA), *parts]).sort("line", maintain_order=True, nulls_last=True)


def subject() -> pl.Expr:
    """What findings are about, as `Finding.subject`."""
    return pl.coalesce("field", "column")


def as_shown(findings: pl.DataFrame) -> pl.DataFrame:
    """Findings with the columns that people are shown."""
    return findings.with_columns(subject().alias("column")).select(SHOWN)
