"""The public JSON shapes of surveys, layouts, drafts, crosswalks and explanations."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

from mudanza.core.work.shapes.common import (
    Shape,
    all_of,
    finding_shape,
    of,
)

if TYPE_CHECKING:
    from mudanza.core.findings.codes import Code
    from mudanza.core.findings.finding import Finding
    from mudanza.core.language.steps.declaring import Step
    from mudanza.core.layouts.layout import Field, Layout
    from mudanza.core.tables.crosswalk import Entry
    from mudanza.core.work.crosswalks.codes import CodesOf
    from mudanza.core.work.layout_compare import LayoutComparison
    from mudanza.core.work.layout_draft import LayoutDraft
    from mudanza.core.work.matching.drafting import Draft
    from mudanza.core.work.matching.reasons import Reason
    from mudanza.core.work.survey.references import LikelyReference
    from mudanza.core.work.survey.surveying import SurveyResult


def survey_shape(results: Sequence[SurveyResult], refers: Sequence[LikelyReference], about: Sequence[Finding]) -> Shape:
    """One source, or several with what refers to what; `about` are findings on them together."""
    sources = [_source_shape(result) for result in results]
    found = [finding_shape(f) for f in about]
    if len(sources) == 1:
        return {**sources[0], "about": found}
    names = "source column target key values missing missing_rows exact examples"
    return {"sources": sources, "references": all_of(refers, names), "about": found}


_COLUMN = (
    "name heading filled distinct distinct_exact kind kind_share shortest longest least most samples odd frequent shapes placeholders spaces "
    "leading_zeros zeros_lost several date_orders control total"
)


def _source_shape(result: SurveyResult) -> Shape:
    facts = result.facts
    return {
        "source": result.name,
        "path": str(facts.path),
        **of(facts, "format size encoding"),
        "encoding_because": facts.text.because if facts.text is not None else None,
        **of(facts, "delimiter heading_line above unit part"),
        "sheets": all_of(facts.sheets, "name visible rows chosen"),
        **of(facts, "notes proposal"),
        **of(result, "rows damaged"),
        "files": [{"file": name, "rows": rows} for name, rows in result.files],
        "newest": result.newest,
        "keys": all_of(result.keys, "columns repeated examples alike alike_count"),
        "blank_columns": result.blank_columns,
        "columns": all_of(result.columns, _COLUMN),
        "findings": [
            {**of(g, "code"), "severity": str(g.severity), **of(g, "count"), "example": finding_shape(g.example)}
            for g in result.findings
        ],
    }


def layout_shape(layout: Layout) -> Shape:
    """A layout."""
    return {
        "layout": str(layout.path),
        "name": layout.name,
        "primary_key": layout.primary_key,
        "fields": [
            {**of(f, "name title"), "kind": str(f.kind), **of(f, "required default rule observed absent")}
            for f in layout.fields
        ],
        "references": all_of(layout.references, "fields resource columns"),
    }


def drafted_layout_shape(made: LayoutDraft, shown: str) -> Shape:
    """A drafted layout, and what it was drafted from."""
    taken = [{"source": source, "as": what, "fields": count} for source, what, count in made.taken]
    return {**layout_shape(made.layout), "written": shown, "from": taken, "remarks": made.remarks}


def compared_layouts_shape(result: LayoutComparison) -> Shape:
    """Two layouts compared."""
    return {
        **of(result, "before after"),
        "changes": all_of(result.changes, "field kind what before after"),
        "breaks": all_of(result.breaks, "file where why"),
    }


def absent_shape(layout: Layout, fields: Sequence[Field], written: str | None) -> Shape:
    """The fields that the target does not have yet."""
    listed = [{**of(one, "name title"), "kind": str(one.kind), **of(one, "rule description")} for one in fields]
    return {"layout": str(layout.path), "fields": listed, "written": written}


def draft_shape(made: Draft, files: Sequence[str]) -> Shape:
    """A draft, and the files that were written."""
    return {
        "list": made.name,
        "proposals": [
            {
                "field": p.field.name,
                **of(p, "flow columns score evidence doubt"),
                "next": _likely(p.rivals),
                "broken": p.broken,
            }
            for p in made.proposals
        ],
        "written": made.written,
        "without": [f.name for f in made.without],
        "unused": [of(one, "column sources values looks") for one in made.unused],
        "files": files,
    }


def reasons_shape(list_name: str, field: str, found: Sequence[Reason]) -> Shape:
    """What speaks for and against the columns of a field."""
    return {
        "list": list_name,
        "field": field,
        "columns": [
            {
                **of(one, "source column score answer values"),
                "alone": [{"words": words, "points": points} for words, points in one.alone],
                "among": [{"words": words, "points": points} for words, points in one.among],
            }
            for one in found
        ],
    }


def _likely(columns: Sequence[tuple[str, float]]) -> list[Shape]:
    return [{"column": column, "score": score} for column, score in columns]


def crosswalks_shape(list_name: str, found: Sequence[CodesOf], added: Mapping[str, int]) -> Shape:
    """The crosswalks of a list, and how many proposals were added to each."""
    return {"list": list_name, "crosswalks": [{**_codes_shape(one), "proposed": added[one.name]} for one in found]}


def _codes_shape(one: CodesOf) -> Shape:
    return {
        **of(one, "name columns fields"),
        "codes": [
            {
                "code": c.values,
                "rows": c.count,
                "to": c.entry.to if c.entry else None,
                **of(c, "proposal because"),
            }
            for c in one.codes
        ],
        "unused": [_entry_shape(e) for e in one.unused],
        "not_permitted": [_entry_shape(e) for e in one.not_permitted],
    }


def _entry_shape(entry: Entry) -> Shape:
    return {"line": entry.line, "code": [entry.code, *entry.when], "to": entry.to}


def code_shape(code: Code) -> Shape:
    """A code of findings."""
    return {**of(code, "name severity meaning next"), "example": of(code.example, "kind given value")}


def step_shape(step: Step) -> Shape:
    """A step of the language."""
    return {
        **of(step, "name takes gives"),
        "parameters": all_of(step.parameters, "name kind default option many required least choices"),
        **of(step, "several summary says"),
        "examples": all_of(step.examples, "flow given gives"),
        "usage": step.usage,
    }
