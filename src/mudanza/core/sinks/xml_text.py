"""XML 1.0 in UTF-8: an element for each record and one in it for each field, or an attribute; headings with dots as elements within elements, several values as several elements.

Numbers are written as XML Schema writes them; moments and words as the layout does. Blanks are left out.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path

import polars as pl

from mudanza.core.documents.errors import MudanzaError
from mudanza.core.findings.problem import Problem
from mudanza.core.layouts.layout import Field, Layout
from mudanza.core.layouts.types import NumberType
from mudanza.core.sinks.markup import FORBIDDEN, RULE, escaped, escaped_attribute
from mudanza.core.sinks.native import BETWEEN, as_layout_writes, each, number_or, unless_blank, unwritable
from mudanza.core.sinks.reading import has_no_records, no_records, read_as
from mudanza.core.sinks.tree import Branch, tree_of
from mudanza.core.sources.reader import ReadOptions
from mudanza.core.values.held import Held, Hold, at_once

#: asks readers to leave spaces as they are (XML 1.0, section 2.10)
_PRESERVE = ' xml:space="preserve"'
_SPACED = r"^\s|\s$"


class XmlWriter:
    """Writes records as elements at the path that the form says."""

    def __init__(self, layout: Layout, titles: Sequence[str], path: tuple[str, ...] | None = None) -> None:
        self._path = path or layout.form.records
        self._fields = {one.title: one for one in layout.fields}
        self._tree = tree_of({title: layout.way_to(self._fields[title]) for title in titles})
        self._held = Held()
        self._record = self._element(self._path[-1], self._tree)

    def head(self) -> bytes:
        """What stands before all records."""
        return (
            '<?xml version="1.0" encoding="UTF-8"?>\n' + "".join(f"<{name}>\n" for name in self._path[:-1])
        ).encode()

    def rows(self, frame: pl.DataFrame) -> bytes:
        """The records of a frame, one on a line."""
        if not frame.height:
            return b""
        return bytes((self.texts(frame).str.join("\n").item() + "\n").encode())

    def texts(self, frame: pl.DataFrame) -> pl.Series:
        """Each record of a frame as text."""
        return self._held.select(frame, [self._record.fill_null(f"<{self._path[-1]}/>")]).to_series()

    def tail(self) -> Iterator[bytes]:
        """What stands behind all records."""
        yield "".join(f"</{name}>\n" for name in reversed(self._path[:-1])).encode()

    def _element(self, name: str, branch: Branch) -> pl.Expr:
        """An element with what lies in it; null where that is nothing."""
        attributes, inner = [pl.lit("")], [pl.lit("")]
        for within, one in branch.items():
            if isinstance(one, Mapping):
                inner.append(self._element(within, one))
            elif self._fields[one].form.attribute:
                attributes.append(_attribute(within, self._fields[one], self._held.hold))
            else:
                inner.append(_elements(within, self._fields[one], self._held.hold))
        said, content = (self._held.hold(pl.concat_str(parts, ignore_nulls=True)) for parts in (attributes, inner))
        open_tag = pl.lit(f"<{name}") + said
        whole = open_tag + pl.lit(">") + content + pl.lit(f"</{name}>")
        bare = pl.when(said != "").then(open_tag + pl.lit("/>"))
        return pl.when(content != "").then(whole).otherwise(bare)


def _text(field: Field, text: pl.Expr, hold: Hold) -> pl.Expr:
    takes = field.type
    return hold(number_or(takes, text, text, hold)) if isinstance(takes, NumberType) else text


def _attribute(name: str, field: Field, hold: Hold) -> pl.Expr:
    text = hold(unless_blank(field, pl.col(field.title)))
    return pl.lit(f' {name}="') + escaped_attribute(_text(field, text, hold)) + pl.lit('"')


def _elements(name: str, field: Field, hold: Hold) -> pl.Expr:
    text = hold(unless_blank(field, pl.col(field.title)))
    if field.separator is None:
        return _one_element(name, field, text, hold)
    blank = pl.lit(f"<{name}/>")
    return each(field, text, lambda one: _one_element(name, field, one).fill_null(blank)).list.join("")


def _one_element(name: str, field: Field, text: pl.Expr, hold: Hold = at_once) -> pl.Expr:
    text = _text(field, text, hold)
    said = pl.when(text.str.contains(_SPACED)).then(pl.lit(_PRESERVE)).otherwise(pl.lit(""))
    return pl.lit(f"<{name}") + said + pl.lit(">") + escaped(text) + pl.lit(f"</{name}>")


def writer(layout: Layout, titles: Sequence[str]) -> XmlWriter:
    """A writer of records with these headings."""
    return XmlWriter(layout, titles)


def problems(field: Field, layout: Layout, text: pl.Expr) -> list[Problem]:  # noqa: ARG001
    """Characters that XML cannot hold."""
    return [unwritable(field, text, lambda one: one.str.contains(FORBIDDEN), RULE)]


def options(layout: Layout) -> ReadOptions:
    """How such a file is read again."""
    return ReadOptions(format="xml", own={"texts": BETWEEN, "records": ".".join(layout.form.records)}, exact=True)


#: The text that the layout has for what a reader gives.
layout_text = as_layout_writes


def read(path: Path, layout: Layout, shown: str, error: type[MudanzaError] = MudanzaError) -> pl.DataFrame:
    """A whole file; see `Sink.read`."""
    if has_no_records(path, writer(layout, [one.title for one in layout.fields])):
        return no_records(layout)
    return read_as(path, layout, shown, options(layout), error)
