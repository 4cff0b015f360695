"""Times whole commands on the demo's owners at any size, beside hand-written scripts for the same work.

    python bench/run.py [--rows 1000000] [--rounds 3]

Prints a table with the medians of the rounds, and the medians of the ratios within each. Everything is made new in
bench/data.
"""

from __future__ import annotations

import argparse
import filecmp
import os
import platform
import shutil
import subprocess
import sys
import time
from dataclasses import dataclass
from pathlib import Path
from statistics import median

HERE = Path(__file__).parent
DATA = Path(os.environ.get("BENCH_DATA", HERE / "data"))
MUDANZA = str(Path(sys.executable).with_name("mudanza"))

BARE_COPY = "import sys, polars as pl; pl.scan_csv(sys.argv[1], infer_schema=False).sink_csv(sys.argv[2])"
BARE_DISTINCT = (
    "import sys, polars as pl; f = pl.read_csv(sys.argv[1], infer_schema=False, separator=';', encoding='cp1252');"
    "print(f.select(pl.all().n_unique()))"
)


@dataclass
class Figure:
    """The wall time of a command in seconds, and its memory in MiB."""

    seconds: float
    memory: float


def timed(command: list[str], before: object = None) -> Figure:
    if callable(before):
        before()
    begun = time.perf_counter()
    process = subprocess.Popen(command, stdout=subprocess.DEVNULL)
    _, status, usage = os.wait4(process.pid, 0)
    seconds = time.perf_counter() - begun
    if os.waitstatus_to_exitcode(status) not in (0, 1):
        sys.exit(f"{' '.join(command)} failed")
    return Figure(seconds, usage.ru_maxrss / 1024)


def prepare(rows: int) -> Path:
    """The move for this many rows, with its export."""
    from mudanza.demo.generate import write_north

    move = DATA / f"move-{rows}"
    if not (move / "incoming/north/clients.csv").exists():
        shutil.rmtree(move, ignore_errors=True)
        shutil.copytree(HERE / "move", move)
        (move / "incoming/north").mkdir(parents=True)
        print(f"generating {rows:,} rows …", file=sys.stderr)
        write_north(move / "incoming/north/clients.csv", rows, mess=False)
    else:
        shutil.copytree(HERE / "move", move, dirs_exist_ok=True)
    return move


def forget(move: Path) -> None:
    """Make a move forget its runs."""
    shutil.rmtree(move / ".mudanza", ignore_errors=True)
    for left in (move / "out/run.json", *(move / "out").glob("*.held-back.csv")):
        left.unlink(missing_ok=True)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rows", type=int, default=1_000_000)
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--no-pandas", action="store_true")
    arguments = parser.parse_args()
    move = prepare(arguments.rows)
    source, out = str(move / "incoming/north/clients.csv"), str(move / "out/owners.csv")

    def fresh() -> None:
        forget(move)

    python = sys.executable
    commands: dict[str, tuple[list[str], object]] = {
        "build": ([MUDANZA, "-C", str(move), "build", "owners"], fresh),
        "build, by hand in Polars": ([python, str(HERE / "by_hand_polars.py"), source, str(DATA / "polars.csv")], None),
        "build again, all identifiers known": ([MUDANZA, "-C", str(move), "build", "owners"], None),
        "check": ([MUDANZA, "-C", str(move), "check", "out/owners.csv", "--layout", "owners"], None),
        "check, by hand in Polars, counts only": ([python, str(HERE / "by_hand_check.py"), out], None),
        "bare copy of the checked file": ([python, "-c", BARE_COPY, out, str(DATA / "copy.csv")], None),
        "survey": ([MUDANZA, "survey", source], None),
        "bare read with distinct counts": ([python, "-c", BARE_DISTINCT, source], None),
        "preview": ([MUDANZA, "-C", str(move), "preview", "owners"], None),
        "--help": ([MUDANZA, "--help"], None),
        'python -c "import click"': ([python, "-c", "import click"], None),
    }
    if not arguments.no_pandas:
        by_hand = [python, str(HERE / "by_hand_pandas.py"), source, str(DATA / "pandas.csv")]
        commands["build, by hand in pandas"] = (by_hand, None)
    rounds = [
        {name: timed(command, before) for name, (command, before) in commands.items()} for _ in range(arguments.rounds)
    ]
    same = filecmp.cmp(out, DATA / "polars.csv", shallow=False)
    print(
        f"{arguments.rows:,} rows x 15 columns, {Path(source).stat().st_size / 1e6:.0f} MB; {os.cpu_count()} cores; "
        f"Python {platform.python_version()}; medians of {arguments.rounds} rounds"
    )
    print(f"the Polars script makes the same bytes: {same}")
    if not arguments.no_pandas:
        print(f"the pandas script makes the same bytes: {filecmp.cmp(out, DATA / 'pandas.csv', shallow=False)}")
    print("\n| command | seconds | MiB |\n| --- | ---: | ---: |")
    for name in commands:
        seconds, memory = (median(getattr(one[name], what) for one in rounds) for what in ("seconds", "memory"))
        print(f"| {name} | {seconds:.2f} | {memory:.0f} |")
    print("\n| ratio | measured | goal |\n| --- | ---: | ---: |")
    for what, over, under, goal in [
        ("build / by hand in Polars", "build", "build, by hand in Polars", "at most 1.3"),
        ("build again / build", "build again, all identifiers known", "build", "at most 1.05"),
        ("by hand in pandas / build", "build, by hand in pandas", "build", "at least 4"),
        ("check / bare copy", "check", "bare copy of the checked file", "at most 1.7"),
        ("check / by hand in Polars, counts only", "check", "check, by hand in Polars, counts only", ""),
        ("survey / bare read with distinct counts", "survey", "bare read with distinct counts", "at most 2"),
        ('--help / python -c "import click"', "--help", 'python -c "import click"', "at most 1.5"),
    ]:
        if over in commands and under in commands:
            ratio = median(one[over].seconds / one[under].seconds for one in rounds)
            print(f"| {what} | {ratio:.2f} | {goal} |")


if __name__ == "__main__":
    main()
