"""What all public JSON shapes share: findings, files, errors."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    import polars as pl

    from mudanza.core.documents.errors import MudanzaError
    from mudanza.core.findings.finding import Finding
    from mudanza.core.findings.tally import Group
    from mudanza.core.values.digest import Digest

Shape = dict[str, Any]


def of(thing: object, names: str) -> Shape:
    """Some attributes of a thing, by their names."""
    return {name: getattr(thing, name) for name in names.split()}


def all_of(things: Sequence[object], names: str) -> list[Shape]:
    return [of(thing, names) for thing in things]


def finding_shape(finding: Finding) -> Shape:
    """One finding; `column` is the field's heading, or the source's column where no field is spoken of."""
    from mudanza.core.findings.finding import frame

    return findings_shape(frame([finding]))[0]


def findings_shape(findings: pl.DataFrame) -> list[Shape]:
    """Many findings."""
    from mudanza.core.findings.finding import as_shown

    return as_shown(findings).to_dicts()


def group_shape(group: Group) -> Shape:
    """Findings of one code on one subject: how many, and one example."""
    example = finding_shape(group.example)
    return {
        **of(group, "code"),
        "severity": str(group.severity),
        "field": group.subject,
        "count": group.count,
        "example": {k: v for k, v in example.items() if k not in ("code", "severity", "column")},
    }


def digest_shape(digest: Digest) -> Shape:
    """A file that was read or written."""
    return of(digest, "path size sha256")


def error_shape(error: MudanzaError) -> Shape:
    """An error: what, where, and what to do; and what the command had changed before."""
    from mudanza.core.disk.effects import effects
    from mudanza.core.documents.secrets import may_quote

    place = {k: v for k, v in vars(error.place).items() if v not in (None, 0)} if error.place else None
    if place and not may_quote(place.get("file", ""), place.get("text", "")):
        place.pop("text", None)
    told = {"what": error.what, "place": place, "hint": error.hint, "status": error.status}
    return {"error": told, "changed": of(effects, "placed removed recorded")}
