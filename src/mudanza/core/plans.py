"""Plans: the text that says how a list's sources become its layout."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from mudanza.core.errors import LanguageError, Place, PlanError, unknown
from mudanza.core.layouts.model import Layout
from mudanza.core.layouts.reading import read_layout
from mudanza.core.move import Move, only_known, read_toml, table, toml_error, toml_place
from mudanza.core.sources.opening import files_of, open_source
from mudanza.core.sources.reading import Reader, ReadOptions
from mudanza.core.sources.settings import SETTINGS, read_options

_TOP = {"layout", "source", "rows", "fields", "left_behind", "lookup", "expect"}
_SOURCE = {"name", "file", "database", "lacks", "adds"}
_LOOKUP = {"key", "file", "database", "list", "fold"}
_EXPECT = {"row", "key", "ends", "fields"}
#: the ends of a row that a plan can expect
ENDS = ("written", "held back", "skipped", "merged")
_ROWS = {"keep", "sort"}


@dataclass(frozen=True)
class Source:
    """What feeds a list: a file, the files of a pattern, or a database of the move. `lacks` names columns that it does not
    have, on purpose; `adds` are columns that it gets, with the value of all its rows."""

    name: str
    move: Move
    options: ReadOptions
    file: str | None = None
    database: str | None = None
    lacks: tuple[str, ...] = ()
    adds: Mapping[str, str] = field(default_factory=dict)

    def open(self) -> list[tuple[Path, Reader]]:
        """The readers of the source, each with its path. Raises SourceError or OutsideError where one cannot be read."""
        if self.database is not None:
            from mudanza.core.sources.database import open_database

            return [
                (Path(self.database), open_database(self.move.database(self.database), self.options, digested=True))
            ]
        return [(path, open_source(path, self.options)) for path in files_of(self.move.path(self.file or ""))]


@dataclass(frozen=True)
class LookupTable:
    """A table to look up in: a source with the columns that are its key, or the file that another list's build wrote."""

    name: str
    keys: tuple[str, ...]
    fold: bool
    source: Source
    list: str | None = None


@dataclass(frozen=True)
class Expectation:
    """What a plan expects of one record, which is found by values of its `row` in the source or by its `key` in the target: how its row ends,
    and the texts of its fields."""

    row: Mapping[str, str]
    key: str | None
    ends: str
    fields: Mapping[str, str]

    @property
    def shown(self) -> str:
        return self.key or ", ".join(f"{column} {value}" for column, value in self.row.items())


@dataclass(frozen=True)
class Plan:
    """A plan as written. `flows` maps field names to flows; `left_behind` columns to reasons."""

    name: str
    path: Path
    text: str
    layout: Layout
    sources: tuple[Source, ...]
    keep: str | None = None
    sort: tuple[str, ...] = ()
    flows: Mapping[str, str] = field(default_factory=dict)
    left_behind: Mapping[str, str] = field(default_factory=dict)
    lookups: Mapping[str, LookupTable] = field(default_factory=dict)
    expectations: tuple[Expectation, ...] = ()

    def error(self, what: str, section: str, key: str | None = None, hint: str | None = None) -> PlanError:
        """An error at a place of the plan."""
        error = toml_error(what, self.path, self.text, section, key, PlanError, hint)
        assert isinstance(error, PlanError)
        return error

    def placed(self, error: LanguageError, section: str, key: str, flow: str) -> LanguageError:
        """A language error, with its caret moved from the flow to the plan's line."""
        line, source, _, _ = toml_place(self.text, section, key)
        inner = error.place or Place()
        offset = source.find(flow) if source else -1
        if source is not None and offset >= 0:
            place = Place(str(self.path), line, None, text=source, start=offset + inner.start, end=offset + inner.end)
        else:
            begin = flow.rfind("\n", 0, inner.start) + 1
            piece = flow[begin:].split("\n")[0]
            place = Place(str(self.path), line, key, text=piece, start=inner.start - begin, end=inner.end - begin)
        return error.moved(place)


