"""Is a source whole? Counts at which programs stop, files that break off, old ones, and copies of others."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, datetime
from pathlib import Path

from mudanza.core.documents.errors import counted
from mudanza.core.findings.finding import Finding
from mudanza.core.sources.unpacking import packing_of

#: Numbers of rows at which programs stop: pages, sheets (with and without the heading), and sizes of variables.
_PAGES = {
    50,
    100,
    200,
    250,
    300,
    400,
    500,
    1000,
    1500,
    2000,
    2500,
    5000,
    10_000,
    20_000,
    25_000,
    50_000,
    100_000,
    250_000,
    500_000,
    1_000_000,
}
_LIMITS = {
    32_767: "the largest number of some old programs",
    65_535: "the last row of an old workbook",
    65_536: "the last row of an old workbook",
    16_383: "the last row of a very old workbook",
    1_048_575: "the last row of a sheet",
    1_048_576: "the last row of a sheet",
}


@dataclass(frozen=True)
class Remembered:
    """A file that was surveyed before: its SHA-256, path, number of rows, and when."""

    sha256: str
    path: str
    rows: int
    moment: str


def wholeness(
    name: str,
    rows: int,
    paths: Sequence[Path],
    *,
    is_text: bool,
    has_count: bool = False,
    expect: int | None = None,
    newer_than: date | None = None,
) -> list[Finding]:
    """Findings on whether a source is whole. `has_count` says that the source has told its own count, `expect` is the number of rows that the old program showed."""
    found = []
    if expect is not None and rows != expect:
        found.append(Finding("whole.count", name, value=counted(rows, "row"), rule=counted(expect, "row")))
    elif expect is None and not has_count and rows in _PAGES | _LIMITS.keys():
        found.append(
            Finding("whole.round-count", name, value=counted(rows, "row"), rule=_LIMITS.get(rows, "no page size"))
        )
    for path in paths:
        if is_text and _breaks_off(path):
            found.append(Finding("whole.cut-off", str(path), rule="a line end behind the last line"))
        if newer_than is not None and (made := modified(path)) is not None and made.date() < newer_than:
            found.append(Finding("whole.old", str(path), value=f"{made:%Y-%m-%d %H:%M}", rule=f"{newer_than} or newer"))
    return found


def modified(path: Path) -> datetime | None:
    """When a file was last written."""
    return datetime.fromtimestamp(path.stat().st_mtime) if path.is_file() else None


def copies(name: str, sha256: str, before: Sequence[Remembered]) -> list[Finding]:
    """A finding if a file is, under another name, one that was surveyed before."""
    same = [one for one in before if one.sha256 == sha256 and one.path != name]
    if not same:
        return []
    last = max(same, key=lambda one: one.moment)
    return [Finding("whole.same", name, value=f"the same bytes as {last.path}", rule=f"surveyed {last.moment[:10]}")]


def _breaks_off(path: Path) -> bool:
    """Whether the last line has no end, in a file of several lines that have one."""
    with path.open("rb") as file:
        start = file.read(1 << 16)
        if packing_of(start) is not None or start.count(b"\n") < 3:
            return False
        file.seek(-4, 2)
        # also in two or four bytes for a character
        return not file.read().rstrip(b"\0").endswith((b"\n", b"\r", b"\x1a"))
