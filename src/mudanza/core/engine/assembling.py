"""A recipe assembled: the flows of a plan compiled against its layout and the columns that its sources have."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import replace

import polars as pl

from mudanza.core.documents.errors import LanguageError, MudanzaError, nearest
from mudanza.core.documents.marks import KeyPath
from mudanza.core.engine.knowing import Knowing, knowing
from mudanza.core.engine.recipe import Condition, Made, Mentions, Recipe
from mudanza.core.engine.reference import Reference, leading_nowhere
from mudanza.core.engine.totals import Totals
from mudanza.core.findings.problem import Problem
from mudanza.core.language import nodes
from mudanza.core.language.compiling import Compiler
from mudanza.core.language.parsing import error_at, parse_condition, parse_flow
from mudanza.core.language.steps import STEPS
from mudanza.core.language.steps.declaring import Step
from mudanza.core.language.steps.looking_up import known_identifier
from mudanza.core.language.value import Mint, Stages, Surroundings, Value, combined
from mudanza.core.layouts.demands import ADD
from mudanza.core.layouts.layout import Field
from mudanza.core.layouts.rules import blank_as_rendered, render, row_problems, value_problems
from mudanza.core.plans.leavers import LAST_CHANGE
from mudanza.core.plans.plan import Plan, matches
from mudanza.core.sinks.formats import sink_of
from mudanza.core.values.kinds import DTYPES, Kind
from mudanza.core.values.row_columns import IN_TARGET, shown_key


def assemble(
    plan: Plan,
    columns: Sequence[str],
    around: Surroundings,
    steps: Mapping[str, Step] = STEPS,
    *,
    sources: Sequence[str] = (),
    references: Sequence[Reference] = (),
    watch: bool = False,
    named: bool = False,
) -> Recipe:
    """The recipe of a plan whose sources have these columns, and these names (none, if rows name their sources themselves), and whose `references` are looked at.
    With `named`, rows that are not written are named, since others may refer to them. With `watch`, it tells each value on the way to each field.

    Raises errors that point into the plan.
    """
    return _Assembly(plan, columns, around, steps, sources, references, watch).recipe(named=named)


def assemble_condition(
    plan: Plan, columns: Sequence[str], around: Surroundings, text: str, steps: Mapping[str, Step] = STEPS
) -> Condition:
    """A condition that somebody gives beside the plan. Raises LanguageError whose place is the text."""
    return _Assembly(plan, columns, around, steps, (), (), False).condition(text, "--where")


class _Assembly:
    def __init__(
        self,
        plan: Plan,
        columns: Sequence[str],
        around: Surroundings,
        steps: Mapping[str, Step],
        sources: Sequence[str],
        references: Sequence[Reference],
        watch: bool,
        stages: Stages | None = None,
    ) -> None:
        self.plan, self.around, self.references = plan, around, references
        self.made: dict[str, Made] = {}
        self.under_way: list[str] = []
        self.early: list[Problem] = []
        self.late: list[Problem] = []
        self.stages = stages or Stages()
        self.key_mints: list[Mint] = []
        self.by_name = {f.name: f for f in plan.layout.fields}
        self.compiler = Compiler(
            columns,
            around,
            self.stages,
            self._field_value,
            list(self.by_name),
            steps=steps,
            sources=sources,
            watched=[] if watch else None,
        )

    def recipe(self, *, named: bool = False) -> Recipe:
        keep = self._keep()
        known = self._known(named)
        chosen_by = frozenset(self.compiler.used)
        fields = [self._make(field) for field in self.plan.layout.fields]
        for reference in self.references:
            if len(reference.fields) > 1:
                self._refer(reference, [self.made[name].text for name in reference.fields])
        self._ask_of_rows()
        sorted_by = {s for s in self.plan.sort if not s.startswith("@")}
        if IN_TARGET in self.compiler.facts:
            known = replace(known, asked=True)
        return Recipe(
            known=known,
            keep=keep,
            early=self.stages.early,
            mints=self.stages.mints,
            key_mints=tuple(self.key_mints),
            late=self.stages.late,
            fields=fields,
            early_problems=self.early,
            late_problems=self.late,
            key=self.plan.layout.primary_key,
            key_rule=self.plan.layout.key_rule,
            mentions=Mentions(
                used=frozenset(self.compiler.used | sorted_by),
                chosen_by=chosen_by,
                compared={column: frozenset(texts) for column, texts in self.compiler.compared.items()},
                parameters=frozenset(self.around.parameters.asked),
                crosswalks=tuple(self.stages.asked),
                lookups=tuple(dict.fromkeys(self.stages.looked_up)),
                watched=tuple(self.compiler.watched or ()),
            ),
            own_steps=self.stages.own,
            totals=self._totals(),
            corrections=self.around.corrections,
        )

    def _ask_of_rows(self) -> None:
        """What the layout asks of several fields together."""
        if not self.plan.layout.asks_of_rows:
            return
        fields = self.plan.layout.fields
        texts = {one.name: self.made[one.name].text.expr for one in fields}
        blanks = {one.name: blank_as_rendered(one, texts[one.name]).fill_null(True) for one in fields}
        for problem, names in row_problems(self.plan.layout, texts, blanks):
            late = any(self.made[name].text.late for name in names)
            (self.late if late else self.early).append(problem)

    def _keep(self) -> Condition | None:
        text = self.plan.keep
        if text is None:
            return None
        try:
            return self.condition(text, "keep")
        except LanguageError as error:
            raise self.plan.placed(error, ("rows", "keep"), text) from error

    def condition(self, text: str, column: str) -> Condition:
        """A condition on source rows."""
        stages = Stages("keep ", own=self.stages.own)

        def no_fields(name: str) -> Value | None:
            raise error_at(
                text,
                text.find("{@" + name),
                text.find("{@" + name) + len(name) + 3,
                "rows are chosen before fields are made.",
                "Use the source columns here.",
            )

        compiler = replace(self.compiler, stages=stages, field_value=no_fields, watched=None)
        node = parse_condition(text)
        value = stages.hold(compiler.condition(text, node, column))
        if value.late:
            raise error_at(text, 0, len(text), "rows cannot be chosen by an identifier that is still to be made.")
        parts = []
        if self.around.in_target is not None:
            # which part it is that a record does not meet any more is asked of those alone that the target holds
            for part in node.parts if isinstance(node, nodes.Logic) and node.word == "and" else [node]:
                met = stages.hold(compiler.condition(text, part, column))
                parts.append((text[part.start : part.end], met.expr))
        of_target = IN_TARGET in self.compiler.facts
        return Condition(stages.early, value.expr, list(value.problems), tuple(parts), of_target)

    def _known(self, named: bool) -> Knowing:
        """What adds to rows what is known of them, where anything is."""
        around, layout = self.around, self.plan.layout
        if around.in_target is None and not around.by_hand and not named:
            return Knowing()
        early = self._before_identifiers("known ")
        key = {name: early._make(self.by_name[name]).text for name in layout.primary_key}
        if IN_TARGET in early.compiler.facts:
            raise self.plan.error(
                "the key cannot hang on whether the target holds the record, which is known by the key.",
                ("fields", layout.primary_key[0]),
            )
        last = {sort for sort, leaving in self.plan.leavers.items() if leaving.action == LAST_CHANGE}
        return replace(knowing(layout, around, early.stages, key), last=frozenset(last), named=named)

    def _before_identifiers(self, part: str) -> _Assembly:
        """An assembly of its own stages, known by their `part`, in which identifiers are those that were given by
        earlier runs."""
        steps = {
            **self.compiler.steps,
            "mint": replace(self.compiler.steps["mint"], work=known_identifier),
        }
        return _Assembly(
            self.plan,
            self.compiler.columns,
            self.around,
            steps,
            self.compiler.sources,
            (),
            False,
            Stages(part, own=self.stages.own),
        )

    def _totals(self) -> Totals:
        """What makes the numbers that are summed over all rows, whatever becomes of these."""
        names = list(dict.fromkeys(one.field for one in self.plan.totals if one.field is not None))
        if not names:
            return Totals()
        early = self._before_identifiers("sum ")
        values = {name: early._make(self.by_name[name]).value.expr for name in names}
        if IN_TARGET in early.compiler.facts:
            raise self.plan.error("a sum cannot hang on what the target holds.", ("totals", 0))
        return Totals(tuple(early.stages.early), values)

    def _field_value(self, name: str) -> Value | None:
        """The typed value of another field of the row, for `{@name}`."""
        field = self.by_name.get(name)
        return None if field is None else self._make(field).value

    def _make(self, field: Field) -> Made:
        if field.name in self.made:
            return self.made[field.name]
        if field.name in self.under_way:
            circle = " -> ".join([*self.under_way[self.under_way.index(field.name) :], field.name])
            raise self.plan.error(f"the fields refer to each other in a circle: {circle}.", ("fields", field.name))
        self.under_way.append(field.name)
        used_so_far, self.compiler.used = self.compiler.used, set()
        flow = self.plan.flows.get(field.name) or _without_flow(field)
        mints_before = len(self.stages.mints)
        try:
            value = self.compiler.flow(flow, parse_flow(flow), field.title)
            value = self._fitting(field, value, flow)
        except LanguageError as error:
            if error.place is not None and error.place.file is not None:
                raise
            raise self.plan.placed(error, ("fields", field.name), flow) from error
        finally:
            self.under_way.pop()
            columns = frozenset(self.compiler.used)
            self.compiler.used = used_so_far | columns
        if field.name in self.plan.layout.primary_key:
            self.key_mints += self.stages.mints[mints_before:]
        problems = list(value.problems)
        typed = self.stages.hold(value)
        text = self.stages.hold(typed, render(field, typed.expr, typed.kind))
        asked = value_problems(field, text.expr, typed.expr, blank_as_rendered(field, text.expr))
        asked += sink_of(self.plan.layout).problems(field, self.plan.layout, text.expr)
        if value.failed is not None:
            # what could not be made at all needs no second finding for being blank
            asked = [replace(p, when=p.when & ~value.failed.fill_null(False)) for p in asked]
        (self.late if value.late else self.early).extend(problems + asked)
        for reference in self.references:
            if reference.fields == (field.name,):
                nowhere = self._refer(reference, [text], self.stages.mints[mints_before:])
                if reference.blanks:
                    typed = combined([typed, nowhere], pl.when(~nowhere.expr).then(typed.expr), typed.kind)
                    text = self.stages.hold(typed, render(field, typed.expr, typed.kind))
        self.made[field.name] = Made(field, typed, text, columns)
        return self.made[field.name]

    def _refer(self, reference: Reference, texts: list[Value], mints: Sequence[Mint] = ()) -> Value:
        """Whether a reference leads nowhere; the finding on it is noted."""
        fields = [self.by_name[name] for name in reference.fields]
        # an identifier that nobody was given says less than what it would be given for
        said = shown_key(pl.col(mints[0].identity)) if len(mints) == 1 else None
        nowhere = leading_nowhere(self.stages, reference, fields, texts, said)
        (self.late if nowhere.late else self.early).extend(nowhere.problems)
        return nowhere

    def _fitting(self, field: Field, value: Value, flow: str) -> Value:
        """The value as the field's kind. Raises LanguageError where it does not fit."""
        kinds = (field.kind, value.kind)
        if value.kind is Kind.BLANK:
            return value.map(pl.lit(None, dtype=DTYPES[field.kind]), field.kind)
        if value.kind is field.kind or (value.kind is Kind.TEXTS and field.separator is not None):
            return value
        if kinds == (Kind.TEXT, Kind.NUMBER):
            return value
        if kinds == (Kind.DATETIME, Kind.DATE):
            return value.map(value.expr.cast(pl.Datetime("us")), Kind.DATETIME)
        hints = {
            Kind.NUMBER: "Read it: -> number.",
            Kind.DATE: 'Read it: -> date "dd/MM/yyyy".',
            Kind.DATETIME: 'Read it: -> date "dd/MM/yyyy HH:mm".',
            Kind.YESNO: "Read it: -> yesno.",
        }
        hint = hints.get(field.kind) if value.kind is Kind.TEXT else None
        if field.kind is Kind.TEXT:
            hint = 'Make a text of it: -> write "pattern".'
            if value.kind is Kind.TEXTS:
                hint = 'Make one text of them: -> join ", ", or -> pick 1.'
            elif value.kind is Kind.YESNO:
                hint = 'Use cases: "Y" when {...}; "N" otherwise.'
        raise error_at(
            flow,
            0,
            len(flow.rstrip()),
            f"the field {field.name!r} is a {field.kind}, and a {value.kind} comes out here.",
            hint,
        )


