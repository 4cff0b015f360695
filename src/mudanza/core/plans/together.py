"""What a plan says of records that belong to one of another list, as the lines of an invoice do: whether they go together, and what they come to."""

from __future__ import annotations

from dataclasses import dataclass

from mudanza.core.documents.document import Section
from mudanza.core.documents.errors import unknown
from mudanza.core.layouts.layout import Layout
from mudanza.core.values.kinds import Kind

#: what becomes of a header and its other lines where a line is held back: nothing, the other lines are held back, or the header is, too
EACH, LINES, ALL = "each for itself", "all lines or none", "all or none"
_GOES = (EACH, LINES, ALL)
_KEYS = {"goes", "sum", "is"}


@dataclass(frozen=True)
class Together:
    """Lines that refer to their header by these fields (their names): how they go, and the field of which the `sum` is to be the header's field `total`, if that is asked."""

    fields: tuple[str, ...]
    goes: str
    sum: str | None = None
    total: str | None = None

    @property
    def asks(self) -> bool:
        """Whether anything is asked of headers and lines beyond what is asked of each."""
        return self.goes != EACH or self.sum is not None


def read_together(node: Section, layout: Layout) -> tuple[Together, ...]:
    """[together] of a plan. Raises PlanError with the place of what is wrong."""
    by_name = {", ".join(reference.fields): reference.fields for reference in layout.references}
    found = []
    for name in node.content:
        if name not in by_name:
            hint = (
                f"It has: {'; '.join(by_name)}."
                if by_name
                else "It has none: say in the layout what the lines refer to (foreignKeys)."
            )
            raise node.fail(f"the layout has no reference by {name!r}.", name, hint)
        found.append(_together(node, name, by_name[name], layout))
    return tuple(found)


def _together(node: Section, name: str, fields: tuple[str, ...], layout: Layout) -> Together:
    hint = f'Write {name} = "{ALL}", or {name} = {{ goes = "{ALL}", sum = "amount", is = "total" }}.'
    value = node.content[name]
    if isinstance(value, str):
        if value not in _GOES:
            raise node.fail(
                f"{value!r} does not say how a header and its lines go.", name, f"It is one of: {', '.join(_GOES)}."
            )
        return Together(fields, value)
    if not isinstance(value, dict):
        raise node.fail("this does not say how a header and its lines go.", name, hint)
    inner = node.table(name).only(_KEYS)
    goes, summed, total = inner.get("goes", str, EACH), inner.get("sum", str), inner.get("is", str)
    if goes not in _GOES:
        raise inner.fail(
            f"{goes!r} does not say how a header and its lines go.", "goes", f"It is one of: {', '.join(_GOES)}."
        )
    if (summed is None) != (total is None):
        raise inner.fail("a sum is compared with a field of the header: both are to be said.", hint=hint)
    names = [one.name for one in layout.fields]
    if summed is not None and summed not in names:
        raise inner.fail(unknown("field", summed, names), "sum", f"The layout has: {', '.join(names)}.")
    if summed is not None and layout.field_named(summed).kind is not Kind.NUMBER:
        raise inner.fail(f"{summed!r} is a {layout.field_named(summed).kind}, and only numbers have sums.", "sum")
    return Together(fields, goes, summed, total)
