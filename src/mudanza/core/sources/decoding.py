"""Finding out a text file's encoding, and reading its bytes as UTF-8."""

from __future__ import annotations

import codecs
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from mudanza.core.documents.errors import Place, SourceError
from mudanza.core.sources.encodings import guess_encoding
from mudanza.core.sources.reader import Encoding, ReadOptions

#: Bytes read at a time. Measured: 8 MiB is the fastest on two cores and keeps memory small.
BLOCK = 8 << 20
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
#: control characters that texts do not have
_NO_TEXT = bytes([*range(8), *range(14, 27), *range(28, 32)])


@dataclass(frozen=True)
class TextFile:
    """A text file's encoding and how it was found, the bytes of byte order mark, whether its lines end in CR alone, and its first
    text, up to a whole line."""

    path: Path
    found: Encoding
    skip: int
    carriage_returns: bool
    head: str

    @property
    def encoding(self) -> str:
        return self.found.name


def look_at(path: Path, options: ReadOptions) -> TextFile:
    """Find out how a text file is encoded, from its head and pieces further on. Raises SourceError if it is empty."""
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
    found, skip = find_encoding(pieces, options.encoding, path)
    encoding = found.name
    strange = len(head) - len(head.translate(None, _NO_TEXT))
    if not encoding.startswith(("utf-16", "utf-32")) and strange > max(8, 0.05 * len(head)):
        raise SourceError(
            "the file is no text.",
            place=Place(file=str(path)),
            hint="Look at what program wrote it, and export the records as CSV or workbook.",
        )
    text = head[skip:].decode(encoding, "replace")
    if size > len(head):
        text = text[: max(text.rfind("\n"), text.rfind("\r")) + 1] or text
    carriage_returns = "\n" not in text and "\r" in text
    if carriage_returns:
        text = text.replace("\r", "\n")
    if not text.strip():
        raise SourceError("the file has no rows.", place=Place(file=str(path)), hint="Export it again.")
    return TextFile(path, found, skip, carriage_returns, text)


def utf8_chunks(
    text: TextFile, size: int, *, exactly: bool = True, end: int | None = None, block: int = BLOCK
) -> Iterator[bytes]:
    """The file's bytes as UTF-8 in chunks, the first of `size` bytes, up to the byte `end`.

    What cannot be decoded stays visible as an invalid sequence; with `exactly` False, UTF-8 is decoded too (so that
    every chunk holds whole characters).
    """
    with text.path.open("rb") as file:
        file.seek(text.skip)
        left = None if end is None else end - text.skip
        if text.encoding == "utf-8" and exactly:
            decoder = None
        else:
            wide = text.encoding.startswith(("utf-16", "utf-32"))
            decoder = codecs.getincrementaldecoder(text.encoding)("replace" if wide else "surrogateescape")
        while True:
            raw = file.read(size if left is None else min(size, left))
            left = None if left is None else left - len(raw)
            size = block
            chunk = raw
            if text.encoding == "cp1252" and exactly and not _has_c1(raw):
                # without the 32 characters in which they differ, the quicker codec does
                chunk = raw.decode("latin-1").encode()
            elif decoder is not None:
                chunk = decoder.decode(raw, final=not raw).encode("utf-8", "surrogatepass")
            if text.carriage_returns:
                chunk = chunk.replace(b"\r", b"\n")
            yield chunk
            if not raw:
                return


def share_of(text: TextFile, blocks: int) -> float:
    """How much of a file so many blocks are."""
    return min(1.0, blocks * BLOCK / max(text.path.stat().st_size, 1))


def whole_text(path: Path, options: ReadOptions) -> tuple[str, TextFile]:
    """All of a text file, decoded, for formats that are read in one piece. Raises SourceError where it cannot be decoded."""
    text = look_at(path, options)
    raw = path.read_bytes()[text.skip :]
    try:
        return raw.decode(text.encoding), text
    except UnicodeDecodeError as error:
        raise SourceError(
            f"a byte here is no text in {text.encoding}.",
            place=Place(str(path), line=raw.count(b"\n", 0, error.start) + 1),
            hint='Say the right encoding (encoding = "cp1252" in the plan\'s source), or mend the file.',
        ) from None


