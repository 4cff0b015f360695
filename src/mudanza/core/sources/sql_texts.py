"""How each kind of database gives its values as exact text."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import polars as pl
import sqlalchemy as sa

from mudanza.core.sources.structure import Shape, cut_exactly, cut_quickly

_BLOCK = 8 << 20
# type codes that drivers give for a column (PEP 249, cursor.description)
_PG_YES_NO, _PG_BINARY, _PG_FIXED = 16, 17, 1042
_MARIADB_TEXT = {15, 249, 250, 251, 252, 253, 254}
_MARIADB_BIT = 16


def texts_of(dialect: sa.Dialect, columns: list[tuple[str, Any]]) -> list[str]:
    """For each column (name and type code) the expression that gives it as text: decimals and dates as they are, yes/no in
    words, binary values by their size."""
    quote = dialect.identifier_preparer.quote
    kinds = {"postgresql": _postgresql, "mysql": _mariadb, "mariadb": _mariadb, "sqlite": _sqlite}
    make = kinds.get(dialect.name, _any)
    return [make(quote(name), code) for name, code in columns]


def _postgresql(name: str, code: Any) -> str:
    if code == _PG_BINARY:
        return f"'(binary, ' || octet_length({name}) || ' bytes)'"
    if code == _PG_YES_NO:
        return f"CASE WHEN {name} THEN 'true' WHEN NOT {name} THEN 'false' END"
    return f"rtrim({name}::text)" if code == _PG_FIXED else name


def _mariadb(name: str, code: Any) -> str:
    if code == "binary":
        return f"CONCAT('(binary, ', OCTET_LENGTH({name}), ' bytes)')"
    if code == _MARIADB_BIT:
        return f"CAST({name} + 0 AS CHAR)"
    return name if code in _MARIADB_TEXT else f"CAST({name} AS CHAR)"


def _sqlite(name: str, code: Any) -> str:  # noqa: ARG001
    return (
        f"CASE typeof({name}) WHEN 'blob' THEN '(binary, ' || length({name}) || ' bytes)' ELSE CAST({name} AS TEXT) END"
    )


def _any(name: str, code: Any) -> str:  # noqa: ARG001
    return f"CAST({name} AS VARCHAR(4000))"


def copied_blocks(connection: sa.Connection, select: str, schema: dict[str, Any]) -> Iterator[pl.DataFrame]:
    """The rows of a query in PostgreSQL, as the server itself copies them out in CSV."""
    driver: Any = connection.connection.driver_connection
    shape = Shape(b",", b'"', len(schema))
    carry = b""
    with driver.cursor() as cursor, cursor.copy(f"COPY ({select}) TO STDOUT (FORMAT csv)") as copy:
        pieces: list[bytes] = []
        size = 0
        for piece in copy:
            pieces.append(bytes(piece))
            size += len(piece)
            if size >= _BLOCK:
                block = carry + b"".join(pieces)
                rows, used = _parsed(block, shape, schema, at_end=False)
                carry, pieces, size = block[used:], [], 0
                yield rows
        rows, _ = _parsed(carry + b"".join(pieces), shape, schema, at_end=True)
        if rows.height:
            yield rows


def _parsed(block: bytes, shape: Shape, schema: dict[str, Any], *, at_end: bool) -> tuple[pl.DataFrame, int]:
    if not block:
        return pl.DataFrame(schema=schema), 0
    cut = cut_quickly(block, shape, at_end) or cut_exactly(block, shape, at_end)
    rows = pl.read_csv(cut.body, has_header=False, schema=schema) if cut.body else pl.DataFrame(schema=schema)
    if cut.broken or rows.height != cut.rows:
        raise sa.exc.DataError(
            f"a row came damaged ({cut.broken[0].value if cut.broken else 'count'})", None, ValueError()
        )
    text = pl.col(pl.String)
    return rows.with_columns(pl.when(text.str.len_bytes() > 0).then(text).name.keep()), cut.used
