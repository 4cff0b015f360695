"""JSON (RFC 8259) and lines of it: numbers as numbers, exactly; yes and no as true and false; several values as a list; headings with dots as objects within objects."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path

import polars as pl

from mudanza.core.documents.errors import MudanzaError
from mudanza.core.findings.problem import Problem
from mudanza.core.layouts.form import JSON
from mudanza.core.layouts.layout import Field, Layout
from mudanza.core.layouts.types import NumberType, YesNoType
from mudanza.core.layouts.types.number import BINARY
from mudanza.core.sinks.native import BETWEEN, as_layout_writes, each, filled, number_or, unwritable
from mudanza.core.sinks.reading import read_as
from mudanza.core.sinks.tree import Branch, tree_of
from mudanza.core.sources.reader import ReadOptions

_ESCAPED = {'"': '\\"', "\\": "\\\\", **{chr(n): json.dumps(chr(n))[1:-1] for n in (*range(32), 127)}}
_NO_NUMBERS = ["INF", "+INF", "-INF", "NaN"]


class JsonWriter:
    """Writes records as objects: one on each line, or all in a list at the path that the form says."""

    def __init__(self, layout: Layout, titles: Sequence[str]) -> None:
        self._form = layout.form
        fields = {one.title: one for one in layout.fields}
        self._tree = tree_of({title: layout.way_to(fields[title]) for title in titles})
        self._tokens = {title: _token(fields[title], pl.col(title)) for title in titles}
        self._begun = False

    @property
    def _in_list(self) -> bool:
        return self._form.format == JSON

    @property
    def record(self) -> pl.Expr:
        """A record as text."""
        return self._object(self._tree)

    def head(self) -> bytes:
        """What stands before all records."""
        if not self._in_list:
            return b""
        return ("".join(f"{{{quoted(name)}:" for name in self._form.records) + "[").encode()

    def rows(self, frame: pl.DataFrame) -> bytes:
        """The records of a frame."""
        if not frame.height:
            return b""
        objects = frame.select(self.record.alias("row"))["row"]
        between = ",\n" if self._in_list else "\n"
        data = objects.str.join(between).item().encode()
        if not self._in_list:
            return bytes(data + b"\n")
        before, self._begun = b",\n" if self._begun else b"\n", True
        return bytes(before + data)

    def tail(self) -> Iterator[bytes]:
        """What stands behind all records."""
        if self._in_list:
            yield (("\n" if self._begun else "") + "]" + "}" * len(self._form.records) + "\n").encode()

    def _object(self, branch: Branch) -> pl.Expr:
        """An object as text. Blanks are null, or left out; an object that is blank altogether as well."""
        tokens = {
            name: self._object(one) if isinstance(one, Mapping) else self._tokens[one] for name, one in branch.items()
        }
        if self._form.blanks == "null":
            tokens = {name: token.fill_null("null") for name, token in tokens.items()}
            pieces = [
                piece for name, token in tokens.items() for piece in (pl.lit(f"{quoted(name)}:"), token, pl.lit(","))
            ]
            return pl.concat_str([pl.lit("{"), *pieces[:-1], pl.lit("}")])
        members = pl.concat_list(
            [pl.lit(f"{quoted(name)}:") + token for name, token in tokens.items()]
        ).list.drop_nulls()
        text = pl.lit("{") + members.list.join(",") + pl.lit("}")
        return text if branch is self._tree else pl.when(members.list.len() > 0).then(text)


def quoted(name: str) -> str:
    """A name as JSON writes it."""
    return json.dumps(name, ensure_ascii=False)


def _token(field: Field, text: pl.Expr) -> pl.Expr:
    """A cell as JSON; null where it is blank."""
    text = filled(field, text)
    if field.separator is None:
        return _one_token(field, text)
    tokens = each(field, text, lambda one: _one_token(field, one).fill_null("null")).list.join(",")
    return pl.lit("[") + tokens + pl.lit("]")


def _one_token(field: Field, text: pl.Expr) -> pl.Expr:
    takes = field.type
    escaped = text.str.replace_many(list(_ESCAPED), list(_ESCAPED.values()))
    quoted = pl.lit('"') + escaped + pl.lit('"')
    if isinstance(takes, NumberType):
        return number_or(takes, text, quoted)
    if isinstance(takes, YesNoType):
        value = takes.read(text)
        return pl.when(value.is_null()).then(quoted).otherwise(value.cast(pl.String))
    return quoted


def writer(layout: Layout, titles: Sequence[str]) -> JsonWriter:
    """A writer of records with these headings."""
    return JsonWriter(layout, titles)


def problems(field: Field, layout: Layout, text: pl.Expr) -> list[Problem]:  # noqa: ARG001
    """What JSON cannot hold: numbers that are none (RFC 8259, section 6), and the sign that stands between values on the way back."""
    found = (
        [unwritable(field, text, lambda one: one.str.contains(BETWEEN, literal=True), "no control character U+001F")]
        if field.separator
        else []
    )
    if isinstance(field.type, NumberType) and field.type.base in BINARY:
        found.append(
            unwritable(field, text, lambda one: one.str.strip_chars().is_in(_NO_NUMBERS), "a number that is finite")
        )
    return found


def options(layout: Layout) -> ReadOptions:
    """How such a file is read again."""
    own = {
        "texts": BETWEEN,
        **({"records": ".".join(layout.form.records) or "."} if layout.form.format == JSON else {}),
    }
    return ReadOptions(format="json", own=own, exact=True)


#: The text that the layout has for what a reader gives.
cell = as_layout_writes


def read(path: Path, layout: Layout, shown: str, error: type[MudanzaError] = MudanzaError) -> pl.DataFrame:
    """A whole file; see `Sink.read`."""
    return read_as(path, layout, shown, options(layout), error)
