"""The move folder: its settings (`mudanza.toml`), and where everything in it stands."""

from __future__ import annotations

import tomllib
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from typing import Any

from mudanza.core.databases import Database, read_databases
from mudanza.core.errors import MoveError, MudanzaError, Place, PlanError, nearest, unknown
from mudanza.core.keys import KeyPattern
from mudanza.core.ledger import Ledger
from mudanza.core.parameters import Declared, read_parameters

SETTINGS = "mudanza.toml"
_KNOWN = {"name", "keys", "parameters", "databases", "own_steps", "crosswalks"}
_KNOWN_KEY = {"pattern", "start", "groups"}
_KNOWN_CROSSWALK = {"targets", "code", "meaning", "field"}


@dataclass(frozen=True)
class Move:
    """A move folder. All paths that plans give are relative to `folder`."""

    folder: Path
    name: str
    key_patterns: Mapping[str, KeyPattern] = field(default_factory=dict)
    parameters: Mapping[str, Declared] = field(default_factory=dict)
    databases: Mapping[str, Database] = field(default_factory=dict)
    wait: float = 30
    #: whether the flows may use the steps of the move's own steps.py
    own_steps: bool = False
    #: where the target's codes of a crosswalk stand: targets (a file), code and meaning (its columns), or field ("list.field")
    crosswalks: Mapping[str, Mapping[str, str]] = field(default_factory=dict)

    @cached_property
    def ledger(self) -> Ledger:
        return Ledger(self.folder / ".mudanza" / "ledger.sqlite", self.wait)

    @property
    def out(self) -> Path:
        return self.folder / "out"

    def path(self, relative: str) -> Path:
        """A path that a plan or a person gave, seen from the move folder."""
        return self.folder / relative

    def shown(self, path: Path) -> str:
        """A path as people of this move know it."""
        try:
            return str(path.relative_to(self.folder))
        except ValueError:
            return str(path)

    def names(self, folder: str, suffix: str) -> list[str]:
        """The names of the plans, layouts or crosswalks."""
        return sorted(p.stem for p in (self.folder / folder).glob(f"*{suffix}"))

    def plan_path(self, name: str) -> Path:
        """Where the plan of a list stands. Raises MoveError with the nearest name if there is none."""
        return self._named(name, "plans", ".toml", "plan")

    def layout_path(self, name: str) -> Path:
        """Where a layout stands, by its name. Raises MoveError with the nearest name if there is none."""
        return self._named(name, "layouts", ".json", "layout")

    def crosswalk_path(self, name: str) -> Path:
        """Where a crosswalk stands, by its name."""
        return self._named(name, "crosswalks", ".csv", "crosswalk")

    def _named(self, name: str, folder: str, suffix: str, kind: str) -> Path:
        path = self.folder / folder / f"{name}{suffix}"
        if not path.is_file():
            known = self.names(folder, suffix)
            listed = f"There are: {', '.join(known)}." if known else f"The folder {folder}/ has none."
            raise MoveError(unknown(kind, name, known), place=Place(str(self.folder / folder)), hint=listed)
        return path

    def database(self, name: str) -> Database:
        """A database of the settings. Raises MoveError with the nearest name if there is none."""
        if name not in self.databases:
            known = list(self.databases)
            listed = f"There are: {', '.join(known)}." if known else f"Add [databases.{name}] to {SETTINGS}."
            raise MoveError(unknown("database", name, known), hint=listed)
        return self.databases[name]

    def key_pattern(self, book: str) -> KeyPattern:
        """The pattern of a key book. Raises MoveError if the settings have none of that name."""
        if book not in self.key_patterns:
            raise MoveError(
                unknown("key book", book, list(self.key_patterns)),
                hint=f'Add [keys.{book}] with pattern = "OW-{{000000}}" to {SETTINGS}.',
            )
        return self.key_patterns[book]


def find_move(start: Path) -> Move:
    """The move that `start` lies in, looking upwards. Raises MoveError if there is none."""
    start = start.resolve()
    for folder in (start, *start.parents):
        if (folder / SETTINGS).is_file():
            return read_move(folder)
    raise MoveError(
        "this is no move folder.",
        place=Place(str(start)),
        hint="Go to the folder with mudanza.toml (or say -C FOLDER), or start one with `mudanza init FOLDER`.",
    )


def read_move(folder: Path) -> Move:
    """Read the settings of a move folder. Raises MoveError with the line of what is wrong."""
    path = folder / SETTINGS
    settings, text = read_toml(path, MoveError)
    only_known(settings, _KNOWN, path, text, "", MoveError)
    name = settings.get("name", folder.name)
    if not isinstance(name, str):
        raise toml_error("name must be a text.", path, text, "", "name", MoveError)
    patterns = {}
    for book, node in table(settings, "keys", path, text, MoveError).items():
        if not isinstance(node, dict) or not isinstance(node.get("pattern"), str):
            raise toml_error(f"the key book {book!r} needs a pattern.", path, text, f"keys.{book}", None, MoveError,
                             'Write pattern = "OW-{000000}".')  # fmt: skip
        only_known(node, _KNOWN_KEY, path, text, f"keys.{book}", MoveError)
        start = node.get("start", 1)
        if not isinstance(start, int) or isinstance(start, bool) or start < 0:
            raise toml_error("start must be a whole number.", path, text, f"keys.{book}", "start", MoveError)
        try:
            patterns[book] = KeyPattern.of(node["pattern"], start, node.get("groups", 0))
        except MoveError as error:
            raise toml_error(error.what, path, text, f"keys.{book}", "pattern", MoveError, error.hint) from None

    def wrong_parameter(what: str, name: str, key: str | None, hint: str | None) -> MudanzaError:
        section, key = (f"parameters.{name}", key) if key else ("parameters", name)
        return toml_error(what, path, text, section, key, MoveError, hint)

    parameters = read_parameters(table(settings, "parameters", path, text, MoveError), wrong_parameter)
    own_steps = settings.get("own_steps", False)
    if not isinstance(own_steps, bool):
        raise toml_error("own_steps must be true or false.", path, text, "", "own_steps", MoveError)
    crosswalks = table(settings, "crosswalks", path, text, MoveError)
    for name_, node in crosswalks.items():
        section = f"crosswalks.{name_}"
        if not isinstance(node, dict) or not all(isinstance(v, str) for v in node.values()):
            raise toml_error(f"the settings of the crosswalk {name_!r} are texts in a table.", path, text, section, None, MoveError,
                             'Write targets = "incoming/target-codes.csv" and code = "Code".')  # fmt: skip
        only_known(node, _KNOWN_CROSSWALK, path, text, section, MoveError)

    def wrong(what: str, database: str, key: str | None, hint: str | None) -> MudanzaError:
        return toml_error(what, path, text, f"databases.{database}", key, MoveError, hint)

    databases = read_databases(table(settings, "databases", path, text, MoveError), folder, wrong)
    return Move(folder, name, patterns, parameters, databases, own_steps=own_steps, crosswalks=crosswalks)


