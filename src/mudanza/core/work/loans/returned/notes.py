"""What is noted beside the cells of a workbook, in any form of it that has notes."""

from __future__ import annotations

import zipfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any
from xml.etree.ElementTree import ParseError

from defusedxml import DefusedXmlException

from mudanza.core.sources.cells import cells_of_ods, column_letters
from mudanza.core.sources.cells_xls import book_of_xls
from mudanza.core.work.loans.returned.small_parts import elements_of

#: who wrote a note (blank if it does not say), the cell, and the note
Note = tuple[str, str, str]

_OFFICE = "{urn:oasis:names:tc:opendocument:xmlns:office:1.0}"
_TEXT = "{urn:oasis:names:tc:opendocument:xmlns:text:1.0}"
#: the author that stands for a conversation in the older kind of notes
_CONVERSATION = "tc="


def notes_of(path: Path, kind: str) -> list[Note]:
    """The notes of a workbook of the kind xlsx, ods or xls, in the order in which they stand; nothing of others, or where they are damaged."""
    reader = {"xlsx": _of_xlsx, "ods": _of_ods, "xls": _of_xls}.get(kind)
    if reader is None:
        return []
    try:
        return [(by.strip(), cell, text.strip()) for by, cell, text in reader(path) if text.strip()]
    except (KeyError, zipfile.BadZipFile, ParseError, DefusedXmlException, ValueError):
        return []


def _of_xlsx(path: Path) -> Iterator[Note]:
    """Notes (ISO/IEC 29500-1, section 18.7), and conversations ([MS-XLSX], section 2.6.203)."""
    with zipfile.ZipFile(path) as archive:
        names = archive.namelist()
    for part in (one for one in names if "/comments" in one and one.endswith(".xml")):
        authors: list[str] = []
        for element in elements_of(path, part):
            name = _name(element)
            if name == "author":
                authors.append(element.text or "")
            if name == "comment":
                number = int(element.get("authorId", "0"))
                author = authors[number] if number < len(authors) else ""
                if not author.startswith(_CONVERSATION):
                    yield author, element.get("ref", ""), _texts(element, "t")
    persons = {
        one.get("id"): one.get("displayName", "")
        for part in names
        if part.startswith("xl/persons/")
        for one in elements_of(path, part)
    }
    for part in (one for one in names if "/threadedComments/" in one):
        for element in elements_of(path, part):
            if _name(element) == "threadedComment":
                yield persons.get(element.get("personId"), ""), element.get("ref", ""), _texts(element, "text")


def _of_ods(path: Path) -> Iterator[Note]:
    """Annotations (OpenDocument 1.3, part 3, section 14.1)."""
    with zipfile.ZipFile(path) as archive:
        if b"office:annotation" not in archive.read("content.xml"):
            return
    for _, row, column, cell in cells_of_ods(path):
        for note in cell.findall(f"{_OFFICE}annotation"):
            lines = ["".join(line.itertext()) for line in note.iter(f"{_TEXT}p")]
            by = next((one.text or "" for one in note if _name(one) == "creator"), "")
            yield by, f"{column_letters(column)}{row + 1}", "\n".join(lines)


def _of_xls(path: Path) -> Iterator[Note]:
    try:
        sheets = book_of_xls(path).sheets()
    except Exception:  # the values have been read already; notes are what xlrd can add to them
        return
    for sheet in sheets:
        for (row, column), note in sorted(sheet.cell_note_map.items()):
            yield note.author, f"{column_letters(column)}{row + 1}", note.text


def _texts(element: Any, name: str) -> str:
    return "".join(one.text or "" for one in element.iter() if _name(one) == name)


def _name(element: Any) -> str:
    return str(element.tag.rpartition("}")[2])
