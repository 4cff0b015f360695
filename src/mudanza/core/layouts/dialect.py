"""How a layout's files are written and read (CSV on the Web, "Metadata Vocabulary", section 5.9)."""

from __future__ import annotations

import codecs
import json
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from mudanza.core.documents.marks import KeyPath
from mudanza.core.layouts.metadata import Metadata

_PROPERTIES = {
    "@id", "@type", "commentPrefix", "delimiter", "doubleQuote", "encoding", "header", "headerRowCount",
    "lineTerminators", "quoteChar", "skipBlankRows", "skipColumns", "skipInitialSpace", "skipRows", "trim",
}  # fmt: skip
#: what Python calls encodings, and no text of a table is written in
_NO_ENCODINGS = {"idna", "punycode", "unicode_escape", "raw_unicode_escape", "undefined", "utf-7", "mbcs", "oem"}
_MOST_SKIPPED = 10_000
_TRIMS = {True: "both", False: "", "true": "both", "false": "", "start": "start", "end": "end"}


@dataclass(frozen=True)
class Around:
    """What stands around the records and is none of them: rows above, columns before, lines that begin with a `comment` sign (none, if it is empty; None: nothing is said of them), blank rows, spaces
    at the "start" or "end" of values or at "both"."""

    rows: int = 0
    columns: int = 0
    comment: str | None = None
    blank_rows: bool = False
    trim: str = ""


@dataclass(frozen=True)
class Dialect:
    """How the file is written. `line_ends` are those that lines may have, the first that they are given."""

    delimiter: str = ","
    quote: str | None = '"'
    double_quote: bool = True
    encoding: str = "utf-8"
    bom: bool = False
    line_ends: tuple[str, ...] = ("\r\n", "\n")
    header_rows: int = 1
    around: Around = Around()

    @property
    def line_end(self) -> str:
        """How lines are ended."""
        return self.line_ends[0]

    @property
    def header(self) -> bool:
        """Whether there are headings."""
        return self.header_rows > 0


def dialect_of(metadata: Metadata, said: Any, usual: Dialect) -> Dialect:
    """The dialect of a table, of what its key `dialect` holds, and the `usual` delimiter and headings. Raises LayoutError where it cannot be obeyed."""
    at: KeyPath = ("dialect",)
    if isinstance(said, str):
        raise metadata.fail(at, "a dialect that stands elsewhere is not read.", "Write it here, in braces.")
    node = metadata.known(said, at, _PROPERTIES, "a dialect", "Dialect")
    delimiter = metadata.typed(node, "delimiter", str, at)
    delimiter = usual.delimiter if delimiter is None else delimiter
    quote = node.get("quoteChar", '"')
    for key, sign in (("delimiter", delimiter), ("quoteChar", quote)):
        if sign is None and key == "quoteChar":
            continue
        if not isinstance(sign, str) or len(sign.encode()) != 1 or sign.isalnum() or sign in "\0\r\n\x1c\x1d\x1e\x1f":
            raise metadata.fail((*at, key), f"{key} must be one plain sign, not {json.dumps(sign)}.")
    if delimiter == quote:
        raise metadata.fail((*at, "quoteChar"), "delimiter and quoteChar are the same character.")
    encoding, bom = _encoding(metadata, node, at)
    double = metadata.typed(node, "doubleQuote", bool, at)
    return Dialect(
        delimiter=delimiter,
        quote=quote,
        double_quote=double is not False,
        encoding=encoding,
        bom=bom,
        line_ends=_line_ends(metadata, node, at),
        header_rows=_header_rows(metadata, node, at, usual),
        around=_around(metadata, node, at, delimiter, quote),
    )


def _encoding(metadata: Metadata, node: Mapping[str, Any], at: KeyPath) -> tuple[str, bool]:
    said = metadata.typed(node, "encoding", str, at)
    said = "utf-8" if said is None else said
    try:
        found = codecs.lookup(said)
        ",;".encode(said)
        if found.name in _NO_ENCODINGS or not found._is_text_encoding:
            raise LookupError
    except (LookupError, UnicodeError, ValueError):
        raise metadata.fail(
            (*at, "encoding"), f"there is no encoding {said!r} of texts.", "Use utf-8 or windows-1252."
        ) from None
    bom = said.lower().replace("_", "-").endswith("-sig")
    return ("utf-8" if bom else found.name), bom


def _line_ends(metadata: Metadata, node: Mapping[str, Any], at: KeyPath) -> tuple[str, ...]:
    if "lineTerminators" not in node:
        return ("\r\n", "\n")
    ends = metadata.texts(node["lineTerminators"], (*at, "lineTerminators"))
    if not ends or not {*ends} <= {"\r\n", "\n", "\r"} or len({*ends}) < len(ends):
        raise metadata.fail((*at, "lineTerminators"), "lines end with \\r\\n, \\n or \\r.")
    return ends


def _header_rows(metadata: Metadata, node: Mapping[str, Any], at: KeyPath, usual: Dialect) -> int:
    header = metadata.typed(node, "header", bool, at)
    count = metadata.typed(node, "headerRowCount", int, at)
    if header is not None and count is not None and header != bool(count):
        raise metadata.fail((*at, "headerRowCount"), f"header {json.dumps(header)} contradicts headerRowCount {count}.")
    if count is not None and count > 20:
        raise metadata.fail((*at, "headerRowCount"), f"{count} rows of headings are more than are read (20).")
    if count is not None:
        return int(count)
    return usual.header_rows if header is None else int(header)


def _around(metadata: Metadata, node: Mapping[str, Any], at: KeyPath, delimiter: str, quote: str | None) -> Around:
    rows, columns = (metadata.typed(node, key, int, at) or 0 for key in ("skipRows", "skipColumns"))
    for key, count in (("skipRows", rows), ("skipColumns", columns)):
        if count > _MOST_SKIPPED:
            raise metadata.fail((*at, key), f"{key} {count} is more than can be skipped ({_MOST_SKIPPED}).")
    comment = node.get("commentPrefix")
    if comment is not None and (
        not isinstance(comment, str) or not comment.strip() or {*comment} & {delimiter, quote, "\r", "\n", "\0"}
    ):
        raise metadata.fail((*at, "commentPrefix"), "commentPrefix is a sign that lines begin with, or null.")
    initial = metadata.typed(node, "skipInitialSpace", bool, at)
    trim = node.get("trim", "start" if initial else False)
    if not isinstance(trim, (bool, str)) or trim not in _TRIMS:
        raise metadata.fail((*at, "trim"), 'trim is true, false, "start" or "end".')
    blank = metadata.typed(node, "skipBlankRows", bool, at)
    return Around(rows, columns, comment, bool(blank), _TRIMS[trim])
