"""The errors the core raises. Each says what is wrong, where, why, and what to do next."""

from __future__ import annotations

import errno
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Self


@dataclass(frozen=True)
class Place:
    """Where something stands: a file and, as far as known, a line, a column and a cell in it.

    `text` is the line of source itself and `start`/`end` are the offsets in it that the caret marks.
    """

    file: str | None = None
    line: int | None = None
    key: str | None = None
    sheet: str | None = None
    cell: str | None = None
    text: str | None = None
    start: int = 0
    end: int = 0

    def __str__(self) -> str:
        parts = [self.file or ""]
        if self.sheet:
            parts.append(f"sheet {self.sheet!r}")
        if self.line:
            parts.append(f"line {self.line}")
        if self.cell:
            parts.append(f"cell {self.cell}")
        if self.key:
            parts.append(self.key)
        return ", ".join(p for p in parts if p)


#: what a file says of itself may be of any length
_LONGEST = 1_000


def _readable(sentence: str) -> str:
    """A sentence that is not too long to be read; of a longer one its start and its end."""
    return sentence if len(sentence) <= _LONGEST else f"{sentence[:600]} … {sentence[-300:]}"


class MudanzaError(Exception):
    """Base of all errors. `what` is one sentence, `hint` says what to do next."""

    #: exit status of a command that ends with this error
    status = 2

    def __init__(self, what: str, *, place: Place | None = None, hint: str | None = None) -> None:
        self.what = _readable(what)
        super().__init__(self.what)
        self.place = place
        self.hint = hint

    def at(self, place: Place) -> MudanzaError:
        """Give the error a place if it has none yet, and return it."""
        if self.place is None:
            self.place = place
        return self

    def moved(self, place: Place) -> Self:
        """The same error, of the same class, at another place."""
        other = type(self).__new__(type(self), *self.args)
        other.__dict__.update(self.__dict__)
        other.place = place
        return other


class MoveError(MudanzaError):
    """The move folder or its settings are wrong, or a name in them is unknown."""


class PlanError(MudanzaError):
    """A plan cannot be read or contradicts its layout or sources."""


class LanguageError(PlanError):
    """A flow or a condition is not well formed, or its kinds do not fit."""


class LayoutError(MudanzaError):
    """A layout is no valid CSV on the Web metadata, or says something contradictory."""


class SourceError(MudanzaError):
    """A source file is missing, empty, or not what it claims to be."""

    status = 3


class LoanError(MudanzaError):
    """A returned workbook cannot be matched with its loan."""


class LedgerError(MudanzaError):
    """The ledger is held by another run, is damaged, or cannot be written."""

    status = 3


class OutsideError(MudanzaError):
    """Something outside failed: the disk, the file system, a server."""

    status = 3


class FaultError(MudanzaError):
    """Something that nobody foresaw: a mistake in this program."""

    status = 3

    @classmethod
    def of(cls, error: BaseException) -> FaultError:
        """Whatever was raised, told in a line."""
        first = next((line for line in str(error).splitlines() if line.strip()), "")
        hint = "This is a fault of Mudanza, not yours. Run it again with --debug and report what it shows."
        return cls(f"{type(error).__name__}: {first}", hint=hint)


def unknown(kind: str, name: str, known: list[str]) -> str:
    """The sentence for an unknown name, with the nearest existing one."""
    near = nearest(name, known)
    sentence = f"there is no {kind} {name!r}"
    return f"{sentence}; did you mean {near!r}?" if near else f"{sentence}."


def counted(number: int, one: str, many: str | None = None) -> str:
    """A number and what there are so many of: 1 value, 2 values."""
    return f"{number:,} {one if number == 1 else many or one + 's'}"


def few(names: Sequence[str], most: int = 12) -> str:
    """Names in a row, the first of them if they are many, each cut if it is long."""
    shown = [name if len(name) <= 30 else f"{name[:29]}…" for name in names[:most]]
    return ", ".join(shown) + (f" and {len(names) - most} more" if len(names) > most else "")


def nearest(name: str, known: list[str], least: float = 60) -> str | None:
    """The existing name most like `name` (ignoring case and spacing), or None if none is alike."""
    from rapidfuzz import fuzz, process

    def fold(text: str) -> str:
        return " ".join(text.casefold().replace("_", " ").replace("-", " ").split())

    hit = process.extractOne(name, known, scorer=fuzz.ratio, processor=fold, score_cutoff=least)
    return hit[0] if hit else None


def disk_error(error: OSError, path: Path) -> OutsideError:
    """An operating system's error while writing, in words."""
    reasons = {
        errno.ENOSPC: ("the disk is full", "Make room and run again."),
        errno.EDQUOT: ("the disk quota is used up", "Make room and run again."),
        errno.EACCES: (
            "the folder or file may not be written",
            "Look at its permissions; is it open in another program?",
        ),
        errno.EPERM: (
            "the folder or file may not be written",
            "Look at its permissions; is it open in another program?",
        ),
        errno.EROFS: ("the disk is read-only", "Use another folder."),
        errno.ENOTDIR: ("a folder is needed where a file stands", "Move that file away."),
        errno.EEXIST: ("a folder is needed where a file stands", "Move that file away."),
        errno.EISDIR: ("a file is needed where a folder stands", "Move that folder away."),
        errno.EFBIG: (
            "the file is larger than files may be here",
            "Ask who set the limit (ulimit -f, or a file system's own).",
        ),
        errno.ENAMETOOLONG: ("the name is too long for this file system", "Choose a shorter one."),
    }
    what, hint = reasons.get(error.errno or 0, (str(error), "Correct that and run again."))
    return OutsideError(f"{what}.", place=Place(file=str(path)), hint=hint)
