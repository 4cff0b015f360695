"""Whether work is in proportion: processor seconds and memory of whole commands beside what is least needed.

    python bench/proportions.py [--size 1.0]

- `survey` of 100 and of 300 columns x 50,000 rows beside a bare read with distinct counts: the cost grows with the columns, not with their square.
- JSON of 150 MB (records with objects and lists in them) beside `json.load`.
- `preview` of three rows, `preview --key` and `trace` on a move of two lists whose lookups and key books have 1,000,000 rows; `preview --key` on a table of
  400,000 rows in SQLite.
- `build` of two lists beside each of them alone: memory does not add up.

`--size` scales all of them.
"""

from __future__ import annotations

import argparse
import json
import os
import random
import shutil
import sqlite3
import subprocess
import sys
from collections.abc import Iterator
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path

from run import DATA

PYTHON = sys.executable
BARE = "import sys, polars as pl; print(pl.read_csv(sys.argv[1], separator=';', infer_schema=False).select(pl.all().n_unique()).width)"
LOAD = "import sys, json; json.load(open(sys.argv[1], encoding='utf-8'))"
OURS = "import sys; from pathlib import Path; import mudanza; print(sum(b.rows.height for b in mudanza.open_source(Path(sys.argv[1])).batches()))"
LAYOUT = {
    "@context": "http://www.w3.org/ns/csvw",
    "tableSchema": {
        "columns": [
            {"name": "id", "titles": "Id"},
            {"name": "name", "titles": "Name"},
            {"name": "vet", "titles": "Vet"},
        ],
        "primaryKey": "id",
    },
}
PLAN = """layout = "layouts/{name}.json"
[[source]]
name = "a"
{source}
[lookup.vets]
file = "incoming/vets.csv"
key = "Code"
[fields]
id = '{{No}} -> mint {name}'
name = '{{Name}}'
vet = '{{Vet}} -> lookup vets "Name"'
"""


@dataclass
class Cost:
    """Processor seconds of a command, and its largest memory in MiB."""

    seconds: float
    memory: float


def cost(*command: str, cwd: Path | None = None) -> Cost:
    process = subprocess.Popen(command, stdout=subprocess.DEVNULL, cwd=cwd)
    _, status, usage = os.wait4(process.pid, 0)
    if os.waitstatus_to_exitcode(status) not in (0, 1):
        sys.exit(f"{' '.join(command)} failed")
    return Cost(usage.ru_utime + usage.ru_stime, usage.ru_maxrss / 1024)


def say(what: str, one: Cost, beside: Cost | None = None) -> None:
    ratio = f"{one.seconds / beside.seconds:7.2f} x" if beside is not None else ""
    print(f"{what:58}{one.seconds:8.2f} s{one.memory:8.0f} MiB{ratio}", flush=True)


def write_wide(path: Path, columns: int, rows: int) -> None:
    chance = random.Random(3)
    names = ["Meier", "Schulze", "Brandt", "Larsen", "Costa", "Okafor", "Novak", "Silva", "Rossi", "Dubois"]
    make = [
        lambda i: str(i),
        lambda _: chance.choice(names),
        lambda _: f"{chance.randint(1, 28):02d}.{chance.randint(1, 12):02d}.{chance.randint(1950, 2025)}",
        lambda _: f"{chance.random() * 1000:.2f}".replace(".", ","),
        lambda _: chance.choice("ABCD"),
        lambda _: "" if chance.random() < 0.7 else str(chance.randint(1, 10**6)),
        lambda _: f"K{chance.randint(0, 99999):05d}",
        lambda _: f"{chance.choice(names)} {chance.choice(names)} {chance.randint(1, 9999)}",
    ]
    with path.open("w", encoding="utf-8") as file:
        file.write(";".join(f"col{i}" for i in range(columns)) + "\n")
        for row in range(rows):
            file.write(";".join(make[i % len(make)](row) for i in range(columns)) + "\n")


