"""The mapping sheet: a plan as a workbook that the business signs, and back into the plan."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import date
from itertools import zip_longest
from pathlib import Path
from typing import Any

import tomlkit

from mudanza.core.documents.document import toml_section
from mudanza.core.documents.errors import MudanzaError, PlanError, nearest
from mudanza.core.documents.toml_texts import control_in, without_controls
from mudanza.core.engine.assembling import assemble
from mudanza.core.engine.intake import open_sources
from mudanza.core.language.asking import columns_of, with_columns
from mudanza.core.language.own_steps import steps_of
from mudanza.core.language.parameters import STAND_INS
from mudanza.core.language.saying import in_words
from mudanza.core.plans.move import Move
from mudanza.core.plans.plan import Plan
from mudanza.core.plans.plan_reading import load_plan
from mudanza.core.plans.remarks import Remark, read_remarks, write_remarks
from mudanza.core.state.evidence import ledger_of
from mudanza.core.work.coverage import coverage
from mudanza.core.work.loans.decision_loan import DecisionLoan, accept_decisions, lend_sheets
from mudanza.core.work.loans.decision_sheets import Sheet, SheetColumn, WrongCell, read_sheet
from mudanza.core.work.matching.drafted_plan import flow_text
from mudanza.core.work.preview import PreviewField, PreviewRow, preview
from mudanza.core.work.tables_at_hand import TablesAtHand

STATUSES = ("open", "agreed", "question", "to change")
_EXAMPLES = 3
_COLUMNS = [
    SheetColumn("Field", 14),
    SheetColumn("Heading", 14),
    SheetColumn("Takes", 22),
    SheetColumn("Required", 9),
    SheetColumn("Source", 18, open=True),
    SheetColumn("What happens", 34),
    SheetColumn("Examples", 36),
    SheetColumn("Status", 11, open=True, choices=STATUSES),
    SheetColumn("Remark", 28, open=True),
    # for those who write plans; it is not printed
    SheetColumn("Flow", 60, open=True, printed=False),
]
#: those who sign know the headings of the old programs, not the names that the plan gave them
_OLD = SheetColumn("Old headings", 22)
_SAMPLE = 40
_BACK = ("Field", "Source", "Flow", "Status", "Remark")


@dataclass(frozen=True)
class ChangedFlow:
    """A flow that came back otherwise: as it is in the plan, as it is wanted, and why it cannot be taken (None if it can)."""

    field: str
    before: str
    after: str
    problem: str | None


@dataclass(frozen=True)
class MappingReturn:
    """What came back of a mapping sheet: statuses and remarks that changed (field, before, after), flows that changed, cells that
    are wrong, those of which something was left out, the file that was written."""

    loan: str
    list_name: str
    statuses: list[tuple[str, str, str]]
    remarks: list[tuple[str, str, str]]
    flows: list[ChangedFlow]
    agreed: int
    fields: int
    wrong: list[WrongCell] = field(default_factory=list)
    files: list[str] = field(default_factory=list)
    left_out: list[WrongCell] = field(default_factory=list)

    @property
    def clean(self) -> bool:
        return not self.wrong and all(one.problem is None for one in self.flows)


def lend_mapping(
    move: Move,
    name: str,
    to: Path | None = None,
    *,
    as_of: date | None = None,
    parameters: Mapping[str, str] | None = None,
) -> DecisionLoan:
    """Write the mapping sheet of a list, with examples of real rows. Raises MudanzaError where the plan is wrong."""
    plan = load_plan(move, name, draft=True)
    covered = coverage(move, name, as_of=as_of, parameters=parameters)
    shown = preview(move, name, rows=_SAMPLE, sample=True, as_of=as_of, parameters=parameters).rows
    written = [row for row in shown if row.end == "written"]
    renamed = any(source.options.rename for source in plan.sources)
    columns = [*_COLUMNS[:5], *([_OLD] if renamed else []), *_COLUMNS[5:]]
    steps = steps_of(move.folder, move.own_steps)
    remarks = read_remarks(plan.text)
    rows: list[list[str]] = []
    for one in covered.fields:
        said = remarks.get(one.name, Remark())
        rule = next(f.rule for f in plan.layout.fields if f.name == one.name)
        rows.append(
            [
                one.name,
                one.title,
                rule,
                "yes" if one.required else "",
                _source(one.columns),
                *([_old_headings(plan, one.columns)] if renamed else []),
                in_words(one.flow, steps) if one.flow else one.how,
                "\n".join(_examples(written, one.name)),
                said.status or "open",
                said.text,
                _plain(one.flow or ""),
            ]
        )
    old = [
        [
            c.name,
            ", ".join(c.sources),
            c.how,
            ", ".join(c.fields) or c.reason or "",
            "" if c.how == "used" else f"{c.values:,}",
        ]
        for c in covered.columns
    ]
    detail = {"rows": [dict(zip([c.title for c in columns], row, strict=True)) for row in rows]}

    def make(loan: str) -> tuple[list[Sheet], dict[str, Any]]:
        note = f"{move.name}: how the list {name} is made, {date.today().isoformat()}, {loan}. Fill in the last columns; source and flow may be corrected."
        left = [
            SheetColumn("Column", 24),
            SheetColumn("Sources", 20),
            SheetColumn("What becomes of it", 20),
            SheetColumn("Fields or reason", 50),
            SheetColumn("Values that stay behind", 14),
        ]
        return [
            Sheet(name, note, columns, rows),
            Sheet("source columns", "What becomes of each column of the old exports.", left, old),
        ], detail

    return lend_sheets(move, name, "mapping", make, to)


def _source(columns: tuple[str, ...]) -> str:
    return ", ".join(columns)


def _old_headings(plan: Plan, columns: tuple[str, ...]) -> str:
    """What sources call these columns, where they call them otherwise."""
    lines = []
    for source in plan.sources:
        back = {new: old for old, new in source.options.rename.items()}
        named = [back[column] for column in columns if column in back]
        if named:
            lines.append(f"{source.name}: {', '.join(named)}")
    return "\n".join(lines)


def _examples(rows: Sequence[PreviewRow], name: str) -> list[str]:
    """What becomes of a field in some rows, of all sources in turn: different things, and those first where something stands."""
    by_source: dict[str, list[PreviewField]] = {}
    for row in rows:
        by_source.setdefault(row.source, []).append(next(f for f in row.fields if f.name == name))
    in_turn = [one for some in zip_longest(*by_source.values()) for one in some if one is not None]
    in_turn.sort(key=lambda one: one.after is None)
    return list(dict.fromkeys(map(_example, in_turn)))[:_EXAMPLES]


def _example(made: PreviewField) -> str:
    before = " + ".join(v if v is not None else "(blank)" for v in made.before.values())
    after = made.after if made.after is not None else "(blank)"
    return f"{before} -> {after}" if before else after


def receive_mapping(
    move: Move,
    path: Path,
    loan: str,
    detail: Mapping[str, Any],
    *,
    accept: bool = False,
    parameters: Mapping[str, str] | None = None,
) -> MappingReturn:
    """Compare a returned mapping sheet with what was lent. With `accept`, statuses and remarks become comments of the plan, and flows that changed
    and can be taken are taken; a cell that is wrong is told and left out, and the loan then stays out for another return.

    Raises LoanError where the sheet is not as it was lent, or the loan is back already.
    """
    name, shown = detail["list"], move.shown(path.resolve())
    before = move.plan_path(name).read_bytes()
    plan = load_plan(move, name, draft=True)
    lent = {row["Field"]: row for row in detail["rows"]}
    now = read_remarks(plan.text)
    statuses, remarks, flows = [], [], []
    wrong: list[WrongCell] = []
    left_out: list[WrongCell] = []
    decided: dict[str, Remark] = {}
    columns = open_sources(plan, move).columns
    rows = read_sheet(path, name, _BACK, shown)
    for row in rows:
        texts, field_name = dict(row.texts), row.texts["Field"]
        wrong += row.wrong
        for title in row.formulas & texts.keys():
            texts[title] = lent.get(field_name, {}).get(title, "")
        if field_name not in lent:
            near = nearest(field_name, list(lent))
            why = "no field of that name was lent" + (f"; was {near!r} renamed?" if near else "")
            wrong.append(WrongCell(row.cells["Field"], field_name, why))
            continue
        said = now.get(field_name, Remark())
        if texts["Status"] and texts["Status"] not in STATUSES:
            wrong.append(WrongCell(row.cells["Status"], texts["Status"], f"it is one of {', '.join(STATUSES)}"))
            texts["Status"] = said.status or "open"
        status = texts["Status"] or "open"
        if status != (said.status or "open"):
            statuses.append((field_name, said.status or "open", status))
        if (control := control_in(texts["Remark"])) is not None:
            what = f"it has control characters ({control}), which are left out"
            left_out.append(WrongCell(row.cells["Remark"], texts["Remark"], what))
            texts["Remark"] = without_controls(texts["Remark"])
        if texts["Remark"] != said.text:
            remarks.append((field_name, said.text, texts["Remark"]))
        decided[field_name] = Remark(status if status != "open" or said.status else "", texts["Remark"])
        changed = _changed_flow(move, plan, columns, field_name, lent[field_name], texts, parameters or {})
        if changed is not None:
            flows.append(changed)
    agreed = sum(row.texts["Status"] == "agreed" for row in rows)
    result = MappingReturn(loan, name, statuses, remarks, flows, agreed, len(rows), wrong, [], left_out)
    if not accept:
        return result
    document = tomlkit.parse(plan.text)
    for one in flows:
        if one.problem is None:
            document.setdefault("fields", tomlkit.table())[one.field] = flow_text(one.after)
    text = write_remarks(tomlkit.dumps(document), decided)
    # whatever was written into the sheet, the plan must stay one that can be read
    toml_section(text, plan.path, PlanError)
    files = accept_decisions(move, loan, {plan.path: (before, text)}, whole=result.clean)
    return replace(result, files=files)


def _plain(flow: str) -> str:
    """A flow on one line; spaces inside it, which may stand in a text, are kept."""
    return re.sub(r"\s*\n\s*", " ", flow.strip())


def _changed_flow(
    move: Move,
    plan: Plan,
    columns: list[str],
    name: str,
    lent: Mapping[str, str],
    came: Mapping[str, str],
    parameters: Mapping[str, str],
) -> ChangedFlow | None:
    """The flow of a field as it came back, if it did so otherwise."""
    written = plan.flows.get(name, "")
    after, problem = came["Flow"], None
    if _plain(after) == _plain(lent["Flow"]):
        if came["Source"] == lent["Source"]:
            return None
        after, problem = _with_source(lent, came, columns)
    if _plain(written) == _plain(after) and problem is None:
        return None
    if problem is None and _plain(written) != _plain(lent["Flow"]):
        problem = "the plan was changed too since the sheet was lent"
    if problem is None:
        problem = _problem(move, plan, columns, name, after, parameters)
    return ChangedFlow(name, _plain(written), after, problem)


def _with_source(lent: Mapping[str, str], came: Mapping[str, str], columns: list[str]) -> tuple[str, str | None]:
    """A flow in which one column is put in the place of another, as the sheet's source says."""
    old = [c.strip() for c in lent["Source"].split(",") if c.strip()]
    new = [c.strip() for c in came["Source"].split(",") if c.strip()]
    unknown = next((c for c in new if c not in columns), None)
    if unknown is not None:
        near = nearest(unknown, columns)
        return lent["Flow"], f"no source has a column {unknown!r}" + (f"; did they mean {near!r}?" if near else "")
    if not lent["Flow"] and len(new) == 1:
        return f"{{{new[0]}}}", None
    if len(old) != len(new) or set(columns_of(lent["Flow"])) != set(old):
        return lent["Flow"], f"the source is to be {', '.join(new) or 'none'}; the flow has to be written for it"
    return with_columns(lent["Flow"], dict(zip(old, new, strict=True))), None


def _problem(
    move: Move, plan: Plan, columns: list[str], name: str, flow: str, parameters: Mapping[str, str]
) -> str | None:
    """Why a flow cannot be taken, if it cannot."""
    if (control := control_in(flow)) is not None:
        return f"the flow has control characters ({control})"
    if not flow.strip():
        return "the flow was taken out; take it out of the plan if that is meant"
    changed = replace(plan, flows={**plan.flows, name: flow})
    around = TablesAtHand(move, ledger_of(move)).around(changed, date.today(), parameters)
    problems = []
    # of a value that nobody gave or declared the kind is not known: one of all must do
    for text in STAND_INS:
        given = replace(around.parameters, stand_in=text)
        try:
            assemble(changed, columns, replace(around, parameters=given), steps_of(move.folder, move.own_steps))
            return None
        except MudanzaError as error:
            problems.append(f"{error.what} {error.hint or ''}".strip())
    return problems[0]
