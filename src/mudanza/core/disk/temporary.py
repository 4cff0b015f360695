"""Temporary folders: each goes with its process, or when the next process looks for a place."""

from __future__ import annotations

import atexit
import shutil
import tempfile
from pathlib import Path

from mudanza.core.disk.processes import may_live, this_process

_BEGIN = "mudanza-"


def temporary_folder() -> Path:
    """A new folder for this process alone. What processes left in such folders that were killed is taken away first."""
    for left in Path(tempfile.gettempdir()).glob(f"{_BEGIN}*-*-*"):
        if not may_live(left.name):
            shutil.rmtree(left, ignore_errors=True)
    folder = Path(tempfile.mkdtemp(prefix=f"{_BEGIN}{this_process()}-"))
    atexit.register(shutil.rmtree, folder, ignore_errors=True)
    return folder
