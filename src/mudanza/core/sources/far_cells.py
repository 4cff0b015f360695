"""Cells that stand far away from all others in a sheet (XLSX): taken out before a library reads the sheet, which would make room for all that lies between."""

from __future__ import annotations

import atexit
import re
import shutil
import tempfile
import zipfile
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from mudanza.core.documents.errors import Place, SourceError
from mudanza.core.sources.cell_refs import Places, cell_refs, with_usual_quotes
from mudanza.core.sources.cells import column_number, pieces_of, sheet_parts

#: sheets of fewer cells, blank ones counted, are read as they are
_HARMLESS = 20_000_000
#: and those in which one in so many is filled
_THIN = 50
_GRID_ROWS, _GRID_COLUMNS = 1_048_576, 16_384
#: rows and columns further apart than these belong to something else
_GAP_ROWS, _GAP_COLUMNS = 2_000, 200
_MOST_TOLD = 50

_CELL = re.compile(rb'<((?:\w+:)?c)\b[^>]*?\br="([A-Z]+)(\d+)"[^>]*?(?:/>|>.*?</\1>)', re.S)
_DIMENSION = re.compile(rb"<(?:\w+:)?dimension\b[^>]*/>")


@dataclass(frozen=True)
class FarCells:
    """A workbook without such cells, where it stands, and the names of them by sheet; the workbook itself, if there are none."""

    path: Path
    cells: dict[str, list[str]]


def without_far_cells(path: Path, known_as: Path) -> FarCells:
    """Look at every sheet. Raises SourceError for a cell outside of the grid that sheets have."""
    far: dict[str, tuple[str, Places, Places]] = {}
    with zipfile.ZipFile(path) as archive:
        for sheet, part in sheet_parts(archive).items():
            rows, columns, filled = _extent(archive, part)
            if rows > _GRID_ROWS or columns > _GRID_COLUMNS:
                raise SourceError(
                    f"the sheet {sheet!r} has cells beyond the {_GRID_ROWS:,} rows and {_GRID_COLUMNS:,} columns of a sheet.",
                    place=Place(str(known_as), sheet=sheet),
                    hint="Ask what program wrote it; save the records again as .xlsx or .csv.",
                )
            if rows * columns > max(_HARMLESS, _THIN * filled):
                far[sheet] = (part, *_dense(archive, part))
        if not far:
            return FarCells(path, {})
        return _rewritten(archive, path, far)


def _extent(archive: zipfile.ZipFile, part: str) -> tuple[int, int, int]:
    """The last row and column of a sheet, and how many cells are written in it."""
    rows = columns = filled = 0
    for piece in _pieces(archive, part):
        refs = cell_refs(piece)
        if len(refs.at):
            rows, columns = max(rows, int(refs.rows.max())), max(columns, int(refs.columns.max()))
            filled += int(np.count_nonzero(refs.columns))
    return rows, columns, filled


def _pieces(archive: zipfile.ZipFile, part: str) -> Iterator[bytes]:
    return map(with_usual_quotes, pieces_of(archive, part))


def _digits(number: bytes) -> int:
    return int(number[:9])


def _dense(archive: zipfile.ZipFile, part: str) -> tuple[Places, Places]:
    """The rows and the columns of a sheet that lie together with its first ones."""
    rows, columns = np.zeros(0, np.int64), np.zeros(0, np.int64)
    for piece in _pieces(archive, part):
        refs = cell_refs(piece)
        cells = refs.columns > 0
        rows = np.union1d(rows, refs.rows[cells])
        columns = np.union1d(columns, refs.columns[cells])
    return _first_run(rows, _GAP_ROWS), _first_run(columns, _GAP_COLUMNS)


def _first_run(ordered: Places, gap: int) -> Places:
    breaks = np.flatnonzero(np.diff(ordered) > gap)
    return ordered[: breaks[0] + 1] if breaks.size else ordered


def _rewritten(archive: zipfile.ZipFile, path: Path, far: dict[str, tuple[str, Places, Places]]) -> FarCells:
    folder = Path(tempfile.mkdtemp(prefix="mudanza-"))
    atexit.register(shutil.rmtree, folder, ignore_errors=True)
    out = folder / path.name
    by_part = {part: (sheet, int(rows.max()), int(columns.max())) for sheet, (part, rows, columns) in far.items()}
    told: dict[str, list[str]] = {sheet: [] for sheet in far}
    with zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as target:
        for info in archive.infolist():
            with target.open(zipfile.ZipInfo(info.filename), "w", force_zip64=True) as writing:
                if info.filename not in by_part:
                    with archive.open(info) as reading:
                        shutil.copyfileobj(reading, writing)
                    continue
                sheet, last_row, last_column = by_part[info.filename]
                for piece in _kept(archive, info.filename, last_row, last_column, told[sheet]):
                    writing.write(piece)
    return FarCells(out, told)


def _kept(archive: zipfile.ZipFile, part: str, last_row: int, last_column: int, told: list[str]) -> Iterator[bytes]:
    def keep(match: re.Match[bytes]) -> bytes:
        if _digits(match[3]) <= last_row and column_number(match[2]) < last_column:
            return match[0]
        if len(told) < _MOST_TOLD:
            told.append((match[2] + match[3]).decode())
        return b""

    for piece in _pieces(archive, part):
        yield _DIMENSION.sub(b"", _CELL.sub(keep, piece))
