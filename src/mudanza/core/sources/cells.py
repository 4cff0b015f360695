"""What the cells of a sheet are beyond their values: formulas, errors, merged areas, numbers shown with zeros.

The library that reads workbooks gives values alone; here the sheet's own markup is looked at, in ECMA-376 (XLSX) and
OpenDocument 1.2 (ODS), and through xlrd for the old binary format. It is cheap where there is nothing to be found.
"""

from __future__ import annotations

import re
import zipfile
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from defusedxml import ElementTree

_PIECE = 8 << 20
Spot = tuple[int, int]


@dataclass
class Cells:
    """The cells of a sheet that are more than a value, by row and column from 0.

    `shown` is the text of numbers whose format shows zeros or separators, `errors` the error in a cell, `formulas` those that have
    a stored value, `without_value` those that have none, `long` numbers of more digits than a cell keeps, `merged`
    the first and last row and column of merged areas.
    """

    shown: dict[Spot, str] = field(default_factory=dict)
    errors: dict[Spot, str] = field(default_factory=dict)
    formulas: list[Spot] = field(default_factory=list)
    without_value: list[Spot] = field(default_factory=list)
    long: dict[Spot, str] = field(default_factory=dict)
    merged: list[tuple[int, int, int, int]] = field(default_factory=list)


def look_at_cells(path: Path, kind: str, sheet: str) -> Cells:
    """Look at a sheet of a workbook of the kind xlsx, xlsb, ods or xls."""
    looks = {"xlsx": _xlsx, "ods": _ods, "xls": _xls}
    return looks[kind](path, sheet) if kind in looks else Cells()


# number formats


def zeros_of(code: str) -> str | None:
    """A number format that only fills digits into places (00000, 0000-000), without its quotes; None if it does more."""
    plain = re.sub(r'"([^"]*)"|\\(.)|_.|\*.', lambda m: m.group(1) or m.group(2) or "", code.split(";")[0])
    return plain if re.fullmatch(r"[0 /\-]*", plain) and plain.count("0") > 1 else None


def with_zeros(number: str, places: str) -> str:
    """A whole number as its format shows it; any other as it is."""
    digits = re.fullmatch(r"(-?)(\d+)(?:\.0*)?", number)
    if digits is None:
        return number
    left = list(digits.group(2).rjust(places.count("0"), "0"))
    shown = []
    for sign in reversed(places):
        shown.append(left.pop() if sign == "0" else sign)
    return digits.group(1) + "".join(left) + "".join(reversed(shown))


# XLSX

_REF = re.compile(rb'\br="([A-Z]+)(\d+)"')
_FORMULA = re.compile(
    rb"<(?:\w+:)?c\b([^>]*)><(?:\w+:)?f\b(?:[^>]*/>|[^>]*>[^<]*</(?:\w+:)?f>)(?:<(?:\w+:)?v>([^<]+)</(?:\w+:)?v>)?"
)
_ERROR = re.compile(rb'<(?:\w+:)?c\b([^>]*\bt="e"[^>]*)>(?:<(?:\w+:)?f\b[^<]*(?:</(?:\w+:)?f>)?)?<(?:\w+:)?v>([^<]*)<')
_LONG = re.compile(
    rb"<(?:\w+:)?c\b([^>]*)>(?:<f\b[^<]*(?:</f>)?)?<(?:\w+:)?v>(-?\d{16,}(?:\.0+)?|-?\d(?:\.\d+)?E\+?(?:1[5-9]|[2-9]\d))<"
)
_MERGED = re.compile(rb'<(?:\w+:)?mergeCell\b[^>]*\bref="([A-Z]+)(\d+):([A-Z]+)(\d+)"')


def _xlsx(path: Path, sheet: str) -> Cells:
    found = Cells()
    with zipfile.ZipFile(path) as archive:
        part = _part_of(archive, sheet)
        if part is None:
            return found
        styles = _zero_styles(archive)
        ids = b"|".join(str(n).encode() for n in styles)
        padded = re.compile(
            rb'<(?:\w+:)?c\b([^>]*\bs="(' + ids + rb')"[^>]*)>(?:<f\b[^<]*(?:</f>)?)?<(?:\w+:)?v>([^<]*)<'
        )
        for piece in _pieces(archive, part):
            if b"<f" in piece or b":f" in piece:
                for match in _FORMULA.finditer(piece):
                    (found.formulas if match.group(2) else found.without_value).append(_spot(match.group(1)))
            if b't="e"' in piece:
                for match in _ERROR.finditer(piece):
                    found.errors[_spot(match.group(1))] = match.group(2).decode()
            if styles:
                for match in padded.finditer(piece):
                    if b't="s"' not in match.group(1) and b"tr" not in match.group(1):
                        text = with_zeros(_plain(match.group(3).decode()), styles[int(match.group(2))])
                        found.shown[_spot(match.group(1))] = text
            for match in _LONG.finditer(piece):
                if b' t="' not in match.group(1) or b't="n"' in match.group(1):
                    found.long[_spot(match.group(1))] = match.group(2).decode()
            for match in _MERGED.finditer(piece):
                first, top, last, bottom = match.groups()
                found.merged.append((int(top) - 1, column_number(first), int(bottom) - 1, column_number(last)))
    return found


