"""What the cells of a sheet are beyond their values: formulas, errors, merged areas, numbers shown with zeros.

The library that reads workbooks gives values alone; here the sheet's own markup is looked at, in ECMA-376 (XLSX) and
OpenDocument 1.2 (ODS). It is cheap where there is nothing to be found. Binary workbooks are looked at in `cells_binary` and `cells_xls`.
"""

from __future__ import annotations

import html
import re
import zipfile
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt
import polars as pl
from defusedxml import ElementTree

from mudanza.core.sources.cell_refs import cell_refs, places_of
from mudanza.core.sources.guard import part_pieces

#: so much markup stays near the processor while it is searched
_PIECE = 1 << 20
Spot = tuple[int, int]
#: the columns of cells, from 0, and their rows, from 1
TextCells = tuple[npt.NDArray[np.int16], npt.NDArray[np.int32]]
#: what begins the types of cells that hold text: s, str, inlineStr
_OF_TEXTS = (ord("s"), ord("i"))


@dataclass
class Cells:
    """The cells of a sheet that are more than a value, by row and column from 0.

    `zeros` has, by column and the places of its number format, the rows of numbers that are shown with zeros; `shown` the text of other
    numbers that are not shown as they are; `errors` the error in a cell; `formulas` those that have a stored value, `without_value`
    those that have none, `written` how formulas of ODS are written; `long` numbers of more digits than a cell keeps; `merged` the first row and column
    and the last of merged areas; `texts` the cells of XLSX that hold text, if it was asked for.
    """

    zeros: dict[tuple[int, str], list[int]] = field(default_factory=dict)
    shown: dict[Spot, str] = field(default_factory=dict)
    errors: dict[Spot, str] = field(default_factory=dict)
    formulas: list[Spot] = field(default_factory=list)
    without_value: list[Spot] = field(default_factory=list)
    written: dict[Spot, str] = field(default_factory=dict)
    long: dict[Spot, str] = field(default_factory=dict)
    merged: list[tuple[int, int, int, int]] = field(default_factory=list)
    texts: list[TextCells] = field(default_factory=list)
    #: why none of this could be seen
    unseen: str | None = None


def look_at_cells(path: Path, kind: str, sheet: str, *, texts: bool = False) -> Cells:
    """Look at a sheet of a workbook of the kind xlsx, xlsb, ods or xls, and at which cells of XLSX hold text; for long numbers in XLSX see `long_numbers`."""
    if kind in ("xls", "xlsb"):
        from mudanza.core.sources.cells_binary import look_at_xlsb
        from mudanza.core.sources.cells_xls import look_at_xls

        return (look_at_xls if kind == "xls" else look_at_xlsb)(path, sheet)
    return _xlsx(path, sheet, texts) if kind == "xlsx" else _ods(path, sheet)


# number formats


def zeros_of(code: str) -> str | None:
    """A number format that only fills digits into places (00000, 0000-000), without its quotes; None if it does more."""
    plain = re.sub(r'"([^"]*)"|\\(.)|_.|\*.', lambda m: m.group(1) or m.group(2) or "", code.split(";")[0])
    return plain if re.fullmatch(r"[0 /\-]*", plain) and plain.count("0") > 1 else None


def with_zeros(number: pl.Expr, places: str) -> pl.Expr:
    """Whole numbers, given as text, as their format shows them; others as they are."""
    count = places.count("0")
    digits = number.str.extract(r"^-?(\d+)(?:\.0*)?$", 1).str.zfill(count)
    size = digits.str.len_chars()
    pieces: list[pl.Expr] = []
    used = 0
    for run in reversed(re.findall(r"0+|[^0]+", places)):
        if run[0] == "0":
            # the first places take whatever is left
            length = size - used if used + len(run) == count else pl.lit(len(run))
            pieces.append(digits.str.slice(size - used - length, length))
            used += len(run)
        else:
            pieces.append(pl.lit(run))
    sign = pl.when(number.str.starts_with("-")).then(pl.lit("-")).otherwise(pl.lit(""))
    return pl.coalesce(pl.concat_str([sign, *reversed(pieces)]), number)


