"""Whether the keys of a file are filled, and each stands once."""

from __future__ import annotations

import tempfile

import numpy as np
import numpy.typing as npt
import polars as pl

from mudanza.core.engine.repeats import HashRuns, key_hashes
from mudanza.core.findings.finding import SCHEMA
from mudanza.core.findings.problem import Problem, flags, gather
from mudanza.core.layouts.layout import Field, Layout
from mudanza.core.layouts.rules import blank_in_file, same_value
from mudanza.core.values.row_columns import INNER, LINE, key_text, shown_key
from mudanza.core.work.checking.headings import Headings
from mudanza.core.work.checking.opened import Opened

_KEY, _SECOND, _FIRST, _TOLD, _BLANK = (f"{INNER}{one}" for one in ("key", "key2", "first", "told", "blank"))
_PIECE = 1 << 20
#: the bits of a hash that stay on the disk
_HALF = 32


class KeyCheck:
    """Looks at the keys of batches in the order of the file. Keys are compared as values, and as the target compares them.

    Four bytes of each key stay in memory, the rest on disk: which keys are repeated indeed, and where they stood first, is found out at the end, for all at once.
    Two independent 64-bit hashes stand for a key.
    """

    def __init__(self, opened: Opened, layout: Layout, headings: Headings, shown: str) -> None:
        columns = headings.columns
        keys = [one for one in layout.fields if one.name in layout.primary_key]
        self.fields: list[tuple[Field, str]] = []
        if keys and all(one.title in columns for one in keys):
            self.fields = [(one, columns[one.title]) for one in keys]
        self.rule, self.shown, self.opened = layout.key_rule, shown, opened
        self.title = ", ".join(one.title for one, _ in self.fields)
        self.known, self.rows = HashRuns(), _RowsOnDisk()
        self.repeated: list[pl.DataFrame] = []

    @property
    def _texts(self) -> list[pl.Expr]:
        return [pl.col(column) for _, column in self.fields]

    @property
    def _cell(self) -> pl.Expr | None:
        if not self.opened.in_sheet:
            return None
        letters = self.opened.reader.letters.get(self.fields[0][1], "")
        return pl.format("{}!{}{}", pl.lit(self.opened.reader.facts.sheet), pl.lit(letters), "line")

    def findings(self, rows: pl.DataFrame) -> list[pl.DataFrame]:
        """What is wrong with the keys of a batch by themselves: those that are blank."""
        if not self.fields:
            return []
        # looked at first, since all else asks for it
        blanks = {column: blank_in_file(one, pl.col(column)) for one, column in self.fields}
        texts = rows.select(LINE, *blanks, *(blank.alias(_BLANK + column) for column, blank in blanks.items()))
        blank = {column: pl.col(_BLANK + column) for column in blanks}
        # a required field of a key says for itself that it is blank, and has no twin
        told = pl.any_horizontal(pl.lit(False), *(blank[column] for one, column in self.fields if one.required))
        compared = [
            self.rule.part(same_value(one, pl.col(column), blank[column])).alias(column) for one, column in self.fields
        ]
        untold = (pl.all_horizontal(*blank.values()) & ~told).alias(_BLANK)
        values = texts.select(LINE, *compared, told.alias(_TOLD), untold)
        first, second = key_hashes([pl.col(column) for _, column in self.fields])
        hashed = values.select(LINE, first.alias(_KEY), second.alias(_SECOND), _TOLD, _BLANK)
        found = []
        if hashed[_BLANK].any():
            empty = Problem("key.blank", self.title, pl.col(_BLANK), shown_key(key_text(self._texts)), "filled in")
            beside = pl.concat([rows, hashed.select(_BLANK)], how="horizontal")
            found.append(gather(beside.with_columns(flags([empty])), [empty], pl.lit(self.shown), self._cell))
        without = hashed[_TOLD] | hashed[_BLANK]
        self._remember(*((rows.filter(~without), hashed.filter(~without)) if without.any() else (rows, hashed)))
        return found

    def _remember(self, rows: pl.DataFrame, hashed: pl.DataFrame) -> None:
        """Remember the keys of rows, and those rows whose key was there before."""
        keys = hashed[_KEY].to_numpy()
        ordered = np.sort((keys >> np.uint64(_HALF)).astype(np.uint32))
        twice = ordered[1:][ordered[1:] == ordered[:-1]]
        hits = self.known.hits(ordered)
        if len(twice) or len(hits):
            again = pl.Series(np.concatenate([twice, hits]).astype(np.uint64)).unique()
            texts = shown_key(key_text(self._texts)).alias("text")
            some = pl.concat([hashed.select(LINE, _KEY, _SECOND), rows.select(texts)], how="horizontal")
            self.repeated.append(some.filter((pl.col(_KEY) // 2**_HALF).is_in(again.implode())))
        self.known.add(ordered)
        self.rows.add(keys, hashed[_SECOND].to_numpy(), hashed[LINE].to_numpy())

    def repeated_findings(self) -> pl.DataFrame:
        """When all rows were looked at: those whose key an earlier row has."""
        if not self.repeated:
            return pl.DataFrame(schema=SCHEMA)
        asked = pl.concat(self.repeated)
        first = self.rows.first_of(asked[_KEY].unique().sort().to_numpy())
        rows = asked.join(first, on=[_KEY, _SECOND]).filter(pl.col(LINE) != pl.col(_FIRST)).sort(LINE)
        rule = pl.concat_str(pl.lit("unique; first in line "), pl.col(_FIRST))
        problem = Problem("key.repeated", self.title, pl.lit(True), pl.col("text"), rule)
        return gather(rows.with_columns(flags([problem])), [problem], pl.lit(self.shown), self._cell)


class _RowsOnDisk:
    """Of each row two hashes of its key, and its line, in a file without a name."""

    def __init__(self) -> None:
        self._file = tempfile.TemporaryFile()  # noqa: SIM115  it goes with the object

    def add(self, *columns: npt.NDArray[np.uint64] | npt.NDArray[np.int64]) -> None:
        """Keep some rows, given as key, second hash and line."""
        self._file.write(np.column_stack([one.astype(np.uint64, copy=False) for one in columns]).tobytes())

    def first_of(self, wanted: npt.NDArray[np.uint64]) -> pl.DataFrame:
        """The first line of each key whose first hash is wanted (sorted)."""
        self._file.seek(0)
        parts: list[pl.DataFrame] = []
        while piece := self._file.read(_PIECE * 24):
            rows = np.frombuffer(piece, np.uint64).reshape(-1, 3)
            places = np.minimum(np.searchsorted(wanted, rows[:, 0]), len(wanted) - 1)
            rows = rows[wanted[places] == rows[:, 0]]
            parts.append(
                _first(pl.DataFrame({_KEY: rows[:, 0], _SECOND: rows[:, 1], _FIRST: rows[:, 2].astype(np.int64)}))
            )
        return _first(pl.concat(parts))


def _first(rows: pl.DataFrame) -> pl.DataFrame:
    return rows.group_by(_KEY, _SECOND).agg(pl.col(_FIRST).min())
