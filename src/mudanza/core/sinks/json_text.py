"""JSON (RFC 8259) and lines of it: numbers as numbers, exactly; yes and no as true and false; several values as a list; headings with dots as objects within objects."""

from __future__ import annotations

import io
import json
from collections.abc import Collection, Iterator, Sequence, Set
from itertools import groupby
from pathlib import Path

import polars as pl

from mudanza.core.documents.errors import MudanzaError
from mudanza.core.findings.problem import Problem
from mudanza.core.layouts.form import JSON
from mudanza.core.layouts.layout import Field, Layout
from mudanza.core.layouts.types import NumberType, YesNoType
from mudanza.core.layouts.types.number import BINARY
from mudanza.core.sinks.native import BETWEEN, as_layout_writes, each, number_or, unless_blank, unwritable
from mudanza.core.sinks.reading import read_as
from mudanza.core.sinks.tree import Branch, tree_of
from mudanza.core.sources.reader import ReadOptions
from mudanza.core.values.held import Held, Hold, at_once
from mudanza.core.values.kinds import may_have_blanks

_ESCAPED = {'"': '\\"', "\\": "\\\\", **{chr(n): json.dumps(chr(n))[1:-1] for n in (*range(32), 127)}}
# RFC 8259, section 6
_NUMBER = r"^-?(?:0|[1-9][0-9]*)(?:\.[0-9]+)?$"
_NO_NUMBERS = ["INF", "+INF", "-INF", "NaN"]


class JsonWriter:
    """Writes records as objects: one on each line, or all in a list at the path that the form says."""

    def __init__(self, layout: Layout, titles: Sequence[str]) -> None:
        self._form = layout.form
        self._fields = {one.title: one for one in layout.fields}
        self._numbers = {
            title
            for title in titles
            if isinstance(self._fields[title].type, NumberType) and self._fields[title].separator is None
        }
        self._tree = tree_of({title: layout.way_to(self._fields[title]) for title in titles})
        self._begun = False

    @property
    def _in_list(self) -> bool:
        return self._form.format == JSON

    def texts(self, frame: pl.DataFrame) -> pl.Series:
        """Each record of a frame as text."""
        held = Held()
        record = pl.concat_str(self._pieces(self._tree, held.hold, plain=False), separator=",")
        return held.select(frame, [record]).to_series()

    def head(self) -> bytes:
        """What stands before all records."""
        if not self._in_list:
            return b""
        return ("".join(f"{{{quoted(name)}:" for name in self._form.records) + "[").encode()

    def rows(self, frame: pl.DataFrame) -> bytes | memoryview:
        """The records of a frame."""
        if not frame.height:
            return b""
        numbers = [pl.col(title).str.contains(_NUMBER).all() for title in self._numbers]
        plain = all(frame.select(numbers).row(0)) if numbers else True
        buffer = io.BytesIO()
        if self._in_list:
            buffer.write(b",\n" if self._begun else b"\n")
            self._begun = True
        between = ",\n" if self._in_list else "\n"
        held = Held()
        pieces = self._pieces(self._tree, held.hold, plain, _without_blanks(frame, self._fields.values()))
        # on a line texts in which no line ends, with the commas of the object between them
        held.select(frame, (piece.alias(str(number)) for number, piece in enumerate(pieces))).write_csv(
            buffer, include_header=False, separator=",", quote_style="never", line_terminator=between
        )
        return buffer.getbuffer()[: -len(between)] if self._in_list else buffer.getbuffer()

    def tail(self) -> Iterator[bytes]:
        """What stands behind all records."""
        if self._in_list:
            yield (("\n" if self._begun else "") + "]" + "}" * len(self._form.records) + "\n").encode()

    def _pieces(self, branch: Branch, hold: Hold, plain: bool, filled: Set[str] = frozenset()) -> list[pl.Expr]:
        """What stands between the commas of an object, its braces at both ends. Blanks are null, or left out; an object that is blank altogether as well. `plain` says that all
        numbers stand as JSON writes them already, `filled` which headings have no blanks."""
        if self._form.blanks == "null":
            *others, last = self._members(branch, hold, plain, filled)
            first, *others = [*others, last + pl.lit("}")]
            return [pl.lit("{") + first, *others]
        tokens = {name: self._token_of(one, hold, plain) for name, one in branch.items()}
        named = [pl.lit(f"{quoted(name)}:") + token for name, token in tokens.items()]
        filled_in = hold(pl.concat_list(named).list.drop_nulls())
        text = pl.lit("{") + filled_in.list.join(",") + pl.lit("}")
        return [text if branch is self._tree else pl.when(filled_in.list.len() > 0).then(text)]

    def _token_of(self, one: Branch | str, hold: Hold, plain: bool) -> pl.Expr:
        if not isinstance(one, str):
            return pl.concat_str(self._pieces(one, hold, plain), separator=",")
        return pl.col(one) if plain and one in self._numbers else _token(self._fields[one], pl.col(one), hold)

    def _members(self, branch: Branch, hold: Hold, plain: bool, filled: Set[str]) -> Iterator[pl.Expr]:
        """What stands in an object between its commas. Texts that follow each other are made JSON of at once, which takes a third of the time."""
        for are_texts, run in groupby(branch.items(), key=lambda item: self._is_text(item[1])):
            if are_texts:
                texts = [self._text_of(str(one), filled).alias(name) for name, one in run]
                yield pl.struct(texts).struct.json_encode().str.strip_prefix("{").str.strip_suffix("}")
            else:
                for name, one in run:
                    yield pl.lit(f"{quoted(name)}:") + self._token_of(one, hold, plain).fill_null("null")

    def _text_of(self, title: str, filled: Set[str]) -> pl.Expr:
        return pl.col(title) if title in filled else unless_blank(self._fields[title], pl.col(title))

    def _is_text(self, one: Branch | str) -> bool:
        if not isinstance(one, str):
            return False
        field = self._fields[one]
        return field.separator is None and not isinstance(field.type, NumberType | YesNoType)


