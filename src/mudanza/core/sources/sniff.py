"""Finding out how a text file is written: encoding, line ends, delimiter, and where its heading stands."""

from __future__ import annotations

import codecs
import csv
import math
from collections import Counter
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

from mudanza.core.errors import Place, SourceError
from mudanza.core.sources.reading import ReadOptions, find_heading

_HEAD = 1 << 20
_PIECE = 1 << 16
_PIECES = 16
_BOMS = [
    (codecs.BOM_UTF8, "utf-8"),
    (codecs.BOM_UTF32_LE, "utf-32-le"),
    (codecs.BOM_UTF32_BE, "utf-32-be"),
    (codecs.BOM_UTF16_LE, "utf-16-le"),
    (codecs.BOM_UTF16_BE, "utf-16-be"),
]
_USUAL_DELIMITERS = ",;\t|"
_EIGHT_BIT = ["cp1252", "cp1250", "cp1251", "cp1253", "cp1254", "cp1257", "mac_roman", "cp850"]
_NOT_CP1252 = [b"\x81", b"\x8d", b"\x8f", b"\x90", b"\x9d"]
_SAMPLE_ROWS = 200


@dataclass(frozen=True)
class TextForm:
    """How a text file is written. `skip` bytes of byte order mark stand in front."""

    encoding: str
    because: str
    skip: int
    delimiter: str
    heading_line: int
    headings: tuple[str, ...]
    carriage_returns: bool


