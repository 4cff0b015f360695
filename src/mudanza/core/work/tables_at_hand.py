"""The tables beside rows that flows ask for, each opened when it is first asked for: crosswalks, lookups, key books."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from contextlib import suppress
from copy import copy
from dataclasses import dataclass
from datetime import date
from functools import cached_property
from pathlib import Path

import polars as pl

from mudanza.core.documents.errors import MoveError, MudanzaError, OutsideError, Place, unknown
from mudanza.core.engine.intake import open_readers
from mudanza.core.language.parameters import Parameters
from mudanza.core.language.value import FATES, TARGET_IDS, Finder, Surroundings
from mudanza.core.layouts.layout import Layout
from mudanza.core.plans.by_hand_files import read_by_hand
from mudanza.core.plans.correction_files import read_corrections
from mudanza.core.plans.crosswalk_files import read_crosswalk
from mudanza.core.plans.leavers import HELD_BACK
from mudanza.core.plans.move import Move
from mudanza.core.plans.plan import LookupTable, Plan
from mudanza.core.plans.plan_reading import layout_of
from mudanza.core.sinks.formats import built_file, read_built
from mudanza.core.sources.opening import files_of
from mudanza.core.state.in_target import in_target
from mudanza.core.state.key_pages import open_book
from mudanza.core.state.ledger import Ledger
from mudanza.core.state.run_values import last_values
from mudanza.core.tables.crosswalk import Crosswalk
from mudanza.core.tables.key_book import KEYS, KeyBook
from mudanza.core.tables.lookup import Lookup
from mudanza.core.tables.sorted_rows import SortedRows
from mudanza.core.values.digest import Digest, digest_of
from mudanza.core.work.again.against import Against, against


class TablesAtHand:
    """The tables of a move. The lists of one run share them, so that a later one finds the identifiers that an earlier one gave."""

    def __init__(
        self,
        move: Move,
        ledger: Ledger,
        to_come: Collection[str] = (),
        *,
        for_few: bool = False,
        since: int | str | None = None,
    ) -> None:
        """Lists are compared with what was handed over (if `since` says so, also where that is nothing) or, if it is named, with the run `since`. With `to_come`, the lists that this run makes; lookups find in them nothing until they are made. With `for_few`, lookups are asked for few rows."""
        self.move, self.ledger = move, ledger
        self._for_few, self._since = for_few, since
        self._made: dict[str, pl.DataFrame | None] = dict.fromkeys(to_come)
        self.books: dict[str, KeyBook] = {}
        #: by list that this run has made: the keys of records that it takes out of the target
        self.removed: dict[str, pl.Series] = {}
        self._crosswalks: dict[str, Crosswalk] = {}
        self._lookups: dict[tuple[str, str], Lookup] = {}
        self._against: dict[str, Against | None] = {}
        self._unwritten: dict[str, tuple[str | None, pl.DataFrame]] = {}

    def trial(self) -> TablesAtHand:
        """The same tables, of which nothing that is done with them is known here."""
        other = copy(self)
        other.books = {name: book.copy() for name, book in self.books.items()}
        other._made, other._unwritten, other._lookups = dict(self._made), dict(self._unwritten), {}
        return other

    def around(self, plan: Plan, as_of: date, parameters: Mapping[str, str]) -> Surroundings:
        """What the flows of a plan may refer to beyond the row."""
        compared = self.against(plan)
        return Surroundings(
            crosswalk=self.crosswalk,
            keys=self._keys,
            parameters=Parameters(parameters, self.move.parameters, last=self._last_values),
            as_of=as_of,
            lookup=lambda name: self.lookup(plan, name),
            in_target=compared.table if compared is not None else None,
            by_hand=read_by_hand(self.move, plan.name),
            corrections=read_corrections(self.move, plan.name, plan.layout),
            fates=self._fates_in,
            target_ids=self._target_ids,
        )

    def values(self, given: Mapping[str, str], asked: Collection[str]) -> dict[str, str]:
        """The values that flows ask for, as they are given, follow from the last build, or stand in the settings."""
        parameters = Parameters(given, self.move.parameters, last=self._last_values)
        found = {name: parameters.find(name)[1] for name in sorted(asked)}
        return {name: text for name, text in found.items() if text is not None}

    @cached_property
    def _last_values(self) -> dict[str, tuple[str, int]]:
        return last_values(self.ledger) if self.move.parameters else {}

    def against(self, plan: Plan) -> Against | None:
        """What a list is compared with; None where nothing is known."""
        if plan.name not in self._against:
            self._against[plan.name] = against(self.ledger, plan.name, plan.layout, self._since)
        return self._against[plan.name]

    def book(self, name: str) -> KeyBook:
        """A key book. Raises MoveError if the settings have none of that name."""
        if name not in self.books:
            self.books[name] = open_book(self.ledger, name, self.move.key_pattern(name))
        return self.books[name]

    def _keys(self, name: str) -> Finder:
        if self._for_few:
            # where nothing but the plan is looked at, no book is opened
            self.move.key_pattern(name)
            return _OpenedLater(self, name)
        # as they are now: what a list gives out while it is made is not known to its own rows, in whatever batches they come
        return self.book(name).now

    def made(self, list_name: str, records: pl.DataFrame) -> None:
        """From here on lookups in a list and references to it find what this run has made of it: its records, by the titles of its fields
        (of those that are asked for)."""
        self._made[list_name] = records
        self.forget_lookups()

    def _target_ids(self, list_name: str) -> SortedRows:
        self.move.plan_path(list_name)
        given = in_target(self.ledger, list_name).select(*TARGET_IDS).drop_nulls()
        return SortedRows.of(given, TARGET_IDS[0])

    @property
    def makes_several(self) -> bool:
        """Whether this run makes several lists, so that a later one may refer to an earlier one."""
        return len(self._made) > 1

    def not_written(self, list_name: str, book: str | None, rows: pl.DataFrame) -> None:
        """From here on references to rows of a list (of `early.MISSED`) that this run does not write tell what became of them; `book` is that of its key."""
        self._unwritten[list_name] = book, rows

    def _fates_in(self, book: str) -> pl.DataFrame | None:
        parts = [_fates(rows, "identity") for of_list, rows in self._unwritten.values() if of_list == book]
        return pl.concat(parts).unique("text", keep="first", maintain_order=True) if parts else None

    def list_of_book(self, book: str) -> str | None:
        """The list of this run whose keys a key book has, if it was made by now."""
        return next((name for name, (of_list, _) in self._unwritten.items() if of_list == book), None)

    def fates_of_list(self, list_name: str) -> pl.DataFrame | None:
        """What became of the rows of a list that were not written, by their keys; None if this run did not make it."""
        found = self._unwritten.get(list_name)
        return None if found is None else _fates(found[1], "id")

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
        """From here on key books, and what was handed over, are as the ledger has them now."""
        self.books.clear()
        self._against.clear()
        self.__dict__.pop("_last_values", None)

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


@dataclass(frozen=True)
class _OpenedLater:
    """The identifiers of a key book that is opened when somebody asks for one."""

    tables: TablesAtHand
    book: str
    columns = tuple(KEYS)

    def find(self, identities: pl.Series) -> pl.DataFrame:
        """As `GivenKeys.find` does."""
        return self.tables.book(self.book).find(identities)


def _fates(rows: pl.DataFrame, column: str) -> pl.DataFrame:
    """What became of rows that were not written, by one of their columns."""
    code = pl.when(pl.col("why") == HELD_BACK).then(pl.lit(FATES[1])).otherwise(pl.lit(FATES[0]))
    where = pl.format("{} line {}", "file", "line")
    told = pl.format("written; {} is {}: {}", where, pl.col("why"), pl.col("rule").fill_null("keep"))
    named = rows.filter(pl.col(column).is_not_null())
    return named.select(pl.col(column).alias("text"), code.alias("code"), told.alias("told")).unique(
        "text", keep="first", maintain_order=True
    )