# XLSX

_PREFIXED_ROW = re.compile(rb"</[\w.-]{1,40}:row>")
#: so long a tag of a row may be
_TAIL = 50
_REF = re.compile(rb'\br="([A-Z]+)(\d+)"')
_CELL_LENGTH = 400
_VALUE = re.compile(rb"[^>]*>(?:<[^v][^<]*(?:</[^>]*>)?)*?<(?:\w+:)?v>([^<]*)<")
_BEHIND_FORMULA = re.compile(rb"[^>]*(?:/>|>[^<]*</(?:\w+:)?f>)<(?:\w+:)?v>[^<]")
_MERGED = re.compile(rb'mergeCell\b[^>]*\bref="([A-Z]+)(\d+):([A-Z]+)(\d+)"')
_FORMULA = re.compile(rb"<(?:\w+:)?f\b[^>]*>([^<]*)</")
_LONG = re.compile(rb"v>(-?\d{16,}(?:\.0+)?|-?\d(?:\.\d+)?E\+?(?:1[5-9]|[2-9]\d))<")


def _xlsx(path: Path, sheet: str, texts: bool) -> Cells:
    found = Cells()
    with zipfile.ZipFile(path) as archive:
        part = _part_of(archive, sheet)
        if part is None:
            return found
        styles = _zero_styles(archive)
        padded = re.compile(rb' s="(' + b"|".join(str(n).encode() for n in styles) + rb')"')
        for piece in pieces_of(archive, part):
            if texts:
                found.texts.append(_texts_among(piece))
            # one search for a sign that is seldom there costs far less than a look at every cell
            if _may_have_formulas(piece):
                for match in re.finditer(rb"<(?:\w+:)?f\b", piece):
                    spot = _spot(_opening(piece, match.start()))
                    (found.formulas if _BEHIND_FORMULA.match(piece, match.end()) else found.without_value).append(spot)
            if b't="e"' in piece:
                for match in re.finditer(rb't="e"', piece):
                    value = _VALUE.match(piece, match.end())
                    found.errors[_spot(_opening(piece, match.start()))] = value.group(1).decode() if value else "#ERR"
            if styles:
                for match in padded.finditer(piece):
                    opening = _opening(piece, match.end())
                    row, column = _spot(opening)
                    # a text or a row of that style is not shown so
                    if row >= 0 and b' t="s' not in piece[match.end() : match.end() + 8]:
                        found.zeros.setdefault((column, styles[int(match.group(1))]), []).append(row)
        # merged areas stand behind the last row (ECMA-376 part 1, section 18.3.1.99)
        for match in _MERGED.finditer(piece):
            first, top, last, bottom = match.groups()
            found.merged.append((int(top) - 1, column_number(first), int(bottom) - 1, column_number(last)))
    return found


def _may_have_formulas(piece: bytes) -> bool:
    """Whether <f or :f stands in a piece of markup: by its one letter, which is found ten times as fast."""
    data = np.frombuffer(piece, np.uint8)
    before = data[np.flatnonzero(data[1:] == ord("f"))]
    return bool(((before == ord("<")) | (before == ord(":"))).any())


def long_numbers(path: Path, sheet: str) -> dict[Spot, str]:
    """The numbers of a sheet of XLSX that have more digits than a cell keeps. It is a look at every value, for when there may be some."""
    found = {}
    with zipfile.ZipFile(path) as archive:
        part = _part_of(archive, sheet)
        for piece in pieces_of(archive, part) if part else ():
            for match in _LONG.finditer(piece):
                opening = _opening(piece, match.start())
                if b' t="' not in opening or b't="n"' in opening:
                    found[_spot(opening)] = match.group(1).decode()
    return found


