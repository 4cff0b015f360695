"""The formats that files are written in. A new one is its module and one entry in `SINKS`."""

from __future__ import annotations

from collections.abc import Sequence
from importlib import import_module
from pathlib import Path
from typing import Protocol, cast

import polars as pl

from mudanza.core.documents.errors import MudanzaError
from mudanza.core.findings.problem import Problem
from mudanza.core.layouts.form import CSV, FIXED, JSON, NDJSON, ODS, PARQUET, TSV, XLSX, XML
from mudanza.core.layouts.layout import Field, Layout
from mudanza.core.plans.move import Move
from mudanza.core.sinks.writer import Writer
from mudanza.core.sources.reader import ReadOptions


class Sink(Protocol):
    """A format to write: a module with these."""

    def writer(self, layout: Layout, titles: Sequence[str]) -> Writer:
        """A writer of rows with these headings."""
        ...

    def problems(self, field: Field, layout: Layout, text: pl.Expr) -> list[Problem]:
        """The texts that the format has no way to write."""
        ...

    def options(self, layout: Layout) -> ReadOptions:
        """How such a file is read again."""
        ...

    def layout_text(self, field: Field, text: pl.Expr) -> pl.Expr:
        """The text that the layout has for what a reader gives."""
        ...

    def read(self, path: Path, layout: Layout, shown: str, error: type[MudanzaError] = MudanzaError) -> pl.DataFrame:
        """A whole written file as text columns named by the layout's titles, plus `#line`; raises `error` where it is damaged."""
        ...


SINKS = {
    CSV: "csv_text", TSV: "csv_text", XLSX: "xlsx", ODS: "ods", JSON: "json_text", NDJSON: "json_text", XML: "xml_text",
    FIXED: "fixed_text", PARQUET: "parquet",
}  # fmt: skip


class Target(Protocol):
    """What takes bytes."""

    def write(self, data: bytes | memoryview) -> None:
        """Append bytes."""
        ...


class RecordFile:
    """A file of records under way: takes frames, and hands their bytes on to a target. Begun at once; to be closed when all are there."""

    def __init__(self, target: Target, writer: Writer) -> None:
        self._target, self._writer = target, writer
        target.write(writer.head())

    def write(self, rows: pl.DataFrame) -> None:
        """Take further records."""
        if rows.height:
            self._target.write(self._writer.rows(rows))

    def close(self) -> None:
        """No more records are to come."""
        for piece in self._writer.tail():
            self._target.write(piece)


def sink_of(layout: Layout) -> Sink:
    """The format that a layout's files are written in."""
    return cast(Sink, import_module(f"mudanza.core.sinks.{SINKS[layout.form.format]}"))


def built_file(move: Move, name: str, layout: Layout) -> Path:
    """Where the records of a list stand when it is built."""
    return move.out / f"{name}{layout.form.ending}"


def read_built(move: Move, name: str, layout: Layout) -> pl.DataFrame | None:
    """The records of a list as they were built last, as `Sink.read` gives them; None if it was not built."""
    path = built_file(move, name, layout)
    return sink_of(layout).read(path, layout, move.shown(path)) if path.is_file() else None
