"""Letters that came back as others: read in the wrong encoding, without their accents, as question marks, in other forms of one letter."""

from __future__ import annotations

import unicodedata
from collections.abc import Callable, Iterator, Mapping
from functools import partial

import polars as pl

from mudanza.core.work.loans.spoilage.spoilage import AFTER, BEFORE, Spoilage, alike, one_of

_BEYOND = r"[^\x00-\x7f]"
#: encodings that programs take others for
_READ_AS = ("cp1252", "latin-1", "cp1250", "mac_roman", "cp850", "cp437", "iso8859-15")
#: encodings in which programs write, and lose what these lack
_EIGHT_BITS = ("cp1252", "mac_roman", "cp850")
_WRITTEN_AS = ("ascii", "cp1252", "latin-1", "cp1250", "cp850", "mac_roman")
#: the letters that an edited cell may have: Latin ones and the signs that stand beside them
_LIKELY = "".join(map(chr, (*range(0xA0, 0x250), *range(0x2010, 0x2040), 0x20AC, 0x2122, 0x1E9E)))
_SPELLED = {"ä": "ae", "ö": "oe", "ü": "ue", "Ä": "Ae", "Ö": "Oe", "Ü": "Ue", "ß": "ss", "æ": "ae", "Æ": "Ae", "ø": "o", "Ø": "O", "œ": "oe", "å": "aa", "ł": "l", "Ł": "L", "đ": "d", "Đ": "D"}  # fmt: skip
_CURLED = {"‘": "'", "’": "'", "‚": "'", "´": "'", "“": '"', "”": '"', "„": '"', "«": '"', "»": '"', "–": "-", "—": "-", "‐": "-", "‑": "-", "−": "-", "…": "...", "•": "-"}  # fmt: skip
_TYPED = r"""['"\-]|\.\.\."""
_LOST = "\ufffd"


def letters(before: pl.Series) -> Iterator[Spoilage]:
    """The ways in which letters of a column are spoilt. `before` are the texts that were lent."""
    beyond = _letters_of(before)
    if beyond:
        yield from _read_wrongly(beyond)
        yield from _lost(beyond)
    yield alike(
        "forms",
        "letters and their accents apart or together",
        "sure",
        BEFORE.str.normalize("NFKC"),
        AFTER.str.normalize("NFKC"),
        mended=AFTER.str.normalize("NFC"),
    )
    straight = _with(_CURLED)
    curled = AFTER.str.contains(f"[{''.join(_CURLED)}]")
    made = (straight(BEFORE) == straight(AFTER)).fill_null(False) & (BEFORE != AFTER)
    could = BEFORE.str.contains(_TYPED).fill_null(False)
    yield Spoilage("quotes", "quotes and dashes made typographic", "sure", made & curled, could, straight(AFTER))
    yield alike("straight", "typographic quotes and dashes made plain", "mark", straight(BEFORE), AFTER, spreads=True)


def _letters_of(before: pl.Series) -> str:
    found = before.drop_nulls().unique().str.extract_all(_BEYOND).list.explode(empty_as_null=True).drop_nulls()
    return "".join(sorted(found.unique().to_list()))


def _read_wrongly(beyond: str) -> Iterator[Spoilage]:
    pairs = [("utf-8", name) for name in _READ_AS]
    pairs += [(a, b) for a in _EIGHT_BITS for b in _READ_AS if a != b]
    tables = [_table(beyond, partial(_misread, written=a, read=b)) for a, b in pairs]
    tables.append(_table(beyond, partial(_misread, written="utf-8", read="cp1252", lacking=_LOST)))
    tables += [_table(beyond, partial(_misread_twice, read=name)) for name in ("cp1252", "latin-1")]
    forms = [_with(table)(BEFORE) for table in tables if table]
    back = _table(_LIKELY, partial(_misread, written="utf-8", read="cp1252"))
    mended = _with({spoilt: one for one, spoilt in back.items()})(AFTER)
    if forms:
        yield one_of("encoding", "letters read in another encoding", "sure", *forms, mended=mended)


def _lost(beyond: str) -> Iterator[Spoilage]:
    forms = []
    for name in _WRITTEN_AS:
        lacking = _table(beyond, partial(_unwritten, encoding=name))
        forms.append(_with(lacking)(BEFORE))
    for sign in ("?", _LOST, "_"):
        forms.append(_with(dict.fromkeys(beyond, sign))(BEFORE))
        forms.append(_with({one: sign * len(one.encode()) for one in beyond})(BEFORE))
    suspect = AFTER.str.contains(rf"[{_LOST}]|\p{{L}}\?\p{{L}}")
    words = "letters lost (? or \N{REPLACEMENT CHARACTER} instead)"
    yield one_of("lost letters", words, "sure", *forms, suspect=suspect)
    plain = _with(_table(beyond, _plain))
    spelled = _with({**_table(beyond, _plain), **_SPELLED})
    nothing = BEFORE.str.replace_all(_BEYOND, "")
    yield one_of("accents", "letters without their accents", "mark", plain(BEFORE), spelled(BEFORE), spreads=True)
    yield one_of("letters gone", "letters with accents left out", "mark", nothing, spreads=True)


def _unwritten(letter: str, encoding: str) -> str:
    return letter.encode(encoding, "replace").decode(encoding)


def _misread(text: str, written: str, read: str, lacking: str = "") -> str:
    """Text written in one encoding and read in another; what the one cannot write stays, what the other cannot read is `lacking`, or the byte as a letter."""
    made = ""
    for one in text.encode(written, "ignore"):
        made += bytes([one]).decode(read, "ignore") or (lacking or chr(one))
    return made or text


def _misread_twice(text: str, read: str) -> str:
    return _misread(_misread(text, "utf-8", read), "utf-8", read)


def _plain(letter: str) -> str:
    bare = "".join(one for one in unicodedata.normalize("NFKD", letter) if not unicodedata.combining(one))
    return bare if bare != letter else _SPELLED.get(letter, letter)


def _table(beyond: str, made: Callable[[str], str]) -> dict[str, str]:
    """What becomes of each letter; those that stay are left out."""
    table = {}
    for one in beyond:
        spoilt = made(one)
        if spoilt != one:
            table[one] = spoilt
    return table


def _with(table: Mapping[str, str]) -> Callable[[pl.Expr], pl.Expr]:
    """Texts with some signs as others, the longer ones first."""
    order = sorted(table, key=lambda one: (-len(one), one))
    return lambda text: text.str.replace_many(order, [table[one] for one in order], leftmost=True) if order else text
