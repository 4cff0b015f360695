"""The headings of a file held against those of its layout."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from mudanza.core.documents.errors import nearest
from mudanza.core.findings.finding import Finding
from mudanza.core.layouts.layout import Layout
from mudanza.core.values.odd_letters import as_seen, odd_letters
from mudanza.core.work.checking.opened import Opened

#: with more headings than these, only those are alike that look the same
_MOST_COMPARED = 300


@dataclass(frozen=True)
class Headings:
    """The column of each title that is there, the columns without a heading, and what was found."""

    columns: Mapping[str, str]
    nameless: tuple[str, ...] = ()
    findings: tuple[Finding, ...] = field(default=())


def match_headings(opened: Opened, layout: Layout, shown: str) -> Headings:
    """Which column of a file holds which field, with a finding for all that is not as the layout has it."""
    if not layout.dialect.header and not opened.in_records:
        return _by_position(opened, layout, shown)
    raw = [heading.strip("\r") for heading in opened.headings]
    titles = {title: one.title for one in layout.fields for title in one.titles}
    columns: dict[str, str] = {}
    found: list[Finding] = []

    def at(column: str) -> tuple[str, int | None, str | None]:
        return shown, opened.line, opened.cell(column, opened.line or 1)

    for heading, column in zip(raw, opened.columns, strict=True):
        title = titles.get(heading)
        if title in columns:
            found.append(Finding("heading.repeated", *at(column), field=heading, rule="once"))
        elif title is not None:
            columns[title] = column
    missing = {one.title: None for one in layout.fields if one.title not in columns}
    near = _Near(layout, missing)
    nameless = []
    for heading, column in zip(raw, opened.columns, strict=True):
        if heading in titles:
            continue
        if not heading.strip():
            nameless.append(column)
            continue
        meant = near.of(heading)
        if meant is None:
            rule = "a column of the layout"
            found.append(Finding("heading.extra", *at(column), field=heading, value=heading, rule=rule))
            continue
        odd = odd_letters(heading, meant)
        rule = f"exactly {meant!r}" + (f"; it has a {' and a '.join(odd)}" if odd else "")
        found.append(Finding("heading.similar", *at(column), field=meant, value=heading, rule=rule))
        columns[meant] = column
        del missing[meant]
    required = {one.title for one in layout.fields if one.required}
    for title in missing:
        rule = "required column" if title in required else "column of the layout"
        found.append(Finding("heading.missing", shown, opened.line, field=title, rule=rule))
    if not opened.in_records and not layout.demands.any_order:
        found += _order(opened, layout, columns, shown)
    return Headings(columns, tuple(nameless), tuple(found))


class _Near:
    """What a heading that is no title was probably meant to be, of the titles that are missing."""

    def __init__(self, layout: Layout, missing: Mapping[str, None]) -> None:
        self.missing = missing
        self.names = {one.name: one.title for one in layout.fields}
        self.seen = {as_seen(title): one.title for one in layout.fields for title in one.titles}

    def of(self, heading: str) -> str | None:
        for title in (self.seen.get(as_seen(heading)), self.names.get(heading)):
            if title in self.missing:
                return title
        return nearest(heading, list(self.missing), least=80) if len(self.missing) <= _MOST_COMPARED else None


def _by_position(opened: Opened, layout: Layout, shown: str) -> Headings:
    titles = [one.title for one in layout.fields]
    found = []
    if len(opened.columns) != len(titles):
        found.append(
            Finding("read.ragged", shown, 1, value=f"{len(opened.columns)} columns", rule=f"{len(titles)} columns")
        )
    return Headings(dict(zip(titles, opened.columns, strict=False)), (), tuple(found))


def _order(opened: Opened, layout: Layout, columns: Mapping[str, str], shown: str) -> Sequence[Finding]:
    """A finding on the first column that stands elsewhere than the layout has it."""
    standing = {column: place for place, column in enumerate(opened.columns)}
    there = [one.title for one in layout.fields if one.title in columns]
    stand = sorted(there, key=lambda title: standing[columns[title]])
    if stand == there:
        return []
    title, place = next((t, i) for i, (t, s) in enumerate(zip(stand, there, strict=True)) if t != s)
    rule = f"order: {', '.join(there[:40])}{', …' if len(there) > 40 else ''}"
    cell = opened.cell(columns[title], opened.line or 1)
    return [Finding("heading.order", shown, opened.line, cell, field=title, value=f"column {place + 1}", rule=rule)]


def share_of_headings(layout: Layout, headings: Sequence[str]) -> float:
    """How much of a layout's headings and a file's are the same, 0 to 1; what looks the same is the same."""
    there = {as_seen(heading) for heading in headings if heading.strip()}
    names = layout.headings
    known = len({one.name for heading, one in names.items() if as_seen(heading) in there})
    return known / max(len(layout.fields), len(there), 1)
