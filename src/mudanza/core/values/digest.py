"""What a file held, in few words."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from pathlib import Path


@dataclass(frozen=True)
class Digest:
    """What a file held: its path as people know it, its bytes, and their SHA-256."""

    path: str
    size: int
    sha256: str

    def as_dict(self) -> dict[str, object]:
        return {"path": self.path, "size": self.size, "sha256": self.sha256}


def digest_of(path: Path, name: str | None = None) -> Digest:
    """Read a file through and give its digest."""
    with path.open("rb") as file:
        total = hashlib.file_digest(file, "sha256").hexdigest()
    return Digest(name or str(path), path.stat().st_size, total)


def mark_of(sha256: str) -> str:
    """The beginning of a digest, by which people's copies of something are told from those of something else."""
    return sha256[:6]
