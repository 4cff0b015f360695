"""The small parts of a workbook's archive, which are read whole: properties, notes."""

from __future__ import annotations

import zipfile
from pathlib import Path
from typing import Any
from xml.etree.ElementTree import ParseError

from defusedxml import DefusedXmlException, ElementTree


def elements_of(path: Path, part: str) -> list[Any]:
    """All elements of a part, in their order; none, if it is missing or damaged."""
    try:
        with zipfile.ZipFile(path) as archive:
            return list(ElementTree.fromstring(archive.read(part)).iter())
    except (KeyError, zipfile.BadZipFile, ParseError, DefusedXmlException, ValueError):
        return []
