"""Which records went out in which run: for each build, what is new, changed or gone since the build before.

A record is known by its key (as `values.row_columns.key_text` joins it) and a hash of all its texts (`values.hashing.fixed_hash`), so that what one
version remembers another can compare.
"""

from __future__ import annotations

from dataclasses import dataclass

import polars as pl

from mudanza.core.state.bodies import packed, unpacked
from mudanza.core.state.ledger import Ledger
from mudanza.core.values.row_columns import BETWEEN, shown_key

_SCHEMA = {"key": pl.String, "record": pl.UInt64}
#: what made the hashes; earlier versions noted the version of a library here, whose own hashes they took
_HASHED_BY = "xxh3-64, contents kept"
#: what made hashes of keys that are joined as they are now
_JOINED_SO = ("xxh3-64", _HASHED_BY)


@dataclass(frozen=True)
class Went:
    """A record in one run: new, changed, same or gone in the file."""

    run: int
    file: str
    how: str


def note_sent(ledger: Ledger, run: int, list_name: str, file: str, before: pl.DataFrame, now: pl.DataFrame) -> None:
    """Remember the records of a build, and what they are beside those of the build before: columns key and record (a hash). The ledger must be held by the run."""
    fresh = now.join(before, on=["key", "record"], how="anti") if before.height else now
    gone = before.join(now, on="key", how="anti").select("key", pl.lit(None, dtype=pl.UInt64).alias("record"))
    body = packed(pl.concat([fresh, gone]), list_name, run)
    ledger.tell("INSERT OR REPLACE INTO sent VALUES (?,?,?,?,?)", [(list_name, run, file, _HASHED_BY, body)])


def _builds(ledger: Ledger, list_name: str) -> list[tuple[int, str, str, bytes]]:
    """The builds of a list, oldest first: run, file, what made the hashes, and what was new, changed or gone."""
    if not ledger.has("sent"):
        return []
    return ledger.ask("SELECT run, file, engine, body FROM sent WHERE list = ? ORDER BY run", list_name)


def sent_by(ledger: Ledger, list_name: str, run: int | None = None) -> pl.DataFrame:
    """The records as a build wrote them, the last one if none is named: key, record, and the run that wrote them so first. Hashes of earlier versions cannot be
    compared, and equal none."""
    parts = [
        _records(ledger, list_name, *build).with_columns(run=pl.lit(build[0], dtype=pl.Int64))
        for build in _builds(ledger, list_name)
        if run is None or build[0] <= run
    ]
    known = pl.concat([pl.DataFrame(schema={**_SCHEMA, "run": pl.Int64}), *parts])
    return known.unique("key", keep="last", maintain_order=True).filter(pl.col("record").is_not_null())


def _records(ledger: Ledger, list_name: str, run: int, _: str, hashed_by: str, body: bytes) -> pl.DataFrame:
    part = unpacked(ledger, body, list_name, run)
    if hashed_by == _HASHED_BY:
        return part
    unknown = pl.when(pl.col("record").is_not_null()).then(pl.lit(0, dtype=pl.UInt64)).alias("record")
    key = pl.col("key") if hashed_by in _JOINED_SO else pl.col("key").str.replace_all(", ", BETWEEN, literal=True)
    return part.with_columns(key, unknown)


def went_out(ledger: Ledger, list_name: str, key: str) -> list[Went]:
    """What became of the record of a key, as people write it, in the builds of its list, oldest first; none before it was first written."""
    found: list[Went] = []
    there = False
    last = ""
    for run, file, version, body in _builds(ledger, list_name):
        rows = _records(ledger, list_name, run, file, version, body).filter(shown_key(pl.col("key")) == key)
        if rows.height:
            gone = rows["record"].item() is None
            # after a change of what makes the hashes all records look changed
            how = "gone" if gone else "new" if not there else "changed" if version == last else "same"
            there = not gone
            found.append(Went(run, file, how))
        elif there:
            found.append(Went(run, file, "same"))
        last = version
    return found