def write_json(path: Path, records: int) -> None:
    with path.open("w", encoding="utf-8") as file:
        file.write('{"made": "2024-01-01", "data": {"version": 3, "clients": [\n')
        for i in range(records):
            one = {
                "id": i,
                "code": f"K{i:07d}",
                "name": f"Jöns {i % 977}",
                "balance": i % 997 / 4,
                "active": i % 3 == 0,
            }
            one |= {"address": {"street": f"Way {i % 5003}", "zip": f"{i % 9999:05d}"}, "tags": ["a", "b"][: i % 3]}
            one |= (
                {"visits": [{"on": "2024-01-02", "fee": 12.5}, {"on": "2024-02-02", "fee": 7.25}]} if i % 4 == 0 else {}
            )
            file.write((",\n" if i else "") + json.dumps(one, ensure_ascii=False))
        file.write("]}}\n")


def write_move(folder: Path, rows: int) -> None:
    shutil.rmtree(folder, ignore_errors=True)
    for name in ("incoming", "plans", "layouts"):
        (folder / name).mkdir(parents=True)
    keys = "".join(
        f'[keys.{name}]\npattern = "{name[0].upper()}-{{0000000}}"\n' for name in ("people", "others", "stored")
    )
    (folder / "mudanza.toml").write_text('name = "Proportions"\n' + keys)

    def people(count: int) -> Iterator[tuple[int, str, str]]:
        return ((i, f"Name {i % 9973}", f"V{i % (rows // 2)}") for i in range(count))

    # line by line: a command's largest memory is at least that of the process it comes from
    with (folder / "incoming/vets.csv").open("w") as file:
        file.write("Code;Name\n")
        file.writelines(f"V{i};Dr. {i % 977}\n" for i in range(rows))
    with (folder / "incoming/people.csv").open("w") as file:
        file.write("No;Name;Vet\n")
        file.writelines(f"{a};{b};{c}\n" for a, b, c in people(rows))
    with closing(sqlite3.connect(folder / "incoming/old.sqlite")) as base:
        base.execute("CREATE TABLE people (No INTEGER PRIMARY KEY, Name TEXT, Vet TEXT)")
        base.executemany("INSERT INTO people VALUES (?,?,?)", people(rows * 2 // 5))
        base.commit()
    for name in ("people", "others", "stored"):
        source = (
            'file = "incoming/people.csv"' if name != "stored" else 'file = "incoming/old.sqlite"\ntable = "people"'
        )
        (folder / f"plans/{name}.toml").write_text(PLAN.format(name=name, source=source))
        (folder / f"layouts/{name}.json").write_text(json.dumps({**LAYOUT, "url": f"{name}.csv"}))


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--size", type=float, default=1.0)
    size = parser.parse_args().size
    DATA.mkdir(parents=True, exist_ok=True)
    mudanza = str(Path(PYTHON).with_name("mudanza"))
    for columns in (100, 300):
        path = DATA / f"wide-{columns}.csv"
        write_wide(path, columns, max(int(50_000 * size), 100))
        bare = cost(PYTHON, "-c", BARE, str(path))
        say(f"bare read with distinct counts, {columns} columns", bare)
        say(f"survey, {columns} columns", cost(mudanza, "survey", str(path)), bare)
    path = DATA / "large.json"
    write_json(path, max(int(800_000 * size), 100))
    bare = cost(PYTHON, "-c", LOAD, str(path))
    say("json.load", bare)
    say("JSON read", cost(PYTHON, "-c", OURS, str(path)), bare)
    move = DATA / "proportions"
    write_move(move, max(int(1_000_000 * size), 100))
    say("preview, a lookup of 1,000,000", cost(mudanza, "preview", "people", cwd=move))
    alone = cost(mudanza, "build", "people", cwd=move)
    say("build of one list", alone)
    say("build of that and another", cost(mudanza, "build", "people", "others", cwd=move), alone)
    say("preview, a key book of 1,000,000 too", cost(mudanza, "preview", "people", cwd=move))
    say("preview --key", cost(mudanza, "preview", "people", "--key", "P-0000050", cwd=move))
    say("preview --key, a table of 400,000 in a database", cost(mudanza, "preview", "stored", "--key", "50", cwd=move))
    say("trace", cost(mudanza, "trace", "P-0000050", cwd=move))


if __name__ == "__main__":
    main()
