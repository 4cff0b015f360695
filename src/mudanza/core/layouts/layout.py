"""A layout: what the target's import takes, as plain data."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from mudanza.core.documents.errors import LayoutError, Place, unknown
from mudanza.core.layouts.demands import FieldDemands, TableDemands
from mudanza.core.layouts.dialect import Dialect
from mudanza.core.layouts.form import FieldForm, Form, way_to
from mudanza.core.layouts.types import FieldType, TextType
from mudanza.core.values.key_rule import KeyRule
from mudanza.core.values.kinds import Kind


@dataclass(frozen=True)
class Field:
    """One column of the target: `title` is the heading as the target wants it, `name` what plans use.

    `label` is what people call it, if that is not its heading; `null` are texts that stand for a blank, `separator` stands between several texts in one cell; `forbidden` are characters that it must not have.
    """

    name: str
    title: str
    type: FieldType = field(default_factory=TextType)
    label: str | None = None
    description: str | None = None
    required: bool = False
    left_out_of_additions: bool = False
    default: str | None = None
    null: tuple[str, ...] = ("",)
    separator: str | None = None
    forbidden: str = ""
    #: whether what it takes was only observed in records; whether the target does not have it yet
    observed: bool = False
    absent: bool = False
    demands: FieldDemands = field(default_factory=FieldDemands)
    form: FieldForm = field(default_factory=FieldForm)
    #: headings that it may have too, as in other languages
    other_titles: tuple[str, ...] = ()

    @property
    def words(self) -> tuple[str, ...]:
        """All that says what it is: its name, its heading, its label."""
        return (self.name, self.title, *((self.label,) if self.label else ()))

    @property
    def titles(self) -> tuple[str, ...]:
        """All headings that it may have."""
        return (self.title, *self.other_titles)

    @property
    def kind(self) -> Kind:
        return self.type.kind

    @property
    def is_typed(self) -> bool:
        """Whether a cell has one value that is no text."""
        return self.kind is not Kind.TEXT and self.separator is None

    @property
    def rule(self) -> str:
        """What the field takes, in words."""
        several = [] if self.separator is None else [f"several, separated by {self.separator!r}"]
        return ", ".join([*self.type.rules, *several, *self.demands.rules])


@dataclass(frozen=True)
class ForeignKey:
    """Fields whose values must be among the values of `columns` in another file."""

    fields: tuple[str, ...]
    resource: str
    columns: tuple[str, ...]


@dataclass(frozen=True)
class Layout:
    """A target table. `name` is what it is called: the file's, or the table's in a group. `primary_key` has the names of its fields in their order; `metadata` is the CSVW document it was read from."""

    path: Path
    name: str
    fields: tuple[Field, ...]
    url: str | None = None
    primary_key: tuple[str, ...] = ()
    key_rule: KeyRule = field(default_factory=KeyRule)
    #: whether a file of changes has the key and changed fields alone, and not whole rows
    changed_fields_only: bool = False
    references: tuple[ForeignKey, ...] = ()
    demands: TableDemands = field(default_factory=TableDemands)
    form: Form = field(default_factory=Form)
    dialect: Dialect = field(default_factory=Dialect)
    metadata: dict[str, Any] = field(default_factory=dict)

    def way_to(self, one: Field) -> tuple[str, ...]:
        """The names that lead to a field where names lie within each other."""
        return way_to(one.title, one.name, self.form)

    @property
    def headings(self) -> dict[str, Field]:
        """The fields by all headings that they may have in files."""
        ways = {".".join(self.way_to(one)): one for one in self.fields}
        return ways | {title: one for one in self.fields for title in one.titles}

    @property
    def action(self) -> Field | None:
        """The field that says what becomes of a row, if there is one."""
        return next((one for one in self.fields if one.demands.actions), None)

    @property
    def asks_of_rows(self) -> bool:
        """Whether it asks something of several fields of a row together."""
        d = self.demands
        return bool(
            d.one_of or d.at_least_one_of or d.row_length or any(one.demands.required_when for one in self.fields)
        )

    @property
    def key_titles(self) -> list[str]:
        """The headings of the key's fields."""
        return [one.title for one in self.fields if one.name in self.primary_key]

    def rule_of(self, columns: Sequence[str]) -> KeyRule:
        """How references by these columns are compared: those by the key as the key is."""
        return self.key_rule if set(columns) == set(self.primary_key) else KeyRule()

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
