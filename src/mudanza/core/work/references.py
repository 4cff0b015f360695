"""Where the references of layouts lead: to what other lists of the move hold now, made in this run or built last."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import polars as pl

from mudanza.core.documents.errors import counted, few
from mudanza.core.engine.reference import Reference, known_keys
from mudanza.core.findings.finding import Finding
from mudanza.core.layouts.layout import ForeignKey, Layout
from mudanza.core.plans.plan import NOWHERE, Plan
from mudanza.core.values.key_rule import KeyRule
from mudanza.core.values.row_columns import WHERE, key_text, shown_key
from mudanza.core.work.order import list_of
from mudanza.core.work.tables_at_hand import TablesAtHand


@dataclass(frozen=True)
class Target:
    """What a reference of a layout means: a list (None if no list of the move makes that file), its layout, the headings there, and those of the fields that refer."""

    reference: ForeignKey
    list: str | None
    layout: Layout | None
    titles: tuple[str, ...]
    fields: tuple[str, ...]

    def nowhere(self, plan: Plan) -> str:
        """What becomes of a record whose reference leads nowhere."""
        return plan.references.get(self.reference.fields, NOWHERE[0])

    @property
    def compared(self) -> KeyRule:
        """How keys are compared."""
        return KeyRule() if self.layout is None else self.layout.rule_of(self.reference.columns)


def targets_of(plan: Plan, tables: TablesAtHand) -> list[Target]:
    """What the references of a plan's layout mean. Raises LayoutError where one speaks of a field that the other layout does not have."""
    found = []
    for reference in plan.layout.references:
        name = list_of(tables.layouts, reference.resource)
        layout = None if name is None else tables.layouts[name]
        titles = () if layout is None else tuple(layout.field_named(column).title for column in reference.columns)
        fields = tuple(plan.layout.field_named(field).title for field in reference.fields)
        found.append(Target(reference, name, layout, titles, fields))
    return found


def referred_ids(rows: pl.DataFrame, titles: Sequence[str], target: Target, **beside: str) -> pl.DataFrame:
    """What rows are referred to by, or refer by (`id`), and columns of theirs `beside` it, under other names; without
    those in which it is blank.
    """
    parts = [pl.col(title) for title in titles]
    filled = pl.all_horizontal((part.str.len_bytes() > 0).fill_null(False) for part in parts)
    more = (pl.col(column).alias(name) for name, column in beside.items())
    named = rows.filter(filled).select(target.compared.whole(key_text(parts)).alias("id"), *more)
    # columns in pieces of different lengths make the engine stumble where texts are composed of them
    return named.rechunk()


def wanted_columns(plans: Sequence[Plan], tables: TablesAtHand) -> dict[str, set[str]]:
    """The headings of lists that references of some plans look in."""
    wanted: dict[str, set[str]] = {}
    for plan in plans:
        for target in targets_of(plan, tables):
            if target.list is not None:
                wanted.setdefault(target.list, set()).update(target.titles)
    return wanted


#: of a list that refers to itself: the places of rows whose references lead nowhere, by the fields that refer
Lost = Mapping[tuple[str, ...], pl.Series]


def references_of(plan: Plan, tables: TablesAtHand, lost: Lost | None) -> tuple[list[Reference], list[Finding]]:
    """The references of a plan with what they may hold, those to the list itself if it is known which of them are
    `lost`; and the findings on those that cannot be looked at.
    """
    references, unchecked = [], []
    for target in targets_of(plan, tables):
        rule = f"among {', '.join(target.reference.columns)} of {target.reference.resource}"
        why = _why_not(plan, target, tables)
        if target.list == plan.name and lost is not None:
            places = lost[target.reference.fields]
            references.append(Reference(target.reference.fields, places, target.compared, target.nowhere(plan), rule))
            continue
        records = None if target.list is None or why else tables.records(target.list)
        if records is None or target.layout is None:
            title = ", ".join(target.fields)
            said = f"{rule}; {why or f'the list {target.list} is not built yet'}"
            unchecked.append(Finding("reference.unchecked", tables.move.shown(plan.path), field=title, rule=said))
            continue
        known = known_keys(records, target.titles, target.compared)
        by_key = target.list is not None and target.reference.columns == target.layout.primary_key
        fates = tables.fates_of_list(target.list or "") if by_key else None
        references.append(Reference(target.reference.fields, known, target.compared, target.nowhere(plan), rule, fates))
    return references, unchecked


def orphaned(plan: Plan, tables: TablesAtHand, staying: pl.DataFrame) -> list[Finding]:
    """The findings on records that stay in the target and refer to such as this run takes out of it."""
    found = []
    for target in targets_of(plan, tables):
        gone = tables.removed.get(target.list or "")
        if gone is None or target.layout is None or target.reference.columns != target.layout.primary_key:
            continue
        asked = target.compared.whole(key_text([pl.col(title) for title in target.fields]))
        ids = gone.to_frame("key").select(target.compared.whole(pl.col("key")).alias("id"), shown_key(pl.col("key")))
        left = staying.select(asked.alias("id")).join(ids, on="id", how="inner", maintain_order="left")
        if left.height:
            shown, field = tables.move.shown(plan.path), ", ".join(target.fields)
            value = f"{counted(left.height, 'record')}, of {few(left['key'].unique(maintain_order=True).to_list())}"
            found.append(Finding("leaver.orphaned", shown, field=field, value=value, rule=f"in {target.list}"))
    return found


def refers_to_itself(plan: Plan, tables: TablesAtHand) -> list[Target]:
    """The references of a list to records of its own."""
    return [target for target in targets_of(plan, tables) if target.list == plan.name]


def lost_in(
    plan: Plan,
    own: Sequence[Target],
    written: pl.DataFrame,
    staying: Callable[[pl.DataFrame], pl.DataFrame] | None = None,
) -> dict[tuple[str, ...], pl.Series]:
    """The places of rows, by the fields that refer, of which a list's own references lead nowhere. `written` are the
    places (`WHERE`) and the texts of its records; `staying` gives
    the records that the target goes on holding though they are not written, if some of these are held back.

    A record that is held back takes with it those that refer to it, unless the target holds it.
    """
    lost = {target.reference.fields: pl.Series([], dtype=pl.Int64) for target in own}
    standing = written
    while True:
        held = pl.Series([], dtype=pl.Int64)
        there = [standing] if staying is None else [standing, staying(written.join(standing, on=WHERE, how="anti"))]
        for target in own:
            offered = pl.concat([rows.select(target.titles) for rows in there])
            known = known_keys(offered, target.titles, target.compared)
            asked = referred_ids(standing, target.fields, target, place=WHERE)
            places = asked.join(known, left_on="id", right_on="key", how="anti")["place"]
            lost[target.reference.fields] = pl.concat([lost[target.reference.fields], places]).unique()
            if target.nowhere(plan) == NOWHERE[0]:
                held = pl.concat([held, places])
        if held.is_empty():
            return lost
        standing = standing.filter(~pl.col(WHERE).is_in(held.implode()))


def _why_not(plan: Plan, target: Target, tables: TablesAtHand) -> str | None:
    if any(plan.layout.field_named(name).separator is not None for name in target.reference.fields):
        return "a field of several texts is not looked at"
    if target.list is None:
        return "no list of this move makes it"
    if target.list == plan.name:
        return "only a build of the list itself can look"
    if tables.is_to_come(target.list):
        return f"the list {target.list} is built after this one"
    return None
