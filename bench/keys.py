"""Times a build that asks a large key book twice in each row, beside the same two joins written by hand in Polars.

    python bench/keys.py [--rows 1000000] [--known 5000000] [--rounds 3]

The key book stands in the ledger of a move; by hand its table is an Arrow file. Both read the same export and write the same file.
"""

from __future__ import annotations

import argparse
import filecmp
import json
import os
import shutil
import sys
from pathlib import Path

import polars as pl

from mudanza.core.plans.move_settings import read_move
from mudanza.core.state.evidence import ledger_of
from mudanza.core.state.key_pages import open_book, save_book
from mudanza.core.state.running import running
from run import DATA, MUDANZA, timed

PLAN = """layout = "layouts/calls.json"
[[source]]
name = "old"
file = "incoming/calls.csv"
[fields]
no = '{No}'
caller = '{Caller} -> key people'
called = '{Called} -> key people'
note = '{Note}'
"""
BY_HAND = """import sys, polars as pl
known = pl.read_ipc(sys.argv[2])
rows = pl.scan_csv(sys.argv[1], infer_schema=False)
for column in ("Caller", "Called"):
    rows = rows.join(known.lazy(), left_on=column, right_on="identity", how="left", maintain_order="left").drop(column).rename({"key": column})
rows.select(no="No", caller="Caller", called="Called", note="Note").collect().write_csv(sys.argv[3], line_terminator="\\r\\n")
"""


def prepare(rows: int, known: int) -> Path:
    """The move, with so many identifiers in its key book and so many rows in its export."""
    move = DATA / f"keys-{rows}-{known}"
    if (move / "known.arrow").exists():
        return move
    shutil.rmtree(move, ignore_errors=True)
    for folder in ("plans", "layouts", "incoming"):
        (move / folder).mkdir(parents=True)
    (move / "mudanza.toml").write_text('[keys.people]\npattern = "P{0000000}"\n')
    columns = [{"name": name} for name in ("no", "caller", "called", "note")]
    schema = {"columns": columns, "primaryKey": "no"}
    layout = {"@context": "http://www.w3.org/ns/csvw", "tableSchema": schema}
    (move / "layouts/calls.json").write_text(json.dumps(layout))
    (move / "plans/calls.toml").write_text(PLAN)
    number = pl.int_range(rows)
    # a step that has no divisor in common with the number of keys visits them in no order
    asked = [((number * step + step) % known).cast(pl.String) for step in (1_000_003, 7_654_321)]
    texts = (number.cast(pl.String), *asked, pl.lit("rang about the bill; calls back"))
    names = ("No", "Caller", "Called", "Note")
    table = pl.select(text.alias(name) for name, text in zip(names, texts, strict=True))
    table.write_csv(move / "incoming/calls.csv")
    ledger = ledger_of(read_move(move))
    with running(ledger, "build", "people") as run:
        book = open_book(ledger, "people", read_move(move).key_pattern("people"))
        keys = pl.select(pl.int_range(known).cast(pl.String).alias("identity"))
        given = keys.with_columns(book.pattern.keys(pl.int_range(known) + 1, pl.col("identity")).alias("key"))
        for part in given.iter_slices(100_000):
            book.give(part)
        save_book(ledger, run.id, book)
        run.commit()
    given.write_ipc(move / "known.arrow", compression="zstd")
    return move


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rows", type=int, default=1_000_000)
    parser.add_argument("--known", type=int, default=5_000_000)
    parser.add_argument("--rounds", type=int, default=3)
    asked = parser.parse_args()
    move = prepare(asked.rows, asked.known)
    hand = [
        sys.executable,
        "-c",
        BY_HAND,
        *(str(move / name) for name in ("incoming/calls.csv", "known.arrow", "by-hand.csv")),
    ]
    build = [MUDANZA, "-C", str(move), "build", "calls"]
    figures = {"by hand": [], "build": []}
    for _ in range(asked.rounds):
        figures["by hand"].append(timed(hand))
        figures["build"].append(timed(build))
    assert filecmp.cmp(move / "by-hand.csv", move / "out/calls.csv", shallow=False)
    best = {name: min(found, key=lambda one: one.seconds) for name, found in figures.items()}
    for name, one in best.items():
        print(f"{name}: {one.seconds:.2f} s, {one.memory:.0f} MiB")
    print(f"build / by hand: {best['build'].seconds / best['by hand'].seconds:.2f}; {os.cpu_count()} processors")


if __name__ == "__main__":
    main()
