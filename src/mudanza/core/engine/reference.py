"""References of a layout: what may stand in fields that speak of other records."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import polars as pl

from mudanza.core.findings.problem import Problem
from mudanza.core.language.value import FATES, Stages, Value, combined
from mudanza.core.layouts.layout import Field
from mudanza.core.layouts.rules import blank_as_rendered
from mudanza.core.plans.plan import NOWHERE
from mudanza.core.values.key_rule import KeyRule
from mudanza.core.values.kinds import Kind
from mudanza.core.values.row_columns import WHERE, key_text, shown_key

#: the findings that tell what became of a reference that leads nowhere
_LED = dict(zip(NOWHERE, ("reference.missing", "reference.blanked", "reference.written"), strict=True))

_KEY, _THERE = "key", "there"


@dataclass(frozen=True)
class Reference:
    """A reference by these fields (their names): `known` is what they may hold, or, of a list that refers to itself, the places of the rows whose reference leads nowhere;
    `nowhere` what becomes of one that does, `rule` says it in words."""

    fields: tuple[str, ...]
    known: pl.DataFrame | pl.Series
    compared: KeyRule
    nowhere: str
    rule: str
    #: what became of rows of that list that were not written, by their keys as they are compared: `text`, `code` of `FATES`, and `told` in words
    fates: pl.DataFrame | None = None

    @property
    def blanks(self) -> bool:
        """Whether a field that leads nowhere is blanked."""
        return self.nowhere == "blank"


def known_keys(rows: pl.DataFrame, titles: Sequence[str], compared: KeyRule) -> pl.DataFrame:
    """What the records of a list offer to references by these columns, and how many of them have it."""
    key = compared.whole(key_text([pl.col(title) for title in titles]))
    return rows.select(key.alias(_KEY)).group_by(_KEY).len(_THERE)


def leading_nowhere(
    stages: Stages, reference: Reference, fields: Sequence[Field], texts: Sequence[Value], said: pl.Expr | None = None
) -> Value:
    """Whether the texts of a reference's fields are of no record, as a yes/no value with the problem that tells of it, by what is `said` to lead nowhere (the texts if None)."""
    joined = key_text([text.expr for text in texts])
    asked = stages.hold(combined(list(texts), reference.compared.whole(joined), Kind.TEXT))
    title = ", ".join(field.title for field in fields)
    shown = shown_key(joined) if said is None else said
    several = []
    if isinstance(reference.known, pl.Series):
        nowhere = stages.hold(asked.map(pl.col(WHERE).is_in(reference.known.implode()), Kind.YESNO))
    else:
        (there,) = stages.join(asked, reference.known)
        blank = pl.any_horizontal(
            [blank_as_rendered(field, text.expr) for field, text in zip(fields, texts, strict=True)]
        ).fill_null(True)
        nowhere = stages.hold(there.map(there.expr.is_null() & ~blank, Kind.YESNO))
        if reference.nowhere != NOWHERE[2] and (reference.known[_THERE] > 1).any():
            # a list without duplicates, as those of a key are, is not asked
            rule = pl.format("one record {}; {} have it", pl.lit(reference.rule), there.expr)
            several.append(Problem("reference.several", title, (there.expr > 1).fill_null(False), shown, rule))
    if reference.fates is None:
        problem = Problem(_LED[reference.nowhere], title, nowhere.expr, shown, reference.rule)
        return Value(Kind.YESNO, nowhere.expr, nowhere.level, nowhere.late, (problem, *several))
    code, told = stages.join(asked, reference.fates)
    held_back = reference.nowhere == NOWHERE[0]
    unknown = nowhere.expr & code.expr.is_null() if held_back else nowhere.expr
    rule = pl.coalesce(told.expr, pl.lit(reference.rule))
    problems = [Problem(_LED[reference.nowhere], title, unknown, shown, rule), *several]
    for one in FATES if held_back else ():
        problems.append(Problem(one, title, nowhere.expr & (code.expr == one).fill_null(False), shown, rule))
    level = max(nowhere.level, code.level, told.level)
    return Value(Kind.YESNO, nowhere.expr, level, nowhere.late, tuple(problems))
