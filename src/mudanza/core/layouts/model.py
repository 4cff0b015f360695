"""A layout: what the target's import takes, as plain data."""

from __future__ import annotations

from dataclasses import dataclass, field
from decimal import Decimal
from pathlib import Path
from typing import Any

from mudanza.core.errors import LayoutError, Place, unknown
from mudanza.core.kinds import Kind
from mudanza.core.layouts.formats import DateFormat, NumberFormat, YesNoFormat


@dataclass(frozen=True)
class Field:
    """One column of the target.

    `title` is the heading as the target wants it, `name` what plans use. `minimum` and the like are in the
    field's own kind; dates stand as ISO text.
    """

    name: str
    title: str
    kind: Kind = Kind.TEXT
    base: str = "string"
    description: str | None = None
    required: bool = False
    left_out_of_additions: bool = False
    default: str | None = None
    null: tuple[str, ...] = ("",)
    separator: str | None = None
    pattern: str | None = None
    permitted: tuple[str, ...] | None = None
    length: int | None = None
    min_length: int | None = None
    max_length: int | None = None
    minimum: str | Decimal | None = None
    maximum: str | Decimal | None = None
    above: str | Decimal | None = None
    below: str | Decimal | None = None
    number: NumberFormat | None = None
    date: DateFormat | None = None
    yesno: YesNoFormat | None = None

    @property
    def rule(self) -> str:
        """What the field takes, in words."""
        if self.date is not None:
            words = f"{self.kind} as {self.date.text}"
        elif self.number is not None:
            words = self.number.text
        elif self.yesno is not None:
            words = self.yesno.text
        elif self.permitted is not None:
            words = "one of " + ", ".join(self.permitted)
        elif self.pattern is not None:
            words = f"text matching {self.pattern}"
        else:
            words = "text"
        bounds = [
            (self.length, "exactly {} characters"),
            (self.min_length, "at least {} characters"),
            (self.max_length, "at most {} characters"),
            (self.minimum, "from {}"),
            (self.above, "above {}"),
            (self.maximum, "up to {}"),
            (self.below, "below {}"),
        ]
        parts = [words, *(form.format(bound) for bound, form in bounds if bound is not None)]
        if self.separator is not None:
            parts.append(f"several, separated by {self.separator!r}")
        return ", ".join(parts)


@dataclass(frozen=True)
class Reference:
    """Fields whose values must be among the values of `columns` in another file."""

    fields: tuple[str, ...]
    resource: str
    columns: tuple[str, ...]


@dataclass(frozen=True)
class Dialect:
    """How the file is written (CSVW dialect description)."""

    delimiter: str = ","
    quote: str | None = '"'
    encoding: str = "utf-8"
    line_end: str = "\r\n"
    header: bool = True
    bom: bool = False


@dataclass(frozen=True)
class Layout:
    """A target table. `metadata` is the CSVW document it was read from."""

    path: Path
    fields: tuple[Field, ...]
    url: str | None = None
    primary_key: tuple[str, ...] = ()
    key_ignores_case: bool = False
    references: tuple[Reference, ...] = ()
    dialect: Dialect = field(default_factory=Dialect)
    metadata: dict[str, Any] = field(default_factory=dict)

    def field_named(self, name: str) -> Field:
        """The field of that name or title. Raises LayoutError with the nearest if there is none."""
        for one in self.fields:
            if name in (one.name, one.title):
                return one
        names = [one.name for one in self.fields] + [one.title for one in self.fields]
        raise LayoutError(
            unknown("field", name, names),
            place=Place(file=str(self.path)),
            hint="`mudanza layout show` lists the fields.",
        )
