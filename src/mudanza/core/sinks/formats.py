"""The formats that files are written in. A new one is its module and one entry in `SINKS`."""

from __future__ import annotations

from pathlib import Path
from typing import Protocol

import polars as pl

from mudanza.core.documents.errors import MudanzaError
from mudanza.core.findings.problem import Problem
from mudanza.core.layouts.dialect import Dialect
from mudanza.core.layouts.layout import Field, Layout
from mudanza.core.plans.move import Move
from mudanza.core.sinks import csv_text


class Writer(Protocol):
    """Turns frames of text into the bytes of a file, one after the other."""

    def head(self) -> bytes:
        """What stands before all rows."""
        ...

    def rows(self, frame: pl.DataFrame) -> bytes:
        """A frame that has at least the writer's columns."""
        ...


class Sink(Protocol):
    """A format to write: a module with these."""

    #: what the names of its files end with
    ENDING: str

    def RowWriter(self, columns: list[str], dialect: Dialect | None = None) -> Writer:  # noqa: N802
        """A writer of rows with these columns."""
        ...

    def cannot_hold(self, field: Field, dialect: Dialect, text: pl.Expr) -> list[Problem]:
        """The texts that the format has no way to write."""
        ...

    def read(self, path: Path, layout: Layout, shown: str, error: type[MudanzaError] = MudanzaError) -> pl.DataFrame:
        """A whole written file as text columns named by the layout's titles, plus `#line`; raises `error` where it is damaged."""
        ...


SINKS: dict[str, Sink] = {"csv": csv_text}


def sink_of(layout: Layout) -> Sink:  # noqa: ARG001
    """The format that a layout's files are written in."""
    return SINKS["csv"]


def built_file(move: Move, name: str, layout: Layout) -> Path:
    """Where the records of a list stand when it is built."""
    return move.out / f"{name}{sink_of(layout).ENDING}"


def read_built(move: Move, name: str, layout: Layout) -> pl.DataFrame | None:
    """The records of a list as they were built last, as `Sink.read` gives them; None if it was not built."""
    path = built_file(move, name, layout)
    return sink_of(layout).read(path, layout, move.shown(path)) if path.is_file() else None
