"""Capitals marked, so that texts that differ by capitals alone differ also where capitals are not told from small letters; with the way back."""

from __future__ import annotations

import unicodedata
from functools import cache

#: stands before a letter that was a capital; it is doubled where it stands itself
MARK = "_"


#: beyond it no script has capitals
_END = 0x20000


@cache
def pairs() -> dict[str, str]:
    """Each capital that has a small letter of its own, and the mark, with how they are written."""
    letters = (chr(code) for code in range(_END) if unicodedata.category(chr(code)) == "Lu")
    own = {
        letter: letter.lower() for letter in letters if len(letter.lower()) == 1 and letter.lower().upper() == letter
    }
    return {MARK: MARK * 2, **{letter: MARK + small for letter, small in own.items()}}


@cache
def pairs_back() -> dict[str, str]:
    """What is written, with what it stands for."""
    return {written: sign for sign, written in pairs().items()}
