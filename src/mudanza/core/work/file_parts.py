"""The records of a list in files of no more rows and bytes than the target takes at once."""

from __future__ import annotations

import re
from collections.abc import Sequence
from pathlib import Path

import polars as pl

from mudanza.core.layouts.layout import Layout
from mudanza.core.sinks.formats import Writer, sink_of
from mudanza.core.state.files import OutFile, Outputs

_PART = re.compile(r"(.+)\.part-[0-9]+")


def whole_of(path: Path) -> Path | None:
    """The file that a part is of; None if the path is no part's."""
    match = _PART.fullmatch(path.stem)
    return path.with_name(match[1] + path.suffix) if match else None


class PartFiles:
    """Writes records into parts beside the whole file, `LIST.part-1.csv` and so on; none, if one would do."""

    def __init__(self, outputs: Outputs, whole: Path, titles: Sequence[str], layout: Layout) -> None:
        self._outputs, self._whole, self._titles, self._layout = outputs, whole, list(titles), layout
        self._rows, self._bytes = layout.demands.rows_per_file, layout.demands.bytes_per_file
        self.files: list[OutFile] = []
        self._writer: Writer = self._new_writer()
        self._filled = 0

    @property
    def needed(self) -> bool:
        """Whether the target has a limit at all."""
        return self._rows is not None or self._bytes is not None

    def _new_writer(self) -> Writer:
        return sink_of(self._layout).RowWriter(self._titles, self._layout.dialect)

    def _begin(self) -> None:
        name = f"{self._whole.stem}.part-{len(self.files) + 1}{self._whole.suffix}"
        self.files.append(self._outputs.create(self._whole.with_name(name)))
        self._writer, self._filled = self._new_writer(), 0
        self.files[-1].write(self._writer.head())

    def write(self, rows: pl.DataFrame) -> None:
        """Take further records."""
        while self.needed and rows.height:
            if not self.files or (self._rows is not None and self._filled >= self._rows):
                self._begin()
            room = rows.height if self._rows is None else min(rows.height, self._rows - self._filled)
            count, data = self._fitting(rows.head(room))
            if not count:
                self._begin()
                continue
            self.files[-1].write(data)
            self._filled += count
            rows = rows.slice(count)

    def _fitting(self, rows: pl.DataFrame) -> tuple[int, bytes]:
        """As many of the rows as there is room for, and their bytes. A row that alone is too large has a part for itself."""
        count = rows.height
        while True:
            data = self._writer.rows(rows.head(count))
            if self._bytes is None or self.files[-1].size + len(data) <= self._bytes:
                return count, data
            room = max(self._bytes - self.files[-1].size, 0)
            fewer = min(count - 1, count * room // len(data))
            if fewer < 1:
                return (1, self._writer.rows(rows.head(1))) if not self._filled else (0, b"")
            count = fewer

    def close(self) -> list[OutFile]:
        """The parts, if there are several; those of an earlier build that are not made again are taken away."""
        if len(self.files) < 2:
            for file in self.files:
                self._outputs.files.remove(file)
                file.discard()
            self.files = []
        made = {file.final.name for file in self.files}
        for old in self._whole.parent.glob(f"{self._whole.stem}.part-*{self._whole.suffix}"):
            if whole_of(old) == self._whole and old.name not in made:
                self._outputs.take_away(old)
        return self.files