def _plain(number: str) -> str:
    return f"{float(number):.0f}" if "E" in number else number


def _spot(attributes: bytes) -> Spot:
    match = _REF.search(attributes)
    return (int(match.group(2)) - 1, column_number(match.group(1))) if match else (-1, -1)


def column_number(letters: bytes) -> int:
    """The number of a column from 0, by its letters."""
    number = 0
    for letter in letters:
        number = number * 26 + letter - 64
    return number - 1


def _pieces(archive: zipfile.ZipFile, part: str) -> Iterator[bytes]:
    """The markup in pieces that end with a row."""
    keep = b""
    with archive.open(part) as body:
        while raw := body.read(_PIECE):
            piece = keep + raw
            end = max(piece.rfind(b"</row>"), piece.rfind(b":row>"))
            if end >= 0:
                yield piece[: end + 6]
                piece = piece[end + 6 :]
            keep = piece
    yield keep


def _part_of(archive: zipfile.ZipFile, sheet: str) -> str | None:
    """The name of the part that holds a sheet."""
    names = set(archive.namelist())
    if not {"xl/workbook.xml", "xl/_rels/workbook.xml.rels"} <= names:
        return None
    book = ElementTree.fromstring(archive.read("xl/workbook.xml"))
    links = ElementTree.fromstring(archive.read("xl/_rels/workbook.xml.rels"))
    targets = {link.get("Id"): link.get("Target", "") for link in links}
    for node in book.iter():
        if node.tag.endswith("}sheet") and node.get("name") == sheet:
            link = next((v for k, v in node.attrib.items() if k.endswith("}id")), None)
            target = targets.get(link, "")
            part = target.lstrip("/") if target.startswith("/") else f"xl/{target}"
            return part if part in names else None
    return None


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
_ODS_SIGNS = re.compile(
    rb'table:formula=|-spanned="(?:[2-9]|1\d)|value-type="error"|min-integer-digits="(?:[2-9]|1\d)|office:value="-?\d{16,}'
)


def _ods(path: Path, sheet: str) -> Cells:
    found = Cells()
    with zipfile.ZipFile(path) as archive:
        if not _ODS_SIGNS.search(archive.read("content.xml")):
            return found
        with archive.open("content.xml") as body:
            row = column = 0
            inside = False
            for event, node in ElementTree.iterparse(body, ("start", "end")):
                name = node.tag
                if name == f"{_TABLE}table":
                    inside = event == "start" and node.get(f"{_TABLE}name") == sheet
                    row = 0
                    if event == "end":
                        node.clear()
                elif inside and name == f"{_TABLE}table-row":
                    column = 0
                    if event == "end":
                        row += int(node.get(f"{_TABLE}number-rows-repeated", 1))
                        node.clear()
                elif inside and event == "end" and name in (f"{_TABLE}table-cell", f"{_TABLE}covered-table-cell"):
                    _ods_cell(found, node, row, column)
                    column += int(node.get(f"{_TABLE}number-columns-repeated", 1))
    return found


def _ods_cell(found: Cells, node: Any, row: int, column: int) -> None:
    spot = (row, column)
    kind = node.get(f"{_OFFICE}value-type")
    value = node.get(f"{_OFFICE}value")
    shown = "".join(node.itertext())
    if any(key.endswith("}value-type") and text == "error" for key, text in node.attrib.items()):
        found.errors[spot] = shown or "#ERR"
    if node.get(f"{_TABLE}formula") is not None:
        (found.formulas if kind is not None else found.without_value).append(spot)
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


# XLS


def _xls(path: Path, sheet: str) -> Cells:
    import os

    import xlrd

    found = Cells()
    try:
        with Path(os.devnull).open("w") as nowhere:
            book = xlrd.open_workbook(str(path), formatting_info=True, logfile=nowhere)
            table = book.sheet_by_name(sheet)
    except Exception:  # the values have been read already; this is only what xlrd can add to them
        return found
    formats = {key: zeros_of(one.format_str or "") for key, one in book.format_map.items()}
    styles = {number: formats.get(xf.format_key) for number, xf in enumerate(book.xf_list)}
    for row in range(table.nrows):
        for column, (kind, value, style) in enumerate(
            zip(
                table.row_types(row),
                table.row_values(row),
                map(table.cell_xf_index, [row] * table.row_len(row), range(table.row_len(row))),
                strict=False,
            )
        ):
            if kind == xlrd.XL_CELL_ERROR:
                found.errors[row, column] = xlrd.error_text_from_code.get(value, "#ERR")
            elif kind == xlrd.XL_CELL_NUMBER:
                if abs(value) >= 1e15 and value == int(value):
                    found.long[row, column] = f"{value:.0f}"
                elif places := styles.get(style):
                    found.shown[row, column] = with_zeros(f"{value:.0f}" if value == int(value) else str(value), places)
    found.merged = [(top, left, bottom - 1, right - 1) for top, bottom, left, right in table.merged_cells]
    return found
