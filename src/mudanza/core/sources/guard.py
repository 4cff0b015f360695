"""Refusing hostile or damaged workbooks before a parser sees them."""

from __future__ import annotations

import zipfile
from pathlib import Path

from mudanza.core.errors import Place, SourceError

#: A workbook that unpacks to more than this, or more than this many times its size, is refused.
MOST_BYTES = 2 << 30
MOST_RATIO = 400
_RATIO_MATTERS_FROM = 64 << 20
_OLE = b"\xd0\xcf\x11\xe0"


def guard_workbook(path: Path) -> None:
    """Raise SourceError unless the file is a workbook that is safe to unpack."""
    place = Place(file=str(path))
    size = path.stat().st_size
    if size == 0:
        raise SourceError("the file is empty.", place=place, hint="Save the workbook again.")
    with path.open("rb") as file:
        start = file.read(4)
    if start == _OLE:
        raise SourceError(
            "the workbook is protected by a password, or is of the old binary format.",
            place=place,
            hint="Open it, remove the password, and save it as .xlsx.",
        )
    try:
        with zipfile.ZipFile(path) as archive:
            parts = archive.infolist()
            total = sum(part.file_size for part in parts)
            if total > MOST_BYTES or (total > _RATIO_MATTERS_FROM and total > MOST_RATIO * size):
                raise SourceError(
                    f"the workbook would unpack to {total >> 20} MiB from {size >> 10} KiB; that is no honest workbook.",
                    place=place,
                    hint="Ask where the file comes from; save the records alone as .xlsx or .csv.",
                )
            if "[Content_Types].xml" not in archive.namelist():
                raise SourceError(
                    "the file is a zip archive, but no workbook.",
                    place=place,
                    hint="Unpack it and name the file inside.",
                )
            for part in parts:
                if part.filename.endswith((".xml", ".rels")):
                    with archive.open(part) as body:
                        if b"<!DOCTYPE" in body.read(2048):
                            raise SourceError(
                                f"the workbook's part {part.filename} declares a document type, as only hostile files do.",
                                place=place,
                                hint="Save the records again with a spreadsheet program.",
                            )
    except (zipfile.BadZipFile, OSError, RuntimeError, NotImplementedError, EOFError) as error:
        raise SourceError(
            f"the file is no workbook ({error}).",
            place=place,
            hint="If it is text with another ending, rename it to .csv; otherwise save it again as .xlsx.",
        ) from error
