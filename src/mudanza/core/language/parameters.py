"""Values given at run time: `:name` in flows, by `--set`, by their default, or by an answer to their question."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import date, datetime
from decimal import Decimal, InvalidOperation
from typing import Any

from mudanza.core.documents.errors import LanguageError, MoveError, Place, nearest
from mudanza.core.values.kinds import Kind, fits_exactly
from mudanza.core.values.periods import PERIODS, Period

KINDS = {"text": Kind.TEXT, "number": Kind.NUMBER, "date": Kind.DATE, "yes/no": Kind.YESNO}
_HINTS = {Kind.NUMBER: "Write it as 12.5.", Kind.DATE: "Write it as 2026-01-31.", Kind.YESNO: "Write yes or no."}


#: what follows the last one that was built: a number, beside the periods
NUMBER = "number"
#: the days of a period that flows can ask for beside it
ENDS = ("from", "to")

#: values of each kind, for when it does not matter which
_STAND_INS = {Kind.NUMBER: "1", Kind.DATE: "2000-01-01", Kind.YESNO: "yes"}
STAND_INS = ("text", *_STAND_INS.values())


@dataclass(frozen=True)
class Declared:
    """A value that the settings know of: its kind, what it is if nobody gives it, and how to ask for it. One that `follows` is a number that goes up by one with each build, or a
    period of that length (of `values.periods.PERIODS`)."""

    name: str
    kind: Kind = Kind.TEXT
    default: str | None = None
    question: str | None = None
    follows: str | None = None

    def following(self, last: str | None) -> str | None:
        """The value after the last one that was built; the default if there is none."""
        if last is None or self.follows is None:
            return self.default
        if self.follows == NUMBER:
            return str(int(last) + 1)
        return str(Period.of(self.follows, last).next)

    def value(self, text: str) -> str | Decimal | date | bool:
        """The value that a text stands for. Raises MoveError where it is none of the kind."""
        try:
            if self.follows in PERIODS:
                return str(Period.of(self.follows, text))
            match self.kind:
                case Kind.NUMBER:
                    number = Decimal(text.strip())
                    if not number.is_finite() or not fits_exactly(number):
                        raise ValueError
                    if self.follows == NUMBER and number != int(number):
                        raise ValueError
                    return number
                case Kind.DATE:
                    return date.fromisoformat(text.strip())
                case Kind.YESNO:
                    return {"yes": True, "no": False}[text.strip().lower()]
                case _:
                    return text
        except (ValueError, InvalidOperation, KeyError):
            kind = self.follows if self.follows in PERIODS else self.kind
            hint = f"Write it as {PERIODS[self.follows]}." if self.follows in PERIODS else _HINTS[self.kind]
            hint = "Write a whole number." if self.follows == NUMBER else hint
            raise MoveError(f"{text!r} is no {kind} for :{self.name}.", hint=hint) from None


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
    #: the greatest values that were built, with their runs
    last: Mapping[str, tuple[str, int]] = field(default_factory=dict)

    def proposal(self, name: str) -> tuple[str, str] | None:
        """The next period for a value that is one, and what is to be said of it; None for others."""
        declared = self.declared.get(name)
        if declared is None or declared.follows not in PERIODS:
            return None
        last, run = self.last.get(name, (None, None))
        proposed = declared.following(last)
        if proposed is None:
            return None
        told = f"The next after {last}, which run {run} built, is {proposed}" if last else f"The first is {proposed}"
        return proposed, f"{told}: --set {name}={proposed}."

    def _end(self, name: str) -> tuple[Declared, str | None] | None:
        """The first or last day of the period, if there is one and the name asks for it."""
        period = next((one for one in self.declared.values() if one.follows in PERIODS), None)
        if name not in ENDS or name in self.declared or name in self.given or period is None:
            return None
        declared, text = self.find(period.name)
        if text is None or period.follows is None:
            return declared, None
        try:
            found = Period.of(period.follows, text)
        except ValueError:
            return declared, text
        return Declared(name, Kind.DATE), (found.first if name == ENDS[0] else found.last).isoformat()

    def standing_in(self, kind: Kind) -> str | None:
        """A text for a value of a kind that nobody gave; None where values must be given."""
        if self.stand_in is None:
            return None
        return _STAND_INS.get(kind, self.stand_in)

    def find(self, name: str) -> tuple[Declared, str | None]:
        """How a value is declared (a text, if it is not) and its text, None if nobody gave it."""
        if (end := self._end(name)) is not None:
            return end
        self.asked.add(name)
        declared = self.declared.get(name, Declared(name))
        default = declared.default
        if declared.follows == NUMBER:
            default = declared.following(self.last[name][0] if name in self.last else None)
        elif declared.follows is not None:
            # a period is built again and again until it is right: only somebody can say that it is the next one's turn
            default = None
        return declared, self.given.get(name, default)

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
