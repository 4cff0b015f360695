"""Times 30 fields of 3 to 5 steps each beside the same expressions written by hand in Polars, and how quickly a plan of 200 fields is checked.

python bench/mapping.py [--rows 1000000] [--rounds 3]
"""

from __future__ import annotations

import argparse
import filecmp
import json
import subprocess
import sys
from pathlib import Path

from run import DATA, MUDANZA, forget, timed

BY_HAND = Path(__file__).with_name("by_hand_mapping.py")
#: flows on the columns of North's clients; by_hand_mapping.py has the same in the same order
FLOWS = [
    '{Client No} -> trim -> digits -> pad 8',
    '{Client No} -> trim -> last 4 -> prefix "N-"',
    '{Title} -> trim -> drop-end "." -> upper',
    '{First name} -> squeeze -> lower -> unaccent',
    '{Surname} -> squeeze -> title -> first 20',
    '"{First name} {Surname}" -> squeeze -> title -> fit 60',
    '{Surname}, {First name} -> join ", " -> squeeze -> upper -> fit 60',
    '{Address 1}, {Address 2} -> join ", " -> squeeze -> first 50 -> trim',
    '{Address 1} -> squeeze -> upper -> replace "RUA" "R."',
    '{Address 1} -> after " " -> squeeze -> upper',
    '{Address 2} -> trim -> upper -> default "-"',
    '{Postcode} -> trim -> before "-" -> pad 4',
    '{Postcode} -> trim -> digits -> prefix "PT"',
    '{Town} -> squeeze -> upper -> unaccent',
    '{Town} -> trim -> lower -> first 3 -> upper',
    '{Phone} -> blank-if "n/a" "-" -> digits -> last 9',
    '{Phone} -> blank-if "n/a" -> drop-start "+351" "00351" -> digits -> prefix "+351"',
    '{E-mail} -> trim -> lower -> before "@"',
    '{E-mail} -> trim -> lower -> after "@" -> before "."',
    '{Since} -> trim -> date "dd/MM/yyyy" -> write "yyyy"',
    '{Since} -> date "dd/MM/yyyy" -> start-of "month" -> write "yyyy-MM-dd"',
    '{Last seen} -> blank-if "00/00/0000" -> date "dd/MM/yyyy" -> write "yyyyMMdd"',
    '{Status} -> trim -> upper -> prefix "S"',
    '"active" when {Status} = "A"; "inactive" when {Status} in ("I", "D"); ({Status} -> trim -> lower) otherwise',
    '{Balance} -> number decimal="," group="." -> round 1 -> write "0.0"',
    '{Balance} -> number decimal="," group="." -> times 1.23 -> round 2 -> write "0.00"',
    '{Mailing} -> trim -> default "N" -> upper -> prefix "M"',
    '{Client No}, {Town} -> join "/" -> upper -> unaccent',
    '{First name}, {Surname} -> first-filled -> squeeze -> first 1 -> upper',
    '{Title}, {Status}, {Mailing} -> join "" -> upper -> pad 6 with="." side="right"',
]  # fmt: skip


def prepare(folder: Path, fields: int) -> None:
    names = [f"f{i}" for i in range(fields)]
    columns = [{"name": name, "titles": name, "datatype": "string"} for name in names]
    flows = "\n".join(f"{name} = '{FLOWS[i % len(FLOWS)]}'" for i, name in enumerate(names))
    texts = {
        "mudanza.toml": 'name = "Bench"\n',
        "layouts/wide.json": json.dumps(
            {
                "@context": "http://www.w3.org/ns/csvw",
                "tableSchema": {"columns": columns},
                "dialect": {"lineTerminators": ["\n"]},
            }
        ),
        "plans/wide.toml": f'layout = "layouts/wide.json"\n[[source]]\nname = "north"\nfile = "incoming/clients.csv"\nencoding = "utf-8"\n[fields]\n{flows}\n',
    }
    for name, text in texts.items():
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / name).write_text(text, encoding="utf-8")


def write_rows(path: Path, rows: int) -> None:
    from mudanza.demo.generate import NORTH_HEADINGS, north_rows

    with path.open("w", encoding="utf-8") as file:
        file.write(";".join(NORTH_HEADINGS) + "\n")
        for row in north_rows(rows):
            file.write(";".join(row) + "\n")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rows", type=int, default=1_000_000)
    parser.add_argument("--rounds", type=int, default=3)
    arguments = parser.parse_args()
    folder, wide = DATA / f"mapping-{arguments.rows}", DATA / "mapping-200"
    source = folder / "incoming/clients.csv"
    if not source.exists():
        source.parent.mkdir(parents=True)
        write_rows(source, arguments.rows)
    prepare(folder, len(FLOWS))
    (wide / "incoming").mkdir(parents=True, exist_ok=True)
    write_rows(wide / "incoming/clients.csv", 5)
    prepare(wide, 200)
    by_hand = [sys.executable, str(BY_HAND), str(source), str(DATA / "by-hand-mapping.csv")]
    best: dict[str, float] = {}
    for _ in range(arguments.rounds):
        for name, command in {
            "build": [MUDANZA, "-C", str(folder), "build", "wide"],
            "by hand in Polars": by_hand,
            "preview": [MUDANZA, "-C", str(folder), "preview", "wide"],
            "200 fields, preview": [MUDANZA, "-C", str(wide), "preview", "wide", "-n", "1"],
            "start-up: --version and Polars": [
                sys.executable,
                "-c",
                "import mudanza.cli.main, polars, click, rich.console",
            ],
        }.items():
            forget(folder)
            seconds = timed(command).seconds
            best[name] = min(best.get(name, seconds), seconds)
    same = filecmp.cmp(folder / "out/wide.csv", DATA / "by-hand-mapping.csv", shallow=False)
    print(f"{arguments.rows:,} rows, {len(FLOWS)} fields; the script makes the same bytes: {same}")
    print("\n| command | seconds |\n| --- | ---: |")
    for name, seconds in best.items():
        print(f"| {name} | {seconds:.2f} |")
    print(f"\nbuild / by hand: {best['build'] / best['by hand in Polars']:.2f} (goal 1.3)")
    print(f"checking 200 fields, seconds in the process: {checked(wide):.2f} (goal 0.3)")


def checked(folder: Path) -> float:
    """How long loading and compiling the plan takes beyond start-up, in a process of its own."""
    code = (
        "import time, sys; from pathlib import Path; import polars, lark;"
        "from mudanza.core.plans.move_settings import read_move; from mudanza.core.work.prepared import prepare;"
        "begun = time.perf_counter(); prepare(read_move(Path(sys.argv[1])), 'wide'); print(time.perf_counter() - begun)"
    )
    runs = [
        subprocess.run([sys.executable, "-c", code, str(folder)], capture_output=True, text=True, check=True)
        for _ in range(5)
    ]
    return min(float(one.stdout) for one in runs)


if __name__ == "__main__":
    main()
