"""What a database says of a table itself: its columns, keys, checks and comments."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Any

import sqlalchemy as sa
from sqlalchemy import types

from mudanza.core.documents.errors import Place, SourceError, few, nearest
from mudanza.core.sources.address import Database
from mudanza.core.sources.database import engine_of, tables_of, told


@dataclass(frozen=True)
class ColumnDescription:
    """A column: its kind (text, integer, decimal, double, date, moment, time, yes/no, bytes, other), its length in characters or the digits of a number,
    the permitted values, the least and most by its checks."""

    name: str
    kind: str
    length: int | None = None
    digits: tuple[int, int] | None = None
    nullable: bool = True
    default: str | None = None
    counted: bool = False
    comment: str | None = None
    permitted: tuple[str, ...] = ()
    least: str | None = None
    most: str | None = None


@dataclass(frozen=True)
class TableDescription:
    """A table: its columns, the names of those of its primary key, and for each foreign key its columns, the other table and the columns there."""

    name: str
    columns: tuple[ColumnDescription, ...]
    primary_key: tuple[str, ...]
    foreign_keys: tuple[tuple[tuple[str, ...], str, tuple[str, ...]], ...]
    unread_checks: tuple[str, ...] = ()


def describe_table(database: Database, table: str | None) -> TableDescription:
    """Ask a database of a table; of its only one, if none is named. Raises SourceError where there is none of that name, OutsideError as the database does."""
    with told(database):
        engine = engine_of(database)
        known = tables_of(engine)
        name = table or (known[0] if len(known) == 1 else None)
        schema, _, bare = (name or "").rpartition(".")
        if name is None or (not schema and bare not in known):
            near = nearest(name, known) if name else None
            what = f"there is no table {name!r}." if name else "it is not said which table is meant."
            hint = f"Did you mean {near!r}?" if near else f"There are: {few(known, 12)}."
            raise SourceError(what, place=Place(database.name), hint=hint)
        look = sa.inspect(engine)
        columns = look.get_columns(bare, schema=schema or None)
        primary = look.get_pk_constraint(bare, schema=schema or None)["constrained_columns"]
        foreign = look.get_foreign_keys(bare, schema=schema or None)
        checks = [one["sqltext"] for one in look.get_check_constraints(bare, schema=schema or None)]
        if engine.dialect.name in ("mysql", "mariadb"):
            checks += _checks_in_columns(engine, bare)
    asked, unread = _checks(checks)
    described = tuple(_column(one, asked.get(one["name"].lower(), {})) for one in columns)
    references = tuple(
        (tuple(one["constrained_columns"]), str(one["referred_table"]), tuple(one["referred_columns"]))
        for one in foreign
    )
    return TableDescription(bare, described, tuple(primary or ()), references, tuple(unread))


def _checks_in_columns(engine: sa.Engine, table: str) -> list[str]:
    """The checks that MariaDB notes with single columns, which the library does not give."""
    asked = sa.text(
        "SELECT check_clause FROM information_schema.check_constraints WHERE constraint_schema = DATABASE() AND table_name = :name"
    )
    try:
        with engine.connect() as connection:
            return [str(one) for (one,) in connection.execute(asked, {"name": table})]
    except sa.exc.DBAPIError:
        # MySQL notes no tables there, and gives all checks by itself
        return []


def _column(column: Any, asked: dict[str, Any]) -> ColumnDescription:
    kind, length, digits = _kind(column["type"])
    permitted = tuple(asked.get("permitted", ()))
    if isinstance(column["type"], types.Enum) and column["type"].enums:
        permitted = tuple(column["type"].enums)
    default = column.get("default")
    computed = bool(column.get("computed") or column.get("identity")) or column.get("autoincrement") is True
    plain = (
        None
        if default is None
        else re.fullmatch(r"'((?:[^']|'')*)'(?:::[\w ]+(?:\(\d+\))?)?|(-?\d+(?:\.\d+)?)", str(default))
    )
    return ColumnDescription(
        column["name"],
        kind,
        length,
        digits,
        nullable=bool(column.get("nullable", True)),
        default=(plain[1].replace("''", "'") if plain[1] is not None else plain[2]) if plain else None,
        counted=computed or "nextval(" in str(default),
        comment=column.get("comment"),
        permitted=permitted,
        least=asked.get("least"),
        most=asked.get("most"),
    )


def _kind(kind: Any) -> tuple[str, int | None, tuple[int, int] | None]:
    if isinstance(kind, types.Boolean) or (
        str(kind).upper().startswith("TINYINT") and getattr(kind, "display_width", None) == 1
    ):
        return "yes/no", None, None
    if isinstance(kind, types.Integer):
        return "integer", None, None
    if isinstance(kind, types.Float):
        return "double", None, None
    if isinstance(kind, types.Numeric):
        digits = (kind.precision, kind.scale or 0) if kind.precision else None
        return "decimal", None, digits
    if isinstance(kind, types.DateTime):
        return "moment", None, None
    if isinstance(kind, types.Date):
        return "date", None, None
    if isinstance(kind, types.Time):
        return "time", None, None
    if isinstance(kind, types.LargeBinary):
        return "bytes", None, None
    if isinstance(kind, types.String):
        return "text", kind.length, None
    return ("text" if str(kind).upper() in ("UUID", "JSON", "JSONB", "XML", "CITEXT") else "other"), None, None


def _unquoted(text: str) -> str:
    return re.sub(r"\\(.)", r"\1", text.replace("''", "'"))


_NAME = r'[`"\[]?(\w+)[`"\]]?(?:::[\w ]+)?'
_IN = re.compile(rf"^\(*\s*{_NAME}\s*\)?\s*(?:::[\w ]+)?\s*in\s*\((.*?)\)\s*\)*$", re.I | re.S)
_ANY = re.compile(rf"^\(*\s*{_NAME}\)?(?:::[\w ]+)?\s*=\s*any\s*\(+\s*array\s*\[(.*?)\].*$", re.I | re.S)
_OR_EQUAL = re.compile(
    rf"^\(*\s*{_NAME}\s*(?:::[\w ]+)?\)?\s*(>=|<=|>|<)\s*\(?\s*'?(-?\d+(?:\.\d+)?)'?\)?(?:::[\w ]+)?\s*\)*$", re.I
)
_BETWEEN = re.compile(rf"^\(*\s*{_NAME}\s+between\s+'?(-?\d+(?:\.\d+)?)'?\s+and\s+'?(-?\d+(?:\.\d+)?)'?\s*\)*$", re.I)


def _checks(texts: list[str]) -> tuple[dict[str, dict[str, Any]], list[str]]:
    """What checks ask of single columns, and those that ask something else."""
    found: dict[str, dict[str, Any]] = {}
    unread: list[str] = []
    for text in texts:
        for part in re.split(r"\s+and\s+(?![^(]*\))(?!'?-?\d)", text.strip(), flags=re.I):
            listed = _IN.match(part) or _ANY.match(part)
            if listed is not None:
                values = [
                    _unquoted(a) or b for a, b in re.findall(r"'((?:[^'\\]|''|\\.)*)'|(-?\d+(?:\.\d+)?)", listed[2])
                ]
                found.setdefault(listed[1].lower(), {})["permitted"] = [one for one in values if one]
                continue
            if (compared := _OR_EQUAL.match(part)) is not None and compared[2] in (">=", "<="):
                found.setdefault(compared[1].lower(), {})["least" if compared[2] == ">=" else "most"] = compared[3]
                continue
            if (between := _BETWEEN.match(part)) is not None:
                found.setdefault(between[1].lower(), {}).update(least=between[2], most=between[3])
                continue
            unread.append(" ".join(part.split())[:100])
    return found, unread
