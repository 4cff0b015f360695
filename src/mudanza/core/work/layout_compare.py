"""Two versions of a layout compared: what changed, and which plans, crosswalks and expectations that breaks."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from mudanza.core.documents.document import Section, read_toml
from mudanza.core.documents.errors import MudanzaError, PlanError
from mudanza.core.language.asking import crosswalks_of, fields_of
from mudanza.core.layouts.layout import Field, Layout
from mudanza.core.layouts.types import TextType
from mudanza.core.plans.crosswalk_files import entries_of
from mudanza.core.plans.move import Move

ADDED, REMOVED, CHANGED, WHOLE = "added", "removed", "changed", "whole"


@dataclass(frozen=True)
class Change:
    """A change of a field (None: of the whole): which it is, what of it, and how it was and is."""

    field: str | None
    kind: str
    what: str = ""
    before: str = ""
    after: str = ""


@dataclass(frozen=True)
class Break:
    """Something of the move that does not go with the new layout: where it stands, and why."""

    file: str
    where: str
    why: str


@dataclass(frozen=True)
class LayoutComparison:
    """What changed from one layout to another, and what that breaks."""

    before: str
    after: str
    changes: tuple[Change, ...]
    breaks: tuple[Break, ...]


def compare_layouts(
    before: Layout, after: Layout, shown: tuple[str, str], move: Move | None = None
) -> LayoutComparison:
    """Compare two layouts; with a move, look at the plans that name either of them."""
    changes = tuple(_changes(before, after))
    breaks = tuple(_breaks(before, after, move)) if move is not None else ()
    return LayoutComparison(*shown, changes, breaks)


def _changes(before: Layout, after: Layout) -> Iterator[Change]:
    old, new = ({one.name: one for one in layout.fields} for layout in (before, after))
    for name in old.keys() - new.keys():
        twin = next((one.name for one in after.fields if one.title == old[name].title and one.name not in old), None)
        yield Change(name, REMOVED, "its heading is now that of" if twin else "", old[name].title, twin or "")
    for one in after.fields:
        if one.name not in old:
            yield Change(one.name, ADDED, "required" if _needed(one) else "", "", one.rule)
            continue
        for what, was, is_ in _facts_that_differ(old[one.name], one):
            yield Change(one.name, CHANGED, what, was, is_)
    kept = [one.name for one in before.fields if one.name in new]
    if kept != [one.name for one in after.fields if one.name in old]:
        yield Change(
            None,
            WHOLE,
            "order of the fields",
            ", ".join(kept),
            ", ".join(n.name for n in after.fields if n.name in old),
        )
    for what, value in _of_the_whole(before).items():
        if value != _of_the_whole(after)[what]:
            yield Change(None, WHOLE, what, value, _of_the_whole(after)[what])


def _of_the_whole(layout: Layout) -> dict[str, str]:
    d = layout.dialect
    ends = {"\r\n": "CRLF", "\n": "LF", "\r": "CR"}
    return {
        "key": ", ".join(layout.primary_key) or "none",
        "delimiter": repr(d.delimiter),
        "encoding": d.encoding + (" with a mark" if d.bom else ""),
        "line ends": " or ".join(ends[one] for one in d.line_ends),
        "headings": str(d.header_rows),
        "references": "; ".join(
            f"{', '.join(r.fields)} to {', '.join(r.columns)} of {r.resource}" for r in layout.references
        )
        or "none",
    }


def _facts_that_differ(old: Field, new: Field) -> Iterator[tuple[str, str, str]]:
    for what, was, is_ in (
        ("heading", old.title, new.title),
        ("kind", str(old.kind), str(new.kind)),
        ("takes", old.rule, new.rule),
        ("required", "yes" if _needed(old) else "no", "yes" if _needed(new) else "no"),
        ("blank becomes", old.default or "blank", new.default or "blank"),
        ("blank is written", " or ".join(map(repr, old.null)), " or ".join(map(repr, new.null))),
        ("in the target", "no" if old.absent else "yes", "no" if new.absent else "yes"),
    ):
        if was != is_:
            yield what, was, is_


def _needed(one: Field) -> bool:
    return one.required and one.default is None


# what breaks


def _breaks(before: Layout, after: Layout, move: Move) -> Iterator[Break]:
    files = {before.path.resolve(), after.path.resolve()}
    for name in move.names("plans", ".toml"):
        path = move.plan_path(name)
        shown = move.shown(path)
        try:
            node = read_toml(path, PlanError)
            said = str(node.content.get("layout", "")).partition("#")[0]
            if said and move.path(said).resolve() in files:
                yield from _breaks_of(node, shown, before, after, move)
        except MudanzaError as error:
            yield Break(shown, "", f"it cannot be read: {error.what}")


def _breaks_of(node: Section, shown: str, before: Layout, after: Layout, move: Move) -> Iterator[Break]:
    old, new = ({one.name: one for one in layout.fields} for layout in (before, after))
    gone = old.keys() - new.keys()
    flows = {k: v for k, v in node.table("fields").content.items() if isinstance(v, str)}
    for name, flow in flows.items():
        if name in gone:
            yield Break(shown, f"[fields] {name}", "the layout has no such field any more")
            continue
        for used in sorted(_fields_in(flow) & gone):
            yield Break(shown, f"[fields] {name}", f"its flow uses {{@{used}}}, which is gone")
        if name in old and name in new and old[name].kind is not new[name].kind:
            yield Break(shown, f"[fields] {name}", f"it is a {new[name].kind} now, and was a {old[name].kind}")
        if name in new:
            yield from _codes_that_break(flow, new[name], move)
    for one in after.fields:
        if _needed(one) and one.name not in flows and (one.name not in old or not _needed(old[one.name])):
            yield Break(shown, f"[fields] {one.name}", "it is required now, and has no flow")
    for number, expected in enumerate(
        node.content.get("expect", ()) if isinstance(node.content.get("expect"), list) else (), 1
    ):
        named = expected.get("fields", {}) if isinstance(expected, dict) else {}
        for name in sorted(set(named if isinstance(named, dict) else ()) & gone):
            yield Break(shown, f"[[expect]] {number}", f"it expects {name}, which is gone")
    for table in ("references", "leavers", "together"):
        for used in sorted(gone & _texts_in(node.content.get(table))):
            yield Break(shown, f"[{table}]", f"it names {used}, which is gone")


def _fields_in(flow: str) -> set[str]:
    try:
        return set(fields_of(flow))
    except MudanzaError:
        return set()


def _texts_in(value: object) -> set[str]:
    """All names and texts in a part of a plan."""
    if isinstance(value, dict):
        return set(value) | {one for inner in value.values() for one in _texts_in(inner)}
    if isinstance(value, list):
        return {one for inner in value for one in _texts_in(inner)}
    return {value} if isinstance(value, str) else set()


def _codes_that_break(flow: str, new: Field, move: Move) -> Iterator[Break]:
    """Entries of crosswalks whose code the field does not permit any more."""
    if not isinstance(new.type, TextType) or new.type.permitted is None:
        return
    try:
        names = list(crosswalks_of(flow))
    except MudanzaError:
        return
    for name in names:
        path = move.new_path("crosswalks", name, ".csv")
        if not path.is_file():
            continue
        for entry in entries_of(path):
            if entry.to and entry.to not in new.type.permitted:
                yield Break(
                    move.shown(path), f"line {entry.line}", f"{entry.to!r} is not permitted in {new.name} any more"
                )
