"""Several proposals for one target put together: what a list says of the fields that a template has."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from mudanza.core.values.odd_letters import as_seen
from mudanza.core.work.proposing.facts import Facts, Proposal, filled
from mudanza.core.work.proposing.from_template import without_mark

#: whose headings and order hold, and whose word counts more
_SHAPE = ("template", "table", "JSON Schema", "export", "field list")
_WORD = ("field list", "JSON Schema", "table", "template", "export")


@dataclass(frozen=True)
class Joined:
    """The fields of a target with all that is known of them, how its files are written, and what could not be taken over."""

    fields: tuple[Facts, ...]
    delimiter: str | None
    encoding: str | None
    decimal: str | None
    remarks: tuple[str, ...]


def joined(proposals: Sequence[Proposal], *, by_label: bool = False) -> Joined:
    """One from several. Where a list is all there is, its names are the headings, or its labels (`by_label`)."""
    shape = min(proposals, key=lambda one: _SHAPE.index(_rank(one)))
    others = sorted((one for one in proposals if one is not shape), key=lambda one: _WORD.index(_rank(one)))
    remarks = [f"{one.source}: {words}" for one in proposals for words in one.remarks]
    fields = []
    used: set[tuple[int, int]] = set()
    for facts in shape.fields:
        found = [
            (at, number, other)
            for at, one in enumerate(others)
            for number, other in enumerate(one.fields)
            if _same(facts, other)
        ]
        merged, first = facts, True
        for at, number, other in found:
            if (at, number) in used or (not first and at == found[0][0]):
                continue
            used.add((at, number))
            first = False
            stronger = _WORD.index(_rank(others[at])) < _WORD.index(_rank(shape))
            remarks += _differences(facts.title, merged, other, others[at].source)
            merged = _over(merged, other) if stronger else _over(other, merged, title=merged.title)
        fields.append(_headed(merged, by_label) if shape.what == "field list" else merged)
    for at, one in enumerate(others):
        left = [other.title for number, other in enumerate(one.fields) if (at, number) not in used]
        if left:
            remarks.append(
                f"{one.source}: {', '.join(left[:12])}{', …' if len(left) > 12 else ''} not among the fields of the {shape.what}; left out"
            )

    def known(what: str) -> str | None:
        return next((value for one in (shape, *others) if (value := getattr(one, what)) is not None), None)

    return Joined(tuple(fields), known("delimiter"), known("encoding"), known("decimal"), tuple(remarks))


def _rank(one: Proposal) -> str:
    return "table" if one.what.startswith("table") else one.what


def _plain(text: str) -> str:
    return " ".join(as_seen(without_mark(text)[0]).replace("_", " ").replace("-", " ").split())


def _same(one: Facts, other: Facts) -> bool:
    names = {_plain(one.title), _plain(one.name)} - {""}
    return bool(names & {_plain(other.title), _plain(other.name)})


def _over(weaker: Facts, stronger: Facts, title: str | None = None) -> Facts:
    """What both know; where they differ, the stronger's word. A list of values leaves no room for other limits."""
    takes = stronger.takes if stronger.takes.permitted else filled(stronger.takes, weaker.takes)
    if weaker.takes.permitted and not stronger.takes.permitted:
        takes = weaker.takes
    observed = weaker.observed and not stronger.takes
    whole = filled(replace(stronger, takes=takes, observed=observed), replace(weaker, takes=takes))
    return replace(whole, title=title or weaker.title, observed=observed)


def _differences(title: str, one: Facts, other: Facts, source: str) -> list[str]:
    found = []
    if one.takes.permitted and other.takes.permitted and set(one.takes.permitted) != set(other.takes.permitted):
        more = sorted(set(other.takes.permitted) ^ set(one.takes.permitted))
        found.append(f"{title}: the permitted values differ in {source}: {', '.join(more[:8])}")
    for what, words in (("max_length", "the length"), ("base", "the type"), ("form", "the format")):
        a, b = getattr(one.takes, what), getattr(other.takes, what)
        if a is not None and b is not None and a != b and not (one.takes.permitted or other.takes.permitted):
            found.append(f"{title}: {words} differs: {a}, and {b} in {source}")
    if one.required is not None and other.required is not None and one.required != other.required:
        found.append(
            f"{title}: {source} says that it is {'' if other.required else 'not '}required, the other says otherwise"
        )
    return found


def _headed(facts: Facts, by_label: bool) -> Facts:
    """A field of a list with its name for a heading, unless labels are wanted."""
    if by_label or not facts.name:
        return facts
    return replace(facts, title=facts.name, label=facts.title if _plain(facts.title) != _plain(facts.name) else None)
