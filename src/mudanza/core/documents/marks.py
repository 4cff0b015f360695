"""Where a key stands in a text, so that an error can show its line and a caret."""

from __future__ import annotations

from dataclasses import dataclass

#: The way to a value from the root of a document: keys of tables and objects, numbers of items.
KeyPath = tuple[str | int, ...]


@dataclass(frozen=True)
class Mark:
    """Offsets in a text: of a key (or an item of a list) and, from `value` on, of what it holds."""

    start: int
    end: int
    value: int


def path_shown(path: KeyPath) -> str:
    """A path as people write it: tableSchema.columns[2].datatype."""
    words = ""
    for part in path:
        words += f"[{part}]" if isinstance(part, int) else (f".{part}" if words else part)
    return words
