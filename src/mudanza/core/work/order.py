"""The order in which the lists of one run are built: those first that others look up, ask for identifiers, or refer to."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence

from mudanza.core.documents.errors import MudanzaError
from mudanza.core.language.asking import named_after
from mudanza.core.layouts.layout import Layout
from mudanza.core.plans.plan import Plan


def in_order_of_need(plans: Sequence[Plan]) -> list[Plan]:
    """Plans, each behind those that it needs; as given, where nothing says otherwise.

    Where lists ask each other for identifiers, or refer to each other, in a circle, the first one given comes first. Raises MudanzaError
    where they look each other up in a circle.
    """
    names = {plan.name: plan for plan in plans}
    looked_up = {name: looked_up_lists(plan) & names.keys() for name, plan in names.items()}
    needed = _needed(plans)
    ordered: dict[str, Plan] = {}
    while len(ordered) < len(names):
        rest = [name for name in names if name not in ordered]
        ready = next((n for n in rest if needed[n] <= ordered.keys()), None)
        ready = ready or next((n for n in rest if looked_up[n] <= ordered.keys()), None)
        if ready is None:
            raise _circle({n: names[n] for n in rest}, {n: looked_up[n] & set(rest) for n in rest})
        ordered[ready] = names[ready]
    return list(ordered.values())


def needed_by(plans: Sequence[Plan], names: Collection[str]) -> set[str]:
    """Some lists, and those that they need in their turn."""
    needed, found, more = _needed(plans), set(names), set(names)
    while more:
        more = set[str]().union(*(needed[name] for name in more)) - found
        found |= more
    return found


def _needed(plans: Sequence[Plan]) -> dict[str, set[str]]:
    """By each list, those that it looks up, asks for identifiers, or refers to."""
    names = {plan.name: plan for plan in plans}
    return {name: looked_up_lists(plan) & names.keys() | _asked(plan, plans) for name, plan in names.items()}


def list_of(layouts: Mapping[str, Layout], resource: str) -> str | None:
    """The list whose file a foreign key of a layout means."""
    return next((n for n, layout in layouts.items() if resource in (layout.url, f"{n}.csv")), None)


def looked_up_lists(plan: Plan) -> set[str]:
    """The lists that lookups of a plan look up in."""
    return {table.list for table in plan.lookups.values() if table.list is not None}


def _asked(plan: Plan, plans: Collection[Plan]) -> set[str]:
    """The other lists that give out identifiers a plan asks for, or that its layout refers to."""
    books = _books(plan, "key") - _books(plan, "mint")
    giving = {other.name for other in plans if books & _books(other, "mint")}
    layouts = {other.name: other.layout for other in plans}
    meant = {list_of(layouts, reference.resource) for reference in plan.layout.references}
    return (giving | {name for name in meant if name is not None}) - {plan.name}


def _books(plan: Plan, step: str) -> set[str]:
    return {name for flow in plan.flows.values() for name in named_after(flow, step)}


def _circle(names: Mapping[str, Plan], looked_up: Mapping[str, set[str]]) -> MudanzaError:
    """The error for lists that look each other up, each of them at least in one other."""
    way = list(names)[:1]
    while way.count(way[-1]) < 2:
        way.append(min(looked_up[way[-1]]))
    circle = way[way.index(way[-1]) :]
    plan = names[circle[0]]
    table = next(name for name, one in plan.lookups.items() if one.list == circle[1])
    return plan.error(
        f"lists look each other up in a circle: {' -> '.join(circle)}.",
        ("lookup", table, "list"),
        "Let one of them look up in the source of the other.",
    )
