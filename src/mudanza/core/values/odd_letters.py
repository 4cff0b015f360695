"""Characters that cannot be seen, or look like others: what makes two words differ that look the same."""

from __future__ import annotations

import unicodedata

_ALIKE = {
    "АВЕКМНОРСТУХЅІЈаеорсухіјѕһԁԛԝ": "ABEKMHOPCTYXSIJaeopcyxijshdqw",
    "ΑΒΕΖΗΙΚΜΝΟΡΤΥΧονυ": "ABEZHIKMNOPTYXovu",
    "‐‑‒–—−‘’ʼ′“”″ıƖ": "------''''\"\"\"iI",
}
_PLAIN = {ord(odd): plain for odds, plains in _ALIKE.items() for odd, plain in zip(odds, plains, strict=True)}
#: what shows nothing, or only a gap: controls, formats, all spaces but the usual one
_UNSEEN = ("Cc", "Cf", "Zs", "Zl", "Zp", "Mn")


def as_seen(text: str) -> str:
    """A word as one sees it: look-alikes in Latin letters, without what cannot be seen, in small letters."""
    plain = unicodedata.normalize("NFKC", text.translate(_PLAIN)).translate(_PLAIN)
    kept = "".join(
        " " if c.isspace() else c for c in plain if unicodedata.category(c) not in ("Cc", "Cf") or c.isspace()
    )
    return " ".join(kept.split()).casefold()


def odd_letters(text: str, expected: str) -> list[str]:
    """The characters of a text that the expected one has not and that one would not see, by name and number."""
    odd = dict.fromkeys(
        c for c in text if c not in expected and c != " " and (ord(c) in _PLAIN or unicodedata.category(c) in _UNSEEN)
    )
    return [f"{unicodedata.name(c, 'a control character').lower()} (U+{ord(c):04X})" for c in odd]
