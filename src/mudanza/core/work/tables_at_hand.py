"""The tables beside rows that flows ask for, each opened when it is first asked for: crosswalks, lookups, key books."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from contextlib import suppress
from datetime import date
from functools import cached_property
from pathlib import Path

import polars as pl

from mudanza.core.documents.errors import MoveError, MudanzaError, OutsideError, Place, unknown
from mudanza.core.engine.intake import open_readers
from mudanza.core.language.parameters import Parameters
from mudanza.core.language.value import PartTable, Surroundings
from mudanza.core.layouts.layout import Layout
from mudanza.core.plans.crosswalk_files import read_crosswalk
from mudanza.core.plans.move import Move
from mudanza.core.plans.plan import LookupTable, Plan
from mudanza.core.plans.plan_reading import layout_of
from mudanza.core.sinks.formats import built_file, read_built
from mudanza.core.sources.opening import files_of
from mudanza.core.state.key_pages import open_book
from mudanza.core.state.ledger import Ledger
from mudanza.core.tables.crosswalk import Crosswalk
from mudanza.core.tables.key_book import KEYS, KeyBook
from mudanza.core.tables.lookup import Lookup
from mudanza.core.values.digest import Digest, digest_of


class TablesAtHand:
    """The tables of a move. The lists of one run share them, so that a later one finds the identifiers that an earlier one gave."""

    def __init__(self, move: Move, ledger: Ledger, to_come: Collection[str] = (), *, for_few: bool = False) -> None:
        """With `to_come`, the lists that this run makes; lookups find in them nothing until they are made. With `for_few`, lookups are asked for few rows."""
        self.move, self.ledger = move, ledger
        self._for_few = for_few
        self._made: dict[str, pl.DataFrame | None] = dict.fromkeys(to_come)
        self.books: dict[str, KeyBook] = {}
        #: of the list that is being made and refers to itself: the places of rows whose references lead nowhere, by the fields that refer
        self.lost: dict[tuple[str, ...], pl.Series] | None = None
        self._crosswalks: dict[str, Crosswalk] = {}
        self._lookups: dict[tuple[str, str], Lookup] = {}

    def around(self, plan: Plan, as_of: date, parameters: Mapping[str, str]) -> Surroundings:
        """What the flows of a plan may refer to beyond the row."""
        return Surroundings(
            crosswalk=self.crosswalk,
            keys=self._keys,
            book_exists=lambda name: bool(self.book(name)),
            parameters=Parameters(parameters, self.move.parameters),
            as_of=as_of,
            lookup=lambda name: self.lookup(plan, name),
        )

    def book(self, name: str) -> KeyBook:
        """A key book. Raises MoveError if the settings have none of that name."""
        if name not in self.books:
            self.books[name] = open_book(self.ledger, name, self.move.key_pattern(name))
        return self.books[name]

    def _keys(self, name: str) -> PartTable:
        # as they are now: what a list gives out while it is made is not known to its own rows, in whatever batches they come
        return PartTable(tuple(KEYS), self.book(name).copy().find)

    def made(self, list_name: str, records: pl.DataFrame) -> None:
        """From here on lookups in a list and references to it find what this run has made of it: its records, by the titles of its fields
        (of those that are asked for)."""
        self._made[list_name] = records
        self.forget_lookups()

    def is_made(self, list_name: str) -> bool:
        """Whether this run has made a list."""
        return self._made.get(list_name) is not None

    def is_to_come(self, list_name: str) -> bool:
        """Whether this run makes a list later."""
        return list_name in self._made and not self.is_made(list_name)

    def records(self, list_name: str) -> pl.DataFrame | None:
        """What a list holds now: what this run has made of it or, if it makes nothing of it, what was built last; None if there is nothing."""
        if list_name in self._made:
            return self._made[list_name]
        return read_built(self.move, list_name, self.layouts[list_name])

    @cached_property
    def layouts(self) -> dict[str, Layout]:
        """The layouts of all lists whose plans can be read so far."""
        found = {}
        for name in self.move.names("plans", ".toml"):
            with suppress(MudanzaError):
                found[name] = layout_of(self.move, name)
        return found

    def forget_lookups(self) -> None:
        """Hold none of the tables that are looked up in any more."""
        self._lookups.clear()

    def forget_books(self) -> None:
        """From here on key books are as the ledger has them now."""
        self.books.clear()

    def crosswalk(self, name: str) -> Crosswalk:
        """A crosswalk. Raises MoveError where there is none of that name, or it is wrong."""
        if name not in self._crosswalks:
            self._crosswalks[name] = read_crosswalk(self.move.crosswalk_path(name))
        return self._crosswalks[name]

    def lookup(self, plan: Plan, name: str) -> Lookup:
        """A lookup of a plan, read whole. Raises MoveError where there is none of that name, or a row is damaged."""
        if name not in plan.lookups:
            raise MoveError(
                unknown("lookup", name, list(plan.lookups)),
                hint=f'Say in the plan where it stands: [lookup.{name}], file = "…", key = "…".',
            )
        if (plan.name, name) not in self._lookups:
            self._lookups[plan.name, name] = self._lookup(plan.lookups[name])
        return self._lookups[plan.name, name]

    def _lookup(self, table: LookupTable) -> Lookup:
        if table.list is not None:
            rows = self._built(table.name, table.list)
            return Lookup(table.name, table.keys, table.fold, tuple(rows.columns), lambda: iter([rows]))
        assert table.source is not None
        readers = open_readers(table.source, self.move)
        renames = table.source.options.rename
        columns = tuple(dict.fromkeys(renames.get(h, h) for _, reader in readers for h in reader.headings))

        def parts() -> Iterator[pl.DataFrame]:
            yield pl.DataFrame(schema=dict.fromkeys(columns, pl.String))
            for path, reader in readers:
                for batch in reader.batches():
                    if batch.broken:
                        bad = batch.broken[0]
                        raise MoveError(
                            f"a row of the lookup {table.name!r} is damaged: {bad.value}.",
                            place=Place(self.move.shown(path), bad.line),
                            hint="Mend the file; what cannot be read cannot be looked up.",
                        )
                    rows = batch.rows.select(reader.headings).rename(renames, strict=False)
                    blank = [pl.lit(None, pl.String).alias(c) for c in columns if c not in rows.columns]
                    yield rows.with_columns(blank).select(columns)

        return Lookup(table.name, table.keys, table.fold, columns, parts, self._for_few)

    def _built(self, name: str, list_name: str) -> pl.DataFrame:
        """What another list's build wrote, by the names of its fields."""
        layout = layout_of(self.move, list_name)
        if list_name in self._made:
            none_yet = pl.DataFrame(schema=dict.fromkeys((field.title for field in layout.fields), pl.String))
            rows = self._made[list_name]
            rows = none_yet if rows is None else rows
        else:
            rows = read_built(self.move, list_name, layout)
        if rows is None:
            raise OutsideError(
                f"the lookup {name!r} looks up in the list {list_name}, which does not exist yet as a built file.",
                place=Place(self.move.shown(built_file(self.move, list_name, layout))),
                hint=f"Build it first: mudanza build {list_name}.",
            )
        return rows.select(pl.col(field.title).alias(field.name) for field in layout.fields)

    def looked_up(self, plan: Plan, names: tuple[str, ...]) -> list[Digest]:
        """The files that lookups of a plan were read from."""
        paths: list[Path] = []
        for table in (plan.lookups[name] for name in names):
            if table.list is not None:
                if table.list in self._made:
                    continue
                paths.append(built_file(self.move, table.list, layout_of(self.move, table.list)))
            elif table.source is not None and table.source.file:
                paths += files_of(self.move.path(table.source.file))
        return [digest_of(path, self.move.shown(path)) for path in paths]
