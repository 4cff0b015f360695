"""What is known of the fields of a target, wherever it comes from."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterable
from dataclasses import dataclass, field, fields, replace
from typing import Any, TypeVar

T = TypeVar("T")
#: letters that have no accent to be taken off
_LETTERS = {
    ord(letter): plain for letter, plain in zip("ßøØłŁđæœ", ("ss", "o", "O", "l", "L", "d", "ae", "oe"), strict=True)
}


@dataclass(frozen=True)
class Takes:
    """What a field takes, as far as it is known: a datatype of the standard, its limits and form, the permitted values. `form` is a date pattern, a
    regular expression, or the two words for yes and no; `places` are digits behind the decimal sign."""

    base: str | None = None
    max_length: int | None = None
    form: str | None = None
    places: int | None = None
    permitted: tuple[str, ...] = ()
    minimum: str | None = None
    maximum: str | None = None

    def __bool__(self) -> bool:
        return any(getattr(self, one.name) not in (None, ()) for one in fields(self))


@dataclass(frozen=True)
class Facts:
    """A field: its heading, the name that plans use (blank: made of the heading), what people call it, and what is known of it. `observed`: by looking at records, and not by
    anybody's word; `absent`: the target does not have it yet; `refers` are another table and its column."""

    title: str
    name: str = ""
    takes: Takes = field(default_factory=Takes)
    label: str | None = None
    description: str | None = None
    required: bool | None = None
    key: bool | None = None
    default: str | None = None
    refers: tuple[str, str] | None = None
    observed: bool = False
    absent: bool | None = None
    #: a value as the target shows one
    example: str | None = None


@dataclass(frozen=True)
class Proposal:
    """The fields that something shows a target to have, in their order. `what` it is (a template, a field list), how it writes its files, and remarks on
    what could not be taken over."""

    what: str
    source: str
    fields: tuple[Facts, ...]
    delimiter: str | None = None
    encoding: str | None = None
    decimal: str | None = None
    remarks: tuple[str, ...] = ()


def name_of(title: str, taken: Iterable[str] = ()) -> str:
    """The name that plans use for a heading: its words in small plain letters, and none that is taken."""
    plain = title.translate(_LETTERS)
    ascii_ = unicodedata.normalize("NFKD", plain).encode("ascii", "ignore").decode()
    name = re.sub(r"[^A-Za-z0-9]+", "_", re.sub(r"(?<=[a-z])(?=[A-Z])", "_", ascii_)).strip("_").lower() or "field"
    taken, number, found = set(taken), 2, name
    while found in taken:
        found, number = f"{name}_{number}", number + 1
    return found


def filled(first: T, second: T) -> T:
    """What the first does not know, from the second."""
    known = {one.name: getattr(first, one.name) for one in fields(first)}  # type: ignore[arg-type]
    more: dict[str, Any] = {name: getattr(second, name) for name, value in known.items() if value in (None, (), "")}
    return replace(first, **more)  # type: ignore[type-var]