def _texts_among(piece: bytes) -> TextCells:
    """The cells of a piece of markup that hold text."""
    refs = cell_refs(piece)
    # each type belongs to the cell that is named last before it, in the same tag
    data = np.frombuffer(piece + bytes(16), np.uint8)
    types = places_of(data, b' t="')
    types = types[np.isin(data[types + 4], _OF_TEXTS)]
    cell = np.searchsorted(refs.at, types) - 1
    cell = cell[cell >= 0]
    return refs.columns[cell].astype(np.int16) - 1, refs.rows[cell].astype(np.int32)


def formulas_of(path: Path, kind: str, sheet: str) -> dict[Spot, str]:
    """The formulas of a sheet as they are written, without the equals sign; blank where the format does not show them, or only says that they go on."""
    cells = look_at_cells(path, kind, sheet)
    found = {spot: cells.written.get(spot, "") for spot in (*cells.formulas, *cells.without_value)}
    if not found or kind != "xlsx":
        return found
    with zipfile.ZipFile(path) as archive:
        part = _part_of(archive, sheet)
        for piece in pieces_of(archive, part) if part else ():
            for match in _FORMULA.finditer(piece):
                found[_spot(_opening(piece, match.start()))] = html.unescape(match.group(1).decode("utf-8", "replace"))
    return found


def largest_sheet(path: Path) -> str | None:
    """The sheet of an XLSX file whose part is the largest; most often it is the one with the records."""
    with zipfile.ZipFile(path) as archive:
        sizes = {name: archive.getinfo(part).file_size for name, part in sheet_parts(archive).items()}
    return max(sizes, key=lambda name: sizes[name], default=None)


def _opening(piece: bytes, at: int) -> bytes:
    """The opening tag of the cell in which a place lies, up to that place."""
    start = max(piece.rfind(b"<c ", max(0, at - _CELL_LENGTH), at), piece.rfind(b":c ", max(0, at - _CELL_LENGTH), at))
    return piece[start:at] if start >= 0 else b""


def _spot(attributes: bytes) -> Spot:
    match = _REF.search(attributes)
    return (int(match.group(2)) - 1, column_number(match.group(1))) if match else (-1, -1)


def column_number(letters: bytes) -> int:
    """The number of a column from 0, by its letters."""
    number = 0
    for letter in letters:
        number = number * 26 + letter - 64
    return number - 1


def pieces_of(archive: zipfile.ZipFile, part: str) -> Iterator[bytes]:
    """The markup in pieces that end with a row."""
    keep = b""
    for raw in part_pieces(archive, part):
        piece = keep + raw
        end = _end_of_row(piece, max(0, len(keep) - _TAIL))
        if end:
            yield piece[:end]
            piece = piece[end:]
        keep = piece
    yield keep


def _end_of_row(piece: bytes, start: int) -> int:
    """The byte behind the last row that ends in a piece, from a byte on; 0 if none does."""
    end = piece.rfind(b"</row>", start)
    if end >= 0:
        return end + 6
    return max((match.end() for match in _PREFIXED_ROW.finditer(piece, start)), default=0)


def _part_of(archive: zipfile.ZipFile, sheet: str) -> str | None:
    return sheet_parts(archive).get(sheet)


def sheet_parts(archive: zipfile.ZipFile) -> dict[str, str]:
    """The part that holds each sheet."""
    names = set(archive.namelist())
    if not {"xl/workbook.xml", "xl/_rels/workbook.xml.rels"} <= names:
        return {}
    book = ElementTree.fromstring(archive.read("xl/workbook.xml"))
    links = ElementTree.fromstring(archive.read("xl/_rels/workbook.xml.rels"))
    targets = {link.get("Id"): link.get("Target", "") for link in links}
    parts = {}
    for node in book.iter():
        if node.tag.endswith("}sheet"):
            link = next((v for k, v in node.attrib.items() if k.endswith("}id")), None)
            target = targets.get(link, "")
            part = target.lstrip("/") if target.startswith("/") else f"xl/{target}"
            if part in names:
                parts[node.get("name", "")] = part
    return parts