def load_plan(move: Move, name: str, *, draft: bool = False) -> Plan:
    """Read a plan and its layout. Raises PlanError or LayoutError with the place of what is wrong.

    A `draft` may lack flows of required fields.
    """
    path = move.plan_path(name)
    node, text = read_toml(path, PlanError)
    only_known(node, _TOP, path, text, "", PlanError)
    layout_name = node.get("layout")
    if not isinstance(layout_name, str):
        raise toml_error("the plan does not say its layout.", path, text, "", "layout", PlanError,
                         f'Write layout = "layouts/{name}.json" as the first line.')  # fmt: skip
    layout_path = move.path(layout_name)
    if not layout_path.is_file():
        known = [f"layouts/{n}.json" for n in move.names("layouts", ".json")]
        raise toml_error(
            unknown("layout", layout_name, known),
            path,
            text,
            "",
            "layout",
            PlanError,
            "Paths begin at the move folder.",
        )
    layout = read_layout(layout_path)
    nodes = node.get("source")
    if not isinstance(nodes, list) or not nodes:
        raise toml_error("the plan has no source.", path, text, "", "source", PlanError,
                         'Write [[source]] and below it name = "…" and file = "incoming/…".')  # fmt: skip
    sources = tuple(_source(move, source, i, path, text) for i, source in enumerate(nodes))
    names = [s.name for s in sources]
    if len(set(names)) < len(names):
        twice = next(n for n in names if names.count(n) > 1)
        raise toml_error(
            f"two sources are named {twice!r}.",
            path,
            text,
            "source",
            "name",
            PlanError,
            "Each needs its own name: identifiers are kept by it.",
        )
    rows = table(node, "rows", path, text, PlanError)
    only_known(rows, _ROWS, path, text, "rows", PlanError)
    keep, sort = rows.get("keep"), rows.get("sort", [])
    if keep is not None and not isinstance(keep, str):
        raise toml_error("keep must be a condition in quotes.", path, text, "rows", "keep", PlanError)
    if not isinstance(sort, list) or not all(isinstance(s, str) for s in sort):
        raise toml_error('sort must be a list of columns, as ["Surname"].', path, text, "rows", "sort", PlanError)
    flows = table(node, "fields", path, text, PlanError)
    _flows_fit(flows, layout, path, text, draft)
    left = table(node, "left_behind", path, text, PlanError)
    for column, reason in left.items():
        if not isinstance(reason, str) or not reason.strip():
            raise toml_error(
                f"leaving {column!r} behind needs a reason.",
                path,
                text,
                "left_behind",
                column,
                PlanError,
                "Write the reason in quotes.",
            )
    lookups = {
        key: _lookup(move, key, one, path, text) for key, one in table(node, "lookup", path, text, PlanError).items()
    }
    expected = node.get("expect", [])
    if not isinstance(expected, list):
        raise toml_error(
            "an expectation is a table.", path, text, "expect", None, PlanError, "Write [[expect]] with two brackets."
        )
    expectations = tuple(_expectation(one, i, layout, path, text) for i, one in enumerate(expected))
    return Plan(name, path, text, layout, sources, keep, tuple(sort), dict(flows), dict(left), lookups, expectations)


def _expectation(node: Any, number: int, layout: Layout, path: Path, text: str) -> Expectation:
    def wrong(what: str, key: str | None, hint: str | None = None) -> PlanError:
        line, source, start, end = toml_place(text, "expect", key, number)
        return PlanError(what, place=Place(str(path), line, text=source, start=start, end=end), hint=hint)

    if not isinstance(node, dict):
        raise wrong("an expectation is a table.", None, "Write [[expect]] with two brackets.")
    only_known(node, _EXPECT, path, text, "expect", PlanError, number)
    row, fields, key = node.get("row", {}), node.get("fields", {}), node.get("key")
    for name, given in (("row", row), ("fields", fields)):
        if not isinstance(given, dict) or not all(isinstance(v, str) for v in given.values()):
            raise wrong(f"{name} holds texts by their {'columns' if name == 'row' else 'fields'}.", name,
                        f'Write {name} = {{ "Client No" = "01003" }}.' if name == "row" else 'Write fields = { town = "Braga" }.')  # fmt: skip
    if bool(row) == bool(key) or not isinstance(key, str | None):
        raise wrong(
            "an expectation finds its record by row or by key.",
            None,
            'Write row = { "Client No" = "01003" }, or key = "OW-000003".',
        )
    names = [f.name for f in layout.fields]
    for name in fields:
        if name not in names:
            raise wrong(unknown("field", name, names), "fields", f"The layout has: {', '.join(names)}.")
    ends = node.get("ends", "written")
    if ends not in ENDS or (fields and ends != "written"):
        raise wrong(
            f"a record that ends {ends!r} is not expected.",
            "ends",
            f"It is one of {', '.join(ENDS)}; only what is written has fields.",
        )
    if key and ends != "written":
        raise wrong("only what is written has a key.", "key", "Find the record by its row.")
    return Expectation(row, key, ends, fields)


