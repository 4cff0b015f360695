"""A field list as a proposal: a sheet or text whose columns say of each field what it is called and takes, in any order, wording and language."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

from mudanza.core.work.proposing.facts import Facts, Proposal
from mudanza.core.work.proposing.types import takes_of
from mudanza.core.work.proposing.words import required_word, roles_of

#: roles of which one at least makes a sheet with names a field list
_TELLING = {"type", "length", "required", "values", "format"}
_WITH_COMMA = re.compile("-?[0-9]+,[0-9]+")
#: headings of the column that says when a field need not be filled in
_INVERTED = re.compile(r"null|option|facultat|opcional|opzional|fakultativ", re.I)


def is_field_list(headings: Sequence[str]) -> bool:
    """Whether headings are those of a field list: one of names, and two at least that say what fields are like."""
    roles = set(roles_of(headings))
    return bool(roles & {"name", "title"}) and len(roles & _TELLING) >= 1 and len(roles) >= 3


def from_field_list(headings: Sequence[str], rows: Sequence[Sequence[str]], source: str) -> Proposal:
    """The fields of a list, a row each; what could not be understood is among the remarks, with its row."""
    roles = roles_of(headings)
    inverted = "required" in roles and bool(_INVERTED.search(headings[roles["required"]]))
    found: list[Facts] = []
    remarks: list[str] = []
    for number, row in enumerate(rows, start=2):
        cells = {role: (row[at] or "").strip() if at < len(row) else "" for role, at in roles.items()}
        title = cells.get("title") or cells.get("name") or ""
        if not title:
            continue
        facts, said = _facts(title, cells, inverted)
        remarks += [f"row {number}, {title}: {one}" for one in said]
        found.append(facts)
    numbers = [one.example for one in found if one.example and one.takes.base == "decimal"]
    decimal = "," if numbers and all(_WITH_COMMA.fullmatch(one) for one in numbers if not one.isdigit()) else None
    return Proposal("field list", source, tuple(found), decimal=decimal, remarks=tuple(remarks))


def _facts(title: str, cells: Mapping[str, str], inverted: bool) -> tuple[Facts, list[str]]:
    names = {
        "kind": "type",
        "length": "length",
        "decimals": "decimals",
        "values": "values",
        "form": "format",
        "low": "minimum",
        "high": "maximum",
    }
    takes, remarks = takes_of(**{word: cells.get(role, "") for word, role in names.items()})
    required = None
    if cells.get("required"):
        required = required_word(cells["required"])
        if required is None:
            remarks.append(f"{cells['required']!r} says neither that it is required nor that it is not")
        elif inverted:
            required = not required
    elif "required" in cells:
        required = inverted
    key = required_word(cells["key"]) if cells.get("key") else None
    if cells.get("key") and key is None:
        key = cells["key"].lower() in ("pk", "key", "primary")
    refers = None
    if cells.get("refers"):
        match = re.fullmatch(r"\s*([\w .-]+?)\s*[.(:]\s*([\w -]+?)\s*\)?\s*", cells["refers"])
        refers = (match[1], match[2]) if match else None
        if match is None:
            remarks.append(f"the reference {cells['refers']!r} is not written as table.column")
    there = required_word(cells["absent"]) if cells.get("absent") else None
    facts = Facts(
        title=title,
        name=cells.get("name", "") if "title" in cells else "",
        takes=takes,
        description=cells.get("description") or None,
        required=required,
        key=key,
        default=cells.get("default") or None,
        refers=refers,
        absent=None if there is None else not there,
        example=cells.get("example") or None,
    )
    return facts, remarks
