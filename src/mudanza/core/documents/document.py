"""A document that people write, under reading: its content, where its keys stand, and the plain checks of its values."""

from __future__ import annotations

import json
import re
import tomllib
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from mudanza.core.documents.errors import LayoutError, MudanzaError, Place, nearest
from mudanza.core.documents.json_marks import json_marks
from mudanza.core.documents.marks import KeyPath, Mark, path_shown
from mudanza.core.documents.secrets import may_quote
from mudanza.core.documents.toml_marks import toml_marks

_NAMES = {str: "a text", bool: "true or false", int: "a whole number", dict: "a table", list: "a list"}


@dataclass(frozen=True)
class Document:
    """A text file, its content, and where each key of it stands. Errors of its making are of class `error`."""

    path: Path
    text: str
    content: Any
    marks: Mapping[KeyPath, Mark] = field(repr=False, default_factory=dict)
    error: type[MudanzaError] = MudanzaError

    def place(self, at: KeyPath) -> Place:
        """The line of a key, with the key marked; that of what it stands in, if it is not there."""
        known = next((at[:n] for n in range(len(at), 0, -1) if at[:n] in self.marks), None)
        if known is None:
            return Place(str(self.path), key=path_shown(at) or None)
        mark = self.marks[known]
        return self.span(mark.start, mark.end, path_shown(at))

    def span(self, start: int, end: int, key: str | None = None) -> Place:
        """The line of an offset, with what stands between two offsets of it marked."""
        begin = self.text.rfind("\n", 0, start) + 1
        stop = self.text.find("\n", start)
        line = self.text[begin : stop if stop >= 0 else len(self.text)].rstrip("\r")
        number = self.text.count("\n", 0, start) + 1
        return Place(str(self.path), number, key, text=line, start=start - begin, end=min(end - begin, len(line)))

    def fail(self, at: KeyPath, what: str, hint: str | None = None) -> MudanzaError:
        """The error at a key."""
        return self.error(what, place=self.place(at), hint=hint)

    def within(self, at: KeyPath, piece: str, start: int, end: int) -> Place | None:
        """The place of a part of the text that a key holds, if that stands in the document as it is."""
        mark = self.marks.get(at)
        begin = self.text.find(piece, mark.value) if mark is not None else -1
        return None if begin < 0 else self.span(begin + start, begin + max(end, start + 1))


@dataclass(frozen=True)
class Section:
    """A table or object of a document, and the plain checks of its values. `noun` is what it is called in errors."""

    document: Document
    at: KeyPath
    content: Mapping[str, Any]
    noun: str

    def fail(self, what: str, key: str | None = None, hint: str | None = None) -> MudanzaError:
        """The error at one of its keys, or at the whole."""
        return self.document.fail(self.at if key is None else (*self.at, key), what, hint)

    def only(self, known: Iterable[str]) -> Section:
        """Itself, if every key of it is known. Raises the error at the first that is not, with the nearest name."""
        names = sorted(known)
        for key in self.content:
            if key not in names:
                near = nearest(key, names)
                hint = f"Did you mean {near!r}?" if near else f"Here can stand: {', '.join(names)}."
                raise self.fail(f"{key!r} means nothing in {self.noun}.", key, hint)
        return self

    def get(self, key: str, kind: type, default: Any = None, hint: str | None = None) -> Any:
        """The value of a key if it is of a kind (str, bool, int, list, dict), the default if it is not there."""
        value = self.content.get(key)
        if value is None:
            return default
        if not isinstance(value, kind) or (kind is int and isinstance(value, bool)):
            raise self.fail(f"{key} must be {_NAMES[kind]}.", key, hint)
        return value

    def texts(self, key: str, hint: str | None = None) -> tuple[str, ...]:
        """A list of texts; empty if it is not there."""
        values = self.get(key, list, [], hint)
        if not all(isinstance(value, str) for value in values):
            raise self.fail(f"{key} holds texts.", key, hint)
        return tuple(values)

    def table(self, key: str) -> Section:
        """A table in it, or an empty one."""
        value = self.get(key, dict, {}, f"Write [{path_shown((*self.at, key))}] and lines below.")
        return Section(self.document, (*self.at, key), value, f"[{path_shown((*self.at, key))}]")

    def tables(self, key: str, what: str) -> list[Section]:
        """The tables of a list; `what` is what one of them is."""
        values = self.get(key, list, [], f"Write [[{key}]] with two brackets.")
        nodes = []
        for number, value in enumerate(values):
            if not isinstance(value, dict):
                raise self.fail(f"{what} is a table.", key, f"Write [[{key}]] with two brackets.")
            nodes.append(Section(self.document, (*self.at, key, number), value, f"[{key}]"))
        return nodes


