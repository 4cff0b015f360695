"""JSON (RFC 8259) and lines of JSON: numbers stay exactly as they are written."""

from __future__ import annotations

import json
from collections.abc import Iterator
from functools import cache, lru_cache
from itertools import islice
from pathlib import Path

from mudanza.core.documents.errors import Place, SourceError
from mudanza.core.sources.decoding import TextFile, look_at, whole_text
from mudanza.core.sources.json_stream import DECODER, NotStreamedError, of_lines, streamed, value_of, values_of_lines
from mudanza.core.sources.nested import NestedFile, Records, Walked, open_records, parts_of, records_of
from mudanza.core.sources.reader import ReadOptions


def open_file(path: Path, options: ReadOptions, known_as: Path) -> NestedFile:
    """The reader of the records of a JSON file. Raises SourceError where the text is not JSON."""
    # the outline of the whole text is the same whatever path is read
    said = options.own.get("records") if options.quick else None
    records, text = _records(path, options.encoding, known_as, _stamp(path), said, options.quick)
    return open_records(
        records,
        options,
        known_as,
        format="lines of JSON" if records.lines else "JSON",
        size=path.stat().st_size,
        encoding=text.found,
    )


def parts(path: Path, options: ReadOptions, known_as: Path) -> list[ReadOptions]:
    """The options that read each list of the file."""
    return parts_of(_records(path, options.encoding, known_as, _stamp(path), None, False)[0], options)


def _stamp(path: Path) -> tuple[int, int]:
    stat = path.stat()
    return stat.st_mtime_ns, stat.st_size


@lru_cache(maxsize=4)
def _records(
    path: Path,
    encoding: str | None,
    known_as: Path,
    stamp: tuple[int, int],  # noqa: ARG001
    said: str | None,
    quick: bool,
) -> tuple[Records, TextFile]:
    """The file's records and its text; if `quick`, its columns as far as the first records at the path said tell."""
    text = look_at(path, ReadOptions(encoding=encoding))
    # which of several lists is the main one only the whole text tells
    of = "" if text.head.lstrip("\ufeff \t\r\n").startswith("[") else None
    of = said.strip(".") if said is not None else of

    @cache
    def whole() -> Records:
        return _whole(text, encoding, known_as)

    try:
        if _has_lines(text):
            return of_lines(text, quick=quick), text
        records, can_stream = streamed(text, of if quick else None)
    except NotStreamedError:
        return (of_lines(text) if _has_long_lines(text) else whole()), text

    def walk(path: str) -> Iterator[Walked]:
        return _unchanged(records.walk(path), known_as) if can_stream(path) else whole().walk(path)

    return Records(records.outline, records.counts, walk), text


def _has_lines(text: TextFile) -> bool:
    """Whether there are several lines, and the first is an object."""
    lines = [line for line in text.head.lstrip("\ufeff").split("\n") if line.strip()]
    return len(lines) > 1 and lines[0].lstrip().startswith("{") and isinstance(value_of(lines[0].strip()), dict)


def _has_long_lines(text: TextFile) -> bool:
    """The same for a text whose first line is longer than its head."""
    if "\n" in text.head.strip() or not text.head.lstrip("\ufeff \t\r\n").startswith("{"):
        return False
    try:
        first = [value for _, value, _ in islice(values_of_lines(text), 2)]
    except NotStreamedError:
        return False
    return len(first) > 1 and isinstance(first[0], dict)


def _unchanged(walked: Iterator[Walked], known_as: Path) -> Iterator[Walked]:
    try:
        yield from walked
    except NotStreamedError:
        raise SourceError(
            "the file was changed while it was read.", place=Place(str(known_as)), hint="Run it again."
        ) from None


def _whole(text: TextFile, encoding: str | None, known_as: Path) -> Records:
    """The records of a text that is read in one piece. Raises SourceError with the place where it is not JSON."""
    body, _ = whole_text(text.path, ReadOptions(encoding=encoding))
    try:
        return records_of(DECODER.decode(body.strip("\ufeff")))
    except json.JSONDecodeError as error:
        line = body.split("\n", error.lineno)[: error.lineno][-1]
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
