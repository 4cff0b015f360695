"""The order in which the lists of one run are built: those first that others look up, ask for identifiers, or refer to."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass

from mudanza.core.documents.errors import MudanzaError
from mudanza.core.language.asking import fields_of, named_after
from mudanza.core.layouts.layout import Layout
from mudanza.core.plans.plan import Plan


@dataclass(frozen=True)
class Circle:
    """The way from a list back to itself by what lists need, the lists that it needs and that come `later`, and the fields for which they are `needed`, which are made `late`: behind these
    lists. None are where one must be there at once."""

    way: tuple[str, ...]
    later: tuple[str, ...]
    needed: tuple[str, ...]
    late: tuple[str, ...]


@dataclass(frozen=True)
class Order:
    """Plans in the order of need, and the circles that were broken, by the list that comes before what it needs."""

    plans: list[Plan]
    circles: dict[str, Circle]


def in_order_of_need(plans: Sequence[Plan]) -> Order:
    """Plans, each behind those that it needs; as given, where nothing says otherwise.

    Where lists ask each other for identifiers, or refer to each other, in a circle, the first one given comes first that can do so without what it says of the others, or the very first.
    Raises MudanzaError where they look each other up in a circle.
    """
    circles: dict[str, Circle] = {}
    names = {plan.name: plan for plan in plans}
    looked_up = {name: looked_up_lists(plan) & names.keys() for name, plan in names.items()}
    needed = _needed(plans)
    ordered: dict[str, Plan] = {}
    while len(ordered) < len(names):
        rest = [name for name in names if name not in ordered]
        # what was broken is whole once all is there that it needs; until then it serves those alone that it needs
        half = {n for n, one in circles.items() if one.late and not ordered.keys() >= set(one.later)}
        there = {n: ordered.keys() - {one for one in half if n not in needed_by(plans, [one])} for n in rest}
        ready = next((n for n in rest if needed[n] <= there[n]), None)
        if ready is None:
            open_ = [n for n in rest if looked_up[n] <= there[n]]
            if not open_:
                raise _circle({n: names[n] for n in rest}, {n: looked_up[n] & set(rest) for n in rest})
            within = {n: needed[n] & set(rest) for n in rest}
            ways = {n: way for n in open_ if (way := _way_back(n, within))}
            found = {
                n: Circle(way, tuple(sorted(within[n])), *_late_fields(names[n], within[n], plans))
                for n, way in ways.items()
            }
            ready = next((n for n, circle in found.items() if circle.late), next(iter(found), open_[0]))
            if ready in found:
                circles[ready] = found[ready]
        ordered[ready] = names[ready]
    return Order(list(ordered.values()), circles)


def _way_back(name: str, needed: Mapping[str, set[str]]) -> tuple[str, ...]:
    """The shortest way from a list back to itself; none if there is none."""
    ways: list[tuple[str, ...]] = [(name,)]
    seen = set[str]()
    while ways:
        way, *ways = ways
        for one in sorted(needed[way[-1]]):
            if one == name:
                return (*way, one)
            if one not in seen:
                seen.add(one)
                ways.append((*way, one))
    return ()


def _late_fields(plan: Plan, later: Collection[str], plans: Sequence[Plan]) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """The fields that say something of `later` lists or hang on such; and the same once more, if they can be blank at first."""
    books = set[str]().union(*(books_of(other, "mint") for other in plans if other.name in later)) - books_of(
        plan, "mint"
    )
    layouts = {other.name: other.layout for other in plans}
    late = {name for name, flow in plan.flows.items() if books & named_after(flow, "key")}
    for reference in plan.layout.references:
        if list_of(layouts, reference.resource) in later:
            late |= plan.flows.keys() & set(reference.fields)
    more = set(late)
    while more:
        more = {name for name, flow in plan.flows.items() if late & fields_of(flow)} - late
        late |= more
    fields = [one for one in plan.layout.fields if one.name in late]
    at_once = any(one.name in plan.layout.primary_key or (one.required and one.default is None) for one in fields)
    names = tuple(one.name for one in fields)
    return names, () if at_once else names


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
    books = books_of(plan, "key") - books_of(plan, "mint")
    giving = {other.name for other in plans if books & books_of(other, "mint")}
    layouts = {other.name: other.layout for other in plans}
    filled = (one for one in plan.layout.references if plan.flows.keys() & set(one.fields))
    meant = {list_of(layouts, reference.resource) for reference in filled}
    return (giving | {name for name in meant if name is not None}) - {plan.name}


def books_of(plan: Plan, step: str) -> set[str]:
    """The key books that the flows of a plan hand to a step: mint, or key."""
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
