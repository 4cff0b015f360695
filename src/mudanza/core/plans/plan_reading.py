"""Reading plans, strictly: whatever is unknown or contradicts the layout is an error at its line."""

from __future__ import annotations

import contextlib
import tomllib
from collections.abc import Iterable
from pathlib import Path

from mudanza.core.documents.document import Section, read_toml
from mudanza.core.documents.errors import PlanError, SourceError, unknown
from mudanza.core.layouts.csvw import MARK, read_layout
from mudanza.core.layouts.layout import Layout
from mudanza.core.plans.correction_files import CORRECTIONS, held_back_corrections
from mudanza.core.plans.leavers import read_leavers
from mudanza.core.plans.move import Move
from mudanza.core.plans.plan import ENDS, NOWHERE, Expectation, LookupTable, Plan, Source
from mudanza.core.plans.together import read_together
from mudanza.core.plans.totals import read_totals
from mudanza.core.sources.opening import files_of
from mudanza.core.sources.reader import ReadOptions
from mudanza.core.sources.settings import SETTINGS, read_options

_TOP = {
    "layout",
    "source",
    "rows",
    "fields",
    "left_behind",
    "lookup",
    "references",
    "leavers",
    "expect",
    "totals",
    "together",
}
_SOURCE = {"name", "file", "database", "lacks", "adds"}
_LOOKUP = {"key", "file", "database", "list", "fold"}
_EXPECT = {"row", "key", "ends", "fields"}
_ROWS = {"keep", "sort"}


def load_plan(move: Move, name: str, *, draft: bool = False) -> Plan:
    """Read a plan and its layout. Raises PlanError or LayoutError with the place of what is wrong.

    A `draft` may lack flows of required fields.
    """
    return plan_from(read_toml(move.plan_path(name), PlanError), move, name, draft=draft)


def source_files(move: Move) -> tuple[Path, ...]:
    """The files that the plans of a project name to be read, as far as these can be read."""
    found: list[Path] = []
    for name in move.names("plans", ".toml"):
        try:
            content = tomllib.loads((move.folder / "plans" / f"{name}.toml").read_text("utf-8"))
        except (OSError, ValueError):
            continue
        tables = content.get("source", []), list(dict(content.get("lookup") or {}).values())
        for one in (one for table in tables for one in table if isinstance(one, dict) and "file" in one):
            with contextlib.suppress(SourceError, OSError, ValueError):
                found += files_of(move.path(str(one["file"])))
    return tuple(found)


def plan_from(node: Section, move: Move, name: str, *, draft: bool = False) -> Plan:
    """A plan from the text that says it, which may not be a file yet."""
    node.only(_TOP)
    layout = read_layout(_layout_path(move, name, node))
    if not isinstance(node.content.get("source"), list) or not node.content["source"]:
        hint = 'Write [[source]] and below it name = "…" and file = "incoming/…".'
        raise node.fail("the plan has no source.", "source", hint)
    nodes = node.tables("source", "a source")
    sources = tuple(_source(one) for one in nodes)
    _no_twins(nodes, sources)
    returned = held_back_corrections(move, name)
    if returned.is_file() and move.shown(returned) not in [one.file for one in sources]:
        # what helpers corrected comes in without a word in the plan
        taken = [one.name for one in sources]
        own_name = CORRECTIONS if CORRECTIONS not in taken else f"{CORRECTIONS} of rows held back"
        sources = (*sources, Source(own_name, ReadOptions(), move.shown(returned)))
    rows = node.table("rows").only(_ROWS)
    lookups = {key: _lookup(node.table("lookup"), key, move) for key in node.table("lookup").content}
    return Plan(
        name=name,
        document=node.document,
        layout=layout,
        sources=sources,
        keep=rows.get("keep", str, None, "It is a condition in quotes."),
        sort=rows.texts("sort", 'It is a list of columns, as ["Surname"].'),
        flows=_flows(node.table("fields"), name, layout, draft),
        left_behind=_left_behind(node.table("left_behind")),
        lookups=lookups,
        references=_nowhere(node.table("references"), layout),
        leavers=read_leavers(node.table("leavers"), layout),
        totals=read_totals(node.tables("totals", "a total"), layout, [one.name for one in sources]),
        together=read_together(node.table("together"), layout),
        expectations=tuple(_expectation(one, layout) for one in node.tables("expect", "an expectation")),
    )