def _lookup(move: Move, name: str, node: Any, path: Path, text: str) -> LookupTable:
    section = f"lookup.{name}"

    def wrong(what: str, key: str | None, hint: str | None = None) -> PlanError:
        line, source, start, end = toml_place(text, section, key)
        return PlanError(what, place=Place(str(path), line, text=source, start=start, end=end), hint=hint)

    if not isinstance(node, dict):
        raise wrong(f"the lookup {name!r} is a table.", None, f"Write [lookup.{name}] and lines below.")
    only_known(node, {*_LOOKUP, *SETTINGS}, path, text, section, PlanError)
    keys = node.get("key")
    keys = [keys] if isinstance(keys, str) else keys
    if not isinstance(keys, list) or not keys or not all(isinstance(k, str) and k for k in keys):
        raise wrong(
            "the lookup does not say which column is its key.", "key", 'Write key = "No", or key = ["Clinic", "No"].'
        )
    given = [k for k in ("file", "database", "list") if node.get(k)]
    if len(given) != 1 or not all(isinstance(node[k], str) for k in given):
        raise wrong(
            "the lookup needs one of file, database and list.", None, 'Add file = "incoming/…", or list = "owners".'
        )
    if not isinstance(node.get("fold", False), bool):
        raise wrong("fold must be true or false.", "fold")
    settings = {k: v for k, v in node.items() if k not in _LOOKUP}
    options = read_options(settings, wrong)
    file = node.get("file")
    if "list" in node:
        # what another list's build wrote, by the names of its fields
        other = read_layout(_layout_path(move, node["list"]))
        options = replace(
            options, encoding=other.dialect.encoding, delimiter=other.dialect.delimiter, exact=True,
            heading=1 if other.dialect.header else 0, rename={f.title: f.name for f in other.fields} if other.dialect.header else {},
        )  # fmt: skip
        file = f"out/{node['list']}.csv"
    source = Source(name, move, options, file=file, database=node.get("database"))
    return LookupTable(name, tuple(keys), node.get("fold", False), source, node.get("list"))


def _layout_path(move: Move, name: str) -> Path:
    node, _ = read_toml(move.plan_path(name), PlanError)
    return move.path(str(node.get("layout", "")))


def _source(move: Move, node: Any, number: int, path: Path, text: str) -> Source:
    def wrong(what: str, key: str | None, hint: str | None = None) -> PlanError:
        line, source, start, end = toml_place(text, "source", key, number)
        return PlanError(what, place=Place(str(path), line, text=source, start=start, end=end), hint=hint)

    if not isinstance(node, dict):
        raise wrong("a source is a table.", None, "Write [[source]] with two brackets.")
    only_known(node, {*_SOURCE, *SETTINGS}, path, text, "source", PlanError, number)
    for key in _SOURCE & set(node):
        wanted, words = {"lacks": (list, "list"), "adds": (dict, "table")}.get(key, (str, "text"))
        if not isinstance(node[key], wanted):
            raise wrong(f"{key} must be a {words}.", key)
    if not node.get("name"):
        raise wrong("the source lacks its name.", None, 'Add name = "…".')
    if bool(node.get("file")) == bool(node.get("database")):
        raise wrong("the source needs a file or a database.", None, 'Add file = "incoming/…" or database = "…".')
    lacks = node.get("lacks", [])
    if not all(isinstance(v, str) for v in lacks):
        raise wrong("lacks holds texts.", "lacks")
    adds = node.get("adds", {})
    if not all(isinstance(v, str) for v in adds.values()):
        raise wrong("adds holds texts by their columns.", "adds", 'Write adds = { "Language" = "pt" }.')
    options = read_options({k: v for k, v in node.items() if k not in _SOURCE}, wrong)
    return Source(node["name"], move, options, node.get("file"), node.get("database"), tuple(lacks), adds)


def _flows_fit(flows: Mapping[str, Any], layout: Layout, path: Path, text: str, draft: bool) -> None:
    names = [f.name for f in layout.fields]
    for name, flow in flows.items():
        if name not in names:
            by_title = next((f.name for f in layout.fields if f.title == name), None)
            hint = f"Plans use the name {by_title!r}." if by_title else f"The layout has: {', '.join(names)}."
            raise toml_error(unknown("field", name, names), path, text, "fields", name, PlanError, hint)
        if not isinstance(flow, str):
            raise toml_error(
                "a flow is a text in single quotes.",
                path,
                text,
                "fields",
                name,
                PlanError,
                f"Write {name} = '{flow}'.",
            )
    for one in layout.fields:
        if one.required and one.default is None and one.name not in flows and not draft:
            raise toml_error(f"the required field {one.name!r} has no flow.", path, text, "fields", None, PlanError,
                             f"Add {one.name} = '…' below [fields], or let `mudanza match {path.stem}` propose it.")  # fmt: skip
