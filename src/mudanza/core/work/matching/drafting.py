"""A plan drafted: for each field without a flow a proposal, with its evidence, as a flow that the values need."""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date

from mudanza.core.documents.errors import MudanzaError
from mudanza.core.engine.assembling import assemble
from mudanza.core.engine.intake import Intake, open_sources
from mudanza.core.language.asking import columns_of, single_column
from mudanza.core.language.own_steps import steps_of
from mudanza.core.layouts.layout import Field
from mudanza.core.plans.move import Move
from mudanza.core.plans.plan import Plan
from mudanza.core.plans.plan_reading import load_plan
from mudanza.core.state.evidence import ledger_of
from mudanza.core.tables.crosswalk import Crosswalk
from mudanza.core.work.matching.answers import RIGHT, Answer, read_answers, said_of
from mudanza.core.work.matching.composing import Composer, Part, key_like
from mudanza.core.work.matching.meaning.lexicon import OWN_WORDS, lexicon
from mudanza.core.work.matching.meaning.tokens import words_of
from mudanza.core.work.matching.scoring import Scorer, Scores, assign
from mudanza.core.work.matching.views import views
from mudanza.core.work.matching.weights import Weights
from mudanza.core.work.progress import Progress, Tell, quietly
from mudanza.core.work.tables_at_hand import TablesAtHand


@dataclass(frozen=True, kw_only=True)
class Proposal(Part):
    """What is proposed for a field, from all sources together; and why the flow cannot be compiled, if it is `broken`."""

    field: Field
    broken: str | None = None


@dataclass(frozen=True)
class Unused:
    """A column that nothing uses yet: the sources that have it, how many values the sample has of it, and what they look like (None if like nothing)."""

    column: str
    sources: tuple[str, ...]
    values: int
    looks: str | None


@dataclass(frozen=True)
class Draft:
    """A draft for a list: the proposals in layout order, the fields that have a flow already, those that none was found for, the columns that nothing
    uses yet, and what each source gives to each field."""

    name: str
    proposals: list[Proposal]
    written: list[str]
    without: list[Field]
    unused: list[Unused]
    parts: Mapping[str, Mapping[str, Part]]
    #: the columns that the flows written before take
    used: frozenset[str] = frozenset()


def draft(move: Move, name: str, learned: Weights | None = None) -> Draft:
    """Propose a flow for every field of a list that has none. Reads the first rows of the sources; writes nothing."""
    plan = load_plan(move, name, draft=True)
    intake = open_sources(plan, move)
    return propose(move, plan, intake, weigh(move, plan, intake, learned), read_answers(move.folder))


def scorer_of(move: Move, plan: Plan, learned: Weights | None = None) -> Scorer:
    """Who scores columns for the fields of a plan, by the shipped words and those of the move."""
    words = lexicon()
    own = move.folder / OWN_WORDS
    if own.is_file():
        words = words.with_own(own, [text for f in plan.layout.fields for text in f.words])
    keys = [key_like(pattern) for pattern in move.key_patterns.values()]
    return Scorer(plan.layout, words, habits(move, plan.name), keys, plan.name, learned)


def weigh(
    move: Move, plan: Plan, intake: Intake, learned: Weights | None = None, tell: Tell = quietly
) -> dict[str, Scores]:
    """How likely the columns of each source are meant for each field, whether it has a flow or not: what one takes tells of the others."""
    scorer = scorer_of(move, plan, learned)
    tell(Progress("reading"))
    by_source = views(intake, scorer.reader)
    return {source: Scores(scorer, plan.layout.fields, columns) for source, columns in by_source.items()}


def propose(
    move: Move,
    plan: Plan,
    intake: Intake,
    scores: Mapping[str, Scores],
    answers: Sequence[Answer],
    tell: Tell = quietly,
) -> Draft:
    """The draft by the scores of the sources, and by what was answered."""
    used = {column for flow in plan.flows.values() for column in columns_of(flow)}
    fields = [f for f in plan.layout.fields if f.name not in plan.flows]
    wanted = {f.name for f in fields}
    parts: dict[str, dict[str, Part]] = {}
    for number, (source, of_source) in enumerate(scores.items()):
        tell(Progress(f"matching {source}", share=number / len(scores)))
        said = said_of(answers, plan.name, source)
        composer = Composer(move, plan, of_source, assign(of_source, wanted, used, said), len(scores) > 1)
        for field in fields:
            # where none is right, none is composed either
            if "" not in said.get(field.name, {}) and (made := composer.part(field)) is not None:
                parts.setdefault(field.name, {})[source] = made
    together = [_together(f, parts[f.name], list(scores)) for f in fields if f.name in parts]
    proposals = _compiled(move, plan, intake, together)
    return Draft(
        plan.name,
        proposals,
        [f.name for f in plan.layout.fields if f.name in plan.flows],
        [f for f in fields if f.name not in parts],
        _unused(plan, scores, used | {c for p in proposals for c in p.columns}),
        parts,
        frozenset(used),
    )


