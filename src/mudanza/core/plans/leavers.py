"""What a plan says of leavers: records that the target holds and a build no longer writes."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

import polars as pl

from mudanza.core.documents.document import Section
from mudanza.core.documents.errors import unknown
from mudanza.core.findings.problem import flags
from mudanza.core.layouts.layout import Layout
from mudanza.core.layouts.rules import blank_in_file, kind_problems, value_problems

#: why a record leaves: no row of the source has it any more, a row has it that is not chosen, that somebody excluded, that is held back, or that is another record's by now
GONE, UNSELECTED, EXCLUDED, HELD_BACK, MERGED = "gone", "unselected", "excluded", "held back", "merged"
LEAVERS = (GONE, UNSELECTED, EXCLUDED, HELD_BACK, MERGED)
#: what becomes of it: nothing, it is taken out, it is written once more, or some of its fields are filled to mark it
LEAVE, REMOVE, LAST_CHANGE, MARK = "leave", "remove", "last change", "mark"


@dataclass(frozen=True)
class Leaving:
    """What becomes of leavers of one sort: the `reason` for which they are left as they are, the fields (by their names) that `marks` fills, with the texts as the file has them."""

    action: str
    reason: str | None = None
    marks: Mapping[str, str] = field(default_factory=dict)

    @property
    def words(self) -> str:
        """What becomes of them, in words."""
        if self.action == MARK:
            return "mark " + ", ".join(f"{name} = {text}" for name, text in self.marks.items())
        return f"leave: {self.reason}" if self.reason else self.action


def read_leavers(node: Section, layout: Layout) -> dict[str, Leaving]:
    """[leavers] of a plan. Raises PlanError with the place of what is wrong."""
    found = {}
    for key in node.content:
        sort = key.replace("_", " ")
        if sort not in LEAVERS:
            known = [one.replace(" ", "_") for one in LEAVERS]
            raise node.fail(unknown("sort of leaver", key, known), key, f"There are: {', '.join(known)}.")
        if layout.primary_key == ():
            raise node.fail("leavers are known by their keys, and the layout has no primaryKey.", key)
        found[sort] = _leaving(node, key, sort, layout)
    return found


def _leaving(node: Section, key: str, sort: str, layout: Layout) -> Leaving:
    value = node.content[key]
    hint = f'Write {key} = "remove", {key} = {{ mark = {{ {layout.fields[-1].name} = "closed" }} }}, or {key} = {{ leave = "why" }}.'
    if value == REMOVE:
        return Leaving(REMOVE)
    if value == LAST_CHANGE:
        if sort not in (UNSELECTED, EXCLUDED):
            raise node.fail("only a record whose row is still there and right can be written once more.", key, hint)
        return Leaving(LAST_CHANGE)
    if not isinstance(value, dict) or len(value) != 1 or not value.keys() <= {LEAVE, MARK}:
        last = f' Or {key} = "last change".' if sort in (UNSELECTED, EXCLUDED) else ""
        raise node.fail("this does not say what becomes of the record.", key, hint + last)
    inner = node.table(key)
    if LEAVE in value:
        reason = value[LEAVE]
        if not isinstance(reason, str) or not reason.strip():
            raise inner.fail("leaving a record as it is needs a reason.", LEAVE, "Write the reason in quotes.")
        return Leaving(LEAVE, reason)
    return Leaving(MARK, marks=_marks(inner.table(MARK), layout))


def _marks(node: Section, layout: Layout) -> dict[str, str]:
    names = [one.name for one in layout.fields]
    for name, text in node.content.items():
        if name not in names:
            raise node.fail(unknown("field", name, names), name, f"The layout has: {', '.join(names)}.")
        if name in layout.primary_key:
            raise node.fail("the key says which record is meant; it cannot be a mark.", name)
        if not isinstance(text, str):
            raise node.fail("a mark is a text, as it is to stand in the file.", name, f'Write {name} = "{text}".')
        if (rule := _broken_rule(layout, name, text)) is not None:
            raise node.fail(f"the layout does not take {text!r} here: {rule}.", name)
    if not node.content:
        raise node.fail("this marks nothing.", hint='Write mark = { standing = "closed" }.')
    return dict(node.content)


def _broken_rule(layout: Layout, name: str, text: str) -> str | None:
    """What the layout asks of a field that a text is not; None if all is well."""
    one = layout.field_named(name)
    cell = pl.col("text")
    value = one.type.read(cell)
    problems = kind_problems(one, cell, value) + value_problems(one, cell, value, blank_in_file(one, cell))
    rows = pl.DataFrame({"text": [text or None]}, schema={"text": pl.String}).select(flags(problems))
    wrong = [p for p, broken in zip(problems, rows.row(0), strict=True) if broken] if problems else []
    return str(wrong[0].rule) if wrong else None
