"""What writes records, whatever the format."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Protocol

import polars as pl


class Writer(Protocol):
    """Turns frames of text into the bytes of a file, one after the other: `head`, then `rows`, then `tail`.

    A copy that was made between two calls goes on from there by itself, unless the format is written whole.
    """

    def head(self) -> bytes:
        """What stands before all rows."""
        ...

    def rows(self, frame: pl.DataFrame) -> bytes | memoryview:
        """A frame that has at least the writer's columns."""
        ...

    def tail(self) -> Iterator[bytes]:
        """What stands behind all rows; of formats that are written whole, all of it."""
        ...