def _unused(plan: Plan, scores: Mapping[str, Scores], taken: Collection[str]) -> list[Unused]:
    """The columns of all sources that nothing takes and nobody left behind."""
    asked = {*taken, *columns_of(plan.keep or "blank", "condition")}
    found: dict[str, Unused] = {}
    for source, of_source in scores.items():
        for view in of_source.views:
            if view.name in asked or not view.filled or plan.stays_behind(view.name) is not None:
                continue
            before = found.get(view.name, Unused(view.name, (), 0, None))
            found[view.name] = Unused(
                view.name, (*before.sources, source), before.values + view.filled, before.looks or view.looks
            )
    return list(found.values())


def _compiled(move: Move, plan: Plan, intake: Intake, proposals: Sequence[Proposal]) -> list[Proposal]:
    """The proposals, those whose flows cannot be compiled with the reason why."""
    tables = TablesAtHand(move, ledger_of(move))
    around = tables.around(plan, date.today(), {})
    new = {p.crosswalk[0]: Crosswalk(p.crosswalk[0], ("from", *p.crosswalk[1]), ()) for p in proposals if p.crosswalk}
    around = replace(around, crosswalk=lambda name: new[name] if name in new else tables.crosswalk(name))

    def reason(flows: Mapping[str, str]) -> str | None:
        try:
            own = steps_of(move.folder, move.own_steps)
            assemble(replace(plan, flows=flows), intake.columns, around, own, sources=intake.source_names)
        except MudanzaError as error:
            return str(error.what)
        return None

    if reason({p.field.name: p.flow for p in proposals}) is None:
        return list(proposals)
    return [replace(p, broken=reason({p.field.name: p.flow})) for p in proposals]


def habits(move: Move, but: str) -> dict[tuple[str, tuple[str, ...]], str]:
    """Which headings the other plans of the move take for which field names, or were said to be right for them, with words for it."""
    found = {
        (a.field, words_of(a.column)): f"so it was answered for {a.list_name}"
        for a in read_answers(move.folder)
        if a.answer == RIGHT and a.list_name != but
    }
    for name in move.names("plans", ".toml"):
        if name == but:
            continue
        try:
            other = load_plan(move, name, draft=True)
        except MudanzaError:
            continue
        for field, flow in other.flows.items():
            if (column := single_column(flow)) is not None:
                found[field, words_of(column)] = f"the plan {name} does so"
                for source in other.sources:
                    back = {new: old for old, new in source.options.rename.items()}
                    if column in back:
                        found[field, words_of(back[column])] = f"the plan {name} does so"
    return found


def _together(field: Field, by_source: Mapping[str, Part], sources: Sequence[str]) -> Proposal:
    """What the sources give to a field as one flow: cases by source, where they differ."""
    parts = list(by_source.values())
    flows = {p.flow for p in parts}
    if (len(flows) == 1 and len(parts) == len(sources)) or (len(parts) == 1 and len(sources) == 1):
        flow = parts[0].flow
    else:
        lines = [f'{by_source[s].flow} when {{#source}} = "{s}"' for s in sources if s in by_source]
        if len(parts) == len(sources):
            lines[-1] = f"{by_source[sources[-1]].flow} otherwise"
        flow = ";\n".join(lines)
    doubts = [f"{s}: {p.doubt}" if len(sources) > 1 else p.doubt for s, p in by_source.items() if p.doubt]
    missing = [s for s in sources if s not in by_source]
    if missing:
        doubts.append(f"nothing was found in {', '.join(missing)}")
    evidence = tuple({re.sub(r"\d+%", "", e): e for p in reversed(parts) for e in reversed(p.evidence)}.values())[::-1]
    crosswalk = next((p.crosswalk for p in parts if p.crosswalk), None)
    columns = tuple(dict.fromkeys(c for p in parts for c in p.columns))
    rivals = dict(r for p in parts for r in p.rivals if r[0] not in columns)
    return Proposal(
        flow,
        columns,
        min(p.score for p in parts),
        evidence,
        "; ".join(d for d in doubts if d) or None,
        crosswalk,
        tuple(rivals.items()),
        all(p.certain for p in parts),
        field=field,
    )
