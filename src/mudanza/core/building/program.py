"""A plan compiled: which columns are computed in which order, and what is asked of them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date

import polars as pl

from mudanza.core.crosswalking.tables import Crosswalk, read_crosswalk
from mudanza.core.errors import LanguageError, MoveError, PlanError, nearest, unknown
from mudanza.core.keys import KeyBook
from mudanza.core.kinds import DTYPES, Kind, plain_text
from mudanza.core.language.compiling import Compiler, Watched
from mudanza.core.language.parsing import error_at, parse_condition, parse_flow
from mudanza.core.language.steps import STEPS
from mudanza.core.language.values import Asked, Mint, Stages, Surroundings, Value
from mudanza.core.layouts.model import Field
from mudanza.core.layouts.rules import blank_as_rendered, render, value_problems, writing_problems
from mudanza.core.lookups import Lookup
from mudanza.core.move import Move
from mudanza.core.own_steps import steps_of
from mudanza.core.parameters import Parameters
from mudanza.core.plans import Plan
from mudanza.core.problems import Problem
from mudanza.core.sources.reading import Reader

Stage = list[pl.Expr]


@dataclass(frozen=True)
class Made:
    """A field's columns: its typed value and its text as the layout wants it.

    `columns` are the source columns that its flow looks at.
    """

    field: Field
    value: Value
    text: Value
    columns: frozenset[str]


@dataclass(frozen=True)
class Program:
    """What is done to rows: `choose` first, then `early` stages, then identifiers, then `late` stages.

    `fields` are in layout order. `late_problems` can only be asked once identifiers are there.
    """

    choose: list[Stage]
    keep: pl.Expr | None
    choose_problems: list[Problem]
    early: list[Stage]
    late: list[Stage]
    mints: list[Mint]
    fields: list[Made]
    early_problems: list[Problem]
    late_problems: list[Problem]
    primary_key: tuple[str, ...]
    chosen_by: frozenset[str]
    used: frozenset[str]
    books: Mapping[str, KeyBook]
    compared: Mapping[str, set[str]]
    parameters: frozenset[str]
    crosswalks: Mapping[str, Crosswalk]
    asked_crosswalks: list[Asked]
    lookups: Mapping[str, Lookup]
    watched: list[Watched]
    own_steps: bool

    @property
    def titles(self) -> list[str]:
        return [made.field.title for made in self.fields]


def compile_plan(
    plan: Plan,
    move: Move,
    columns: Sequence[str],
    as_of: date,
    parameters: Mapping[str, str],
    books: dict[str, KeyBook] | None = None,
    *,
    watch: bool = False,
) -> Program:
    """Compile a plan against the columns its sources have. Raises errors that point into the plan.

    `books` are key books that lists built before in the same run have opened; those opened here are added. With `watch`, the program tells each
    value on the way to each field.
    """
    known = {} if books is None else books
    return _Assembly(plan, move, columns, as_of, parameters, known, watch).program()


@dataclass(frozen=True)
class Chooser:
    """A condition on source rows, compiled. Rows for which it cannot be told are not chosen."""

    stages: list[Stage]
    expr: pl.Expr
    problems: list[Problem]

    def choose(self, rows: pl.DataFrame) -> pl.DataFrame:
        """The rows that meet it."""
        made = rows.lazy()
        for stage in self.stages:
            made = made.with_columns(stage) if stage else made
        doubtful = pl.any_horizontal([p.exactly.fill_null(False) for p in self.problems if p.stops] or [pl.lit(False)])
        return made.filter(self.expr & ~doubtful).select(rows.columns).collect()


def compile_chooser(
    plan: Plan, move: Move, columns: Sequence[str], as_of: date, parameters: Mapping[str, str], text: str
) -> Chooser:
    """Compile a condition that somebody gives beside the plan. Raises LanguageError whose place is the text."""
    stages = Stages()
    expr, problems = _Assembly(plan, move, columns, as_of, parameters, {}, False).condition(stages, text, "--where")
    return Chooser(stages.early, expr, problems)


class _Assembly:
    def __init__(
        self,
        plan: Plan,
        move: Move,
        columns: Sequence[str],
        as_of: date,
        parameters: Mapping[str, str],
        books: dict[str, KeyBook],
        watch: bool,
    ) -> None:
        self.plan, self.move, self.columns, self.books = plan, move, columns, books
        self.made: dict[str, Made] = {}
        self.under_way: list[str] = []
        self.early: list[Problem] = []
        self.late: list[Problem] = []
        self.stages = Stages()
        self.crosswalks: dict[str, Crosswalk] = {}
        self.around = Surroundings(
            crosswalk=self._crosswalk,
            keys=lambda name: self._book(name).all(),
            book_exists=lambda name: bool(self._book(name)),
            parameters=Parameters(parameters, move.parameters),
            as_of=as_of,
            lookup=self._lookup,
        )
        self.lookups: dict[str, Lookup] = {}
        self.by_name = {f.name: f for f in plan.layout.fields}
        steps = steps_of(move.folder, move.own_steps)
        self.own_steps = steps is not STEPS
        self.compiler = Compiler(
            columns,
            self.around,
            self.stages,
            self._field_value,
            list(self.by_name),
            steps=steps,
            # the rows of a file of held-back rows name their sources themselves
            sources=[] if any("held-back" in (s.file or "") for s in plan.sources) else [s.name for s in plan.sources],
            watched=[] if watch else None,
        )

    def program(self) -> Program:
        choose = Stages()
        keep, problems = self._keep(choose)
        chosen_by = frozenset(self.compiler.used)
        fields = [self._make(field) for field in self.plan.layout.fields]
        return Program(
            choose=choose.early,
            keep=keep,
            choose_problems=problems,
            early=self.stages.early,
            late=self.stages.late,
            mints=self.stages.mints,
            fields=fields,
            early_problems=self.early,
            late_problems=self.late,
            primary_key=self.plan.layout.primary_key,
            chosen_by=chosen_by,
            used=frozenset(self.compiler.used | {s for s in self.plan.sort if not s.startswith("@")}),
            books=self.books,
            compared=self.compiler.compared,
            parameters=frozenset(self.around.parameters.asked),
            crosswalks=self.crosswalks,
            asked_crosswalks=self.stages.asked,
            lookups=self.lookups,
            watched=self.compiler.watched or [],
            own_steps=self.own_steps,
        )

    def _crosswalk(self, name: str) -> Crosswalk:
        if name not in self.crosswalks:
            self.crosswalks[name] = read_crosswalk(self.move.crosswalk_path(name))
        return self.crosswalks[name]

    def _lookup(self, name: str) -> Lookup:
        if name not in self.lookups:
            known = list(self.plan.lookups)
            if name not in known:
                raise MoveError(
                    unknown("lookup", name, known),
                    hint=f'Say in the plan where it stands: [lookup.{name}], file = "…", key = "…".',
                )
            table = self.plan.lookups[name]

            def read() -> list[tuple[str, Reader]]:
                return [(self.move.shown(path), reader) for path, reader in table.source.open()]

            self.lookups[name] = Lookup(name, table.keys, table.fold, read, table.source.options.rename)
        return self.lookups[name]

    def _book(self, name: str) -> KeyBook:
        if name not in self.books:
            self.books[name] = KeyBook(name, self.move.key_pattern(name), self.move.ledger)
        return self.books[name]

    def _keep(self, stages: Stages) -> tuple[pl.Expr | None, list[Problem]]:
        text = self.plan.keep
        if text is None:
            return None, []
        try:
            return self.condition(stages, text, "keep")
        except LanguageError as error:
            raise self.plan.placed(error, "rows", "keep", text) from error

    def condition(self, stages: Stages, text: str, column: str) -> tuple[pl.Expr, list[Problem]]:
        """A condition on source rows."""

        def no_fields(name: str) -> Value | None:
            raise error_at(
                text, text.find("{@" + name), text.find("{@" + name) + len(name) + 3,
                "rows are chosen before fields are made.", "Use the source columns here.",
            )  # fmt: skip

        compiler = replace(self.compiler, stages=stages, field_value=no_fields, watched=None)
        value = stages.hold(compiler.condition(text, parse_condition(text), column))
        if value.late:
            raise error_at(text, 0, len(text), "rows cannot be chosen by an identifier that is still to be made.")
        return value.expr, list(value.problems)

    def _field_value(self, name: str) -> Value | None:
        """The typed value of another field of the row, for `{@name}`."""
        field = self.by_name.get(name)
        return None if field is None else self._make(field).value

    def _make(self, field: Field) -> Made:
        if field.name in self.made:
            return self.made[field.name]
        if field.name in self.under_way:
            circle = " -> ".join([*self.under_way[self.under_way.index(field.name) :], field.name])
            raise self.plan.error(f"the fields refer to each other in a circle: {circle}.", "fields", field.name)
        self.under_way.append(field.name)
        used_so_far, self.compiler.used = self.compiler.used, set()
        flow = self.plan.flows.get(field.name, "blank")
        try:
            value = self.compiler.flow(flow, parse_flow(flow), field.title)
            value = self._fitting(field, value, flow)
        except LanguageError as error:
            if error.place is not None and error.place.file is not None:
                raise
            raise self.plan.placed(error, "fields", field.name, flow) from error
        finally:
            self.under_way.pop()
            columns = frozenset(self.compiler.used)
            self.compiler.used = used_so_far | columns
        problems = list(value.problems)
        typed = self.stages.hold(value)
        text = self.stages.hold(typed, render(field, typed.expr, typed.kind))
        if field.number is not None and typed.kind is Kind.NUMBER:
            lost = field.number.loses(typed.expr)
            problems.append(
                Problem("flow.too-exact", field.title, lost, plain_text(typed.expr, Kind.NUMBER), field.rule)
            )
        asked = value_problems(field, text.expr, typed.expr, blank_as_rendered(field, text.expr))
        asked += writing_problems(field, self.plan.layout.dialect, text.expr)
        if value.failed is not None:
            # what could not be made at all needs no second finding for being blank
            asked = [replace(p, when=p.when & ~value.failed.fill_null(False)) for p in asked]
        (self.late if value.late else self.early).extend(problems + asked)
        self.made[field.name] = Made(field, typed, text, columns)
        return self.made[field.name]

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


def check_columns(plan: Plan, program: Program, headings: Mapping[str, Sequence[str]]) -> None:
    """Raise where the plan speaks of columns that no source has: left_behind, sort, lacks."""
    everywhere = {h for names in headings.values() for h in names}
    for column in plan.left_behind:
        if column not in everywhere:
            raise _no_column(plan, column, everywhere, "left_behind", column)
        if column in program.used:
            raise plan.error(
                f"{column!r} is left behind, and yet a flow uses it.",
                "left_behind",
                column,
                "Take the line out here.",
            )
    for column in plan.sort:
        name = column.removeprefix("@")
        known = {f.name for f in plan.layout.fields} if column.startswith("@") else everywhere
        if name not in known:
            raise _no_column(plan, column, known, "rows", "sort")


def _no_column(plan: Plan, column: str, known: set[str], section: str, key: str) -> PlanError:
    near = nearest(column, sorted(known))
    hint = f"Did you mean {near!r}?" if near else "If the old system no longer exports it, take the line out."
    return plan.error(f"no source has a column {column!r}.", section, key, hint)