def _zero_styles(archive: zipfile.ZipFile) -> dict[int, str]:
    """The cell styles whose number format shows zeros, by number."""
    if "xl/styles.xml" not in archive.namelist():
        return {}
    root = ElementTree.fromstring(archive.read("xl/styles.xml"))
    formats = {
        node.get("numFmtId"): places
        for node in root.iter()
        if node.tag.endswith("}numFmt") and (places := zeros_of(node.get("formatCode", ""))) is not None
    }
    cells = next((node for node in root.iter() if node.tag.endswith("}cellXfs")), ())
    ids = [xf.get("numFmtId") for xf in cells]
    return {number: formats[one] for number, one in enumerate(ids) if one in formats}


# ODS

_TABLE = "{urn:oasis:names:tc:opendocument:xmlns:table:1.0}"
_OFFICE = "{urn:oasis:names:tc:opendocument:xmlns:office:1.0}"
_TEXT = "{urn:oasis:names:tc:opendocument:xmlns:text:1.0}"
_OWN_CELL = re.compile(r"\[\.([$A-Z0-9:.]+)\]")
_ODS_SIGNS = re.compile(
    rb'table:formula=|-spanned="(?:[2-9]|1\d)|value-type="error"|min-integer-digits="(?:[2-9]|1\d)|office:value="-?\d{16,}'
)


def cells_of_ods(path: Path) -> Iterator[tuple[str, int, int, Any]]:
    """The cells of an ODS file as it writes them: the sheet, row and column from 0, and the element. One that stands for several like it comes once."""
    with zipfile.ZipFile(path) as archive, archive.open("content.xml") as body:
        sheet, row, column = "", 0, 0
        for event, node in ElementTree.iterparse(body, ("start", "end")):
            name, ends = node.tag, event == "end"
            if name == f"{_TABLE}table":
                sheet, row = node.get(f"{_TABLE}name", ""), 0
                if ends:
                    node.clear()
            elif name == f"{_TABLE}table-row":
                column = 0
                if ends:
                    row += int(node.get(f"{_TABLE}number-rows-repeated", 1))
                    node.clear()
            elif ends and name in (f"{_TABLE}table-cell", f"{_TABLE}covered-table-cell"):
                yield sheet, row, column, node
                column += int(node.get(f"{_TABLE}number-columns-repeated", 1))


def _ods(path: Path, sheet: str) -> Cells:
    found = Cells()
    with zipfile.ZipFile(path) as archive:
        if not _ODS_SIGNS.search(archive.read("content.xml")):
            return found
    for name, row, column, cell in cells_of_ods(path):
        if name == sheet:
            _ods_cell(found, cell, row, column)
    return found


def _ods_cell(found: Cells, node: Any, row: int, column: int) -> None:
    spot = (row, column)
    kind = node.get(f"{_OFFICE}value-type")
    value = node.get(f"{_OFFICE}value")
    # without what is noted beside it
    shown = "".join(text for line in node.findall(f"{_TEXT}p") for text in line.itertext())
    if any(key.endswith("}value-type") and text == "error" for key, text in node.attrib.items()):
        found.errors[spot] = shown or "#ERR"
    if (formula := node.get(f"{_TABLE}formula")) is not None:
        (found.formulas if kind is not None else found.without_value).append(spot)
        found.written[spot] = _OWN_CELL.sub(r"\1", formula.partition("=")[2])
    if (
        kind == "float"
        and value is not None
        and shown != value
        and re.fullmatch(r"0[\d /-]*|\d[\d /-]*-\d[\d /-]*", shown)
    ):
        found.shown[spot] = shown
    if kind == "float" and re.fullmatch(r"-?\d{16,}", value or ""):
        found.long[spot] = value or ""
    rows, columns = (int(node.get(f"{_TABLE}number-{what}-spanned", 1)) for what in ("rows", "columns"))
    if rows > 1 or columns > 1:
        found.merged.append((row, column, row + rows - 1, column + columns - 1))


def column_letters(index: int) -> str:
    """The letters of a sheet's column, counted from 0: A, B, … Z, AA, AB."""
    letters = ""
    index += 1
    while index:
        index, rest = divmod(index - 1, 26)
        letters = chr(65 + rest) + letters
    return letters
