"""An export of the target as a proposal: what its records show, which is not what it takes; so all of it is marked as observed."""

from __future__ import annotations

from pathlib import Path

from mudanza.core.sources.opening import open_source
from mudanza.core.sources.reader import ReadOptions
from mudanza.core.work.progress import Tell, quietly
from mudanza.core.work.proposing.facts import Facts, Proposal, Takes
from mudanza.core.work.survey.column_facts import ColumnFacts
from mudanza.core.work.survey.surveying import Subject, survey_subject

#: so few different values, each so often, may be all that are permitted
_MOST_CHOICES, _EACH = 12, 5


def from_export(path: Path, source: str, options: ReadOptions | None = None, tell: Tell = quietly) -> Proposal:
    """The columns of an export as fields. Raises SourceError where it cannot be read."""
    options = options or ReadOptions()
    result = survey_subject(Subject(source, (path,), lambda: [open_source(path, options)]), tell=tell)
    key = result.keys[0].columns if result.keys and not result.keys[0].repeated else ()
    fields = tuple(
        Facts(
            title=one.heading or one.name,
            takes=_takes(one, result.rows),
            required=True if one.filled == result.rows and result.rows > 1 else None,
            key=True if tuple(key) == (one.name,) else None,
            observed=True,
        )
        for one in result.columns
    )
    decimal = "," if any(one.kind == "number, decimal comma" for one in result.columns) else None
    facts = result.facts
    return Proposal(
        "export",
        source,
        fields,
        delimiter=facts.delimiter,
        encoding=facts.encoding if facts.delimiter else None,
        decimal=decimal,
    )


def _takes(one: ColumnFacts, rows: int) -> Takes:
    if one.kind_share < 1 or one.kind == "blank":
        return Takes("string", max_length=one.longest) if one.filled else Takes()
    kind, _, pattern = one.kind.partition(" ")
    if kind == "date":
        timed = "H" in pattern
        return Takes("dateTime" if timed else "date", form=pattern)
    if one.kind == "whole number":
        return Takes("integer")
    if one.kind.startswith("number"):
        return Takes("decimal")
    few = one.distinct_exact and one.distinct <= _MOST_CHOICES and one.filled >= _EACH * one.distinct and rows > 20
    values = tuple(sorted(value for value, _ in one.frequent))
    if few and len(values) == one.distinct:
        return Takes("string", permitted=values)
    return Takes("string", max_length=one.longest)
