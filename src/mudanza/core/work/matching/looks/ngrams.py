"""A text as groups of letters, for telling what it is by how it is written."""

from __future__ import annotations

from zlib import crc32

from mudanza.core.work.matching.meaning.tokens import folded

#: groups are counted in so many places
SIZE = 1 << 13


def features(text: str) -> list[int]:
    """The places of a text's groups of two to four letters, of its endings, and of its shape. Never empty."""
    plain = folded(text)[:80]
    words = plain.split()
    found = [
        f"n{min(len(words), 5)}",
        f"l{min(len(plain) // 4, 8)}",
        f"d{any(map(str.isdigit, plain)):d}{plain[-1:].isdigit():d}{plain[:1].isdigit():d}",
        f"c{sum(w[:1].isupper() for w in text.split()[1:]) if len(words) > 1 else -1}",
        f"u{text.isupper():d}{',' in text:d}{'.' in text:d}",
    ]
    for word in words[:8]:
        marked = f"^{word}$"
        found += [f"w{word}"]
        for size in (2, 3, 4):
            found += [marked[at : at + size] for at in range(len(marked) - size + 1)]
    return [crc32(group.encode()) % SIZE for group in found]
