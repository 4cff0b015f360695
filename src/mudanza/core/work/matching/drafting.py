"""A plan drafted: for each field without a flow a proposal, with its evidence, as a flow that the values need."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from mudanza.core.documents.errors import MudanzaError
from mudanza.core.engine.intake import Intake, open_sources
from mudanza.core.language.asking import columns_of, single_column
from mudanza.core.layouts.layout import Field
from mudanza.core.layouts.types.text import TextType
from mudanza.core.plans.move import Move
from mudanza.core.plans.plan import Plan
from mudanza.core.plans.plan_reading import load_plan
from mudanza.core.tables.key_pattern import KeyPattern
from mudanza.core.work.matching.lexicon import OWN_WORDS, lexicon
from mudanza.core.work.matching.scoring import Candidate, Scorer, assign
from mudanza.core.work.matching.tokens import words_of
from mudanza.core.work.matching.views import View, views
from mudanza.core.work.matching.weights import Weights

_GIVEN, _FAMILY = frozenset({"given", "name"}), frozenset({"family", "name"})
_WHOLE = (frozenset({"full", "name"}), frozenset({"name"}))


@dataclass(frozen=True)
class Proposal:
    """What is proposed for a field: its flow, the columns it takes, a score from 0 to 1, the evidence, and what is doubtful about it (None if it is sure).

    `crosswalk` is a crosswalk that the flow needs and the move does not have yet, with its further columns.
    """

    field: Field
    flow: str
    columns: tuple[str, ...]
    score: float
    evidence: tuple[str, ...]
    doubt: str | None
    crosswalk: tuple[str, tuple[str, ...]] | None = None


@dataclass(frozen=True)
class Draft:
    """A draft for a list: the proposals in layout order, the fields that have a flow already, those that none was found for, and the columns that
    nothing uses yet, with how many values the sample has of them."""

    name: str
    proposals: list[Proposal]
    written: list[str]
    without: list[Field]
    unused: list[tuple[str, tuple[str, ...], int]]


@dataclass(frozen=True)
class _Part:
    """What one source gives to a field."""

    flow: str
    columns: tuple[str, ...]
    score: float
    evidence: tuple[str, ...]
    doubt: str | None
    crosswalk: tuple[str, tuple[str, ...]] | None = None


def draft(move: Move, name: str, learned: Weights | None = None) -> Draft:
    """Propose a flow for every field of a list that has none. Reads the first rows of the sources; writes nothing."""
    plan = load_plan(move, name, draft=True)
    intake = open_sources(plan, move)
    return draft_plan(move, plan, intake, learned)


def scorer_of(move: Move, plan: Plan, learned: Weights | None = None) -> Scorer:
    """Who scores columns for the fields of a plan, by the shipped words and those of the move."""
    words = lexicon()
    own = move.folder / OWN_WORDS
    if own.is_file():
        words = words.with_own(own, [text for f in plan.layout.fields for text in (f.name, f.title)])
    keys = [_key_like(pattern) for pattern in move.key_patterns.values()]
    return Scorer(plan.layout, words, habits(move, plan.name), keys, plan.name, learned)


def draft_plan(move: Move, plan: Plan, intake: Intake, learned: Weights | None = None) -> Draft:
    """The draft of a plan whose sources are open."""
    scorer = scorer_of(move, plan, learned)
    by_source = views(intake, scorer.reader)
    used = {column for flow in plan.flows.values() for column in columns_of(flow)}
    fields = [f for f in plan.layout.fields if f.name not in plan.flows]
    parts: dict[str, dict[str, _Part]] = {}
    for source, columns in by_source.items():
        maker = _Maker(move, plan, columns, scorer, len(by_source) > 1)
        chosen = assign(columns, scorer, used, fields)
        for field in fields:
            made = maker.make(field, chosen)
            if made is not None:
                parts.setdefault(field.name, {})[source] = made
    proposals = [_together(field, parts[field.name], list(by_source)) for field in fields if field.name in parts]
    taken = (
        used
        | {c for p in proposals for c in p.columns}
        | {view.name for columns in by_source.values() for view in columns if plan.stays_behind(view.name) is not None}
        | set(columns_of(plan.keep or "blank", "condition"))
    )
    unused: dict[str, tuple[tuple[str, ...], int]] = {}
    for source, columns in by_source.items():
        for view in columns:
            if view.name not in taken and view.filled:
                sources, filled = unused.get(view.name, ((), 0))
                unused[view.name] = ((*sources, source), filled + view.filled)
    return Draft(
        plan.name,
        proposals,
        [f.name for f in plan.layout.fields if f.name in plan.flows],
        [f for f in fields if f.name not in parts],
        [(column, *facts) for column, facts in unused.items()],
    )


def habits(move: Move, but: str) -> dict[tuple[str, tuple[str, ...]], str]:
    """Which headings the other plans of the move take for which field names, with the plan."""
    found: dict[tuple[str, tuple[str, ...]], str] = {}
    for name in move.names("plans", ".toml"):
        if name == but:
            continue
        try:
            other = load_plan(move, name, draft=True)
        except MudanzaError:
            continue
        for field, flow in other.flows.items():
            if (column := single_column(flow)) is not None:
                found[field, tuple(words_of(column))] = name
                for source in other.sources:
                    back = {new: old for old, new in source.options.rename.items()}
                    if column in back:
                        found[field, tuple(words_of(back[column]))] = name
    return found


def _together(field: Field, by_source: Mapping[str, _Part], sources: Sequence[str]) -> Proposal:
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
    return Proposal(
        field,
        flow,
        columns,
        min(p.score for p in parts),
        evidence,
        "; ".join(d for d in doubts if d) or None,
        crosswalk,
    )


def _key_like(pattern: KeyPattern) -> str:
    """An identifier that a key book would give."""
    return f"{pattern.before}{1:0>{pattern.digits}}{pattern.after}"


class _Maker:
    """Makes flows of one source's columns."""

    def __init__(self, move: Move, plan: Plan, columns: Sequence[View], scorer: Scorer, several: bool) -> None:
        self.move, self.plan, self.columns, self.several = move, plan, columns, several
        self.words = {name: asked.ideas for name, asked in scorer.asked.items()}
        self.asks_parts = any({"given"} <= ideas or {"family"} <= ideas for ideas in self.words.values())

    def make(self, field: Field, chosen: Mapping[str, Candidate]) -> _Part | None:
        """What the source gives to a field: composed of several columns, or converted from one."""
        composed = self._name(field, chosen) or self._address(field, chosen)
        if composed is not None:
            return composed
        candidate = chosen.get(field.name)
        return None if candidate is None else self._converted(field, candidate)

    def _find(self, ideas: frozenset[str]) -> View | None:
        return next((v for v in self.columns if v.meaning.ideas == ideas and v.filled), None)

    def _name(self, field: Field, chosen: Mapping[str, Candidate]) -> _Part | None:
        own = self.words[field.name]
        given, family = self._find(_GIVEN), self._find(_FAMILY)
        is_whole = ("name" in own and not own & {"given", "family", "company"}) and not own & {
            "product",
            "id",
            "type",
            "description",
        }
        if (
            is_whole
            and given
            and family
            and not self.asks_parts
            and not any(v.meaning.ideas in _WHOLE for v in self.columns)
        ):
            steps = self._squeezed((given, family))
            return _Part(
                f'{{{given.name}}}, {{{family.name}}} -> join " "{steps}',
                (given.name, family.name),
                0.85,
                ("given and family name make the name",),
                None,
            )
        whole = next((v for v in self.columns if v.meaning.ideas in _WHOLE and v.filled and v.wordy > 0.7), None)
        if whole is None or given or family or not own & {"given", "family"} or "name" not in own:
            return None
        if field.name in chosen and chosen[field.name].view is not whole and chosen[field.name].score > 0.7:
            return None
        texts = whole.texts
        if sum("," in t for t in texts) > 0.8 * len(texts):
            step = 'after ","' if "given" in own else 'before ","'
            return _Part(
                f"{{{whole.name}}} -> {step} -> squeeze",
                (whole.name,),
                0.8,
                ("the name is written as family, given",),
                None,
            )
        if sum(" " in t for t in texts) > 0.8 * len(texts):
            step = 'before " "' if "given" in own else 'after " "'
            return _Part(
                f"{{{whole.name}}} -> squeeze -> {step}",
                (whole.name,),
                0.6,
                ("part of the whole name",),
                "where a name of several words is to be cut is not certain",
            )
        return None

    def _address(self, field: Field, chosen: Mapping[str, Candidate]) -> _Part | None:
        own = self.words[field.name]
        if "street" not in own or "house" in own or field.name not in chosen:
            return None
        first = chosen[field.name].view
        taken = {c.view.name for n, c in chosen.items() if n != field.name}
        further = [
            v
            for v in self.columns
            if v is not first
            and "street" in v.meaning.ideas
            and "house" not in v.meaning.ideas
            and v.meaning.number
            and v.name not in taken
            and v.filled
        ]
        house = next(
            (v for v in self.columns if v.meaning.ideas == {"house", "id"} and v.name not in taken and v.filled), None
        )
        if not further and house is None:
            return None
        parts = sorted([first, *further], key=lambda v: v.meaning.number or "0")
        limit = field.type.max_length if isinstance(field.type, TextType) else None
        ending = self._squeezed((*parts, *([house] if house else [])))
        if limit is not None and sum(v.longest for v in parts) + (house.longest + 1 if house else 0) > limit:
            ending += f" -> fit {limit} words=yes"
        columns = tuple(v.name for v in (*parts, *([house] if house else [])))
        flow = ", ".join(f"{{{v.name}}}" for v in parts)
        if house is not None:
            begin = f'({{{parts[0].name}}}, {{{house.name}}} -> join " ")'
            flow = ", ".join([begin, *(f"{{{v.name}}}" for v in parts[1:])])
            if len(parts) == 1:
                return _Part(
                    f'{{{first.name}}}, {{{house.name}}} -> join " "{ending}',
                    columns,
                    0.85,
                    ("street and house number",),
                    None,
                )
        return _Part(f'{flow} -> join ", "{ending}', columns, 0.85, ("address lines are joined",), None)

    @staticmethod
    def _squeezed(columns: Sequence[View]) -> str:
        return " -> squeeze" if any("  " in v or v != v.strip() for view in columns for v in view.values) else ""

    def _converted(self, field: Field, candidate: Candidate) -> _Part:
        view, conversion = candidate.view, candidate.conversion
        column = f"{{{view.name}}}"
        doubt = conversion.doubt or (None if candidate.sure else "another column, or none, may be meant")
        key = self._identifier(field, view) if candidate.given else None
        if key is not None:
            return replace(
                key, score=candidate.score, evidence=candidate.evidence, doubt=None if candidate.score >= 0.6 else doubt
            )
        if conversion.codes:
            return self._codes(field, candidate, doubt)
        return _Part(f"{column}{conversion.steps}", (view.name,), candidate.score, candidate.evidence, doubt)

    def _identifier(self, field: Field, view: View) -> _Part | None:
        """A key that has to be made anew, or a reference to one: where a key book's keys are what the field takes, and the values are not."""
        fits = re.compile((field.type.pattern if isinstance(field.type, TextType) else None) or "")
        for book, pattern in self.move.key_patterns.items():
            if fits.fullmatch(_key_like(pattern)):
                step = "mint" if field.name in self.plan.layout.primary_key else "key"
                return _Part(f"{{#source}}, {{{view.name}}} -> {step} {book}", (view.name,), 0, (), None)
        return None

    def _codes(self, field: Field, candidate: Candidate, doubt: str | None) -> _Part:
        """A column of codes through a crosswalk, which knows the source too where there are several."""
        view = candidate.view
        known = self.move.names("crosswalks", ".csv")
        name = next((n for n in (field.name, f"{field.name}s", f"{field.name}es") if n in known), field.name)
        further: tuple[str, ...] = ("source",) if self.several else ()
        missing = None if name in known else (name, further)
        if name in known:
            from mudanza.core.plans.crosswalk_files import further_columns, heading_of

            further = tuple(further_columns(heading_of(self.move.crosswalk_path(name))))
        clean = candidate.conversion.steps
        value = (
            f"{{{view.name}}}{clean}"
            if not further
            else f"{{{view.name}}}, {{#source}}"
            if not clean
            else f"({{{view.name}}}{clean}), {{#source}}"
        )
        return _Part(f"{value} -> crosswalk {name}", (view.name,), candidate.score, candidate.evidence, doubt, missing)
