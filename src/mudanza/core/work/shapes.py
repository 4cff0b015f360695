"""The public JSON shapes: what commands print with --json, and what stands in run.json. They are described in docs/commands.md, and stable."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    import polars as pl

    from mudanza.core.documents.errors import MudanzaError
    from mudanza.core.findings.codes import Code
    from mudanza.core.findings.finding import Finding
    from mudanza.core.findings.tally import Group
    from mudanza.core.language.steps.declaring import Step
    from mudanza.core.layouts.layout import Layout
    from mudanza.core.state.ledger import Run
    from mudanza.core.state.loans import Noted
    from mudanza.core.tables.crosswalk import Entry
    from mudanza.core.values.digest import Digest
    from mudanza.core.work.check import CheckResult
    from mudanza.core.work.coverage import Coverage
    from mudanza.core.work.crosswalks.codes import CodesOf
    from mudanza.core.work.difference import Compared
    from mudanza.core.work.loans.comparison import LoanReturn
    from mudanza.core.work.loans.crosswalk_sheets import CodesReturn
    from mudanza.core.work.loans.decision_loan import DecisionLoan
    from mudanza.core.work.loans.lend import Loan
    from mudanza.core.work.loans.mapping_sheet import MappingReturn
    from mudanza.core.work.matching.drafting import Draft
    from mudanza.core.work.matching.reasons import Reason
    from mudanza.core.work.preview import PreviewResult
    from mudanza.core.work.results import BuildResult, ListResult
    from mudanza.core.work.survey.references import LikelyReference
    from mudanza.core.work.survey.surveying import SurveyResult
    from mudanza.core.work.take_back import TakenBack
    from mudanza.core.work.trace import Trace, Traces

Shape = dict[str, Any]


def _of(thing: object, names: str) -> Shape:
    """Some attributes of a thing, by their names."""
    return {name: getattr(thing, name) for name in names.split()}


def _all(things: Sequence[object], names: str) -> list[Shape]:
    return [_of(thing, names) for thing in things]


# findings, files, errors


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
        **_of(group, "code"),
        "severity": str(group.severity),
        "field": group.subject,
        "count": group.count,
        "example": {k: v for k, v in example.items() if k not in ("code", "severity", "column")},
    }


def digest_shape(digest: Digest) -> Shape:
    """A file that was read or written."""
    return _of(digest, "path size sha256")


def error_shape(error: MudanzaError) -> Shape:
    """An error: what, where, and what to do."""
    place = {k: v for k, v in vars(error.place).items() if v not in (None, 0)} if error.place else None
    return {"error": {"what": error.what, "place": place, "hint": error.hint, "status": error.status}}


# build, check, preview


def build_shape(result: BuildResult) -> Shape:
    """A build; the same stands in run.json."""
    return {"run": result.run, "as_of": result.as_of.isoformat(), "lists": [_list_shape(one) for one in result.lists]}


def _list_shape(one: ListResult) -> Shape:
    shape: Shape = {
        "list": one.name,
        **one.balance.as_dict(),
        "skipped_by": one.balance.skipped,
        "sources": {name: balance.as_dict() for name, balance in one.by_source.items()},
        "keys_given": one.keys_given,
        "identifiers": _all(one.identities, "source book known new missing"),
        "files": [digest_shape(d) for d in one.files],
        "sources_read": [digest_shape(d) for d in one.read],
        "findings": [group_shape(g) for g in one.findings],
    }
    return shape if one.compared is None else {**shape, "compared": _compared_shape(one.compared)}


def _compared_shape(compared: Compared) -> Shape:
    fields = [
        {
            **_of(one, "field count"),
            "examples": [{"key": key, "before": before, "after": after} for key, before, after in one.examples],
        }
        for one in compared.fields
    ]
    return {**_of(compared, "file same changed added removed added_keys removed_keys"), "fields": fields}


def check_shape(result: CheckResult, limited: bool) -> Shape:
    """A check; with a limit, all findings are counted."""
    shape = {**_of(result, "file layout rows"), "findings": findings_shape(result.findings)}
    return {**shape, "count": result.total} if limited else shape


def preview_shape(result: PreviewResult) -> Shape:
    """Rows as they would be written."""
    rows = [
        {
            **_of(row, "source file unit line end rule"),
            "fields": _all(row.fields, "name title before after findings"),
            "findings": row.findings,
        }
        for row in result.rows
    ]
    return {"name": result.name, "rows": rows}


def coverage_shape(covered: Coverage) -> Shape:
    """What a plan covers."""
    return {
        "name": covered.name,
        "fields": _all(covered.fields, "name title required how columns flow"),
        "columns": _all(covered.columns, "name sources how fields reason values"),
        "whole": covered.whole,
    }


# survey, layout, match, crosswalk


def survey_shape(results: Sequence[SurveyResult], refers: Sequence[LikelyReference], about: Sequence[Finding]) -> Shape:
    """One source, or several with what refers to what; `about` are findings on them together."""
    sources = [_source_shape(result) for result in results]
    found = [finding_shape(f) for f in about]
    if len(sources) == 1:
        return {**sources[0], "about": found}
    names = "source column target key values missing missing_rows exact examples"
    return {"sources": sources, "references": _all(refers, names), "about": found}


_COLUMN = (
    "name heading filled distinct distinct_exact kind kind_share shortest longest least most samples odd frequent shapes placeholders spaces "
    "leading_zeros zeros_lost several date_orders control total"
)


def _source_shape(result: SurveyResult) -> Shape:
    facts = result.facts
    return {
        "source": result.name,
        "path": str(facts.path),
        **_of(facts, "format size encoding"),
        "encoding_because": facts.text.because if facts.text is not None else None,
        **_of(facts, "delimiter heading_line above unit part"),
        "sheets": _all(facts.sheets, "name visible rows chosen"),
        **_of(facts, "notes proposal"),
        **_of(result, "rows damaged"),
        "files": [{"file": name, "rows": rows} for name, rows in result.files],
        "newest": result.newest,
        "keys": _all(result.keys, "columns repeated examples alike alike_count"),
        "blank_columns": result.blank_columns,
        "columns": _all(result.columns, _COLUMN),
        "findings": [
            {**_of(g, "code"), "severity": str(g.severity), **_of(g, "count"), "example": finding_shape(g.example)}
            for g in result.findings
        ],
    }


def layout_shape(layout: Layout) -> Shape:
    """A layout."""
    return {
        "layout": str(layout.path),
        "primary_key": layout.primary_key,
        "fields": [
            {**_of(f, "name title"), "kind": str(f.kind), **_of(f, "required default rule")} for f in layout.fields
        ],
        "references": _all(layout.references, "fields resource columns"),
    }


def draft_shape(made: Draft, files: Sequence[str]) -> Shape:
    """A draft, and the files that were written."""
    return {
        "list": made.name,
        "proposals": [
            {
                "field": p.field.name,
                **_of(p, "flow columns score evidence doubt"),
                "next": _likely(p.rivals),
                "broken": p.broken,
            }
            for p in made.proposals
        ],
        "written": made.written,
        "without": [f.name for f in made.without],
        "unused": [_of(one, "column sources values looks") for one in made.unused],
        "files": files,
    }


def reasons_shape(list_name: str, field: str, found: Sequence[Reason]) -> Shape:
    """What speaks for and against the columns of a field."""
    return {
        "list": list_name,
        "field": field,
        "columns": [
            {
                **_of(one, "source column score answer values"),
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
        **_of(one, "name columns fields"),
        "codes": [
            {
                "code": c.values,
                "rows": c.count,
                "to": c.entry.to if c.entry else None,
                **_of(c, "proposal because"),
            }
            for c in one.codes
        ],
        "unused": [_entry_shape(e) for e in one.unused],
        "not_permitted": [_entry_shape(e) for e in one.not_permitted],
    }


def _entry_shape(entry: Entry) -> Shape:
    return {"line": entry.line, "code": [entry.code, *entry.when], "to": entry.to}


# trace, ledger


def trace_shape(key: str, traces: Traces) -> Shape:
    """A record's story in the lists that have it, the lists that could not be looked through, and those that were not any more."""
    failed = [name for name, _ in traces.failed]
    found = [_traced_shape(one) for one in traces.found]
    return {"key": key, "found": found, "not_looked_through": failed, "left": traces.left}


