"""JSON (RFC 8259) and lines of JSON: numbers stay exactly as they are written."""

from __future__ import annotations

import json
from functools import lru_cache
from pathlib import Path
from typing import Any

from mudanza.core.documents.errors import Place, SourceError
from mudanza.core.sources.decoding import TextFile, whole_text
from mudanza.core.sources.nested import NestedFile, free_name, open_tree, parts_of
from mudanza.core.sources.reader import BrokenRow, ReadOptions, shorter


def _object(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    """An object; a key that stands in it again is numbered, as a heading would be."""
    found = dict(pairs)
    if len(found) == len(pairs):
        return found
    found = {}
    for key, value in pairs:
        found[free_name(key, found)] = value
    return found


_DECODER = json.JSONDecoder(parse_float=str, parse_int=str, strict=False, object_pairs_hook=_object)


def open_file(path: Path, options: ReadOptions, known_as: Path) -> NestedFile:
    """The reader of the records of a JSON file. Raises SourceError where the text is not JSON."""
    tree, text, numbers, broken = _tree(path, options.encoding, known_as, _stamp(path))
    return open_tree(
        tree,
        options,
        known_as,
        format="JSON" if numbers is None else "lines of JSON",
        size=path.stat().st_size,
        encoding=text.found,
        numbers=numbers,
        broken=broken,
    )


def parts(path: Path, options: ReadOptions, known_as: Path) -> list[ReadOptions]:
    """The options that read each list of the file."""
    return parts_of(_tree(path, options.encoding, known_as, _stamp(path))[0], options)


def _stamp(path: Path) -> tuple[int, int]:
    stat = path.stat()
    return stat.st_mtime_ns, stat.st_size


@lru_cache(maxsize=2)
def _tree(
    path: Path,
    encoding: str | None,
    known_as: Path,
    stamp: tuple[int, int],  # noqa: ARG001
) -> tuple[Any, TextFile, tuple[int, ...] | None, tuple[BrokenRow, ...]]:
    """The file's content, its text, and for lines of JSON the line of each record and the lines that are damaged."""
    body, text = whole_text(path, ReadOptions(encoding=encoding))
    lines = body.split("\n")
    first = next(line for line in lines if line.strip()).strip()
    if len([line for line in lines if line.strip()]) > 1 and first.startswith("{") and _is_object(first):
        return _lines(lines, text)
    try:
        return _DECODER.decode(body.strip("\ufeff")), text, None, ()
    except json.JSONDecodeError as error:
        line = lines[min(error.lineno, len(lines)) - 1]
        at_end = not body[error.pos :].strip()
        what = (
            "the text breaks off: it is not whole"
            if at_end or "Unterminated" in error.msg
            else f"this is no JSON ({error.msg})"
        )
        place = Place(str(known_as), line=error.lineno, text=line, start=error.colno - 1, end=error.colno)
        raise SourceError(f"{what}.", place=place, hint="Export it again, or mend it in an editor.") from None
    except RecursionError:
        raise SourceError(
            "the text is nested too deeply.", place=Place(str(known_as)), hint="Ask where it comes from."
        ) from None


def _is_object(line: str) -> bool:
    try:
        return isinstance(_DECODER.decode(line), dict)
    except (json.JSONDecodeError, RecursionError):
        return False


def _lines(lines: list[str], text: TextFile) -> tuple[Any, TextFile, tuple[int, ...], tuple[BrokenRow, ...]]:
    records, numbers, broken = [], [], []
    for number, line in enumerate(lines, start=1):
        if not line.strip():
            continue
        try:
            record = _DECODER.decode(line.strip())
        except (json.JSONDecodeError, RecursionError):
            record = None
        if isinstance(record, dict):
            records.append(record)
            numbers.append(number)
        else:
            broken.append(BrokenRow(number, "read.not-json", line, shorter(line), rule="one JSON object"))
    return records, text, tuple(numbers), tuple(broken)