def check_columns(plan: Plan, recipe: Recipe, headings: Mapping[str, Sequence[str]]) -> None:
    """Raise where the plan speaks of columns that no source has: left_behind, sort, lacks."""
    everywhere = {h for names in headings.values() for h in names}
    for column in plan.left_behind:
        if column not in everywhere and "*" in column:
            if column != "*" and not any(matches(column, one) for one in everywhere):
                hint = "If the old system no longer exports them, take the line out."
                raise plan.error(f"no source has a column like {column!r}.", ("left_behind", column), hint)
            continue
        if column not in everywhere:
            raise _no_column(plan, column, everywhere, ("left_behind", column))
        if column in recipe.mentions.used:
            raise plan.error(
                f"{column!r} is left behind, and yet a flow uses it.",
                ("left_behind", column),
                "Take the line out here.",
            )
    for column in plan.sort:
        name = column.removeprefix("@")
        known = {f.name for f in plan.layout.fields} if column.startswith("@") else everywhere
        if name not in known:
            raise _no_column(plan, column, known, ("rows", "sort"))


def _no_column(plan: Plan, column: str, known: set[str], at: KeyPath) -> MudanzaError:
    near = nearest(column, sorted(known))
    hint = f"Did you mean {near!r}?" if near else "If the old system no longer exports it, take the line out."
    return plan.error(f"no source has a column {column!r}.", at, hint)


def _without_flow(field: Field) -> str:
    """The flow of a field that has none: what becomes of a row, if it says that, is that it is added."""
    word = (field.demands.actions or {}).get(ADD)
    return "blank" if word is None else json.dumps(word, ensure_ascii=False).replace("{", "{{")
