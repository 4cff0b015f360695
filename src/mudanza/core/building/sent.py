"""Which records went out in which run: for each build, what is new, changed or gone since the build before."""

from __future__ import annotations

import io
from dataclasses import dataclass

import polars as pl

from mudanza.core.ledger import Ledger

_SCHEMA = {"key": pl.String, "record": pl.UInt64}


@dataclass(frozen=True)
class Went:
    """A record in one run: new, changed, same or gone in the file."""

    run: int
    file: str
    how: str


def note_sent(ledger: Ledger, run: int, list_name: str, file: str, now: pl.DataFrame) -> None:
    """Remember the records of a build: columns key and record (a hash). The ledger must be held by the run."""
    before = _state(ledger, list_name)
    fresh = now.join(before, on=["key", "record"], how="anti")
    gone = before.join(now, on="key", how="anti").select("key", pl.lit(None, dtype=pl.UInt64).alias("record"))
    body = io.BytesIO()
    pl.concat([fresh, gone]).write_ipc(body, compression="zstd")
    ledger.put_sent(run, list_name, file, pl.__version__, body.getvalue())


def _state(ledger: Ledger, list_name: str) -> pl.DataFrame:
    """The records as the last build wrote them. Hashes of another version of the engine cannot be compared and are blank."""
    parts = [pl.DataFrame(schema=_SCHEMA)]
    for _, _, version, body in ledger.sent(list_name):
        part = pl.read_ipc(io.BytesIO(body))
        if version != pl.__version__:
            part = part.with_columns(
                pl.when(pl.col("record").is_not_null()).then(pl.lit(0, dtype=pl.UInt64)).alias("record")
            )
        parts.append(part)
    return pl.concat(parts).unique("key", keep="last", maintain_order=True).drop_nulls("record")


def went_out(ledger: Ledger, list_name: str, key: str) -> list[Went]:
    """What became of a record in the builds of its list, oldest first; none before it was first written."""
    found: list[Went] = []
    there = False
    last = ""
    for run, file, version, body in ledger.sent(list_name):
        rows = pl.read_ipc(io.BytesIO(body)).filter(pl.col("key") == key)
        if rows.height:
            gone = rows["record"].item() is None
            # after a change of engine all records look changed
            how = "gone" if gone else "new" if not there else "changed" if version == last else "same"
            there = not gone
            found.append(Went(run, file, how))
        elif there:
            found.append(Went(run, file, "same"))
        last = version
    return found