def _traced_shape(one: Trace) -> Shape:
    rows = [
        {
            **_of(row, "source file unit line columns keep end rule"),
            "fields": [
                {**_of(f, "name title flow"), "steps": _all(f.steps, "text value depth"), **_of(f, "written entries")}
                for f in row.fields
            ],
            **_of(row, "keys findings"),
        }
        for row in one.rows
    ]
    return {
        **_of(one, "list_name key"),
        "rows": rows,
        "damaged": one.damaged,
        "went": [[_of(went, "run file how"), moment] for went, moment in one.went],
        "changes": one.changes,
        "related": _all(one.related, "list_name to fields count keys"),
    }


def run_shape(run: Run) -> Shape:
    """A run as the ledger remembers it."""
    return _of(run, "id command subject started ended state as_of counts read written")


def ledger_shape(runs: Sequence[Run], books: Mapping[str, int]) -> Shape:
    """The runs, and how many identifiers each key book has given out."""
    return {"runs": [run_shape(run) for run in runs], "key_books": books}


def taken_back_shape(done: TakenBack) -> Shape:
    """A build that was taken back."""
    return {"run": done.run, "taken_back": done.build, "key_books": done.keys, "files": done.files}


def loans_shape(loans: Sequence[Noted]) -> list[Shape]:
    """The loans of a move."""
    return [{"loan": one.id, **_of(one, "subject lent state")} for one in loans]


