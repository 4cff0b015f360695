"""Tables and queries of databases through SQLAlchemy: streamed as text, in one read-only transaction."""

from __future__ import annotations

import hashlib
import logging
import sqlite3
import time
import warnings
from collections.abc import Collection, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from decimal import Decimal
from functools import cached_property, partial
from pathlib import Path
from typing import Any
from urllib.parse import quote as quoted

import polars as pl
import sqlalchemy as sa
from sqlalchemy.exc import NoSuchModuleError, SQLAlchemyError

from mudanza.core.documents.errors import MudanzaError, OutsideError, Place, SourceError, counted, few, unknown
from mudanza.core.documents.secrets import without_pieces
from mudanza.core.documents.toml_texts import toml_text
from mudanza.core.findings.finding import Finding, frame
from mudanza.core.sources.address import Database
from mudanza.core.sources.headings import tell_apart
from mudanza.core.sources.reader import Batch, FileFacts, ReadOptions, WithoutCells
from mudanza.core.sources.sql_texts import copied_blocks, texts_of
from mudanza.core.values.digest import Digest
from mudanza.core.values.kinds import DECIMAL
from mudanza.core.values.row_columns import LINE

_FETCH = 20_000
#: seconds for connecting
_PATIENCE = 15
#: an SQLite file is read in so many seconds, and one more for so many bytes; or it is a computation
_SECONDS, _BYTES_A_SECOND = 6, 50_000
_FIRST = 1_000
_TOLERANCE = Decimal("1e-12")
_OTHER_SPACES = "\t\n\v\f\r"
#: whether a text has other than ASCII characters, in whatever encoding the database keeps it
_BEYOND_ASCII = {
    "postgresql": "octet_length(convert_to({0}, 'UTF8')) <> char_length({0})",
    "sqlite": "length(CAST({0} AS BLOB)) <> length({0})",
    "mysql": "length(CONVERT({0} USING utf8mb4)) <> char_length({0})",
}
_BEYOND_ASCII["mariadb"] = _BEYOND_ASCII["mysql"]
#: the character set of binary columns in MariaDB
_BINARY = 63


def open_file(path: Path, options: ReadOptions, known_as: Path) -> DatabaseTable:
    """The reader of a table or query of an SQLite file."""
    return _open(Database(str(known_as), file=path), options, path.stat().st_size)


def open_database(database: Database, options: ReadOptions, *, digested: bool = False) -> DatabaseTable:
    """The reader of a table or query of a database of the move's settings. With `digested`, a digest of what is read is made."""
    return replace(_open(database, options, 0), digested=digested)


def parts(path: Path, options: ReadOptions, known_as: Path) -> list[ReadOptions]:
    """The options that read each table of an SQLite file."""
    return parts_of(Database(str(known_as), file=path), options)


def parts_of(database: Database, options: ReadOptions) -> list[ReadOptions]:
    """The options that read each table of a database, unless one or a query is named."""
    if {"table", "query"} & set(options.own):
        return [options]
    with told(database):
        tables = tables_of(engine_of(database))
    if not tables:
        raise SourceError(
            "the database has no tables.", place=Place(database.name), hint="Is it the right one, and may you see them?"
        )
    return [replace(options, format="database", own={**options.own, "table": table}) for table in tables]


def _open(database: Database, options: ReadOptions, size: int) -> DatabaseTable:
    own = options.own
    place = Place(database.name)
    if "table" in own and "query" in own:
        raise SourceError("a source is a table or a query, not both.", place=place, hint="Take one of them out.")
    if not {"table", "query"} & set(own):
        with told(database):
            tables = tables_of(engine_of(database))
        if len(tables) != 1:
            listed = f"It has: {few(tables)}." if tables else "It has none."
            raise SourceError("the source does not say its table.", place=place, hint=f'Write table = "…". {listed}')
        options = replace(options, own={**own, "table": tables[0]})
    if database.file is not None and not database.file.is_file():
        raise SourceError("the file does not exist.", place=Place(str(database.file)), hint="Look at the path.")
    return DatabaseTable(database, options, size)


