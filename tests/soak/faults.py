"""Commands that are killed, interrupted or refused the disk at their n-th write, flush, renaming or removal of a
file."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
from dataclasses import dataclass
from functools import cache
from pathlib import Path

from conftest import Ended, Warm


def why_not() -> str | None:
    """Why there can be no faults on this machine; None if there can."""
    if sys.platform != "linux":
        return "faults are made by a preloaded library, which is written for Linux"
    return None if shutil.which("cc") else "there is no C compiler to make the library with that makes faults"


@cache
def _warm() -> tuple[Warm, Path]:
    folder = Path(tempfile.mkdtemp(prefix="mudanza-soak-"))
    source = Path(__file__).with_name("preload.c")
    subprocess.run(["cc", "-shared", "-fPIC", "-O1", "-o", folder / "preload.so", source, "-ldl"], check=True)
    return Warm({"LD_PRELOAD": str(folder / "preload.so")}), folder


@dataclass(frozen=True)
class Faulty:
    """How a command ended, and how often it did something to a file."""

    ended: Ended
    count: int


def run(move: Path, words: list[str], how: str = "none", at: int = 0) -> Faulty:
    """Run a command in a move, with a fault at one of the times that it does something to its files (`preload.c`); 0
    is none."""
    warm, folder = _warm()
    counter = folder / "count"
    counter.write_bytes(bytes(8))
    faults = {"FAULT_HOME": str(move.resolve()), "FAULT_HOW": how, "FAULT_AT": str(at), "FAULT_COUNT": str(counter)}
    ended = warm.run(words, move, {**os.environ, "NO_COLOR": "1", "COLUMNS": "300", **faults}, "")
    return Faulty(ended, int.from_bytes(counter.read_bytes(), "little"))
