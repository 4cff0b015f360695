"""Which eight-bit encoding a text is in, judged by the letters of languages; and what else would read it as well."""

from __future__ import annotations

import math
import re
from collections import Counter
from dataclasses import dataclass, replace
from functools import cache
from itertools import islice

import numpy as np
import numpy.typing as npt

from mudanza.core.values.letters import LETTERS, OTHER_SCRIPTS, SIGNS

#: encodings of one byte for a character, the commonest in exports first
ENCODINGS = [
    "cp1252", "cp1250", "cp1251", "cp1253", "cp1254", "cp1257", "mac_roman", "cp850", "cp852", "cp437", "cp1255", "cp1256", "cp866", "koi8_r", "koi8_u",
    "cp874", "iso8859-2", "iso8859-15", "iso8859-16", "iso8859-4", "iso8859-13", "iso8859-5", "iso8859-7", "cp737", "cp857", "cp775", "cp861", "cp865", "mac_latin2",
]  # fmt: skip
#: encodings of several bytes for a character
_WIDE = ["gb18030", "big5", "shift_jis", "cp949"]
_LETTER, _SIGN, _STRANGE = 0.93, 0.06, 1e-5
#: letters that a word cannot have so: small ones before a capital, a letter of another script
_ODD = 6.0
#: a byte that an encoding does not have
_LACKING = 14.0
#: how much worse another reading may be and still count as fitting as well
_MARGIN = 7.0
#: how rare an encoding is, for readings that are alike
_RARITY = 0.3
_POOR = 6.5
_LOOKED_AT = 12


Flags = npt.NDArray[np.bool_]


@dataclass(frozen=True)
class _Reading:
    """A text as an encoding reads it, in the likeliest language: how improbable it is (minus its logarithm), and what becomes of each byte."""

    encoding: str
    language: str
    worth: float
    signs: tuple[str, ...]


def guess_encoding(sample: bytes, beyond: frozenset[int]) -> tuple[str, tuple[str, ...]]:
    """The likeliest encoding of bytes that are no UTF-8, and others that would read them otherwise and as well.

    `beyond` are all bytes over 127 of the whole text; an encoding that lacks one counts only if those that have them all make no sense of the text.
    """
    counts = Counter(byte for byte in sample if byte > 127)
    total = sum(counts.values())
    # what stands beyond the sample counts as seen once
    counts.update(beyond - counts.keys())
    text = _relevant(sample)
    readings = sorted((_read(name, counts, _RARITY * rank) for rank, name in enumerate(ENCODINGS)), key=_worth)
    # how letters stand among others is looked at for those that it can matter for
    readings = sorted((_placed(reading, text) for reading in readings[:_LOOKED_AT]), key=_worth)
    if readings[0].worth / max(total, 1) > _POOR:
        wide = _wide(sample)
        if wide is not None:
            return wide, ()
    best = readings[0]
    others = [r for r in readings[1:] if r.worth <= best.worth + _MARGIN and r.signs != best.signs]
    # of several that read it alike one is enough
    alike = {r.signs: r.encoding for r in reversed(others)}
    return best.encoding, tuple(r.encoding for r in others if alike[r.signs] == r.encoding)


@cache
def _table(encoding: str) -> tuple[str | None, ...]:
    """What each byte stands for."""
    found: list[str | None] = []
    for byte in range(256):
        try:
            sign = bytes([byte]).decode(encoding)
        except UnicodeDecodeError:
            sign = ""
        # a control character is no text
        found.append(sign if sign and (byte < 128 or sign.isprintable() or sign == "\u00a0") else None)
    return tuple(found)


def _relevant(sample: bytes) -> bytes:
    """The pieces of a sample around bytes over 127, of which there may be few in a long text."""
    # each word once, however long it is
    words = (match[0] for match in re.finditer(rb"[A-Za-z\x80-\xff]+", sample[: 1 << 20]))
    return b" ".join(islice((word for word in words if not word.isascii()), 5000))


def _worth(reading: _Reading) -> float:
    return reading.worth


def _read(encoding: str, counts: Counter[int], rarity: float) -> _Reading:
    table = _table(encoding)
    signs = {byte: table[byte] or "" for byte in sorted(counts)}
    lacking = sum(counts[byte] for byte, sign in signs.items() if not sign)
    worth, language = min((_improbable(signs, counts, name), name) for name in LETTERS)
    return _Reading(encoding, language, worth + _LACKING * lacking + rarity, tuple(signs.values()))


def _placed(reading: _Reading, text: bytes) -> _Reading:
    """The reading, with what speaks against it in how letters stand among others."""
    table = _table(reading.encoding)
    kept = text.translate(bytes(byte if table[byte] is not None else 0x20 for byte in range(256)))
    plain = kept.decode(reading.encoding, "replace")
    odd = _odd(np.frombuffer(kept, np.uint8), *_cases(reading.encoding))
    foreign = r"[^\W\d_A-Za-z]" if reading.language in OTHER_SCRIPTS else r"[\u0370-\u1dff]"
    odd += len(re.findall(f"[A-Za-z]{foreign}|{foreign}[A-Za-z]", plain))
    return replace(reading, worth=reading.worth + _ODD * odd)


@cache
def _cases(encoding: str) -> tuple[Flags, Flags, Flags]:
    """Which bytes are small letters, capitals, and letters of any kind."""
    signs = [sign or "" for sign in _table(encoding)]
    lower, upper, letter = (
        np.array([test(sign) for sign in signs]) for test in (str.islower, str.isupper, str.isalpha)
    )
    return lower, upper, lower | upper | letter


def _odd(letters: npt.NDArray[np.uint8], lowers: Flags, uppers: Flags, all_letters: Flags) -> int:
    """How often letters stand as no word has them: a capital behind a small letter, a small one between capitals; and signs within words."""
    lower, upper, beyond = lowers[letters], uppers[letters], letters > 127
    if len(letters) < 3:
        return 0
    capital = (upper[1:] & lower[:-1] & (beyond[1:] | beyond[:-1])).sum()
    small = (lower[1:-1] & upper[:-2] & upper[2:] & beyond[1:-1]).sum()
    letter = all_letters[letters]
    within = (~letter[1:-1] & letter[:-2] & letter[2:] & beyond[1:-1]).sum()
    # a capital alone is seldom a word
    inner = np.concatenate([[False], letter, [False]])
    alone = (upper & beyond & ~inner[:-2] & ~inner[2:]).sum()
    return int(capital + small + within + alone)


def _improbable(signs: dict[int, str], counts: Counter[int], language: str) -> float:
    """Minus the logarithm of how probable the characters are in a language."""
    shares = LETTERS[language]
    total = 0.0
    for byte, sign in signs.items():
        share = shares.get(sign, 0.0)
        probable = _LETTER * share if share else _SIGN / len(SIGNS) if sign and sign in SIGNS else _STRANGE
        total -= counts[byte] * math.log(probable)
    return total


def _wide(sample: bytes) -> str | None:
    """An encoding of several bytes for a character, if the detection library finds one."""
    from charset_normalizer import from_bytes

    match = from_bytes(sample[: 1 << 15], cp_isolation=_WIDE, threshold=0.4).best()
    return match.encoding if match is not None else None