def engine_of(database: Database) -> sa.Engine:
    # what it says of cleaning up behind an error would bury the error
    logging.getLogger("sqlalchemy.pool").setLevel(logging.CRITICAL)
    url = database.url()
    # statements have no parameters, so that a % in a query is a %
    more: dict[str, Any] = {"poolclass": sa.pool.NullPool, "execution_options": {"no_parameters": True}}
    backend = url.get_backend_name()
    if backend == "sqlite":
        # opened so that nothing can be written; the path's own signs are none of an address
        more["creator"] = lambda: _bounded(url.database or "")
        return sa.create_engine("sqlite://", **more)
    if backend == "postgresql":
        more["connect_args"] = {"connect_timeout": _PATIENCE}
    if backend in ("mysql", "mariadb"):
        # the driver's time for connecting ends when somebody takes the call, who may say nothing
        more["connect_args"] = {"connect_timeout": _PATIENCE, "read_timeout": _PATIENCE, "write_timeout": _PATIENCE}
    engine = sa.create_engine(url, **more)
    if backend in ("mysql", "mariadb"):
        own = url.query.get("read_timeout")
        sa.event.listen(engine, "connect", partial(_take_time, float(str(own)) if own else None))
    return engine


def _bounded(path: str) -> sqlite3.Connection:
    """An SQLite file, opened so that nothing can be written. What it computes without an end is interrupted: a view
    may be anything."""
    connection = sqlite3.connect(f"file:{quoted(path)}?mode=ro", uri=True, check_same_thread=False)
    until = time.monotonic() + _SECONDS + Path(path).stat().st_size / _BYTES_A_SECOND
    connection.set_progress_handler(lambda: time.monotonic() > until, 1_000_000)
    return connection


def _take_time(seconds: float | None, connection: Any, _: Any) -> None:
    """Once it is connected, MariaDB may take for a query what time its address says, or what it takes."""
    connection._read_timeout, connection._write_timeout = seconds, None


def tables_of(engine: sa.Engine) -> list[str]:
    looked = sa.inspect(engine)
    return sorted([*looked.get_table_names(), *looked.get_view_names()])


@contextmanager
def told(database: Database) -> Iterator[None]:
    """What goes wrong at a database, in words and without credentials."""
    place = Place(database.name)
    try:
        yield
    except MudanzaError:
        raise
    except (NoSuchModuleError, ModuleNotFoundError) as error:
        raise OutsideError(
            f"there is no driver for this database ({error}).",
            place=place,
            hint="PostgreSQL, MariaDB and MySQL need further packages: pip install 'mudanza[databases]'.",
        ) from None
    except Exception as error:
        # a driver takes the options of an address as arguments
        option = isinstance(error, TypeError) and "keyword argument" in str(error)
        if (
            not isinstance(error, SQLAlchemyError)
            and not option
            and type(error).__module__.partition(".")[0]
            not in (
                "psycopg",
                "pymysql",
                "sqlite3",
            )
        ):
            raise
        cause = getattr(error, "orig", None) or error
        said = cause.args[1] if len(cause.args) > 1 and isinstance(cause.args[1], str) else cause
        words = str(said).strip().splitlines() or [type(error).__name__]
        raise OutsideError(
            f"the database says: {without_pieces(words[0])}", place=place, hint=_what_next(words[0])
        ) from None


def _what_next(words: str) -> str:
    """What helps, by what a database said."""
    said = words.lower()
    if said == "interrupted":
        return (
            "Its views compute without an end, or far too much: name a table (--how table=NAME), "
            "or ask for the records as files."
        )
    if any(word in said for word in ("timeout", "time-out", "timed out", "max_statement_time", "canceling")):
        return "It took longer than the database allows: ask for more time there, or read less with a query."
    if any(word in said for word in ("terminat", "lost connection", "closed the connection", "gone away", "killed")):
        return "The connection was cut off. Run it again; if it happens again, ask who runs the database."
    return "Look at the address, the credentials and the names of table and columns."


