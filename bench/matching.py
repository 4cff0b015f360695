"""How well `match` finds the columns of fields, in cases made for this purpose with known answers.

    python bench/matching.py [--held-out] [--verbose]

Prints precision (of the proposals, how many are right) and recall (of the fields that have a column, how many get it). The tables of words and the
rules were tuned on the first half of the cases only; --held-out runs the other half.
"""

from __future__ import annotations

import argparse
import csv
import json
import tempfile
from pathlib import Path

from matching_cases import HELD_OUT, TUNED, Case, value_of

ROWS = 60


def prepare(case: Case, folder: Path) -> None:
    """A move with the case's layout, and its source."""
    columns = [{"name": name, "titles": title, "datatype": datatype} for name, title, datatype in case.fields]
    layout = {
        "@context": "http://www.w3.org/ns/csvw",
        "tableSchema": {"columns": columns, **({"primaryKey": case.key} if case.key else {})},
    }
    for part in ("layouts", "incoming", "plans"):
        (folder / part).mkdir(parents=True)
    (folder / "mudanza.toml").write_text('name = "Bench"\n', encoding="utf-8")
    (folder / "layouts/list.json").write_text(json.dumps(layout), encoding="utf-8")
    (folder / "plans/list.toml").write_text(
        'layout = "layouts/list.json"\n[[source]]\nname = "old"\nfile = "incoming/list.csv"\n', encoding="utf-8"
    )
    with (folder / "incoming/list.csv").open("w", encoding="utf-8", newline="") as file:
        writer = csv.writer(file)
        writer.writerow([heading for heading, _, _ in case.columns])
        writer.writerows([value_of(kind, number) for _, kind, _ in case.columns] for number in range(ROWS))


def run(case: Case, verbose: bool) -> tuple[int, int, int]:
    """Proposals that are right, all proposals, and fields that have a column."""
    from mudanza import read_move
    from mudanza.core.work.matching.drafting import draft

    truth: dict[str, set[str]] = {}
    for heading, _, field in case.columns:
        for name in filter(None, (field or "").split("+")):
            truth.setdefault(name, set()).add(heading)
    with tempfile.TemporaryDirectory() as folder:
        prepare(case, Path(folder))
        made = draft(read_move(Path(folder)), "list")
    proposed = {p.field.name: (set(p.columns), p.score, p.doubt, p.flow) for p in made.proposals}
    right = 0
    for name, (columns, score, doubt, flow) in proposed.items():
        good = columns == truth.get(name, set())
        right += good
        if verbose and not good:
            print(
                f"  {case.name}: {name} <- {columns} ({score:.2f}{' ?' if doubt else ''}), and should be {truth.get(name, 'none')}: {flow}"
            )
    if verbose:
        for name in truth.keys() - proposed.keys():
            print(f"  {case.name}: {name} not found, should be {truth[name]}")
    return right, len(proposed), len(truth)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--held-out", action="store_true")
    parser.add_argument("--verbose", action="store_true")
    arguments = parser.parse_args()
    totals = [0, 0, 0]
    print("| case | fields | precision | recall |\n| --- | ---: | ---: | ---: |")
    for case in HELD_OUT if arguments.held_out else TUNED:
        right, proposed, true = run(case, arguments.verbose)
        totals = [a + b for a, b in zip(totals, (right, proposed, true), strict=True)]
        print(f"| {case.name} | {len(case.fields)} | {right / max(proposed, 1):.2f} | {right / true:.2f} |")
    right, proposed, true = totals
    print(f"| all | {true} with a column | {right / proposed:.3f} (goal 0.95) | {right / true:.3f} (goal 0.90) |")


if __name__ == "__main__":
    main()
