"""Cells that stand far away from all others in a sheet (XLSX, XLSB): taken out before a library reads the sheet, which would make room for all that lies between."""

from __future__ import annotations

import re
import shutil
import zipfile
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from mudanza.core.disk.temporary import temporary_folder
from mudanza.core.documents.errors import Place, SourceError
from mudanza.core.sources.ahead import read_ahead
from mudanza.core.sources.cell_refs import Places, cell_refs, with_usual_quotes
from mudanza.core.sources.cells import column_letters, column_number, pieces_of, sheet_parts
from mudanza.core.sources.cells_binary import binary_cells, binary_parts

#: sheets of fewer cells, blank ones counted, are read as they are
_HARMLESS = 20_000_000
#: and those in which one in so many is filled
_THIN = 50
_PAIR = np.dtype([("row", np.int64), ("column", np.int64)])
_GRID_ROWS, _GRID_COLUMNS = 1_048_576, 16_384
#: rows and columns further apart than these belong to something else
_GAP_ROWS, _GAP_COLUMNS = 2_000, 200
_MOST_TOLD = 50

_CELL = re.compile(rb'<((?:\w+:)?c)\b[^<>]*?\br="([A-Z]+)(\d+)"[^<>]*?(?:/>|>(?:[^<]|<(?!(?:\w+:)?c\b))*?</\1>)')
_TAG = re.compile(rb'<(?:\w+:)?c\b[^<>]*?\br="([A-Z]+)(\d+)"')
_DIMENSION = re.compile(rb"<(?:\w+:)?dimension\b[^>]*/>")

#: Rows and columns of the cells in a piece of a sheet, from 1; a column of 0 is that of a row itself.
Piece = tuple[Places, Places]


@dataclass(frozen=True)
class FarCells:
    """A workbook without such cells, where it stands, and the names of them by sheet; the workbook itself, if there are none."""

    path: Path
    cells: dict[str, list[str]]


@dataclass(frozen=True)
class _Form:
    """How the sheets of a kind of workbook are written: their parts, the cells of a part piece by piece, and the part without the cells beyond a row and a column.

    The names of those are added to a list."""

    parts: Callable[[zipfile.ZipFile], dict[str, str]]
    pieces: Callable[[zipfile.ZipFile, str], Iterator[Piece]]
    kept: Callable[[zipfile.ZipFile, str, int, int, list[str]], Iterator[bytes]]


def without_far_cells(path: Path, kind: str, known_as: Path) -> FarCells:
    """Look at every sheet of a workbook of the kind xlsx or xlsb; of others nothing is taken. Raises SourceError for a cell outside of the grid that sheets have."""
    form = _FORMS.get(kind)
    if form is None:
        return FarCells(path, {})
    far: dict[str, tuple[str, int, int]] = {}
    with zipfile.ZipFile(path) as archive:
        for sheet, part in form.parts(archive).items():
            rows, columns, filled = _extent(form.pieces(archive, part))
            if rows > _GRID_ROWS or columns > _GRID_COLUMNS:
                raise SourceError(
                    f"the sheet {sheet!r} has cells beyond the {_GRID_ROWS:,} rows and {_GRID_COLUMNS:,} columns of a sheet.",
                    place=Place(str(known_as), sheet=sheet),
                    hint="Ask what program wrote it; save the records again as .xlsx or .csv.",
                )
            if rows * columns > max(_HARMLESS, _THIN * filled):
                far[sheet] = (part, *_dense(form.pieces(archive, part)))
        return _rewritten(archive, form, path, far) if far else FarCells(path, {})


def _extent(pieces: Iterator[Piece]) -> tuple[int, int, int]:
    """The last row and column of a sheet, and how many cells are written in it."""
    last_row = last_column = filled = 0
    for rows, columns in pieces:
        if len(rows):
            last_row, last_column = max(last_row, int(rows.max())), max(last_column, int(columns.max()))
            filled += int(np.count_nonzero(columns))
    return last_row, last_column, filled


