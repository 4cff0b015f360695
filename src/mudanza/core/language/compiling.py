"""From nodes to Polars expressions: names are resolved, kinds checked, steps applied."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace

import polars as pl

from mudanza.core.documents.errors import LanguageError, MoveError, few, nearest, unknown
from mudanza.core.language import nodes
from mudanza.core.language.arguments import arguments_of
from mudanza.core.language.conditions import Conditions
from mudanza.core.language.parameters import KINDS, Declared, MissingParameterError
from mudanza.core.language.parsing import error_at
from mudanza.core.language.steps import STEPS
from mudanza.core.language.steps.declaring import Call, Step
from mudanza.core.language.value import Stages, Surroundings, Value, combined, only_where
from mudanza.core.language.wording import conversion, listed
from mudanza.core.values.kinds import DECIMAL, DTYPES, Kind, plain_text
from mudanza.core.values.row_columns import FILE, IN_TARGET, LINE, SOURCE

_FACTS = {"#row": (LINE, Kind.NUMBER), "#source": (SOURCE, Kind.TEXT), "#file": (FILE, Kind.TEXT)}
_DAY = "#day"
#: whether the target holds the row's record, as far as is known
IN_TARGET_NAME = "#in_target"


@dataclass(frozen=True)
class Watched:
    """A value on the way to a field: the piece of the flow that made it, and where that case applies (None for all rows)."""

    column: str | None
    text: str
    value: Value
    applies: Value | None
    depth: int


@dataclass
class Compiler:
    """Compiles the flows of one plan. `columns` are the source columns' names, `field_value` compiles another field.

    `used` collects the columns that flows refer to.
    """

    columns: Sequence[str]
    around: Surroundings
    stages: Stages
    field_value: Callable[[str], Value | None]
    field_names: Sequence[str] = ()
    used: set[str] = field(default_factory=set)
    steps: Mapping[str, Step] = field(default_factory=lambda: STEPS)
    #: the names of the plan's sources, where they are known
    sources: Sequence[str] = ()
    #: source columns that conditions compare with texts, and these texts
    compared: dict[str, set[str]] = field(default_factory=dict)
    #: the inner columns that flows ask for, which are known of rows before anything is made of them
    facts: set[str] = field(default_factory=set)
    #: the typed fields that have columns for headings, where both can be asked: name and kind
    headed: Mapping[str, tuple[str, Kind]] = field(default_factory=dict)
    #: where it is asked for, each value on the way to a field
    watched: list[Watched] | None = None

    def flow(self, text: str, node: nodes.Flow, column: str | None) -> Value:
        """The value of a flow. `column` is the field its findings speak of."""
        return _Flow(self, text, column).flow(node)

    def condition(self, text: str, node: nodes.Node, column: str | None) -> Value:
        """The value of a condition, of kind yes/no and never null."""
        return _Flow(self, text, column).condition(node)


@dataclass
class _Flow(Conditions):
    """One text under compilation."""

    compiler: Compiler
    text: str
    column: str | None
    #: where the case that is being compiled applies
    applies: Value | None = None
    #: the value that `it` stands for
    it: Value | None = None
    depth: int = -1

    def fail(self, node: nodes.Node, what: str, hint: str | None = None) -> LanguageError:
        return error_at(self.text, node.start, node.end, what, hint)

    # flows and chains

    def flow(self, node: nodes.Flow) -> Value:
        cases = node.cases
        for case in cases[:-1]:
            if case.condition is None:
                raise self.fail(
                    case,
                    "this case always applies, so those after it never do.",
                    "Give it a when, or put it last.",
                )
        if len(cases) == 1 and cases[0].condition is None:
            return self.chain(cases[0].chain)
        conditions: list[Value] = []
        results: list[tuple[Value, pl.Expr]] = []
        earlier: pl.Expr = pl.lit(True)
        for case in cases:
            applies = earlier
            if case.condition is not None:
                test = self.compiler.stages.hold(only_where(self.condition(case.condition), earlier))
                conditions.append(test)
                applies, earlier = earlier & test.expr, earlier & ~test.expr
            results.append((only_where(self._chain_where(case.chain, applies, conditions), applies), applies))
        kind = self._one_kind([v.kind for v, _ in results], cases)
        expr: pl.Expr = pl.lit(None, dtype=DTYPES[kind])
        for value, applies in reversed(results):
            chosen = value.expr if value.kind is kind else pl.lit(None, dtype=DTYPES[kind])
            expr = pl.when(applies).then(chosen).otherwise(expr)
        return combined([v for v, _ in results] + conditions, expr, kind)

    def _chain_where(self, node: nodes.Chain, applies: pl.Expr, conditions: list[Value]) -> Value:
        """The chain of a case; its steps know where the case applies."""
        outer = self.applies
        deciding = [v for v in (*conditions, outer) if v is not None]
        if deciding:
            self.applies = combined(deciding, applies if outer is None else applies & outer.expr, Kind.YESNO)
        try:
            return self.chain(node)
        finally:
            self.applies = outer

    def _one_kind(self, kinds: list[Kind], cases: tuple[nodes.Case, ...]) -> Kind:
        kind = Kind.BLANK
        for one, case in zip(kinds, cases, strict=True):
            if one is Kind.BLANK or one is kind:
                continue
            if kind is not Kind.BLANK:
                raise self.fail(
                    case.chain,
                    f"this case gives a {one}, an earlier one a {kind}.",
                    "All cases must give the same kind.",
                )
            kind = one
        return kind

    def chain(self, node: nodes.Chain) -> Value:
        self.depth += 1
        values = [self.value(v) for v in node.values]
        for one, value in zip(node.values, values, strict=True):
            self._watch(one, value)
        original = values[0] if len(values) == 1 else None
        for step in node.steps:
            values = [self.apply(step, values)]
            self._watch(step, values[0])
        self.depth -= 1
        if len(values) > 1:
            raise self.fail(
                node,
                f"{len(values)} values come out here, and one is needed.",
                'Make one of them: -> join " ", or -> first-filled.',
            )
        value = values[0]
        if node.fallback is None:
            return value
        if value.failed is None:
            raise self.fail(
                node.fallback,
                "no step before this `or` can fail.",
                'For blanks use -> default "text" or -> first-filled.',
            )
        return self._fallback(node, value, original)

    def _watch(self, node: nodes.Node, value: Value) -> None:
        if self.compiler.watched is not None and not isinstance(node, nodes.Chain):
            text = self.text[node.start : node.end]
            self.compiler.watched.append(Watched(self.column, text, value, self.applies, self.depth))

    def _fallback(self, node: nodes.Chain, value: Value, original: Value | None) -> Value:
        assert value.failed is not None and node.fallback is not None
        kept = tuple(p for p in value.problems if not p.stops)
        if isinstance(node.fallback, nodes.Blank):
            expr: pl.Expr = pl.when(~value.failed).then(value.expr)
        elif isinstance(node.fallback, nodes.Text):
            if value.kind is not Kind.TEXT:
                raise self.fail(node.fallback, f"a text cannot stand in for a {value.kind}.", "Use `or blank`.")
            expr = pl.when(value.failed).then(pl.lit(node.fallback.value)).otherwise(value.expr)
        else:
            if original is None or original.kind is not value.kind:
                raise self.fail(
                    node.fallback,
                    f"`or keep` would put what came in where a {value.kind} must be.",
                    "Use `or blank`.",
                )
            expr = pl.when(value.failed).then(original.expr).otherwise(value.expr)
        level = max(value.level, original.level if original else 0)
        return replace(value, expr=expr, problems=kept, failed=None, level=level)

    # steps

    def apply(self, node: nodes.StepCall, values: list[Value]) -> Value:
        step = self.compiler.steps.get(node.name)
        if step is None:
            near = nearest(node.name, list(self.compiler.steps), least=50)
            raise self.fail(
                replace(node, end=node.start + len(node.name)),
                f"there is no step {node.name!r}.",
                f"Did you mean {near!r}?"
                if near
                else "`mudanza explain steps` lists them; a move's own need own_steps = true in mudanza.toml.",
            )
        if len(values) > 1 and not step.several:
            raise self.fail(
                node,
                f"{node.name} takes one value, and {len(values)} come in.",
                f'Make one of them first: -> join " " -> {node.name}.',
            )
        for value in values:
            if value.kind not in step.takes and value.kind is not Kind.BLANK:
                raise self.fail(
                    node,
                    f"{node.name} takes {listed(step.takes)}, and a {value.kind} comes in.",
                    conversion(value.kind, step.takes),
                )
        # what is blank fits every step
        values = [
            v if v.kind in step.takes else v.map(pl.lit(None, dtype=DTYPES[step.takes[0]]), step.takes[0])
            for v in values
        ]
        # constants become columns first: Polars does not widen what is computed of constants alone
        values = [v if v.expr.meta.root_names() else self.compiler.stages.hold(v) for v in values]
        positional, options = arguments_of(
            node, step, lambda asked: self._parameter(asked)[1], lambda at, what, hint: self.fail(at, what, hint)
        )
        if any(p.kind == "condition" for p in step.parameters):
            if node.condition is None:
                raise self.fail(node, f"{step.name} lacks its condition.", f"It is written: {step.usage}")
            values = [self.compiler.stages.hold(values[0])]
            positional.insert(0, self._condition_on(values[0], node.condition))
        call = Call(
            self.compiler.stages,
            self.compiler.around,
            self.column,
            lambda what, hint: self.fail(node, what, hint),
            self.applies,
        )
        try:
            return step.work(values if step.several else values[0], call, *positional, **options)
        except LanguageError:
            raise
        except MoveError as error:
            if error.place is not None and error.place.line is not None:
                raise
            # an unknown crosswalk or key book: the place is the name in the flow
            where = node.arguments[0] if node.arguments else node
            raise self.fail(where, error.what, error.hint) from error

    # values

    def value(self, node: nodes.Node) -> Value:
        match node:
            case nodes.Reference():
                return self._reference(node)
            case nodes.Text():
                return Value(Kind.TEXT, pl.lit(node.value)) if node.value else Value(Kind.BLANK, _nothing())
            case nodes.Template():
                return self._template(node)
            case nodes.Number():
                return Value(Kind.NUMBER, pl.lit(node.value).cast(DECIMAL))
            case nodes.YesNo():
                return Value(Kind.YESNO, pl.lit(node.value))
            case nodes.Blank():
                return Value(Kind.BLANK, _nothing())
            case nodes.Given():
                return self.given(node)
            case nodes.It():
                if self.it is None:
                    raise self.fail(
                        node,
                        "`it` stands for nothing here.",
                        "It is the value that comes into an `expect`; a column stands in braces, {Heading}.",
                    )
                return self.it
            case nodes.Chain():
                return self.chain(node)
            case nodes.Flow():
                return self.flow(node)
            case _:
                return self.condition(node)

    def _parameter(self, node: nodes.Given, kind: Kind | None = None) -> tuple[Declared, str]:
        """How a value is declared, and its text. One that nobody declared is of the `kind` that is wanted of it."""
        declared, text = self.compiler.around.parameters.find(node.name)
        undeclared = not self.compiler.around.parameters.is_declared(node.name)
        if undeclared and kind is not None and kind in KINDS.values():
            declared = replace(declared, kind=kind)
        text = self.compiler.around.parameters.standing_in(declared.kind) if text is None else text
        if text is None:
            near = None if declared.question else self.compiler.around.parameters.nearest(node.name)
            hint = f"Did you mean :{near}?" if near else f"Give it with --set {declared.name}=VALUE."
            proposal = self.compiler.around.parameters.proposal(declared.name)
            if proposal is not None:
                declared, hint = replace(declared, default=proposal[0]), proposal[1]
            error = self.fail(node, f"no value was given for :{node.name}.", hint)
            raise MissingParameterError(declared, error.what, place=error.place, hint=error.hint)
        try:
            declared.value(text)
        except MoveError as error:
            why = f" It is compared with a {declared.kind}." if undeclared else ""
            raise self.fail(node, error.what, f"{error.hint}{why}") from None
        return declared, text

    def given(self, node: nodes.Given, kind: Kind | None = None) -> Value:
        declared, text = self._parameter(node, kind)
        if declared.kind is Kind.TEXT and not text.strip():
            return Value(Kind.BLANK, _nothing())
        return Value(declared.kind, pl.lit(declared.value(text)).cast(DTYPES[declared.kind]))

    def _condition_on(self, value: Value, node: nodes.Node) -> Value:
        """A condition in which `it` is the value."""
        outer, self.it = self.it, replace(value, problems=(), failed=None)
        try:
            return self.condition(node)
        finally:
            self.it = outer

    def _reference(self, node: nodes.Reference) -> Value:
        name = node.name
        if name.startswith("@"):
            value = self.compiler.field_value(name[1:])
            if value is None:
                near = nearest(name[1:], list(self.compiler.field_names))
                hint = f"Did you mean {{@{near}}}?" if near else f"The layout has {few(self.compiler.field_names)}."
                raise self.fail(node, unknown("field", name[1:], []), hint)
            return replace(value, problems=(), failed=None)
        if name in _FACTS:
            column, kind = _FACTS[name]
            self.compiler.used.add(column)
            return Value(kind, pl.col(column).cast(DTYPES[kind]))
        if name == IN_TARGET_NAME:
            self.compiler.facts.add(IN_TARGET)
            return Value(Kind.YESNO, pl.col(IN_TARGET))
        if name == _DAY:
            return Value(Kind.DATE, pl.lit(self.compiler.around.as_of))
        if name in self.compiler.columns:
            self.compiler.used.add(name)
            return Value(Kind.TEXT, pl.col(name))
        if not name:
            raise self.fail(node, "the braces are empty.", "Write a column's heading in them, {Heading}.")
        if name.startswith("#"):
            raise self.fail(
                node,
                f"the reader knows no {name!r} of a row.",
                f"There are {', '.join(f'{{{fact}}}' for fact in (*_FACTS, _DAY, IN_TARGET_NAME))}.",
            )
        known = [*self.compiler.columns, *_FACTS, _DAY, IN_TARGET_NAME]
        near = nearest(name, known)
        fields = f" A field is written {{@{name}}}." if name in self.compiler.field_names else ""
        hint = f"Did you mean {{{near}}}?" if near else f"The sources have: {few(self.compiler.columns)}."
        raise self.fail(node, f"no source has a column {name!r}.", hint + fields)

    def _template(self, node: nodes.Template) -> Value:
        values, parts = [], []
        for part in node.parts:
            value = self.value(part)
            values.append(value)
            parts.append(plain_text(value.expr, value.kind).fill_null(""))
        return combined(values, pl.concat_str(parts), Kind.TEXT)


def _nothing() -> pl.Expr:
    return pl.lit(None, dtype=pl.String)