def find_text_form(path: Path, options: ReadOptions) -> TextForm:
    """Look at the head of a file and at pieces further on. Raises SourceError for an empty file."""
    size = path.stat().st_size
    if size == 0:
        raise SourceError(
            "the file is empty.",
            place=Place(file=str(path)),
            hint="Export it again; not even a heading is there.",
        )
    with path.open("rb") as file:
        head = file.read(_HEAD)
        pieces = [head]
        for number in range(1, _PIECES + 1) if size > _HEAD else ():
            file.seek(max(_HEAD, size * number // _PIECES - _PIECE))
            pieces.append(file.read(_PIECE))
    encoding, because, skip = find_encoding(pieces, options.encoding, path)
    text = head[skip:].decode(encoding, "replace")
    if size > len(head):
        text = text[: max(text.rfind("\n"), text.rfind("\r")) + 1] or text
    carriage_returns = "\n" not in text and "\r" in text
    if carriage_returns:
        text = text.replace("\r", "\n")
    if not text.strip():
        raise SourceError("the file has no rows.", place=Place(file=str(path)), hint="Export it again.")
    delimiter = options.delimiter or find_delimiter(text, options.quote)
    heading_line, headings = _find_heading_line(text, delimiter, options, path)
    return TextForm(encoding, because, skip, delimiter, heading_line, headings, carriage_returns)


def find_encoding(pieces: list[bytes], said: str | None, path: Path) -> tuple[str, str, int]:
    """The encoding of a file from pieces of it: its Python name, why, and the bytes of byte order mark."""
    for bom, name in _BOMS:
        if pieces[0].startswith(bom) and (said is None or codecs.lookup(said).name.startswith(name[:6])):
            return name, "byte order mark", len(bom)
    if said is not None:
        try:
            return (name := codecs.lookup(said).name), _judged(name, pieces, path), 0
        except LookupError:
            raise SourceError(
                f"there is no encoding {said!r}.",
                place=Place(file=str(path)),
                hint="Usual ones are utf-8, cp1252, iso-8859-1, utf-16.",
            ) from None
    head = pieces[0]
    if head.count(b"\0") > len(head) // 5:
        evens, odds = head[0::2].count(b"\0"), head[1::2].count(b"\0")
        return ("utf-16-le" if odds > evens else "utf-16-be"), "guess: every second byte is zero", 0
    if all(piece.isascii() for piece in pieces):
        return "utf-8", "plain ASCII so far", 0
    if all(_is_utf8(piece, first=number == 0) for number, piece in enumerate(pieces)):
        return "utf-8", "valid UTF-8", 0
    odd = b"".join(piece for piece in pieces if not piece.isascii())
    if _mostly_utf8(odd):
        return "utf-8", "UTF-8 but for a few damaged places", 0
    return _guess_eight_bit(odd), "guess: not UTF-8; common for exports of this kind", 0


def _judged(said: str, pieces: list[bytes], path: Path) -> str:
    """Whether a file can be in the encoding said. Raises SourceError if it is plainly no such wide encoding."""
    head = pieces[0]
    if said.startswith(("utf-16", "utf-32")):
        if head.count(b"\0") < len(head) // 8 and head.isascii():
            raise SourceError(
                f"the file is not in {said}: it has one byte for each character.",
                place=Place(file=str(path)),
                hint="Correct encoding=, or leave it out to have it found.",
            )
        return "as said"
    try:
        codecs.getincrementaldecoder(said)().decode(head, final=False)
    except UnicodeDecodeError:
        found, _, _ = find_encoding(pieces, None, path)
        return "as said" if found == said else f"as said, but it looks like {found}"
    return "as said"


def _is_utf8(piece: bytes, first: bool) -> bool:
    start = 0
    while not first and start < 4 and start < len(piece) and piece[start] & 0xC0 == 0x80:
        start += 1
    try:
        codecs.getincrementaldecoder("utf-8")().decode(piece[start:], final=False)
    except UnicodeDecodeError:
        return False
    return True


def _mostly_utf8(odd: bytes) -> bool:
    """Whether multi-byte sequences are well formed far more often than not."""
    text = odd.decode("utf-8", "replace")
    wrong = text.count("\ufffd")
    right = len(text) - len(text.encode("ascii", "ignore")) - wrong
    return right > 20 * wrong


def _guess_eight_bit(odd: bytes) -> str:
    from charset_normalizer import from_bytes

    # a few stray bytes that the most common encoding lacks must not rule it out
    sample = odd[: 1 << 15]
    if sum(sample.count(byte) for byte in _NOT_CP1252) < 0.3 * sum(byte > 127 for byte in sample):
        sample = sample.translate(None, b"".join(_NOT_CP1252))
    matches = list(from_bytes(sample, cp_isolation=_EIGHT_BIT, threshold=1.0))
    if not matches:
        return "cp1252"
    # encodings that read the sample equally well are told apart by how common they are in exports
    worth = [(round(match.chaos, 1), -round(match.coherence, 1)) for match in matches]
    equals = [match for match, value in zip(matches, worth, strict=True) if value == min(worth)]
    alike = {name for match in equals for name in (match.encoding, *match.could_be_from_charset)}
    return next((name for name in _EIGHT_BIT if name in alike), matches[0].encoding)


def find_delimiter(text: str, quote: str | None) -> str:
    """The single character that cuts the rows into the same number of values most consistently."""
    candidates = [d for d in _USUAL_DELIMITERS if d in text]
    first_lines = text[:4000]
    others = sorted(
        {c for c in first_lines if not c.isalnum() and c not in _USUAL_DELIMITERS and c not in "\"' \r\n.-_/()@"}
    )
    best, best_score = ",", 0.0
    for delimiter in [*candidates, *others]:
        widths = [len(row) for row in _rows(text, delimiter, quote) if any(row)]
        if not widths:
            continue
        # a heading's width that most rows share counts; a few title lines or totals must not matter
        width, times = Counter(w for w in widths).most_common(1)[0]
        if width < 2:
            continue
        score = times / len(widths) * math.log(width + 1) * (1.0 if delimiter in _USUAL_DELIMITERS else 0.6)
        if score > best_score:
            best, best_score = delimiter, score
    return best


def _rows(text: str, delimiter: str, quote: str | None) -> list[list[str]]:
    rows = []
    quoting: Literal[0, 3] = 3 if quote is None else 0  # csv.QUOTE_NONE, csv.QUOTE_MINIMAL
    lines = text.split("\n")
    csv.field_size_limit(max(csv.field_size_limit(), len(text) + 1))
    reader = csv.reader((line + "\n" for line in lines), delimiter=delimiter, quotechar=quote, quoting=quoting)
    try:
        for row in reader:
            rows.append(row)
            if len(rows) >= _SAMPLE_ROWS:
                break
    except csv.Error:
        pass
    return rows


def _find_heading_line(text: str, delimiter: str, options: ReadOptions, path: Path) -> tuple[int, tuple[str, ...]]:
    if options.heading == 0:
        return 0, ("",) * len(_rows(text, delimiter, options.quote)[0])
    if options.heading is not None:
        lines = text.split("\n")
        if options.heading > len(lines):
            raise SourceError(
                f"the heading should be in line {options.heading}, but the file has fewer lines.",
                place=Place(file=str(path)),
                hint="Correct heading= in the plan's source.",
            )
        rows = _rows("\n".join(lines[options.heading - 1 :]), delimiter, options.quote)
        return options.heading, tuple(rows[0])
    rows = _rows(text, delimiter, options.quote)
    index = find_heading(rows[:50])
    # rows with line breaks inside values are rare above a heading: count lines through the values themselves
    line = 1 + sum(1 + sum(cell.count("\n") for cell in row) for row in rows[:index])
    return line, tuple(cell.rstrip("\r\n") for cell in rows[index])