def layout_of(move: Move, name: str) -> Layout:
    """The layout that a list's plan names, without reading the rest of the plan."""
    return read_layout(_layout_path(move, name, read_toml(move.plan_path(name), PlanError)))


def _layout_path(move: Move, name: str, node: Section) -> Path:
    said = node.content.get("layout")
    if not isinstance(said, str):
        hint = f'Write layout = "layouts/{name}.json" as the first line.'
        raise node.fail("the plan does not say its layout.", "layout", hint)
    path = move.path(said)
    if not path.is_file() and not move.path(said.rpartition(MARK)[0] or said).is_file():
        known = [f"layouts/{n}.json" for n in move.names("layouts", ".json")]
        raise node.fail(unknown("layout", said, known), "layout", "Paths begin at the move folder.")
    return path


def _no_twins(nodes: list[Section], sources: tuple[Source, ...]) -> None:
    names = [s.name for s in sources]
    for number, node in enumerate(nodes):
        if names[number] in names[:number]:
            hint = "Each needs its own name: identifiers are kept by it."
            raise node.fail(f"two sources are named {names[number]!r}.", "name", hint)


def _flows(node: Section, name: str, layout: Layout, draft: bool) -> dict[str, str]:
    names = [f.name for f in layout.fields]
    for field, flow in node.content.items():
        if field not in names:
            by_title = next((f.name for f in layout.fields if f.title == field), None)
            hint = f"Plans use the name {by_title!r}." if by_title else f"The layout has: {', '.join(names)}."
            raise node.fail(unknown("field", field, names), field, hint)
        if not isinstance(flow, str):
            raise node.fail("a flow is a text in single quotes.", field, f"Write {field} = '{flow}'.")
    for one in layout.fields:
        given = one.default is not None or one.demands.actions is not None
        if one.required and not given and one.name not in node.content and not draft:
            hint = f"Add {one.name} = '…' below [fields], or let `mudanza match {name}` propose it."
            raise node.fail(f"the required field {one.name!r} has no flow.", hint=hint)
    return dict(node.content)


def _left_behind(node: Section) -> dict[str, str]:
    for column, reason in node.content.items():
        if not isinstance(reason, str) or not reason.strip():
            raise node.fail(f"leaving {column!r} behind needs a reason.", column, "Write the reason in quotes.")
    return dict(node.content)


def _nowhere(node: Section, layout: Layout) -> dict[tuple[str, ...], str]:
    """What is said of references that lead nowhere, by their fields."""
    said = {}
    by_name = {", ".join(reference.fields): reference.fields for reference in layout.references}
    for name, end in node.content.items():
        if name not in by_name:
            hint = f"It has: {'; '.join(by_name)}." if by_name else "It has none: take the line out."
            raise node.fail(f"the layout has no reference by {name!r}.", name, hint)
        if end not in NOWHERE:
            hint = f"It is one of {', '.join(NOWHERE)}."
            raise node.fail(f"{end!r} says nothing of a reference that leads nowhere.", name, hint)
        if end == "blank":
            _can_be_blank(node, name, by_name[name], layout)
        said[by_name[name]] = end
    return said


def _can_be_blank(node: Section, name: str, fields: tuple[str, ...], layout: Layout) -> None:
    hint = 'Say "hold back" or "write".'
    if len(fields) > 1:
        raise node.fail("a reference by several fields cannot be blanked.", name, hint)
    if layout.field_named(fields[0]).required or fields[0] in layout.primary_key:
        raise node.fail(f"{name!r} must be filled, so it cannot be blanked.", name, hint)


