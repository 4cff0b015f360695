"""A table of a database as a proposal."""

from __future__ import annotations

from mudanza.core.sources.address import Database
from mudanza.core.sources.table_description import ColumnDescription, describe_table
from mudanza.core.work.proposing.facts import Facts, Proposal, Takes

_KINDS = {
    "text": "string",
    "integer": "integer",
    "decimal": "decimal",
    "double": "double",
    "date": "date",
    "moment": "dateTime",
    "time": "time",
    "yes/no": "boolean",
    "bytes": "base64Binary",
    "other": "string",
}


def from_database(database: Database, table: str | None, source: str) -> Proposal:
    """The columns of a table as fields. Raises SourceError where there is no such table, OutsideError as the database does."""
    described = describe_table(database, table)
    refers = {names[0]: (other, columns[0]) for names, other, columns in described.foreign_keys if len(names) == 1}
    remarks = [f"the check {one} is not taken over" for one in described.unread_checks]
    remarks += [
        f"{', '.join(names)} refer to {', '.join(columns)} of {other}: write it as a foreign key of several columns"
        for names, other, columns in described.foreign_keys
        if len(names) > 1
    ]
    remarks += [
        f"{one.name}: the database counts it; additions may go without it" for one in described.columns if one.counted
    ]
    fields = tuple(
        Facts(
            title=one.name,
            name=one.name if one.name.isidentifier() else "",
            takes=_takes(one),
            description=one.comment or None,
            required=not one.nullable and one.default is None and not one.counted,
            key=one.name in described.primary_key,
            default=one.default,
            refers=refers.get(one.name),
        )
        for one in described.columns
    )
    return Proposal(f"table {described.name}", source, fields, remarks=tuple(remarks))


def _takes(one: ColumnDescription) -> Takes:
    if one.permitted:
        return Takes("string", permitted=one.permitted)
    base = _KINDS[one.kind]
    if one.digits is not None:
        digits, places = one.digits
        most = ("9" * (digits - places) or "0") + ("." + "9" * places if places else "")
        if not places:
            base = "integer"
        return Takes(base, places=places or None, minimum=one.least or f"-{most}", maximum=one.most or most)
    return Takes(base, max_length=one.length if base == "string" else None, minimum=one.least, maximum=one.most)
