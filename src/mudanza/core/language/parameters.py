"""Values given at run time: `:name` in flows, by `--set`, by their default, or by an answer to their question."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import date, datetime
from decimal import Decimal, InvalidOperation
from typing import Any

from mudanza.core.documents.errors import LanguageError, MoveError, Place, nearest
from mudanza.core.values.kinds import Kind, fits_exactly

KINDS = {"text": Kind.TEXT, "number": Kind.NUMBER, "date": Kind.DATE, "yes/no": Kind.YESNO}
_HINTS = {Kind.NUMBER: "Write it as 12.5.", Kind.DATE: "Write it as 2026-01-31.", Kind.YESNO: "Write yes or no."}


#: values of each kind, for when it does not matter which
_STAND_INS = {Kind.NUMBER: "1", Kind.DATE: "2000-01-01", Kind.YESNO: "yes"}
STAND_INS = ("text", *_STAND_INS.values())


@dataclass(frozen=True)
class Declared:
    """A value that the settings know of: its kind, what it is if nobody gives it, and how to ask for it."""

    name: str
    kind: Kind = Kind.TEXT
    default: str | None = None
    question: str | None = None

    def value(self, text: str) -> str | Decimal | date | bool:
        """The value that a text stands for. Raises MoveError where it is none of the kind."""
        try:
            match self.kind:
                case Kind.NUMBER:
                    number = Decimal(text.strip())
                    if not number.is_finite() or not fits_exactly(number):
                        raise ValueError
                    return number
                case Kind.DATE:
                    return date.fromisoformat(text.strip())
                case Kind.YESNO:
                    return {"yes": True, "no": False}[text.strip().lower()]
                case _:
                    return text
        except (ValueError, InvalidOperation, KeyError):
            raise MoveError(f"{text!r} is no {self.kind} for :{self.name}.", hint=_HINTS[self.kind]) from None


class MissingParameterError(LanguageError):
    """Nobody gave a value that a flow needs. `declared` says how to ask for it."""

    def __init__(self, declared: Declared, what: str, *, place: Place | None = None, hint: str | None = None) -> None:
        super().__init__(what, place=place, hint=hint)
        self.declared = declared


@dataclass(frozen=True)
class Parameters:
    """The values given and those declared. `asked` collects the names that flows use."""

    given: Mapping[str, str] = field(default_factory=dict)
    declared: Mapping[str, Declared] = field(default_factory=dict)
    asked: set[str] = field(default_factory=set)
    #: what stands in for texts that nobody gave, where flows are only looked at; values of other kinds have their own
    stand_in: str | None = None

    def standing_in(self, kind: Kind) -> str | None:
        """A text for a value of a kind that nobody gave; None where values must be given."""
        if self.stand_in is None:
            return None
        return _STAND_INS.get(kind, self.stand_in)

    def find(self, name: str) -> tuple[Declared, str | None]:
        """How a value is declared (a text, if it is not) and its text, None if nobody gave it."""
        self.asked.add(name)
        declared = self.declared.get(name, Declared(name))
        return declared, self.given.get(name, declared.default)

    def is_declared(self, name: str) -> bool:
        """Whether the settings know of a value."""
        return name in self.declared

    def nearest(self, name: str) -> str | None:
        return nearest(name, sorted({*self.given, *self.declared} - {name}))


def check_given(given: Mapping[str, str], asked: set[str], declared: Mapping[str, Declared]) -> None:
    """Raise where a value was given that no flow asks for: it is probably a slip of the hand."""
    for name in given:
        if name not in asked and name not in declared:
            near = nearest(name, sorted({*asked, *declared}))
            hint = (
                f"Did you mean {near}?" if near else "The flows of these plans use no value that is given at run time."
            )
            raise MoveError(f"no flow asks for :{name}, which --set gives.", hint=hint)


def kind_of_default(value: Any) -> Kind:
    """The kind of a value as the settings write it."""
    if isinstance(value, bool):
        return Kind.YESNO
    if isinstance(value, int | float):
        return Kind.NUMBER
    return Kind.DATE if isinstance(value, date) and not isinstance(value, datetime) else Kind.TEXT


def text_of_default(value: Any) -> str:
    """A value of the settings as --set would give it."""
    return ("yes" if value else "no") if isinstance(value, bool) else str(value)