@dataclass(frozen=True)
class DatabaseTable(WithoutCells):
    """A table or query opened for reading; `#line` is the number of the row as it came.

    With `digested`, a digest of what is read is made. A table comes in the order of its primary key (of all its columns if it has none), so that reading it again gives the same.
    """

    database: Database
    options: ReadOptions
    size: int
    digested: bool = False
    #: of what was read the last time it was read whole
    _sums: list[Any] = field(default_factory=lambda: [hashlib.sha256()])

    @cached_property
    def _engine(self) -> sa.Engine:
        with told(self.database):
            return engine_of(self.database)

    @cached_property
    def _origin(self) -> str:
        """The table or the query, as it stands behind FROM."""
        own = self.options.own
        if "query" in own:
            return f"({own['query'].strip().rstrip(';')}) AS asked"
        quote = self._engine.dialect.identifier_preparer.quote
        return ".".join(quote(part) for part in own["table"].split("."))

    @cached_property
    def _described(self) -> list[tuple[str, Any]]:
        """The names and type codes of the columns that are read."""
        own = self.options.own
        with told(self.database), self._engine.connect() as connection:
            if "table" in own and "." not in own["table"]:
                tables = tables_of(self._engine)
                if own["table"] not in tables:
                    place = Place(self.database.name)
                    raise SourceError(
                        unknown("table", own["table"], tables), place=place, hint=f"It has: {few(tables)}."
                    )
            result = connection.exec_driver_sql(f"SELECT * FROM {self._origin} WHERE 1 = 0")
            assert result.cursor is not None
            all_columns: list[tuple[str, Any]] = [(one[0], one[1]) for one in result.cursor.description]
            # of MariaDB's text types only the character set tells which are binary
            fields: Any = getattr(getattr(result.cursor, "_result", None), "fields", None) or ()
            binary = {i for i, one in enumerate(fields) if one.type_code >= 249 and one.charsetnr == _BINARY}
            all_columns = [(name, "binary" if i in binary else code) for i, (name, code) in enumerate(all_columns)]
        known = [name for name, _ in all_columns]
        for name in own.get("columns", known):
            if name not in known:
                place = Place(self.database.name, key=own.get("table"))
                raise SourceError(unknown("column", name, known), place=place, hint=f"It has: {few(known)}.")
        return [one for one in all_columns if one[0] in own.get("columns", known)]

    @property
    def raw_headings(self) -> tuple[str, ...]:
        return tuple(name for name, _ in self._described)

    @cached_property
    def headings(self) -> tuple[str, ...]:
        return tuple(tell_apart(self.raw_headings))

    def declared(self) -> dict[str, str]:
        """The kinds that the database declares for a table's columns, by heading; a query's are not declared."""
        return self._declared

    @cached_property
    def _declared(self) -> dict[str, str]:
        if "table" not in self.options.own:
            return {}
        schema, _, table = self.options.own["table"].rpartition(".")
        with told(self.database), warnings.catch_warnings():
            # kinds that the library does not know are of no interest here
            warnings.simplefilter("ignore", sa.exc.SAWarning)
            declared = {
                one["name"]: str(one["type"])
                for one in sa.inspect(self._engine).get_columns(table, schema=schema or None)
            }
        back = zip(self.headings, self.raw_headings, strict=True)
        return {heading: declared[name] for heading, name in back if name in declared}

    @cached_property
    def facts(self) -> FileFacts:
        own = self.options.own
        names = {"postgresql": "PostgreSQL", "mysql": "MySQL", "mariadb": "MariaDB", "sqlite": "SQLite"}
        dialect = self._engine.dialect.name
        _ = self._described
        return FileFacts(
            path=Path(self.database.name),
            format=f"{names.get(dialect, dialect)} database",
            size=self.size,
            heading_line=0,
            unit="row",
            part=own.get("table") or "query",
            proposal=(f"table = {toml_text(own['table'])}",) if "table" in own else (),
        )

    def digest(self, name: str) -> Digest:
        """What was read, as the bytes of its text."""
        return Digest(name, self.size, str(self._sums[-1].hexdigest()))

    def _select(self) -> str:
        texts = ", ".join(self._texts)
        return f"SELECT {texts} FROM {self._origin}" + (f" ORDER BY {', '.join(self._order)}" if self._order else "")

    @cached_property
    def _texts(self) -> list[str]:
        return texts_of(self._engine.dialect, self._described)

    @cached_property
    def _order(self) -> list[str]:
        """What a table is ordered by: its primary key, or all its columns; a query is as it is."""
        own = self.options.own
        if "table" not in own:
            return []
        schema, _, table = own["table"].rpartition(".")
        key = sa.inspect(self._engine).get_pk_constraint(table, schema=schema or None)["constrained_columns"]
        quote = self._engine.dialect.identifier_preparer.quote
        return [quote(c) for c in key] or self._texts

    def holding(self, headings: Collection[str], texts: Collection[str]) -> Iterator[Batch] | None:
        """The rows that hold one of some texts in one of some columns (and perhaps others), as the database finds them, numbered as among all rows;
        None if it cannot be asked for them."""
        asked = [one for one, heading in zip(self._texts, self.headings, strict=True) if heading in headings]
        # but for ASCII, databases compare capitals as they please; and a query has no order in which its rows could be numbered
        beyond = _BEYOND_ASCII.get(self._engine.dialect.name)
        if not self._order or beyond is None or not all(t.isascii() and t and "\\" not in t for t in texts):
            return None
        tests: list[sa.ColumnElement[bool]] = []
        for one in asked:
            whole = sa.cast(sa.literal_column(one), sa.Text)
            value = sa.func.lower(whole)
            # databases take only spaces off the ends
            spaces = (value.contains(sign, autoescape=True) for sign in _OTHER_SPACES)
            other = sa.or_(sa.text(beyond.format(whole.compile(dialect=self._engine.dialect))), *spaces)
            for text in texts:
                within = value.contains(text.lower(), autoescape=True)
                tests.append(sa.or_(sa.func.trim(value) == text.lower(), sa.and_(within, other)))
        where = sa.or_(sa.false(), *tests).compile(dialect=self._engine.dialect, compile_kwargs={"literal_binds": True})
        return self._rows_where(str(where).replace("%%", "%"))

    def _rows_where(self, where: str) -> Iterator[Batch]:
        numbered = f"ROW_NUMBER() OVER (ORDER BY {', '.join(self._order)})"
        names = [self._engine.dialect.identifier_preparer.quote(f"column {i}") for i in range(len(self._texts) + 2)]
        # as COPY gives them
        copied = self._engine.dialect.name == "postgresql"
        texts = [f"({one})::text" for one in self._texts] if copied else self._texts
        columns = [*texts, numbered, f"CASE WHEN {where} THEN 1 END"]
        listed = ", ".join(f"{column} AS {name}" for column, name in zip(columns, names, strict=True))
        select = (
            f"SELECT {', '.join(names[:-1])} FROM (SELECT {listed} FROM {self._origin}) AS found WHERE {names[-1]} = 1"
        )
        schema: dict[str, Any] = {**dict.fromkeys(self.headings, pl.String), LINE: pl.Int64}
        with told(self.database), self._engine.connect() as connection:
            self._begin(connection)
            rows = [tuple(row) for row in connection.exec_driver_sql(f"{select} ORDER BY {names[-2]}")]
        text = pl.col(pl.String)
        frame_ = pl.DataFrame(rows, schema=schema, orient="row", strict=False)
        yield Batch(frame_.with_columns(pl.when(text.str.len_bytes() > 0).then(text).name.keep()))

    def batches(self, *, first: bool = False) -> Iterator[Batch]:
        """The rows. At the end the count, and the sums that were asked for, are compared with the database's own."""
        sums = {name: Decimal(0) for name in self.options.own.get("sums", ())}
        # without their signs, since what cancels out leaves the last digits of much larger numbers
        sizes = dict(sums)
        for name in sums:
            if name not in self.headings:
                raise SourceError(
                    unknown("column", name, list(self.headings)),
                    place=Place(self.database.name),
                    hint=f"It has: {few(self.headings)}.",
                )
        read = 0
        if not first:
            self._sums[:] = [hashlib.sha256()]
        with told(self.database):
            select = self._select() + (f" LIMIT {_FIRST}" if first else "")
            with self._engine.connect() as connection:
                self._begin(connection)
                for rows in self._frames(connection, select, self.digested and not first):
                    for name in sums:
                        values = rows[name].cast(DECIMAL, strict=False)
                        sums[name] += values.sum() or Decimal(0)
                        sizes[name] += values.abs().sum() or Decimal(0)
                    numbers = pl.int_range(read + 1, read + 1 + rows.height, dtype=pl.Int64, eager=True)
                    read += rows.height
                    yield Batch(rows.with_columns(numbers.alias(LINE)))
                if not first:
                    yield Batch(self._empty(), noticed=frame(self._compared(connection, read, sums, sizes)))

    def _empty(self) -> pl.DataFrame:
        return pl.DataFrame(schema={**dict.fromkeys(self.headings, pl.String), LINE: pl.Int64})

    def _begin(self, connection: sa.Connection) -> None:
        """One view of the data from the first row to the last count, and no way to change them."""
        dialect = self._engine.dialect.name
        if dialect == "postgresql":
            connection.exec_driver_sql("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ, READ ONLY")
            connection.exec_driver_sql("SET LOCAL datestyle = 'ISO'")
            connection.exec_driver_sql("SET LOCAL timezone = 'UTC'")
        elif dialect in ("mysql", "mariadb"):
            connection.exec_driver_sql("SET SESSION time_zone = '+00:00'")
            connection.exec_driver_sql("START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY")

    def _frames(self, connection: sa.Connection, select: str, digested: bool) -> Iterator[pl.DataFrame]:
        schema: dict[str, Any] = dict.fromkeys(self.headings, pl.String)
        if self._engine.dialect.name == "postgresql":
            yield from copied_blocks(connection, select, schema, self._sums[-1] if digested else None)
            return
        result = connection.execution_options(stream_results=True, max_row_buffer=_FETCH).exec_driver_sql(select)
        while rows := result.fetchmany(_FETCH):
            frame_ = pl.DataFrame([tuple(row) for row in rows], schema=schema, orient="row")
            if digested:
                self._sums[-1].update(frame_.write_csv(include_header=False).encode())
            text = pl.col(pl.String)
            yield frame_.with_columns(pl.when(text.str.len_bytes() > 0).then(text).name.keep())

    def _compared(
        self, connection: sa.Connection, read: int, sums: dict[str, Decimal], sizes: dict[str, Decimal]
    ) -> list[Finding]:
        quote = self._engine.dialect.identifier_preparer.quote
        back = dict(zip(self.headings, self.raw_headings, strict=True))
        asked = ", ".join(["COUNT(*)", *(f"SUM({quote(back[name])})" for name in sums)])
        count, *own = connection.exec_driver_sql(f"SELECT {asked} FROM {self._origin}").one()
        found = []
        if count != read:
            found.append(
                Finding(
                    "database.count-differs",
                    value=f"{counted(read, 'row')} read",
                    rule=f"{counted(count, 'row')} in the database",
                )
            )
        for (name, total), theirs in zip(sums.items(), own, strict=True):
            difference = abs(Decimal(str(theirs or 0)) - total)
            # sums of binary floating-point numbers differ in their last digits
            if difference > _TOLERANCE * max(Decimal(1), sizes[name]):
                found.append(
                    Finding(
                        "database.sum-differs",
                        column=None,
                        value=f"{name}: {total.normalize():f}",
                        rule=f"{theirs} in the database",
                    )
                )
        return found
