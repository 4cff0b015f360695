"""The records of a list in files of no more rows and bytes than the target takes at once."""

from __future__ import annotations

import re
from collections.abc import Sequence
from copy import copy
from pathlib import Path

import polars as pl

from mudanza.core.disk.files import OutFile, Outputs
from mudanza.core.layouts.layout import Layout
from mudanza.core.sinks.formats import sink_of
from mudanza.core.sinks.writer import Writer

_PART = re.compile(r"(.+)\.part-[0-9]+")


def whole_of(path: Path) -> Path | None:
    """The file that a part is of; None if the path is no part's."""
    match = _PART.fullmatch(path.stem)
    return path.with_name(match[1] + path.suffix) if match else None


def parts_beside(whole: Path) -> list[Path]:
    """The parts of a file that are there."""
    there = whole.parent.glob(f"{whole.stem}.part-*{whole.suffix}")
    return sorted(one for one in there if whole_of(one) == whole)


class PartFiles:
    """Writes records into parts beside the whole file, `LIST.part-1.csv` and so on; none, if one would do."""

    def __init__(self, outputs: Outputs, whole: Path, titles: Sequence[str], layout: Layout) -> None:
        self._outputs, self._whole, self._titles, self._layout = outputs, whole, list(titles), layout
        self._rows, self._bytes = layout.demands.rows_per_file, layout.demands.bytes_per_file
        self.files: list[OutFile] = []
        self._writer: Writer | None = None
        self._filled = 0

    @property
    def needed(self) -> bool:
        """Whether the target has a limit at all."""
        return self._rows is not None or self._bytes is not None

    def _begin(self) -> None:
        self._end()
        name = f"{self._whole.stem}.part-{len(self.files) + 1}{self._whole.suffix}"
        self.files.append(self._outputs.create(self._whole.with_name(name)))
        self._writer, self._filled = sink_of(self._layout).writer(self._layout, self._titles), 0
        self.files[-1].write(self._writer.head())

    def _end(self) -> None:
        if self._writer is not None:
            for piece in self._writer.tail():
                self.files[-1].write(piece)

    def write(self, rows: pl.DataFrame) -> None:
        """Take further records."""
        while self.needed and rows.height:
            if self._writer is None or (self._rows is not None and self._filled >= self._rows):
                self._begin()
                continue
            room = rows.height if self._rows is None else min(rows.height, self._rows - self._filled)
            count = self._fitting(self._writer, rows.head(room))
            if not count:
                self._begin()
                continue
            self.files[-1].write(self._writer.rows(rows.head(count)))
            self._filled += count
            rows = rows.slice(count)

    def _fitting(self, writer: Writer, rows: pl.DataFrame) -> int:
        """For how many of the rows there is room. A row that alone is too large has a part for itself."""
        if self._bytes is None:
            return rows.height
        count, end = rows.height, sum(map(len, copy(writer).tail()))
        room = max(self._bytes - self.files[-1].size - end, 0)
        while (size := len(copy(writer).rows(rows.head(count)))) > room:
            fewer = min(count - 1, count * room // size)
            if fewer < 1:
                return 0 if self._filled else 1
            count = fewer
        return count

    def close(self) -> list[OutFile]:
        """The parts, if there are several; those of an earlier build that are not made again are taken away."""
        self._end()
        if len(self.files) < 2:
            for file in self.files:
                self._outputs.files.remove(file)
                file.discard()
            self.files = []
        made = {file.final.name for file in self.files}
        for old in parts_beside(self._whole):
            if old.name not in made:
                self._outputs.remove(old)
        return self.files
