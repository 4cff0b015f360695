"""How each kind of database gives its values as exact text."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import polars as pl
import sqlalchemy as sa

from mudanza.core.sources.ahead import read_ahead

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


def copied_blocks(
    connection: sa.Connection, select: str, schema: dict[str, Any], digest: Any = None
) -> Iterator[pl.DataFrame]:
    """The rows of a query in PostgreSQL, as the server itself copies them out in CSV; `digest` is updated with its bytes."""
    text = pl.col(pl.String)
    # the next block is fetched while this one is parsed
    for block, count in read_ahead(_copied(connection.connection.driver_connection, select)):
        if digest is not None:
            digest.update(block)
        rows = pl.read_csv(block, has_header=False, schema=schema)
        if rows.height != count:
            raise sa.exc.DataError(f"{count} rows came, and {rows.height} can be told apart", None, ValueError())
        # the server writes a blank text as "" and nothing for null
        if b'""' in block:
            rows = rows.with_columns(pl.when(text.str.len_bytes() > 0).then(text).name.keep())
        yield rows


def _copied(driver: Any, select: str) -> Iterator[tuple[bytes, int]]:
    """The bytes of a COPY in blocks of whole rows, and how many rows they are.

    They are taken from libpq itself, which gives one row at a time: what is done for each row in Python is done a million times.
    """
    from psycopg import errors, pq

    connection = driver.pgconn
    result = connection.exec_(f"COPY ({select}) TO STDOUT (FORMAT csv)".encode())
    if result.status != pq.ExecStatus.COPY_OUT:
        raise errors.DatabaseError(result.error_message.decode(errors="replace"))
    pieces: list[bytes] = []
    size = 0
    fetch = connection.get_copy_data
    while True:
        length, data = fetch(0)
        if length < 0:
            break
        pieces.append(bytes(data))
        size += length
        if size >= _BLOCK:
            yield b"".join(pieces), len(pieces)
            pieces, size = [], 0
    while (result := connection.get_result()) is not None:
        if result.status != pq.ExecStatus.COMMAND_OK:
            raise errors.DatabaseError(result.error_message.decode(errors="replace"))
    if pieces:
        yield b"".join(pieces), len(pieces)