def _dense(pieces: Iterator[Piece]) -> tuple[int, int]:
    """The last of the rows and columns of a sheet that lie together with its first ones."""
    rows, columns = np.zeros(0, np.int64), np.zeros(0, np.int64)
    for piece_rows, piece_columns in pieces:
        cells = piece_columns > 0
        rows = np.union1d(rows, piece_rows[cells])
        columns = np.union1d(columns, piece_columns[cells])
    return _end_of_first_run(rows, _GAP_ROWS), _end_of_first_run(columns, _GAP_COLUMNS)


def _end_of_first_run(ordered: Places, gap: int) -> int:
    breaks = np.flatnonzero(np.diff(ordered) > gap)
    return int(ordered[breaks[0] if breaks.size else -1])


def _rewritten(archive: zipfile.ZipFile, form: _Form, path: Path, far: Mapping[str, tuple[str, int, int]]) -> FarCells:
    folder = temporary_folder()
    out = folder / path.name
    by_part = {part: (sheet, last_row, last_column) for sheet, (part, last_row, last_column) in far.items()}
    told: dict[str, list[str]] = {sheet: [] for sheet in far}
    with zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as target:
        for info in archive.infolist():
            with target.open(zipfile.ZipInfo(info.filename), "w", force_zip64=True) as writing:
                if info.filename not in by_part:
                    with archive.open(info) as reading:
                        shutil.copyfileobj(reading, writing)
                    continue
                sheet, last_row, last_column = by_part[info.filename]
                for piece in form.kept(archive, info.filename, last_row, last_column, told[sheet]):
                    writing.write(piece)
    return FarCells(out, told)


# XLSX


def _markup(archive: zipfile.ZipFile, part: str) -> Iterator[bytes]:
    return map(with_usual_quotes, pieces_of(archive, part))


def _marked_up(archive: zipfile.ZipFile, part: str) -> Iterator[Piece]:
    for piece in read_ahead(_markup(archive, part)):
        refs = cell_refs(piece)
        beyond = (refs.rows > _GRID_ROWS).any() or (refs.columns > _GRID_COLUMNS).any()
        # a text may have what looks like the name of a cell; tags tell
        yield _tagged(piece) if beyond else (refs.rows, refs.columns)


def _tagged(piece: bytes) -> Piece:
    cells = [(int(row[:9]), column_number(letters) + 1) for letters, row in _TAG.findall(piece)]
    rows, columns = np.array(cells, np.int64).reshape(-1, 2).T
    return rows, columns


def _kept_markup(
    archive: zipfile.ZipFile, part: str, last_row: int, last_column: int, told: list[str]
) -> Iterator[bytes]:
    def keep(match: re.Match[bytes]) -> bytes:
        if int(match[3][:9]) <= last_row and column_number(match[2]) < last_column:
            return match[0]
        if len(told) < _MOST_TOLD:
            told.append((match[2] + match[3]).decode())
        return b""

    for piece in _markup(archive, part):
        yield _DIMENSION.sub(b"", _CELL.sub(keep, piece))


# XLSB


def _binary(archive: zipfile.ZipFile, part: str) -> Iterator[Piece]:
    cells = np.fromiter(((row, column) for row, column, _, _ in binary_cells(archive.read(part))), _PAIR)
    yield cells["row"], cells["column"]


def _kept_records(
    archive: zipfile.ZipFile, part: str, last_row: int, last_column: int, told: list[str]
) -> Iterator[bytes]:
    body = archive.read(part)
    done = 0
    for row, column, start, end in binary_cells(body):
        if row > last_row or column > last_column:
            if len(told) < _MOST_TOLD:
                told.append(f"{column_letters(column - 1)}{row}")
            yield body[done:start]
            done = end
    yield body[done:]


_FORMS = {
    "xlsx": _Form(sheet_parts, _marked_up, _kept_markup),
    "xlsb": _Form(binary_parts, _binary, _kept_records),
}