# reading TOML with places

Error = type[MoveError] | type[PlanError]


def read_toml(path: Path, error_type: Error) -> tuple[dict[str, Any], str]:
    """A TOML file's content and its text. Errors carry the line and a caret."""
    try:
        text = path.read_text(encoding="utf-8-sig")
    except FileNotFoundError:
        raise error_type("the file does not exist.", place=Place(str(path))) from None
    except UnicodeDecodeError:
        raise error_type("the file is not in UTF-8.", place=Place(str(path)), hint="Save it as UTF-8.") from None
    try:
        return tomllib.loads(text), text
    except tomllib.TOMLDecodeError as error:
        import re

        match = re.search(r"\(at line (\d+), column (\d+)\)", str(error))
        lines = text.splitlines() or [""]
        number = int(match.group(1)) if match else len(lines)
        column = int(match.group(2)) - 1 if match else len(lines[-1])
        what = re.sub(r"\s*\(at .*\)", "", str(error))
        source = lines[min(number, len(lines)) - 1]
        place = Place(str(path), line=number, text=source, start=column, end=column + 1)
        raise error_type(f"{what[0].lower()}{what[1:]}.", place=place, hint=_toml_hint(source)) from None


def _toml_hint(source: str) -> str:
    if source.count("'") % 2 or source.count('"') % 2:
        return "Is a quote missing? Flows stand in single quotes: field = '{Column} -> trim'."
    key = source.split("=")[0].strip()
    if "=" in source and " " in key and not key.startswith(("'", '"')):
        return f'A name with spaces stands in quotes: "{key}" = …'
    return "Lines read name = value; texts stand in quotes."


def toml_error(
    what: str,
    path: Path,
    text: str,
    section: str,
    key: str | None,
    error_type: Error,
    hint: str | None = None,
) -> MudanzaError:
    """An error at the line of a key (or of its section's heading)."""
    line, source, start, end = toml_place(text, section, key)
    place = Place(str(path), line=line, key=None if line else section, text=source, start=start, end=end)
    return error_type(what, place=place, hint=hint)


def toml_place(
    text: str, section: str, key: str | None, occurrence: int = 0
) -> tuple[int | None, str | None, int, int]:
    """The line (from 1) of a key in a section of TOML, the line's text, and the key's span in it.

    `occurrence` chooses among repeated sections (`[[source]]`).
    """
    current, seen, found = "", -1, None
    for number, line in enumerate(text.splitlines(), start=1):
        bare = line.strip()
        if bare.startswith("["):
            current = bare.split("#")[0].strip().strip("[]").strip().replace('"', "").replace("'", "")
            if current == section:
                seen += 1
                if seen == occurrence:
                    found = (number, line, line.index("["), len(line.rstrip()))
                    if key is None:
                        return found
            continue
        inside = (current == section and seen == occurrence) if section else current == ""
        if inside and key is not None and "=" in bare:
            name = bare.split("=")[0].strip()
            if bare.startswith(('"', "'")):
                name = bare[1 : bare.index(bare[0], 1)] if bare[0] in bare[1:] else name
            if name.strip("\"'") == key:
                start = line.index(name)
                return number, line, start, start + len(name)
    return found or (None, None, 0, 0)


def only_known(
    node: Mapping[str, Any],
    known: set[str],
    path: Path,
    text: str,
    section: str,
    error_type: Error,
    occurrence: int = 0,
) -> None:
    """Raise at the first key of a table that is not known."""
    for key in node:
        if key not in known:
            near = nearest(key, sorted(known))
            hint = f"Did you mean {near!r}?" if near else f"Here can stand: {', '.join(sorted(known))}."
            line, source, start, end = toml_place(text, section, key, occurrence)
            if line is None:
                line, source, start, end = toml_place(text, f"{section}.{key}".strip("."), None)
            where = f"[{section}]" if section else "the file"
            place = Place(str(path), line=line, text=source, start=start, end=end)
            raise error_type(f"{key!r} means nothing in {where}.", place=place, hint=hint)


def table(settings: Mapping[str, Any], key: str, path: Path, text: str, error_type: Error) -> Mapping[str, Any]:
    """A table of the settings; empty if it is not there."""
    node = settings.get(key, {})
    if not isinstance(node, dict):
        raise toml_error(f"{key} must be a table.", path, text, "", key, error_type, f"Write [{key}] and lines below.")
    return node
