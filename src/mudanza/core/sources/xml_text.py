"""XML: elements and attributes as nested records. Documents that declare entities are refused."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path
from typing import Any
from xml.etree.ElementTree import Element, ParseError

from defusedxml import DefusedXmlException
from defusedxml.ElementTree import parse

from mudanza.core.documents.errors import Place, SourceError
from mudanza.core.sources.nested import NestedFile, Records, open_records, parts_of, records_of
from mudanza.core.sources.reader import Encoding, ReadOptions

#: says whether spaces at the ends of a text are a part of it (XML 1.0, section 2.10)
_SPACE = "{http://www.w3.org/XML/1998/namespace}space"


def open_file(path: Path, options: ReadOptions, known_as: Path) -> NestedFile:
    """The reader of the records of an XML file. Raises SourceError where it is damaged or hostile."""
    stat = path.stat()
    return open_records(
        _records(path, known_as, (stat.st_mtime_ns, stat.st_size)),
        options,
        known_as,
        format="XML",
        size=stat.st_size,
        encoding=Encoding(_encoding(path), "itself"),
    )


def parts(path: Path, options: ReadOptions, known_as: Path) -> list[ReadOptions]:
    """The options that read each list of the file."""
    stat = path.stat()
    return parts_of(_records(path, known_as, (stat.st_mtime_ns, stat.st_size)), options)


def _encoding(path: Path) -> str:
    import re

    with path.open("rb") as file:
        head = file.read(200)
    match = re.search(rb"encoding=[\"']([\w-]+)", head.replace(b"\0", b""))
    return match.group(1).decode().lower() if match else "utf-8"


@lru_cache(maxsize=2)
def _records(path: Path, known_as: Path, stamp: tuple[int, int]) -> Records:  # noqa: ARG001
    place = Place(str(known_as))
    try:
        root = parse(str(path)).getroot()
        return records_of({_name(root.tag): _content(root)})
    except ParseError as error:
        line, column = error.position
        what = (
            "the text breaks off: it is not whole" if "no element found" in str(error) else f"this is no XML ({error})"
        )
        raise SourceError(
            f"{what}.",
            place=Place(str(known_as), line=line, key=f"column {column + 1}"),
            hint="Export it again, or mend it in an editor.",
        ) from None
    except DefusedXmlException as error:
        raise SourceError(
            f"the file declares entities or reaches outside ({type(error).__name__}), as only hostile files do.",
            place=place,
            hint="Ask where it comes from; export the records again.",
        ) from None
    except RecursionError:
        raise SourceError("the file is nested too deeply.", place=place, hint="Ask where it comes from.") from None
    except (LookupError, ValueError) as error:
        raise SourceError(
            f"the file's encoding cannot be read ({error}).", place=place, hint="Export it as UTF-8."
        ) from None


def _name(tag: str) -> str:
    return tag.rpartition("}")[2]


def _content(element: Element) -> Any:
    """An element as text if it is plain, else as an object of its attributes and children; repeated children as a list."""
    attributes = {_name(key): value for key, value in element.attrib.items() if key != _SPACE}
    text = element.text or ""
    if element.get(_SPACE) != "preserve":
        text = text.strip()
    if len(element) == 0 and not attributes:
        return text or None
    content: dict[str, Any] = {**attributes}
    children: dict[str, list[Any]] = {}
    for child in element:
        if isinstance(child.tag, str):
            children.setdefault(_name(child.tag), []).append(_content(child))
            text += " " + (child.tail or "").strip() if (child.tail or "").strip() else ""
    for name, values in children.items():
        key = name if name not in content else f"{name} (element)"
        content[key] = values if len(values) > 1 else values[0]
    if text:
        content["text" if "text" not in content else "text (of the element)"] = text
    return content
