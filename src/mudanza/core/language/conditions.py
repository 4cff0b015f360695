"""Conditions compiled: comparisons and tests, and what and, or and not make of them."""

from __future__ import annotations

from typing import TYPE_CHECKING

import polars as pl

from mudanza.core.documents.errors import LanguageError, nearest
from mudanza.core.language import nodes
from mudanza.core.language.comparisons import compare
from mudanza.core.language.value import Value, combined, only_where
from mudanza.core.language.wording import comparison_hint
from mudanza.core.values.kinds import Kind, is_blank

if TYPE_CHECKING:
    from mudanza.core.language.compiling import Compiler

_ORDERED = ("<", "<=", ">", ">=", "between")


class Conditions:
    """The part of compiling that makes yes and no of values. Who compiles a flow gives the values."""

    compiler: Compiler

    def fail(self, node: nodes.Node, what: str, hint: str | None = None) -> LanguageError:
        """An error at a node."""
        raise NotImplementedError

    def value(self, node: nodes.Node) -> Value:
        """The value of a node."""
        raise NotImplementedError

    def given(self, node: nodes.Given, kind: Kind | None = None) -> Value:
        """A value given at run time; one whose kind nobody declared is of the `kind` that is wanted of it."""
        raise NotImplementedError

    def condition(self, node: nodes.Node) -> Value:
        if isinstance(node, nodes.Logic):
            parts = [self.condition(part) for part in node.parts]
            if node.word == "not":
                return parts[0].map(~parts[0].expr)
            return self._joined(node.word, parts)
        if isinstance(node, nodes.Test):
            return self._test(node)
        value = self.value(node)
        if value.kind is not Kind.YESNO:
            raise self.fail(
                node,
                f"a condition is needed here, and this is a {value.kind}.",
                'Compare it with something: = "x", is blank, > 0.',
            )
        return value.map(value.expr.fill_null(False))

    def _joined(self, word: str, parts: list[Value]) -> Value:
        """`and` or `or`. What cannot be told matters only where the parts before have not decided."""
        join = pl.all_horizontal if word == "and" else pl.any_horizontal
        undecided: pl.Expr = pl.lit(True)
        heeded = []
        for part in parts:
            heeded.append(only_where(part, undecided))
            undecided = undecided & (part.expr if word == "and" else ~part.expr)
        return combined(heeded, join([p.expr for p in parts]), Kind.YESNO)

    def _test(self, node: nodes.Test) -> Value:
        subject = self.value(node.subject)
        if node.word in ("is blank", "is not blank"):
            blank = is_blank(subject.expr, subject.kind)
            return subject.map(blank if node.word == "is blank" else ~blank, Kind.YESNO)
        if node.word == "matches":
            return self._matches(node, subject)
        if node.word == "within":
            return self._within(node, subject)
        others = [self.value(other) for other in node.others]
        subject, others = self._as_compared(node, subject, others)
        kind = subject.kind
        for other, where in zip(others, node.others, strict=True):
            if kind is Kind.BLANK:
                kind = other.kind
            elif other.kind not in (kind, Kind.BLANK):
                told = node.subject if kind is Kind.TEXT else where
                column = told.name if isinstance(told, nodes.Reference) else None
                quoted = told.value if isinstance(told, nodes.Text) else None
                typed, of = self.compiler.headed.get(column or "", ("", Kind.TEXT))
                hint = comparison_hint(kind, other.kind, column, quoted)
                if of in (kind, other.kind) and of is not Kind.TEXT:
                    # a heading is a text, whatever the layout makes of it; its field is what it is
                    hint = f"Ask {{@{typed}}}, which is a {of}."
                raise self.fail(where, f"a {kind} is compared with a {other.kind}.", hint)
            elif other.kind is Kind.BLANK and node.word in ("=", "!="):
                raise self.fail(where, "nothing equals blank here.", "Write `is blank` or `is not blank`.")
        if node.word in _ORDERED and kind not in (Kind.NUMBER, Kind.DATE, Kind.DATETIME, Kind.TEXT):
            raise self.fail(node, f"a {kind} has no order.", "Use = or !=.")
        if node.word in ("starts with", "ends with", "contains") and kind is not Kind.TEXT:
            raise self.fail(node, f"{node.word} is for text, and this is a {kind}.")
        if node.word in ("=", "!=", "in", "not in") and isinstance(node.subject, nodes.Reference):
            texts = {other.value for other in node.others if isinstance(other, nodes.Text)}
            sources = self.compiler.sources if node.subject.name == "#source" else ()
            for text in node.others if sources else ():
                if isinstance(text, nodes.Text) and text.value not in sources:
                    near = nearest(text.value, list(sources))
                    hint = f'Did you mean "{near}"?' if near else f"The sources are {', '.join(sources)}."
                    raise self.fail(text, f"no source of the plan is named {text.value!r}.", hint)
            if texts and node.subject.name in self.compiler.columns:
                self.compiler.compared.setdefault(node.subject.name, set()).update(texts)
        return combined([subject, *others], compare(node.word, subject.expr, [o.expr for o in others]), Kind.YESNO)

    def _as_compared(self, node: nodes.Test, subject: Value, others: list[Value]) -> tuple[Value, list[Value]]:
        """What is compared, values given at run time whose kind nobody has declared taken to be of the kind of the others."""
        kinds = {one.kind for one in (subject, *others)} - {Kind.BLANK, Kind.TEXT}
        if len(kinds) != 1:
            return subject, others
        (kind,) = kinds
        subject, *others = [
            self.given(at, kind) if isinstance(at, nodes.Given) and value.kind is Kind.TEXT else value
            for at, value in zip((node.subject, *node.others), (subject, *others), strict=True)
        ]
        return subject, others

    def _matches(self, node: nodes.Test, subject: Value) -> Value:
        pattern = node.others[0]
        assert isinstance(pattern, nodes.Text)
        if subject.kind is not Kind.TEXT:
            raise self.fail(node.subject, f"matches is for text, and this is a {subject.kind}.")
        try:
            pl.Series([""]).str.contains(pattern.value)
        except pl.exceptions.PolarsError:
            raise self.fail(
                pattern,
                "this is no regular expression that can be used.",
                "Look-around and back references are not supported.",
            ) from None
        return subject.map(subject.expr.str.contains(pattern.value).fill_null(False), Kind.YESNO)

    def _within(self, node: nodes.Test, subject: Value) -> Value:
        if subject.kind not in (Kind.DATE, Kind.DATETIME):
            raise self.fail(
                node.subject,
                f"within … days is for dates, and this is a {subject.kind}.",
                'Read it first: ({Column} -> date "dd/MM/yyyy").',
            )
        days = node.others[0]
        assert isinstance(days, nodes.Number)
        day = subject.expr.dt.date() if subject.kind is Kind.DATETIME else subject.expr
        distance = (pl.lit(self.compiler.around.as_of) - day).dt.total_days().abs()
        return subject.map((distance <= int(days.value)).fill_null(False), Kind.YESNO)
