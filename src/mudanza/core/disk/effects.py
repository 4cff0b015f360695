"""What this process has done that stays, whatever comes after: known in one place, so that a message about it is
true."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path

from mudanza.core.documents.errors import few

#: the folder of a project that Mudanza keeps to itself
OWN_FOLDER = ".mudanza"


@dataclass
class Effects:
    """Files that were put into place or removed, runs that were begun, and of them those that are recorded as done."""

    placed: list[str] = field(default_factory=list)
    removed: list[str] = field(default_factory=list)
    begun: list[int] = field(default_factory=list)
    recorded: list[int] = field(default_factory=list)
    #: files of a recorded run that are not in place yet
    waiting: list[str] = field(default_factory=list)

    def place(self, final: str) -> None:
        """Note a file that is in place; what Mudanza keeps for itself is nobody's concern."""
        if OWN_FOLDER not in Path(final).parts:
            self.placed.append(final)

    def clear(self) -> None:
        """Begin anew, for another command of the same process."""
        for names in (self.placed, self.removed, self.begun, self.recorded, self.waiting):
            names.clear()

    @property
    def any(self) -> bool:
        """Whether anything stays but the note of a run that failed."""
        return bool(self.placed or self.removed or self.recorded)

    def sentence(self) -> str:
        """What was changed, as a part of a sentence."""
        parts = [f"{_runs(self.recorded)} is recorded as done"] if self.recorded else []
        parts += [
            f"{word}: {few([Path(one).name for one in names])}"
            for word, names in (("written", self.placed), ("removed", self.removed))
            if names
        ]
        if left := [Path(one).name for one in self.waiting if one not in self.placed]:
            parts.append(f"the next command that writes puts {few(left)} into place")
        if not parts and self.begun:
            return f"no file was changed; the ledger notes that {_runs(self.begun)} did not end"
        return "; ".join(parts) or "nothing was changed"


def _runs(numbers: Sequence[int]) -> str:
    return f"run{'s' if len(numbers) > 1 else ''} {', '.join(map(str, numbers))}"


#: what this process has done
effects = Effects()