def _options(node: Section, but: Iterable[str]) -> ReadOptions:
    """The settings of how a source is read, which are all keys but some."""
    settings = {k: v for k, v in node.content.items() if k not in but}
    return read_options(settings, lambda what, key, hint: node.fail(what, key, hint))


def _source(node: Section) -> Source:
    node.only({*_SOURCE, *SETTINGS})
    name, file, database = (node.get(key, str) for key in ("name", "file", "database"))
    lacks, adds = node.texts("lacks"), node.get("adds", dict, {})
    if not name:
        raise node.fail("the source lacks its name.", hint='Add name = "…".')
    if bool(file) == bool(database):
        raise node.fail("the source needs a file or a database.", hint='Add file = "incoming/…" or database = "…".')
    if not all(isinstance(v, str) for v in adds.values()):
        raise node.fail("adds holds texts by their columns.", "adds", 'Write adds = { "Language" = "pt" }.')
    return Source(name, _options(node, _SOURCE), file, database, lacks, adds)


def _lookup(tables: Section, name: str, move: Move) -> LookupTable:
    if not isinstance(tables.content[name], dict):
        raise tables.fail(f"the lookup {name!r} is a table.", name, f"Write [lookup.{name}] and lines below.")
    node = tables.table(name).only({*_LOOKUP, *SETTINGS})
    keys = node.content.get("key")
    keys = [keys] if isinstance(keys, str) else keys
    if not isinstance(keys, list) or not keys or not all(isinstance(k, str) and k for k in keys):
        hint = 'Write key = "No", or key = ["Clinic", "No"].'
        raise node.fail("the lookup does not say which column is its key.", "key", hint)
    file, database, of_list = (node.get(key, str) for key in ("file", "database", "list"))
    if sum(bool(one) for one in (file, database, of_list)) != 1:
        hint = 'Add file = "incoming/…", or list = "owners".'
        raise node.fail("the lookup needs one of file, database and list.", hint=hint)
    fold = node.get("fold", bool, False)
    options = _options(node, _LOOKUP)
    if of_list:
        # that there is such a list is told now, what it holds is read when it is looked up in
        move.plan_path(of_list)
    source = None if of_list else Source(name, options, file, database)
    return LookupTable(name, tuple(keys), fold, source, of_list)


def _expectation(node: Section, layout: Layout) -> Expectation:
    node.only(_EXPECT)
    examples = {"row": 'Write row = { "Client No" = "01003" }.', "fields": 'Write fields = { town = "Braga" }.'}
    for name, words in (("row", "columns"), ("fields", "fields")):
        value = node.content.get(name, {})
        if not isinstance(value, dict) or not all(isinstance(v, str) for v in value.values()):
            raise node.fail(f"{name} holds texts by their {words}.", name, examples[name])
    row, fields, key = node.content.get("row", {}), node.content.get("fields", {}), node.content.get("key")
    if bool(row) == bool(key) or not isinstance(key, str | None):
        hint = 'Write row = { "Client No" = "01003" }, or key = "OW-000003".'
        raise node.fail("an expectation finds its record by row or by key.", hint=hint)
    names = [f.name for f in layout.fields]
    for name in fields:
        if name not in names:
            raise node.fail(unknown("field", name, names), "fields", f"The layout has: {', '.join(names)}.")
    ends = node.content.get("ends", "written")
    if ends not in ENDS or (fields and ends != "written"):
        hint = f"It is one of {', '.join(ENDS)}; only what is written has fields."
        raise node.fail(f"a record that ends {ends!r} is not expected.", "ends", hint)
    if key and ends != "written":
        raise node.fail("only what is written has a key.", "key", "Find the record by its row.")
    return Expectation(row, key, ends, fields)
