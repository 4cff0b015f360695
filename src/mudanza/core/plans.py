"""Plans: the text that says how a list's sources become its layout."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from mudanza.core.errors import LanguageError, Place, PlanError, unknown
from mudanza.core.layouts.model import Layout
from mudanza.core.layouts.reading import read_layout
from mudanza.core.move import Move, only_known, read_toml, table, toml_error, toml_place
from mudanza.core.sources.opening import files_of, open_source
from mudanza.core.sources.reading import Reader, ReadOptions
from mudanza.core.sources.settings import SETTINGS, read_options

_TOP = {"layout", "source", "rows", "fields", "left_behind"}
_SOURCE = {"name", "file", "database", "lacks"}
_ROWS = {"keep", "sort"}


@dataclass(frozen=True)
class Source:
    """What feeds a list: a file, the files of a pattern, or a database of the move. `lacks` names columns that it does not
    have, on purpose."""

    name: str
    move: Move
    options: ReadOptions
    file: str | None = None
    database: str | None = None
    lacks: tuple[str, ...] = ()

    def open(self) -> list[tuple[Path, Reader]]:
        """The readers of the source, each with its path. Raises SourceError or OutsideError where one cannot be read."""
        if self.database is not None:
            from mudanza.core.sources.database import open_database

            return [
                (Path(self.database), open_database(self.move.database(self.database), self.options, digested=True))
            ]
        return [(path, open_source(path, self.options)) for path in files_of(self.move.path(self.file or ""))]


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
        return LanguageError(error.what, place=place, hint=error.hint)


def load_plan(move: Move, name: str) -> Plan:
    """Read a plan and its layout. Raises PlanError or LayoutError with the place of what is wrong."""
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
    _flows_fit(flows, layout, path, text)
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
    return Plan(name, path, text, layout, sources, keep, tuple(sort), dict(flows), dict(left))


def _source(move: Move, node: Any, number: int, path: Path, text: str) -> Source:
    def wrong(what: str, key: str | None, hint: str | None = None) -> PlanError:
        line, source, start, end = toml_place(text, "source", key, number)
        return PlanError(what, place=Place(str(path), line, text=source, start=start, end=end), hint=hint)

    if not isinstance(node, dict):
        raise wrong("a source is a table.", None, "Write [[source]] with two brackets.")
    only_known(node, {*_SOURCE, *SETTINGS}, path, text, "source", PlanError, number)
    for key in _SOURCE & set(node):
        if not isinstance(node[key], list if key == "lacks" else str):
            raise wrong(f"{key} must be a {'list' if key == 'lacks' else 'text'}.", key)
    if not node.get("name"):
        raise wrong("the source lacks its name.", None, 'Add name = "…".')
    if bool(node.get("file")) == bool(node.get("database")):
        raise wrong("the source needs a file or a database.", None, 'Add file = "incoming/…" or database = "…".')
    lacks = node.get("lacks", [])
    if not all(isinstance(v, str) for v in lacks):
        raise wrong("lacks holds texts.", "lacks")
    options = read_options({k: v for k, v in node.items() if k not in _SOURCE}, wrong)
    if "database" in node:
        return Source(node["name"], move, options, database=node["database"], lacks=tuple(lacks))
    return Source(node["name"], move, options, file=node["file"], lacks=tuple(lacks))


def _flows_fit(flows: Mapping[str, Any], layout: Layout, path: Path, text: str) -> None:
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
        if one.required and one.default is None and one.name not in flows:
            raise toml_error(f"the required field {one.name!r} has no flow.", path, text, "fields", None, PlanError,
                             f"Add {one.name} = '…' below [fields].")  # fmt: skip
