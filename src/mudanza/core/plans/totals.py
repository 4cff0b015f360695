"""What a plan says of control totals: which fields are summed, and what the sums must be."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal, InvalidOperation

from mudanza.core.documents.document import Section
from mudanza.core.documents.errors import unknown
from mudanza.core.layouts.layout import Layout
from mudanza.core.values.kinds import Kind

#: the ends whose sums and counts a plan can know beforehand
KNOWN_ENDS = ("read", "skipped", "merged", "held_back", "written")
_KEYS = {"field", "source", "rows", *KNOWN_ENDS}
#: stands for the number that the source itself has below its rows
PRINTED = "printed"


@dataclass(frozen=True)
class WantedTotal:
    """A field that is summed (None: only rows are counted), of a source (None: of all), and what the old program printed: the number of `rows` read, and sums by end (None: what is printed
    with the rows)."""

    field: str | None
    source: str | None
    rows: int | None
    sums: dict[str, Decimal | None]


def read_totals(nodes: Sequence[Section], layout: Layout, sources: Sequence[str]) -> tuple[WantedTotal, ...]:
    """[[totals]] of a plan. Raises PlanError with the place of what is wrong."""
    return tuple(_total(node.only(_KEYS), layout, sources) for node in nodes)


def _total(node: Section, layout: Layout, sources: Sequence[str]) -> WantedTotal:
    field, source, rows = node.get("field", str), node.get("source", str), node.get("rows", int)
    names = [one.name for one in layout.fields]
    if field is not None and field not in names:
        raise node.fail(unknown("field", field, names), "field", f"The layout has: {', '.join(names)}.")
    if field is not None and layout.field_named(field).kind is not Kind.NUMBER:
        raise node.fail(f"{field!r} is a {layout.field_named(field).kind}, and only numbers have sums.", "field")
    if source is not None and source not in sources:
        raise node.fail(unknown("source", source, list(sources)), "source", f"There are: {', '.join(sources)}.")
    said = {end: node.content[end] for end in KNOWN_ENDS if end in node.content}
    if field is None and (said or rows is None):
        hint = 'Write field = "balance" and read = "1234.50", or rows = 84.'
        raise node.fail("the total does not say which field is summed.", hint=hint)
    return WantedTotal(field, source, rows, {end: _number(node, end, value) for end, value in said.items()})


def _number(node: Section, end: str, value: object) -> Decimal | None:
    if value == PRINTED:
        return None
    try:
        if isinstance(value, bool) or not isinstance(value, str | int | float):
            raise InvalidOperation
        number = Decimal(str(value).strip())
    except InvalidOperation:
        raise node.fail(
            f"{value!r} is no number.",
            end,
            f'Write {end} = "1234.50", or "{PRINTED}" for what the source has below its rows.',
        ) from None
    return number
