"""What targets demand beyond the standard, as absolute-URL properties under urn:mudanza: (the standard permits those, "Metadata Vocabulary", section 5.8)."""

from __future__ import annotations

import codecs
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from mudanza.core.documents.marks import KeyPath
from mudanza.core.layouts.metadata import (
    ACTIONS,
    AT_LEAST_ONE_OF,
    BYTES_PER_FILE,
    COLUMN_ORDER,
    LABELS,
    ONE_OF,
    REQUIRED_WHEN,
    ROW_LENGTH,
    ROWS_PER_FILE,
    SURVIVES,
    Metadata,
)

ADD, CHANGE, REMOVE = "add", "change", "remove"


@dataclass(frozen=True)
class FieldDemands:
    """What is demanded of one field beyond its values: that it is filled in where another has one of some values (none: any), that its text survives an
    `encoding`, that its words say what becomes of the row (`actions`), that the target knows its `labels` before (those `known_in` a file beside the layout)."""

    required_when: tuple[tuple[str, tuple[str, ...]], ...] = ()
    encoding: str | None = None
    actions: Mapping[str, str] | None = None
    labels: bool = False
    known_in: str | None = None

    @property
    def rules(self) -> list[str]:
        """The demands in words."""
        found = [f"required when {_when(name, values)}" for name, values in self.required_when]
        found += [f"only what {self.encoding} can write"] if self.encoding else []
        found += [", ".join(f"{word} to {what}" for what, word in self.actions.items())] if self.actions else []
        return [*found, *(["labels that the target knows before"] if self.labels else [])]


def _when(name: str, values: tuple[str, ...]) -> str:
    return f"{name} is {' or '.join(values)}" if values else f"{name} is filled in"


@dataclass(frozen=True)
class TableDemands:
    """What is demanded of rows and files: that of some fields exactly one is filled in, of others one at least, how many characters a row may have,
    whether columns may stand in any order, and how many rows and bytes a file may have."""

    one_of: tuple[tuple[str, ...], ...] = ()
    at_least_one_of: tuple[tuple[str, ...], ...] = ()
    row_length: int | None = None
    any_order: bool = False
    rows_per_file: int | None = None
    bytes_per_file: int | None = None

    @property
    def rules(self) -> list[str]:
        """The demands in words."""
        found = [f"either {' or '.join(names)}" for names in self.one_of]
        found += [f"at least one of {', '.join(names)}" for names in self.at_least_one_of]
        found += [f"a row has at most {self.row_length:,} characters"] if self.row_length else []
        found += ["columns in any order"] if self.any_order else []
        found += [f"at most {self.rows_per_file:,} rows in a file"] if self.rows_per_file else []
        return [*found, *([f"at most {self.bytes_per_file:,} bytes in a file"] if self.bytes_per_file else [])]


def field_demands(metadata: Metadata, column: Mapping[str, Any], at: KeyPath) -> FieldDemands:
    """The demands of a column. Raises LayoutError at what is wrong."""
    when = metadata.typed(column, REQUIRED_WHEN, dict, at) or {}
    required: list[tuple[str, tuple[str, ...]]] = []
    for name, values in when.items():
        if values is True:
            required.append((name, ()))
        else:
            required.append((name, metadata.texts(values, (*at, REQUIRED_WHEN, name))))
    encoding = metadata.typed(column, SURVIVES, str, at)
    if encoding is not None:
        try:
            encoding = codecs.lookup(encoding).name
            bytes(range(256)).decode(encoding, "ignore")
        except (LookupError, UnicodeError):
            raise metadata.fail(
                (*at, SURVIVES),
                f"there is no encoding {encoding!r} of eight bits.",
                "Such are iso-8859-1 and windows-1252.",
            ) from None
    actions = metadata.typed(column, ACTIONS, dict, at)
    if actions is not None and (
        set(actions) - {ADD, CHANGE, REMOVE}
        or not all(isinstance(one, str) and one for one in actions.values())
        or ADD not in actions
    ):
        raise metadata.fail(
            (*at, ACTIONS),
            "the words for what becomes of a row are said for add, change and remove.",
            'Write {"add": "A", "change": "C", "remove": "D"}.',
        )
    known_in = column.get(LABELS)
    if known_in is not None and not isinstance(known_in, bool | str):
        raise metadata.fail((*at, LABELS), "it is true, or the name of a file with the labels that the target knows.")
    file = known_in if isinstance(known_in, str) else None
    return FieldDemands(tuple(required), encoding, actions, bool(known_in), file)


def table_demands(metadata: Metadata, node: Mapping[str, Any], at: KeyPath, names: list[str]) -> TableDemands:
    """The demands of a table, whose fields have these names. Raises LayoutError at what is wrong."""
    found: dict[str, tuple[tuple[str, ...], ...]] = {}
    for key in (ONE_OF, AT_LEAST_ONE_OF):
        groups = metadata.typed(node, key, list, at) or []
        made = []
        for number, group in enumerate(groups if all(isinstance(one, list) for one in groups) else [groups]):
            named = metadata.texts(group, (*at, key, number))
            for name in named:
                if name not in names:
                    raise metadata.fail((*at, key, number), f"there is no column named {name!r}.")
            if len(set(named)) < 2:
                raise metadata.fail((*at, key, number), "two fields at least are needed here.")
            made.append(named)
        found[key] = tuple(made)
    order = metadata.typed(node, COLUMN_ORDER, str, at)
    if order not in (None, "any", "strict"):
        raise metadata.fail((*at, COLUMN_ORDER), 'the order of columns is "strict" or "any".')
    counts = {key: metadata.typed(node, key, int, at) for key in (ROW_LENGTH, ROWS_PER_FILE, BYTES_PER_FILE)}
    for key, count in counts.items():
        if count == 0:
            raise metadata.fail((*at, key), "none at all fits into that.")
    return TableDemands(
        found[ONE_OF],
        found[AT_LEAST_ONE_OF],
        counts[ROW_LENGTH],
        order == "any",
        counts[ROWS_PER_FILE],
        counts[BYTES_PER_FILE],
    )
