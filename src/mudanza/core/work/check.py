"""Checking a file that anyone made against a layout."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import polars as pl

from mudanza.core.findings.codes import Severity
from mudanza.core.findings.finding import SCHEMA, Finding, frame
from mudanza.core.findings.tally import Group, Tally
from mudanza.core.layouts.layout import Layout
from mudanza.core.sources.ahead import read_ahead
from mudanza.core.sources.noticing import noticed_in
from mudanza.core.values.kinds import Kind
from mudanza.core.work.checking.headings import Headings, match_headings, share_of_headings
from mudanza.core.work.checking.opened import Opened, open_to_check
from mudanza.core.work.checking.references import Others, reference_problems
from mudanza.core.work.checking.referred import layouts_beside
from mudanza.core.work.checking.rows import AskedRows
from mudanza.core.work.progress import Progress, Tell, quietly

#: what sheets hold as it is, and not as text
_HELD_AS_SUCH = (Kind.NUMBER, Kind.DATE, Kind.DATETIME)


@dataclass(frozen=True)
class CheckResult:
    """What a check found. `findings` has the first of them (all, without a limit) in the order of the file, `groups` counts all."""

    file: str
    layout: str
    rows: int
    findings: pl.DataFrame
    groups: list[Group]

    @property
    def total(self) -> int:
        return sum(group.count for group in self.groups)

    @property
    def clean(self) -> bool:
        return not any(group.severity is Severity.STOP for group in self.groups)


def check(
    path: Path,
    layout: Layout,
    *,
    shown: str | None = None,
    layout_shown: str | None = None,
    others: Others | Sequence[Path] = (),
    sheet: str | None = None,
    limit: int | None = None,
    tell: Tell = quietly,
) -> CheckResult:
    """Check every row of a file in whatever format against a layout. `others` are files that references point into.

    With `limit`, only so many findings are kept, the first of the file; all are counted. Raises SourceError if the file cannot be read at all.
    """
    shown = shown or str(path)
    kept = _Kept(limit)
    before = _state(path)
    opened = open_to_check(path, layout, shown, sheet)
    headings = match_headings(opened, layout, shown)
    others = others if isinstance(others, Others) else Others(others)
    references, unchecked = reference_problems(layout, headings, others, path, shown)
    kept.add(frame([*opened.findings, *_other_layout(opened, layout, headings, shown), *headings.findings, *unchecked]))
    rows = AskedRows(opened, layout, headings, references, shown)
    total = 0
    # reading, asking and comparing keys each have a thread
    for batch, found in read_ahead((batch, rows.findings(batch.rows)) for batch in read_ahead(opened.batches())):
        total += batch.rows.height + len(batch.broken)
        kept.add(noticed_in(batch, opened.reader, shown), *found, *rows.keys.findings(batch.rows))
        tell(Progress(f"checking {shown}", total, batch.share))
    kept.add(rows.keys.repeated_findings(), frame(_too_large(path, layout, total, shown)))
    if _state(path) != before:
        kept.add(frame([Finding("file.changed", shown, rule="the same from the first row to the last")]))
    return CheckResult(shown, layout_shown or layout.name, total, kept.findings(), kept.tally.groups())


def _state(path: Path) -> tuple[int, int]:
    """What shows that a file was written meanwhile."""
    try:
        found = path.stat()
    except OSError:
        return -1, -1
    return found.st_size, found.st_mtime_ns


def _too_large(path: Path, layout: Layout, rows: int, shown: str) -> list[Finding]:
    """Findings where a file has more rows or bytes than the target takes at once."""
    demands, found = layout.demands, []
    if demands.rows_per_file is not None and rows > demands.rows_per_file:
        rule = f"at most {demands.rows_per_file:,} rows in a file"
        found.append(Finding("file.too-large", shown, value=f"{rows:,} rows", rule=rule))
    size = path.stat().st_size if path.is_file() else 0
    if demands.bytes_per_file is not None and size > demands.bytes_per_file:
        rule = f"at most {demands.bytes_per_file:,} bytes in a file"
        found.append(Finding("file.too-large", shown, value=f"{size:,} bytes", rule=rule))
    return found


def _other_layout(opened: Opened, layout: Layout, headings: Headings, shown: str) -> list[Finding]:
    """A finding where the headings are those of another layout of the move: it was probably meant."""
    if len(headings.columns) * 2 >= len(layout.fields):
        return []
    own = share_of_headings(layout, opened.headings)
    others = {name: share_of_headings(one, opened.headings) for name, one in layouts_beside(layout).items()}
    best = max(others, key=lambda name: others[name], default=None)
    if best is None or others[best] < 0.6 or others[best] <= own:
        return []
    return [Finding("layout.other", shown, value=best, rule=f"the layout {layout.name}")]


class _Kept:
    """Findings in the order of the file, the first so many of them; all are counted."""

    def __init__(self, limit: int | None) -> None:
        self.limit, self.count, self.last = limit, 0, 0
        self.parts: list[pl.DataFrame] = [pl.DataFrame(schema=SCHEMA)]
        self.tally = Tally()

    def add(self, *parts: pl.DataFrame) -> None:
        """Keep the findings of one part of the file, given in any order."""
        filled = [part for part in parts if part.height]
        if not filled:
            return
        found = pl.concat(filled)
        if len(filled) > 1:
            found = found.sort("line", maintain_order=True)
        self.tally.add(found)
        # what is said of whole columns comes last, and may stand first in the file
        if self.limit is None or self.count < self.limit or found["line"][0] is None or found["line"][0] < self.last:
            self.parts.append(found if self.limit is None else found.head(self.limit))
            self.count += self.parts[-1].height
            self.last = max(self.last, self.parts[-1]["line"].max() or 0)  # type: ignore[assignment]

    def findings(self) -> pl.DataFrame:
        """All that were kept."""
        found = pl.concat(self.parts).sort("line", maintain_order=True)
        return found if self.limit is None else found.head(self.limit)
