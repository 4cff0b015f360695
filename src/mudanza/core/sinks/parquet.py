"""Apache Parquet: columns of their kinds, numbers exact, several values as lists; headings as names of columns.

It is written whole. Until its end the records lie in blocks that do not depend on how they came: a few in memory, more of them on the disk.
"""

from __future__ import annotations

import shutil
from collections.abc import Iterator, Sequence
from pathlib import Path

import polars as pl

from mudanza.core.disk.temporary import temporary_folder
from mudanza.core.documents.errors import MudanzaError
from mudanza.core.findings.problem import Problem
from mudanza.core.layouts.layout import Field, Layout
from mudanza.core.layouts.types import DateType, NumberType, YesNoType
from mudanza.core.layouts.types.number import BINARY
from mudanza.core.sinks.native import BETWEEN, as_layout_writes, each, unless_blank
from mudanza.core.sinks.reading import read_as
from mudanza.core.sources.reader import ReadOptions
from mudanza.core.values.kinds import may_have_blanks

_BLOCK = 65_536
#: so many blocks are held in memory and written at once, which takes half the time; fewer, where they have more columns than so many in all
_FEW, _COLUMNS = 8, 240
_PIECE = 1 << 20
_PLACES = 12
_DIGITS = 38
#: datatypes whose numbers fit into 64 bits (XML Schema part 2, section 3.4)
_LONG = ("long", "int", "short", "byte", "unsignedInt", "unsignedShort", "unsignedByte")


class ParquetWriter:
    """Writes records as typed columns."""

    def __init__(self, layout: Layout, titles: Sequence[str]) -> None:
        by_title = {one.title: one for one in layout.fields}
        self._typed = {title: _typed(by_title[title]).alias(title) for title in titles}
        plainly = {title: _plainly(by_title[title]) for title in titles}
        self._plainly = {title: made.alias(title) for title, made in plainly.items() if made is not None}
        self._folder = temporary_folder()
        self._few = max(1, min(_FEW, _COLUMNS // max(len(titles), 1)))
        self._held: list[pl.DataFrame] = []
        self._blocks: list[Path] = []
        self._waiting = pl.DataFrame(schema=dict.fromkeys(titles, pl.String)).select(self._typed.values())

    def head(self) -> bytes:
        """Nothing can be handed on before the end."""
        return b""

    def rows(self, frame: pl.DataFrame) -> bytes:
        """Take the records of a frame."""
        self._waiting = pl.concat([self._waiting, self._of_kinds(frame)])
        while self._waiting.height >= _BLOCK:
            self._keep(self._waiting.head(_BLOCK))
            self._waiting = self._waiting.slice(_BLOCK)
        return b""

    def _of_kinds(self, frame: pl.DataFrame) -> pl.DataFrame:
        """The records as typed columns. Those in which a text is not read plainly are read with care, which takes three times as long."""
        texts = frame.select(self._typed.keys())
        plain = texts.select(self._plainly.values())
        blanks, unread = texts.null_count(), plain.null_count()
        careful = [
            made
            for title, made in self._typed.items()
            if title not in plain.columns or blanks[title][0] != unread[title][0]
        ]
        return texts.with_columns(*plain).with_columns(*texts.select(careful))

    def _keep(self, block: pl.DataFrame) -> None:
        self._held.append(block)
        if len(self._held) > self._few or self._blocks:
            self._put_down()

    def _put_down(self) -> None:
        """Bring the blocks in memory to the disk."""
        for block in self._held:
            path = self._folder / f"{len(self._blocks):06}.arrow"
            block.rechunk().write_ipc(path)
            self._blocks.append(path)
        self._held = []

    def tail(self) -> Iterator[bytes]:
        """The whole file."""
        if self._waiting.height or not (self._blocks or self._held):
            self._keep(self._waiting)
        whole = self._folder / "whole.parquet"
        if not self._blocks:
            pl.concat(self._held, rechunk=True).write_parquet(whole, row_group_size=_BLOCK)
        else:
            self._put_down()
            pl.scan_ipc(self._blocks).sink_parquet(whole, row_group_size=_BLOCK, maintain_order=True)
        with whole.open("rb") as file:
            while piece := file.read(_PIECE):
                yield piece
        shutil.rmtree(self._folder, ignore_errors=True)


def _plainly(field: Field) -> pl.Expr | None:
    """The kind of a text that is no blank, and has no spaces at its ends; null where it is another. None if only `_typed` tells."""
    takes, text = field.type, pl.col(field.title)
    if field.separator is not None or any(field.null) or (isinstance(takes, NumberType) and takes.base in BINARY):
        return None
    if isinstance(takes, NumberType):
        if takes.base in _LONG or not takes.format.is_plain:
            return None
        # of so many signs no more can stand behind the point than are held; exponents would be read, too
        plain = (text.str.len_bytes().max() <= _PLACES + 1) & ~text.str.contains("[eE]").any()
        return pl.when(plain).then(text.cast(pl.Decimal(_DIGITS, _PLACES), strict=False))
    if isinstance(takes, DateType):
        return takes.format.read(text) if not _is_free(takes) else None
    if isinstance(takes, YesNoType):
        return takes.format.read(text)
    return pl.when(~may_have_blanks(text)).then(text)


def _typed(field: Field) -> pl.Expr:
    text = unless_blank(field, pl.col(field.title))
    return _one(field, text) if field.separator is None else each(field, text, lambda one: _one(field, one))


def _one(field: Field, text: pl.Expr) -> pl.Expr:
    takes = field.type
    if isinstance(takes, NumberType):
        if takes.base in BINARY:
            return takes.same(text).cast(pl.Float64, strict=False)
        if takes.base in _LONG:
            return takes.read(text).cast(pl.Int64)
        most = takes.format.max_fraction
        return takes.read(text).cast(pl.Decimal(_DIGITS, _PLACES if most is None or most > _PLACES else most))
    return takes.read(text) if isinstance(takes, YesNoType | DateType) and not _is_free(takes) else text


def _is_free(takes: YesNoType | DateType) -> bool:
    """Whether it may be written in ways that one moment does not tell."""
    return isinstance(takes, DateType) and (takes.free or takes.format.zone is not None)


def writer(layout: Layout, titles: Sequence[str]) -> ParquetWriter:
    """A writer of records with these headings."""
    return ParquetWriter(layout, titles)


def problems(field: Field, layout: Layout, text: pl.Expr) -> list[Problem]:  # noqa: ARG001
    """There is nothing that Parquet cannot hold."""
    return []


def options(layout: Layout) -> ReadOptions:  # noqa: ARG001
    """How such a file is read again."""
    return ReadOptions(format="parquet", own={"texts": BETWEEN}, exact=True)


#: The text that the layout has for what a reader gives.
layout_text = as_layout_writes


def read(path: Path, layout: Layout, shown: str, error: type[MudanzaError] = MudanzaError) -> pl.DataFrame:
    """A whole file; see `Sink.read`."""
    return read_as(path, layout, shown, options(layout), error)
