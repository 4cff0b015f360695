"""Questions about flows and conditions, answered from what the parser makes of them: one walk serves them all."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from mudanza.core.documents.errors import LanguageError
from mudanza.core.language import nodes
from mudanza.core.language.parsing import parse_condition, parse_flow


def walk(node: nodes.Node) -> Iterator[nodes.Node]:
    """A node and all below it, in the order of the text."""
    yield node
    for value in vars(node).values():
        for inner in value if isinstance(value, tuple) else (value,):
            if isinstance(inner, nodes.Node):
                yield from walk(inner)


def parsed(text: str, what: str = "flow") -> nodes.Node | None:
    """A flow (or a condition, if `what` says so); None where it cannot be read."""
    try:
        return parse_flow(text) if what == "flow" else parse_condition(text)
    except LanguageError:
        return None


def columns_of(text: str, what: str = "flow") -> list[str]:
    """The source columns that a flow or condition names, in its order; none if it cannot be read."""
    node = parsed(text, what)
    names = (n.name for n in walk(node) if isinstance(n, nodes.Reference)) if node is not None else ()
    return list(dict.fromkeys(name for name in names if not name.startswith(("@", "#"))))


def fields_of(text: str) -> set[str]:
    """The fields of the same record that a flow takes."""
    node = parsed(text)
    names = (n.name for n in walk(node) if isinstance(n, nodes.Reference)) if node is not None else ()
    return {name.removeprefix("@") for name in names if name.startswith("@")}


def tested_columns(text: str) -> list[str]:
    """The columns that a condition compares with something, and not alone asks whether they are blank."""
    node = parsed(text, "condition")
    tests = [n for n in walk(node) if isinstance(n, nodes.Test) and "blank" not in n.word] if node is not None else []
    names = (n.name for test in tests for n in walk(test) if isinstance(n, nodes.Reference))
    return list(dict.fromkeys(name for name in names if not name.startswith(("@", "#"))))


def asks_for(text: str, fact: str) -> bool:
    """Whether a condition asks for a fact, as `#in_target`."""
    node = parsed(text, "condition")
    return node is not None and any(isinstance(n, nodes.Reference) and n.name == fact for n in walk(node))


def value_columns(text: str) -> list[str]:
    """The source columns that a flow takes values from, not those that its conditions alone look at."""

    def values(node: nodes.Node) -> Iterator[str]:
        if isinstance(node, nodes.Reference):
            yield node.name
        if isinstance(node, nodes.Logic | nodes.Test):
            return
        for name, part in vars(node).items():
            for inner in part if isinstance(part, tuple) else (part,):
                if isinstance(inner, nodes.Node) and name != "condition":
                    yield from values(inner)

    node = parsed(text)
    names = values(node) if node is not None else ()
    return list(dict.fromkeys(name for name in names if not name.startswith(("@", "#"))))


def with_columns(text: str, names: Mapping[str, str]) -> str:
    """A flow with other columns in the place of some."""
    node = parsed(text)
    places = [n for n in walk(node) if isinstance(n, nodes.Reference) and n.name in names] if node is not None else []
    for place in sorted(places, key=lambda n: -n.start):
        text = f"{text[: place.start]}{{{names[place.name]}}}{text[place.end :]}"
    return text


def single_column(text: str) -> str | None:
    """The one column, field or fact that a flow without cases takes."""
    flow = parsed(text)
    if not isinstance(flow, nodes.Flow) or len(flow.cases) != 1:
        return None
    values = flow.cases[0].chain.values
    return values[0].name if len(values) == 1 and isinstance(values[0], nodes.Reference) else None


def named_after(text: str, step: str) -> set[str]:
    """The names that a flow hands to a step as its first argument: crosswalks, key books, lookups."""
    calls = (n for n in walk(parsed(text) or nodes.Blank(0, 0)) if isinstance(n, nodes.StepCall) and n.name == step)
    return {name for call in calls if (name := _first_name(call)) is not None}


def _first_name(call: nodes.StepCall) -> str | None:
    word = call.arguments[0].value if call.arguments else None
    return word.name if isinstance(word, nodes.Word) else word.value if isinstance(word, nodes.Text) else None


def crosswalks_of(text: str) -> dict[str, tuple[str, ...]]:
    """The crosswalks that a flow asks, with names for the further columns that they are handed."""
    found: dict[str, tuple[str, ...]] = {}
    for chain in walk(parsed(text) or nodes.Blank(0, 0)):
        values = chain.values if isinstance(chain, nodes.Chain) else ()
        for step in chain.steps if isinstance(chain, nodes.Chain) else ():
            name = _first_name(step)
            if step.name == "crosswalk" and name is not None:
                found.setdefault(name, tuple(_column_name(v, i) for i, v in enumerate(values[1:], start=2)))
            values = ()
    return found


def _column_name(value: nodes.Node, number: int) -> str:
    if isinstance(value, nodes.Reference):
        return value.name.strip("#@").lower()
    return f"value {number}"
