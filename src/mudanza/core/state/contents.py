"""What records held that were built or handed over, each where it was first kept."""

from __future__ import annotations

from concurrent.futures import Future, ThreadPoolExecutor

import numpy as np
import polars as pl

from mudanza.core.state.bodies import packed, unpacked
from mudanza.core.state.ledger import Ledger
from mudanza.core.values.row_columns import INNER, SOURCE_COLUMN

#: beside the titles of a list's fields, which may have any other name: the key, and the hash of the record
KEY, RECORD = f"{INNER}key", f"{INNER}record"
_PIECE = 100_000
#: what is kept of records: what `keep` looked at, all of them, or the files of changes, additions and removals that came of a loan
_LOOKED_AT, _WHOLE, _CHANGE_SET = 0, 1, 2


class NewContents:
    """The records of a list that a run writes and the build before (hashes of its records) did not, packed while the run goes on: `whole`, or of each the hash and what `keep` looked
    at."""

    def __init__(
        self, list_name: str, run: int, before: pl.Series, helper: ThreadPoolExecutor, *, whole: bool = True
    ) -> None:
        self._list, self._run, self._whole = list_name, run, whole
        self._before = np.sort(before.to_numpy())
        self._helper = helper
        self._bodies: list[Future[bytes | None]] = []

    def take(self, records: pl.DataFrame) -> None:
        """Take records as they are written: `KEY`, `RECORD`, the fields, and columns of the source."""
        if not self._whole:
            records = records.select(RECORD, *(name for name in records.columns if name.startswith(SOURCE_COLUMN)))
        if records.width > 1:
            self._bodies.append(self._helper.submit(self._pack, records, len(self._bodies)))

    def note(self, ledger: Ledger) -> None:
        """Remember them. The ledger must be held by the run."""
        for part, body in enumerate(self._bodies):
            if (packed_part := body.result()) is not None:
                _tell(ledger, self._list, self._run, part, packed_part, _WHOLE if self._whole else _LOOKED_AT)

    def _pack(self, records: pl.DataFrame, part: int) -> bytes | None:
        if len(self._before):
            hashes = records[RECORD].to_numpy()
            place = np.minimum(np.searchsorted(self._before, hashes), len(self._before) - 1)
            records = records.filter(pl.Series(self._before[place] != hashes))
        return packed(records, self._list, self._run, part) if records.height else None


def keep_contents(ledger: Ledger, run: int, list_name: str, records: pl.DataFrame) -> None:
    """Keep whole records: `KEY`, `RECORD`, the fields, and columns of the source. The ledger must be held by the run."""
    for part, rows in enumerate(records.iter_slices(_PIECE)):
        _tell(ledger, list_name, run, part, packed(rows, list_name, run, part), _WHOLE)


def keep_change_set(
    ledger: Ledger, run: int, list_name: str, changes: pl.DataFrame, additions: pl.DataFrame, removals: pl.DataFrame
) -> None:
    """Keep what a run makes of a loan: `KEY`, and the fields that its files have. The ledger must be held by the run."""
    for part, rows in enumerate((changes, additions, removals)):
        _tell(ledger, list_name, run, part, packed(rows, list_name, run, part), _CHANGE_SET)


def change_set_of(ledger: Ledger, list_name: str, run: int) -> tuple[pl.DataFrame, ...]:
    """Changes, additions and removals as `keep_change_set` kept them; nothing if it did not."""
    return tuple(
        unpacked(ledger, body, list_name, run, part) for part, body in _bodies(ledger, list_name, run, _CHANGE_SET)
    )


def change_sets(ledger: Ledger, list_name: str) -> list[int]:
    """The runs that made something of loans of a list."""
    query = "SELECT DISTINCT run FROM contents WHERE list = ? AND whole = ? ORDER BY run"
    return [run for (run,) in ledger.ask(query, list_name, _CHANGE_SET)] if ledger.has("contents") else []


def _tell(ledger: Ledger, list_name: str, run: int, part: int, body: bytes, what: int) -> None:
    ledger.tell("INSERT INTO contents VALUES (?,?,?,?,?)", [(list_name, run, part, what, body)])


def _bodies(ledger: Ledger, list_name: str, run: int, what: int) -> list[tuple[int, bytes]]:
    query = "SELECT part, body FROM contents WHERE list = ? AND run = ? AND whole = ? ORDER BY part"
    return ledger.ask(query, list_name, run, what) if ledger.has("contents") else []


def contents_of(ledger: Ledger, list_name: str, wanted: pl.DataFrame) -> pl.DataFrame:
    """What some records held: `wanted` has their keys, hashes, and the runs that kept them (key, record, run).

    Gives `KEY`, `RECORD`, the fields by the titles that they had then, and columns of the source; those that were not kept whole are missing.
    """
    parts = [pl.DataFrame(schema={KEY: pl.String, RECORD: pl.UInt64})]
    for (run,), rows in wanted.partition_by("run", as_dict=True).items():
        for near in _parts(ledger, list_name, int(run), rows["record"], _WHOLE):
            parts.append(
                near.join(rows, left_on=[KEY, RECORD], right_on=["key", "record"], how="semi", maintain_order="left")
            )
    return pl.concat(parts, how="diagonal")


def looked_at(ledger: Ledger, list_name: str, run: int, records: pl.Series) -> pl.DataFrame:
    """What `keep` looked at when builds up to a run wrote some records first: `RECORD`, and columns of the source; missing where that was not kept."""
    query = "SELECT DISTINCT run FROM contents WHERE list = ? AND run <= ? AND NOT whole ORDER BY run DESC"
    runs = [one for (one,) in ledger.ask(query, list_name, run)] if ledger.has("contents") else []
    parts = [pl.DataFrame(schema={RECORD: pl.UInt64})]
    for one in runs:
        parts += _parts(ledger, list_name, one, records, _LOOKED_AT)
    return pl.concat(parts, how="diagonal").unique(RECORD, keep="first", maintain_order=True)


def _parts(ledger: Ledger, list_name: str, run: int, records: pl.Series, what: int) -> list[pl.DataFrame]:
    """What a run kept of some records (their hashes)."""
    wanted = records.implode()
    bodies = _bodies(ledger, list_name, run, what)
    return [unpacked(ledger, body, list_name, run, part).filter(pl.col(RECORD).is_in(wanted)) for part, body in bodies]
