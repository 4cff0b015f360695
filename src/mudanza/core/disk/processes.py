"""Processes as names of files know them, so that what a killed one left behind is told from what a living one is at."""

from __future__ import annotations

import hashlib
import os
import re
import socket
from functools import cache
from pathlib import Path

_NAME = re.compile(r"([0-9a-f]{6})-([0-9]+)-([0-9]+)")


@cache
def _machine() -> str:
    return hashlib.sha256(socket.gethostname().encode()).hexdigest()[:6]


def this_process() -> str:
    """The name of this process: its machine, its number, and when it began. A name is never another process's."""
    return f"{_machine()}-{os.getpid()}-{_began(os.getpid())}"


def may_live(name: str) -> bool:
    """Whether a process of a name (somewhere in a text) may be under way: one of another machine always may."""
    found = _NAME.search(name)
    if found is None:
        return True
    machine, number, began = found.groups()
    return machine != _machine() or _began(int(number)) == int(began)


def _began(number: int) -> int | None:
    """When a process began, by a clock that nobody sets where there is one; None if there is none of that number."""
    try:
        # the 22nd field, in ticks since the machine began (proc_pid_stat(5)); the name before it may hold anything
        return int(Path(f"/proc/{number}/stat").read_text("utf-8", "replace").rpartition(")")[2].split()[19])
    except (OSError, IndexError, ValueError):
        if Path("/proc/self/stat").exists():
            return None
    import psutil

    try:
        return int(psutil.Process(number).create_time())
    except psutil.Error:
        return None