def _has_c1(raw: bytes) -> bool:
    data = np.frombuffer(raw, np.uint8)
    return bool(((data & 0xE0) == 0x80).any())


def find_encoding(pieces: list[bytes], said: str | None, path: Path) -> tuple[Encoding, int]:
    """The encoding of a file from pieces of it (by its Python name), and the bytes of byte order mark."""
    for bom, name in _BOMS:
        if pieces[0].startswith(bom) and (said is None or codecs.lookup(said).name.startswith(name[:6])):
            return Encoding(name, "mark"), len(bom)
    if said is not None:
        try:
            return _judged(codecs.lookup(said).name, pieces, path), 0
        except LookupError:
            raise SourceError(
                f"there is no encoding {said!r}.",
                place=Place(file=str(path)),
                hint="Usual ones are utf-8, cp1252, iso-8859-1, utf-16.",
            ) from None
    head = pieces[0]
    if head.count(b"\0") > len(head) // 5:
        evens, odds = head[0::2].count(b"\0"), head[1::2].count(b"\0")
        return Encoding("utf-16-le" if odds > evens else "utf-16-be", "zeros"), 0
    if all(piece.isascii() for piece in pieces):
        return Encoding("utf-8", "ascii"), 0
    whole = len(pieces) == 1 and len(head) < _HEAD
    if all(_is_utf8(piece, first=number == 0, last=whole) for number, piece in enumerate(pieces)):
        return Encoding("utf-8", "valid"), 0
    odd = b"".join(piece for piece in pieces if not piece.isascii())
    if _mostly_utf8(odd):
        return Encoding("utf-8", "mostly valid"), 0
    guess, others = guess_encoding(odd, _beyond(path))
    return Encoding(guess, "guess", others), 0


def _judged(said: str, pieces: list[bytes], path: Path) -> Encoding:
    """The encoding that was said, and whether the file looks like another. Raises SourceError if it is plainly no such wide encoding."""
    head = pieces[0]
    if said.startswith(("utf-16", "utf-32")):
        if head.count(b"\0") < len(head) // 8 and head.isascii():
            raise SourceError(
                f"the file is not in {said}: it has one byte for each character.",
                place=Place(file=str(path)),
                hint="Correct encoding=, or leave it out to have it found.",
            )
        return Encoding(said, "said")
    try:
        codecs.getincrementaldecoder(said)().decode(head, final=False)
    except UnicodeDecodeError:
        found, _ = find_encoding(pieces, None, path)
        return Encoding(said, "said", likelier=found.name if found.name != said else None)
    return Encoding(said, "said")


def _is_utf8(piece: bytes, first: bool, last: bool) -> bool:
    start = 0
    while not first and start < 4 and start < len(piece) and piece[start] & 0xC0 == 0x80:
        start += 1
    try:
        codecs.getincrementaldecoder("utf-8")().decode(piece[start:], final=last)
    except UnicodeDecodeError:
        return False
    return True


def _mostly_utf8(odd: bytes) -> bool:
    """Whether multi-byte sequences are well formed far more often than not."""
    text = odd.decode("utf-8", "replace")
    wrong = text.count("\ufffd")
    right = len(text) - len(text.encode("ascii", "ignore")) - wrong
    return right > 20 * wrong


def _beyond(path: Path) -> frozenset[int]:
    """All bytes over 127 of a file."""
    found: set[int] = set()
    with path.open("rb") as file:
        while piece := file.read(_HEAD):
            if not piece.isascii():
                data = np.frombuffer(piece, np.uint8)
                found.update(np.flatnonzero(np.bincount(data[data > 127], minlength=256)).tolist())
    return frozenset(found)