def read_toml(path: Path, error: type[MudanzaError]) -> Section:
    """A TOML file. Raises `error` with line and caret where it is none."""
    try:
        text = path.read_text(encoding="utf-8-sig")
    except FileNotFoundError:
        raise error("the file does not exist.", place=Place(str(path))) from None
    except UnicodeDecodeError:
        raise error("the file is not in UTF-8.", place=Place(str(path)), hint="Save it as UTF-8.") from None
    return toml_section(text, path, error)


def toml_section(text: str, path: Path, error: type[MudanzaError]) -> Section:
    """A TOML text that stands, or is to stand, at a path. Raises `error` with line and caret where it is none."""
    try:
        content = tomllib.loads(text)
    except tomllib.TOMLDecodeError as wrong:
        match = re.search(r"\(at line (\d+), column (\d+)\)", str(wrong))
        lines = text.splitlines() or [""]
        number = int(match.group(1)) if match else len(lines)
        column = int(match.group(2)) - 1 if match else len(lines[-1])
        what = re.sub(r"\s*\(at .*\)", "", str(wrong))
        source = lines[min(number, len(lines)) - 1]
        place = Place(str(path), line=number, text=source, start=column, end=column + 1)
        if not may_quote(str(path), text):
            # what is wrong may be the very line that ends a password
            place, source = Place(str(path), line=number), ""
        raise error(f"{what[0].lower()}{what[1:]}.", place=place, hint=_toml_hint(source)) from None
    return Section(Document(path, text, content, toml_marks(text), error), (), content, "the file")


def _toml_hint(source: str) -> str:
    if source.count("'") % 2 or source.count('"') % 2:
        return "Is a quote missing? Flows stand in single quotes: field = '{Column} -> trim'."
    key = source.split("=")[0].strip()
    if "=" in source and " " in key and not key.startswith(("'", '"')):
        return f'A name with spaces stands in quotes: "{key}" = …'
    return "Lines read name = value; texts stand in quotes."


#: RFC 8259, section 8.2
_HALF = re.compile("[\ud800-\udfff]")


class _RepeatedKeyError(Exception):
    pass


def read_json(text: str, path: Path, error: type[MudanzaError] = LayoutError) -> Document:
    """A JSON text. Raises `error` with line and caret where it is none, or has a key twice in one object."""

    def no_repeats(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
        result: dict[str, Any] = {}
        for key, value in pairs:
            if key in result:
                raise _RepeatedKeyError(key)
            result[key] = value
        return result

    try:
        content = json.loads(text, object_pairs_hook=no_repeats)
    except json.JSONDecodeError as wrong:
        source = "".join(text.split("\n")[wrong.lineno - 1 : wrong.lineno])
        place = Place(str(path), line=wrong.lineno, text=source, start=wrong.colno - 1, end=wrong.colno)
        raise error(f"the layout is no JSON: {wrong.msg}.", place=place, hint="Mend the JSON there.") from wrong
    except ValueError:
        # a number of thousands of digits
        place = Place(str(path))
        raise error("the layout has a number of too many digits.", place=place, hint="Mend the JSON there.") from None
    except RecursionError:
        raise error(
            "the layout is nested too deeply.", place=Place(str(path)), hint="Is this the right file?"
        ) from None
    except _RepeatedKeyError as wrong:
        key = str(wrong)
        quoted = json.dumps(key, ensure_ascii=False)
        at = text.rfind(quoted)
        place = Document(path, text, None).span(at, at + len(quoted)) if at >= 0 else Place(str(path))
        raise error(
            f"the key {key!r} stands twice in one object.", place=place, hint="Take one of them out."
        ) from wrong
    if "\\ud" in text.lower() and (half := _HALF.search(json.dumps(content, ensure_ascii=False))):
        raise error(
            f"half of a pair of surrogates ({ascii(half[0])[1:-1]}) is no character.",
            place=Place(str(path)),
            hint="Write the character itself.",
        )
    return Document(path, text, content, json_marks(text), error)
