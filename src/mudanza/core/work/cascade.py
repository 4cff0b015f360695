"""What it costs other lists that rows of one are not written: those that refer to them."""

from __future__ import annotations

from collections.abc import Sequence

from mudanza.core.language.asking import named_after
from mudanza.core.language.value import FATES
from mudanza.core.plans.plan import Plan
from mudanza.core.work.references import targets_of
from mudanza.core.work.results import Cascade, ListResult
from mudanza.core.work.tables_at_hand import TablesAtHand


def cascades(plan: Plan, result: ListResult, tables: TablesAtHand) -> list[Cascade]:
    """How many rows of a list are held back because of rows of others that are left out or held back."""
    meant = _lists_meant(plan, tables)
    counts: dict[tuple[str, bool], int] = {}
    for group in result.findings:
        if group.code in FATES and group.subject in meant:
            of = (meant[group.subject], group.code == FATES[1])
            counts[of] = counts.get(of, 0) + group.count
    return [Cascade(plan.name, of_list, held_back, count) for (of_list, held_back), count in counts.items()]


def _lists_meant(plan: Plan, tables: TablesAtHand) -> dict[str, str]:
    """The list that a field refers to, by the field's heading: by a reference of the layout, or by the key book that its flow asks."""
    meant = {", ".join(target.fields): target.list for target in targets_of(plan, tables) if target.list is not None}
    for name, flow in plan.flows.items():
        books: Sequence[str] = list(named_after(flow, "key"))
        lists = [of_list for book in books if (of_list := tables.list_of_book(book)) is not None]
        if lists:
            meant.setdefault(plan.layout.field_named(name).title, lists[0])
    return meant