def _without_blanks(frame: pl.DataFrame, fields: Collection[Field]) -> frozenset[str]:
    """The headings of fields in which nothing stands for a blank."""
    asked = [one.title for one in fields if one.title in frame.columns and not any(one.null)]
    some = frame.select(may_have_blanks(pl.col(asked))).row(0) if asked else ()
    return frozenset(title for title, any_blank in zip(asked, some, strict=True) if not any_blank)


def quoted(name: str) -> str:
    """A name as JSON writes it."""
    return json.dumps(name, ensure_ascii=False)


def _token(field: Field, text: pl.Expr, hold: Hold) -> pl.Expr:
    """A cell as JSON; null where it is blank."""
    text = hold(unless_blank(field, text))
    if field.separator is None:
        return _one_token(field, text, hold)
    tokens = each(field, text, lambda one: _one_token(field, one).fill_null("null")).list.join(",")
    return pl.lit("[") + tokens + pl.lit("]")


def _one_token(field: Field, text: pl.Expr, hold: Hold = at_once) -> pl.Expr:
    takes = field.type
    if isinstance(takes, NumberType):
        # most are written as JSON writes them; what costs more is asked of the others alone
        plain = hold(text.str.contains(_NUMBER))
        other = hold(pl.when(~plain).then(text))
        return pl.when(plain).then(text).otherwise(number_or(takes, other, _quoted(other), hold))
    if isinstance(takes, YesNoType):
        value = hold(takes.read(text))
        return pl.when(value.is_null()).then(_quoted(text)).otherwise(value.cast(pl.String))
    return _quoted(text)


def _quoted(text: pl.Expr) -> pl.Expr:
    escaped = text.str.replace_many(list(_ESCAPED), list(_ESCAPED.values()))
    return pl.lit('"') + escaped + pl.lit('"')


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
layout_text = as_layout_writes


def read(path: Path, layout: Layout, shown: str, error: type[MudanzaError] = MudanzaError) -> pl.DataFrame:
    """A whole file; see `Sink.read`."""
    return read_as(path, layout, shown, options(layout), error)
