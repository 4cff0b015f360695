"""How a step is declared: what it takes and gives, its arguments, its documentation and its examples."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

import polars as pl

from mudanza.core.documents.errors import LanguageError
from mudanza.core.findings.problem import Problem
from mudanza.core.language.value import Stages, Surroundings, Value, combined
from mudanza.core.values.kinds import Kind, is_blank, plain_text


@dataclass(frozen=True)
class Parameter:
    """An argument of a step. `kind` is text, number (whole), decimal, yes/no, name, value (any constant) or condition; `many` takes all that
    follow; `choices` are the only texts that it takes."""

    name: str
    kind: str
    default: Any = None
    option: bool = False
    many: bool = False
    required: bool = True
    least: int = 0
    choices: tuple[str, ...] = ()


@dataclass(frozen=True)
class StepExample:
    """A flow on the column `A` (and `B`), what stands there, and the plain text that comes out."""

    flow: str
    given: tuple[str | None, ...]
    gives: str | None


@dataclass(frozen=True)
class Step:
    """A step as declared. `takes` None means any kind; `several` means it takes several values at once."""

    name: str
    takes: tuple[Kind, ...]
    gives: Kind | None
    parameters: tuple[Parameter, ...]
    several: bool
    summary: str
    #: what it does in a few words, {0} being its first argument
    says: str
    examples: tuple[StepExample, ...]
    work: Callable[..., Value]

    @property
    def usage(self) -> str:
        """How it is written: `fit LENGTH words=YES/NO`."""
        words = [self.name]
        for p in self.parameters:
            shown = f'"{p.name}"' if p.kind == "text" else p.name.upper()
            if p.choices and not p.option:
                shown = "|".join(f'"{choice}"' for choice in p.choices)
            if p.option:
                shown = f'{p.name}="{p.default}"' if p.kind == "text" else f"{p.name}={p.default}"
                shown = (
                    shown.replace("=False", "=no")
                    .replace("=True", "=yes")
                    .replace('="None"', '="…"')
                    .replace("=None", "=…")
                )
            words.append(shown + (" …" if p.many else ""))
        return " ".join(words)


STEPS: dict[str, Step] = {}


@dataclass(frozen=True)
class Call:
    """One use of a step in a flow: where it stands, what it may use, and for which rows it counts (None for all)."""

    stages: Stages
    around: Surroundings
    column: str | None
    fail: Callable[[str, str | None], LanguageError]
    applies: Value | None = None

    def attempt(self, value: Value, work: Callable[[pl.Expr], pl.Expr], kind: Kind, code: str, rule: str) -> Value:
        """`work` on the value, a text without spaces at its ends.

        Where it gives null for what is not blank, a finding of `code` is made.
        """
        plain = value.expr
        if value.kind is Kind.TEXT:
            plain = plain.str.strip_chars()
            plain = pl.when(plain != "").then(plain)
        before = self.stages.hold(value, plain)
        after = self.stages.hold(before, work(before.expr))
        filled = before.expr.is_not_null() if value.kind is Kind.TEXT else ~is_blank(before.expr, value.kind)
        wrong = after.expr.is_null() & filled
        return self.note(replace(after, kind=kind), wrong, code, rule, plain_text(before.expr, value.kind))

    def together(self, value: Value, other: Value) -> Value:
        """The value, once the other is ready too; what is wrong with either is wrong with it."""
        return combined([value, other], value.expr, value.kind)

    def groups_of(self, pattern: str) -> int:
        """How many groups a regular expression has. Raises where it is none that can be used."""
        try:
            dtype = pl.select(pl.lit("").str.extract_groups(pattern)).to_series().dtype
        except pl.exceptions.PolarsError:
            raise self.fail(
                f"{pattern!r} is no regular expression that can be used.",
                "Look-around and back references are not supported; a bracket, dot or star that is meant as such needs \\\\ before it.",
            ) from None
        return len(getattr(dtype, "fields", ()))

    def note(self, value: Value, when: pl.Expr, code: str, rule: str | pl.Expr, text: pl.Expr) -> Value:
        """The value, with a finding where `when` is true. One of severity stop makes the value fail there."""
        problem = Problem(code, self.column, when, text, rule)
        failed = value.failed
        if problem.stops:
            failed = when if failed is None else failed | when
        return replace(value, problems=(*value.problems, problem), failed=failed)


def step(
    name: str,
    takes: Kind | tuple[Kind, ...],
    gives: Kind | None,
    *parameters: Parameter,
    several: bool = False,
    says: str,
    examples: list[tuple[str, tuple[str | None, ...], str | None]],
) -> Callable[[Callable[..., Value]], Callable[..., Value]]:
    """Declare the function below as a step. Its docstring is the step's documentation."""

    def declare(work: Callable[..., Value]) -> Callable[..., Value]:
        kinds = takes if isinstance(takes, tuple) else (takes,)
        summary = " ".join((work.__doc__ or "").split())
        shown = tuple(StepExample(*example) for example in examples)
        STEPS[name] = Step(name, kinds, gives, parameters, several, summary, says, shown, work)
        return work

    return declare
