"""Files that are written whole: kept on the disk until their end."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from typing import IO

_PIECE = 1 << 20


def new_spool() -> IO[bytes]:
    """A file without a name, which is gone when nobody holds it any more."""
    return tempfile.TemporaryFile()


def pieces_of_spool(file: IO[bytes]) -> Iterator[bytes]:
    """All that was written, piece by piece; then it is gone."""
    file.seek(0)
    while piece := file.read(_PIECE):
        yield piece
    file.close()
