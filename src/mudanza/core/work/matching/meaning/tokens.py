"""Headings as plain small words, and what programs make of words when they shorten them."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Sequence
from functools import lru_cache

#: letters that are no plain letter with an accent, as people write them without
_PLAIN = {
    "ß": "ss",
    "ø": "o",
    "æ": "ae",
    "œ": "oe",
    "ł": "l",
    "ı": "i",
    "đ": "d",
    "ð": "d",
    "þ": "th",
    "ς": "σ",
    "º": " ",
    "ª": " ",
}
_VOWELS = frozenset("aeiouyαεηιουωаеиоуыэюя")


class _Folding(dict[int, str]):
    """What a character becomes without its accents, found out once for each."""

    def __missing__(self, code: int) -> str:
        small = chr(code).lower()
        plain = "".join(c for c in unicodedata.normalize("NFKD", small) if not unicodedata.combining(c))
        made = "".join(_PLAIN.get(c, c) for c in plain)
        self[code] = made
        return made


_FOLDING = _Folding()
_WORD = re.compile(r"[^\W_]+")
#: letters with points: `D.N.I.`
_INITIALS = re.compile(r"(?<!\w)(?:[^\W\d_]\.){2,}(?:[^\W\d_](?!\w))?")
_PIECE = re.compile(r"\d+|[^\d]+")


def folded(text: str) -> str:
    """A text in small letters without accents."""
    return text.translate(_FOLDING)


@lru_cache(maxsize=100_000)
def words_of(text: str) -> tuple[str, ...]:
    """A heading as plain small words: `KundenNr.`, `kunden_nr` and `KUNDEN NR` alike."""
    if "." in text:
        text = _INITIALS.sub(lambda m: m.group().replace(".", ""), text)
    if any(map(str.isupper, text[1:])):
        text = "".join(
            f" {c}" if c.isupper() and before.islower() else c for before, c in zip(" " + text, text, strict=False)
        )
    plain = text.translate(_FOLDING).replace("'", " ").replace("%", " percent ").replace("#", " id ")
    words = _WORD.findall(plain)
    if not any(map(str.isdigit, plain)):
        return tuple(words)
    return tuple(piece for word in words for piece in _PIECE.findall(word))


def shortens(short: str, word: str) -> bool:
    """Whether a word may be shortened so: its beginning (`desc`), or its first letter with consonants in their order, a last sounding one among them
    (`qty`, `wgt`, `itm`, `gndr`)."""
    if not 2 <= len(short) < len(word) or short[0] != word[0]:
        return False
    if len(short) >= 3 and word.startswith(short):
        return True
    if len(short) < 3 or len(word) > 2.5 * len(short) + 2 or any(c in _VOWELS and c != "y" for c in short[1:]):
        return False
    letters = iter(word)
    return all(c in letters for c in short) and short[-1] in word[-3:]


def shortens_phrase(short: str, phrase: Sequence[str]) -> bool:
    """Whether one short word is made of the beginnings or consonants of all words of a phrase, in their order (`untprc`: unit price; `bdate`: birth date;
    `doa`: date of arrival)."""
    return len(short) >= 2 and len(phrase) >= 2 and _taken(short, tuple(phrase))


def _taken(short: str, phrase: tuple[str, ...]) -> bool:
    if not phrase:
        return not short
    word = phrase[0]
    if not short or short[0] != word[0]:
        return False
    for size in range(min(len(short) - len(phrase) + 1, len(word)), 0, -1):
        piece = short[:size]
        if (word.startswith(piece) or _consonants(piece, word)) and _taken(short[size:], phrase[1:]):
            return True
    return False


def _consonants(piece: str, word: str) -> bool:
    if any(c in _VOWELS for c in piece[1:]):
        return False
    letters = iter(word)
    return all(c in letters for c in piece)


def inflects(one: str, other: str) -> bool:
    """Whether two words may be forms of one: alike up to a short ending (`fakturans`, `faktura`; `kundens`, `kunden`)."""
    if min(len(one), len(other)) < 4 or abs(len(one) - len(other)) > 3:
        return False
    same = 0
    for a, b in zip(one, other, strict=False):
        if a != b:
            break
        same += 1
    return same >= max(4, len(one) - 3, len(other) - 3) and same >= 0.72 * max(len(one), len(other))


def contracts(short: str, word: str) -> bool:
    """Whether a long word may be contracted so: its beginning and a later piece of it, both of three letters or more, or of two at its end
    (`betrkost`: Betriebskosten; `egysar`: egységár)."""
    if len(short) < 6 or len(word) < len(short) + 2 or word[:3] != short[:3]:
        return False
    return any(
        word.startswith(short[:cut])
        and (short[cut:] in word[cut + 1 :] if len(short) - cut >= 3 else word.endswith(short[cut:]))
        for cut in range(3, len(short) - 1)
    )