# loans


def loan_shape(loan: Loan) -> Shape:
    """A loan of records."""
    return _of(loan, "id subject workbook rows fields needed")


def decision_loan_shape(loan: DecisionLoan) -> Shape:
    """A loan of decisions."""
    return _of(loan, "id kind list_name workbook rows")


def return_shape(result: LoanReturn) -> Shape:
    """What came back of a loan of records."""
    from mudanza.core.work.loans.lent import shown_text

    additions, removals = (rows.select(_plain(rows)).to_dicts() for rows in (result.additions, result.removals))
    return {
        **_of(result, "loan rows"),
        "changes": [{**row, "key": shown_text(row["key"])} for row in result.changes.to_dicts()],
        "additions": additions,
        "removals": removals,
        "conflicts": [{"key": shown_text(c.key), **_of(c, "field before after now by")} for c in result.conflicts],
        "held_back": result.held,
        "blocked": result.blocked,
        "files": [digest_shape(d) for d in result.files],
        "findings": findings_shape(result.findings),
    }


def _plain(rows: pl.DataFrame) -> list[str]:
    return [c for c in rows.columns if not c.startswith(("\x1f", "#"))]


def mapping_return_shape(result: MappingReturn) -> Shape:
    """What came back of a mapping sheet."""
    return {
        **_of(result, "loan list_name statuses remarks"),
        "flows": _all(result.flows, "field before after problem"),
        **_of(result, "agreed fields"),
        "wrong": _all(result.wrong, "cell value problem"),
        **_of(result, "files"),
    }


def codes_return_shape(result: CodesReturn) -> Shape:
    """What came back of lent crosswalks."""
    return {
        **_of(result, "loan list_name"),
        "decided": _all(result.decided, "crosswalk values before after problem"),
        **_of(result, "open"),
        "wrong": _all(result.wrong, "cell value problem"),
        **_of(result, "files"),
    }


# explain


def code_shape(code: Code) -> Shape:
    """A code of findings."""
    return {**_of(code, "name severity meaning next"), "example": _of(code.example, "kind given value")}


def step_shape(step: Step) -> Shape:
    """A step of the language."""
    return {
        **_of(step, "name takes gives"),
        "parameters": _all(step.parameters, "name kind default option many required least choices"),
        **_of(step, "several summary says"),
        "examples": _all(step.examples, "flow given gives"),
        "usage": step.usage,
    }
