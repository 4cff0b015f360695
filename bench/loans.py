"""Times loans: a workbook that is lent beside the library alone on the same cells, one that is received beside the library reading it, and a text file compared beside reading both.

    python bench/loans.py [--rows 200000] [--lines 1000000] [--rounds 2]

Prints a table with the fastest of the rounds, and the ratios. Each is a whole command, or a script of its own.
"""

from __future__ import annotations

import argparse
import json
import os
import resource
import subprocess
import sys
import tempfile
from pathlib import Path

import polars as pl

from sinks import DATES, NUMBERS, TEXTS, fastest, records, xlsx_alone

MUDANZA = str(Path(sys.executable).with_name("mudanza"))
READ_SHEET = "import sys, fastexcel; fastexcel.read_excel(sys.argv[1]).load_sheet(0, dtypes='string').to_polars()"
READ_BOTH = "import sys, polars as pl; [pl.read_csv(p, infer_schema=False) for p in sys.argv[1:]]"


def layout() -> str:
    columns: list[dict[str, object]] = [{"name": "key", "titles": "key", "required": True}]
    columns += [{"name": f"t{n}", "titles": f"t{n}"} for n in range(1, TEXTS)]
    columns += [{"name": f"n{n}", "titles": f"n{n}", "datatype": "decimal"} for n in range(NUMBERS)]
    columns += [
        {"name": f"d{n}", "titles": f"d{n}", "datatype": {"base": "date", "format": "yyyy-MM-dd"}} for n in range(DATES)
    ]
    return json.dumps(
        {"@context": "http://www.w3.org/ns/csvw", "tableSchema": {"columns": columns, "primaryKey": "key"}}
    )


def lent_from(folder: Path, rows: int) -> pl.DataFrame:
    frame = (
        records(rows)
        .drop("t0")
        .select(pl.format("K{}", pl.int_range(pl.len()).cast(pl.String).str.zfill(8)).alias("key"), pl.all())
    )
    frame.write_csv(folder / "r.csv")
    return frame


def run(*command: str, folder: Path) -> None:
    subprocess.run(command, cwd=folder, stdout=subprocess.DEVNULL, check=False)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rows", type=int, default=200_000)
    parser.add_argument("--lines", type=int, default=1_000_000)
    parser.add_argument("--rounds", type=int, default=2)
    asked = parser.parse_args()
    with tempfile.TemporaryDirectory() as temporary:
        folder = Path(temporary)
        (folder / "mudanza.toml").write_text('name = "bench"\n')
        (folder / "l.json").write_text(layout())
        frame = lent_from(folder, asked.rows)
        days = pl.col(pl.Date)
        typed = frame.with_columns(pl.col("^n.*$").cast(pl.Float64), pl.col("^d.*$").str.to_date())
        cells = typed.with_columns((days - pl.date(1899, 12, 30)).dt.total_days().cast(pl.Float64))
        lend = [MUDANZA, "lend", "r.csv", "--layout", "l.json", "--to"]
        mine = fastest(asked.rounds, lambda: run(*lend, "l.xlsx", folder=folder))
        alone = fastest(asked.rounds, lambda: xlsx_alone(cells))
        print(
            f"lend {asked.rows:,} x {frame.width}      {mine:6.2f} s   alone {alone:6.2f} s   {mine / alone:5.2f}",
            flush=True,
        )
        mine = fastest(asked.rounds, lambda: run(MUDANZA, "receive", "l.xlsx", folder=folder))
        alone = fastest(asked.rounds, lambda: run(sys.executable, "-c", READ_SHEET, "l.xlsx", folder=folder))
        print(
            f"receive {asked.rows:,} x {frame.width}   {mine:6.2f} s   alone {alone:6.2f} s   {mine / alone:5.2f}",
            flush=True,
        )
        lent_from(folder, asked.lines)
        run(*lend, "back.csv", folder=folder)
        edited = pl.read_csv(folder / "back.csv", infer_schema=False)
        edited = edited.with_columns(
            pl.when(pl.int_range(pl.len()) % 1000 == 7).then(pl.lit("edited")).otherwise("t3").alias("t3")
        )
        edited.write_csv(folder / "back.csv")
        mine = fastest(asked.rounds, lambda: run(MUDANZA, "receive", "back.csv", "--json", folder=folder))
        alone = fastest(asked.rounds, lambda: run(sys.executable, "-c", READ_BOTH, "r.csv", "back.csv", folder=folder))
        print(f"compare {asked.lines:,} lines {mine:6.2f} s   both read {alone:6.2f} s   {mine / alone:5.2f}")
        most = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024
        print(f"most memory of any command: {most:,.0f} MiB; processors: {os.cpu_count()}")


if __name__ == "__main__":
    main()
