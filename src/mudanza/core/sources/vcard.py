"""Contacts as vCard 3.0 (RFC 2426) and 4.0 (RFC 6350), and what is left of 2.1: one record a card."""

from __future__ import annotations

import quopri
import re
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

import polars as pl

from mudanza.core.sources.decoding import TextFile, whole_text
from mudanza.core.sources.headings import tell_apart
from mudanza.core.sources.reader import Batch, BrokenRow, FileFacts, ReadOptions, WithoutCells, shorter
from mudanza.core.sources.trees import TEXTS
from mudanza.core.values.row_columns import LINE

_PARTS = {
    "N": ("family", "given", "additional", "prefix", "suffix"),
    "ADR": ("box", "extended", "street", "town", "region", "postcode", "country"),
}
_PROPERTY = re.compile(r"(?:[\w-]+\.)?([\w-]+)((?:;[^:;\"]*(?:\"[^\"]*\"[^:;\"]*)*)*):(.*)", re.S)
_TYPES = {"home", "work", "cell", "fax", "pager", "other"}
_BINARY = {"PHOTO", "LOGO", "SOUND", "KEY"}


def open_file(path: Path, options: ReadOptions, known_as: Path) -> VcardFile:
    """A reader of cards."""
    return VcardFile(path, options, known_as)


@dataclass(frozen=True)
class VcardFile(WithoutCells):
    """A file of cards opened for reading; `#line` is where a card begins. Properties that stand several times are several texts in
    one column; parts of names and addresses are columns of their own (`N.family`, `ADR.home.street`)."""

    path: Path
    options: ReadOptions
    known_as: Path

    @cached_property
    def _text(self) -> tuple[str, TextFile]:
        return whole_text(self.path, self.options)

    @cached_property
    def _cards(self) -> tuple[list[tuple[int, dict[str, list[str]]]], list[BrokenRow]]:
        cards: list[tuple[int, dict[str, list[str]]]] = []
        broken: list[BrokenRow] = []
        begun: int | None = None
        card: dict[str, list[str]] = {}
        for number, line in _unfolded(self._text[0]):
            word = line.strip().upper()
            if word == "BEGIN:VCARD":
                if begun is not None:
                    broken.append(
                        BrokenRow(
                            begun, "read.cut-off", "BEGIN:VCARD …", "BEGIN:VCARD", rule="END:VCARD before the next card"
                        )
                    )
                begun, card = number, {}
            elif word == "END:VCARD" and begun is not None:
                cards.append((begun, card))
                begun = None
            elif line.strip():
                match = _PROPERTY.fullmatch(line)
                if match is None or begun is None:
                    broken.append(BrokenRow(number, "read.odd-line", line, shorter(line), rule="a property of a card"))
                else:
                    _take(card, match)
        if begun is not None:
            broken.append(
                BrokenRow(
                    begun, "read.cut-off", "BEGIN:VCARD …", "BEGIN:VCARD", rule="END:VCARD at the end of the file"
                )
            )
        return cards, broken

    @cached_property
    def raw_headings(self) -> tuple[str, ...]:
        return tuple(dict.fromkeys(name for _, card in self._cards[0] for name in card))

    @cached_property
    def headings(self) -> tuple[str, ...]:
        return tuple(tell_apart(self.raw_headings))

    @cached_property
    def facts(self) -> FileFacts:
        text = self._text[1]
        return FileFacts(self.known_as, "vCard", self.path.stat().st_size, 0, text.found)

    def batches(self, *, first: bool = False) -> Iterator[Batch]:  # noqa: ARG002
        """The cards, all in one batch."""
        cards, broken = self._cards
        texts = self.options.own.get("texts", TEXTS)
        data = {
            heading: pl.Series([texts.join(card.get(name, [])) or None for _, card in cards], dtype=pl.String)
            for heading, name in zip(self.headings, self.raw_headings, strict=True)
        }
        lines = pl.Series([line for line, _ in cards], dtype=pl.Int64)
        yield Batch(pl.DataFrame({**data, LINE: lines}), tuple(broken))


def _unfolded(text: str) -> Iterator[tuple[int, str]]:
    """Logical lines with the number of their first one (RFC 6350, 3.2; soft line ends of quoted-printable too)."""
    number, line = 0, ""
    for at, raw in enumerate(text.split("\n"), start=1):
        piece = raw.rstrip("\r")
        if piece[:1] in (" ", "\t") and line:
            line += piece[1:]
        elif line.endswith("=") and "QUOTED-PRINTABLE" in line.upper():
            line = line[:-1] + piece
        else:
            if line:
                yield number, line
            number, line = at, piece
    if line:
        yield number, line


def _take(card: dict[str, list[str]], match: re.Match[str]) -> None:
    name, parameters, value = match.group(1).upper(), match.group(2), match.group(3)
    words = {w.strip('"').lower() for p in parameters.split(";") for w in re.split("[=,]", p)}
    if "quoted-printable" in words:
        value = quopri.decodestring(value.encode("latin-1", "replace")).decode("utf-8", "replace")
    kind = next((t for t in sorted(_TYPES) if t in words), None)
    column = f"{name}.{kind}" if kind and name not in ("N", "FN") else name
    if name in _BINARY and (value.startswith("data:") or words & {"b", "base64"}):
        card.setdefault(column, []).append(f"(binary, {len(value) * 3 // 4} bytes)")
    elif name in _PARTS:
        for part, text in zip(_PARTS[name], re.split(r"(?<!\\);", value), strict=False):
            if text.strip():
                card.setdefault(f"{column}.{part}", []).append(_plain(text))
    elif name not in ("VERSION", "PRODID"):
        plain = (
            " ".join(filter(None, (_plain(t) for t in re.split(r"(?<!\\);", value))))
            if name == "ORG"
            else _plain(value)
        )
        card.setdefault(column, []).append(plain.removeprefix("tel:"))


def _plain(text: str) -> str:
    """A value without its escapes (RFC 6350, 3.4)."""
    return re.sub(r"\\([nN,;:\\])", lambda m: "\n" if m.group(1) in "nN" else m.group(1), text).strip()
