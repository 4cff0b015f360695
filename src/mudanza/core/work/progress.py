"""How far a piece of work is, for whoever waits for it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass


@dataclass(frozen=True)
class Progress:
    """What is being done, the rows read so far, and the share of the work that is done, if that can be told."""

    phase: str
    rows: int = 0
    share: float | None = None


Tell = Callable[[Progress], None]


def quietly(_: Progress) -> None:
    """For work that nobody watches."""
