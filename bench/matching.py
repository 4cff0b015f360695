"""How well `match` finds the columns of fields, in cases made for this purpose with known answers.

    python bench/matching.py [--part tuned|sealed|further|later|last] [--thin] [--verbose] [--build]

Prints precision (of the proposals, how many are right), recall (of the fields that have a column, how many get it), how many proposals are wrong and called
sure, and how often proposals of each likelihood are right. The weights were learned on the tuned cases; `--part sealed` runs those that were written before and
opened once. --build also builds each draft as it stands.
"""

from __future__ import annotations

import argparse
import csv
import json
import subprocess
import sys
import tempfile
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from random import Random
from typing import Any

import matching_cases
from matching_made import Made, made

ROWS = 60
LANGUAGES = {
    "English": "en", "Portuguese": "pt", "German": "de", "French": "fr", "Spanish": "es", "Dutch": "nl", "Italian": "it", "terse English": "en", "terse German": "de",
}  # fmt: skip


def cases(which: str) -> Iterator[Made]:
    """The cases that were learned from (`tuned`), or those that were not (`sealed`)."""
    if which == "tuned":
        for case in (*matching_cases.TUNED, *matching_cases.HELD_OUT):
            domain, languages = case.name.split(", ")
            source, _, target = languages.partition(" to ")
            yield Made(
                case, domain.split()[-1], LANGUAGES[source], LANGUAGES.get(target, "en"), matching_cases.value_of
            )
        yield from made("further")
        yield from made("later")
        yield from made("last")
    yield from made(which)


def thinned(one: Made) -> Made:
    """A case of which every third column, by chance, is missing: its field should get none."""
    chance = Random(one.case.name)
    columns = [column for column in one.case.columns if chance.random() > 1 / 3]
    return replace(one, case=replace(one.case, columns=columns))


def prepare(one: Made, folder: Path) -> None:
    """A move with the case's layout, and its source."""
    case = one.case
    columns = [{"name": name, "titles": title, "datatype": datatype} for name, title, datatype in case.fields]
    layout = {
        "@context": "http://www.w3.org/ns/csvw",
        "tableSchema": {"columns": columns, **({"primaryKey": case.key} if case.key else {})},
    }
    for part in ("layouts", "incoming", "plans"):
        (folder / part).mkdir(parents=True)
    (folder / "mudanza.toml").write_text('name = "Bench"\n', encoding="utf-8")
    (folder / "layouts/list.json").write_text(json.dumps(layout), encoding="utf-8")
    (folder / f"plans/{one.domain}.toml").write_text(
        'layout = "layouts/list.json"\n[[source]]\nname = "old"\nfile = "incoming/list.csv"\n', encoding="utf-8"
    )
    with (folder / "incoming/list.csv").open("w", encoding="utf-8", newline="") as file:
        writer = csv.writer(file)
        writer.writerow([heading for heading, _, _ in case.columns])
        writer.writerows([one.value_of(kind, number) for _, kind, _ in case.columns] for number in range(ROWS))


def truth_of(one: Made) -> dict[str, list[str]]:
    """The columns that belong to each field."""
    truth: dict[str, list[str]] = {}
    for heading, _, field in one.case.columns:
        for name in filter(None, (field or "").split("+")):
            truth.setdefault(name, []).append(heading)
    return truth


@dataclass(frozen=True)
class Outcome:
    """What became of one case: each proposal's likelihood with whether it is sure and whether it is right; the fields that have a column and were not
    found; how many have one; what went wrong in words; how building the draft ended (0, 1: fine; None: not tried)."""

    made: Made
    proposals: list[tuple[float, bool, bool]]
    missed: list[str]
    fields: int
    wrong: list[str]
    built: int | None = None


def run(one: Made, build: bool = False, learned: Any = None) -> Outcome:
    """Draft a case and compare."""
    from mudanza import read_move
    from mudanza.core.work.matching.drafting import draft

    truth = truth_of(one)
    with tempfile.TemporaryDirectory() as folder:
        prepare(one, Path(folder))
        drafted = draft(read_move(Path(folder)), one.domain, learned)
        built = None
        if build:
            command = [sys.executable, "-m", "mudanza"]
            subprocess.run([*command, "match", one.domain], cwd=folder, capture_output=True, check=False)
            built = subprocess.run(
                [*command, "build", one.domain], cwd=folder, capture_output=True, check=False
            ).returncode
    proposals, wrong = [], []
    for p in drafted.proposals:
        right = set(p.columns) == set(truth.get(p.field.name, ()))
        proposals.append((p.score, p.doubt is None, right))
        if not right:
            wrong.append(
                f"{p.field.name} <- {', '.join(p.columns)} ({p.score:.2f}{' ?' if p.doubt else ' sure'}; {'; '.join(p.evidence)}), should be {', '.join(truth.get(p.field.name, ['none']))}"
            )
    found = {p.field.name for p in drafted.proposals}
    missed = [f"{name}: {', '.join(columns)}" for name, columns in truth.items() if name not in found]
    return Outcome(one, proposals, missed, len(truth), wrong, built)


def figures(outcomes: Sequence[Outcome]) -> tuple[float, float, float]:
    """Precision, recall, and the share of proposals that are wrong and called sure."""
    every = [p for o in outcomes for p in o.proposals]
    right = sum(p[2] for p in every)
    sure_wrong = sum(p[1] and not p[2] for p in every)
    return right / max(1, len(every)), right / max(1, sum(o.fields for o in outcomes)), sure_wrong / max(1, len(every))


def report(outcomes: Sequence[Outcome], what: str) -> None:
    """The table by language or domain, and the calibration."""
    print(f"| {what} | fields | precision | recall | sure and wrong |\n| --- | ---: | ---: | ---: | ---: |")
    for one in [*sorted({getattr(o.made, what) for o in outcomes}), None]:
        own = [o for o in outcomes if one is None or getattr(o.made, what) == one]
        precision, recall, wrong = figures(own)
        print(f"| {one or 'all'} | {sum(o.fields for o in own)} | {precision:.3f} | {recall:.3f} | {wrong:.3f} |")
    print("\n| likelihood | proposals | right |\n| --- | ---: | ---: |")
    every = [p for o in outcomes for p in o.proposals]
    for low, high in ((0.0, 0.6), (0.6, 0.7), (0.7, 0.8), (0.8, 0.9), (0.9, 0.95), (0.95, 0.98), (0.98, 1.01)):
        own_ = [p for p in every if low <= p[0] < high]
        print(f"| {low:.2f} to {min(high, 1):.2f} | {len(own_)} | {sum(p[2] for p in own_) / max(1, len(own_)):.3f} |")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--part", choices=("tuned", "sealed", "further", "later", "last"), default="tuned")
    parser.add_argument("--thin", action="store_true", help="leave out every third column, by chance")
    parser.add_argument("--verbose", action="store_true")
    parser.add_argument("--build", action="store_true")
    parser.add_argument("--by", choices=("language", "domain"), default="language")
    arguments = parser.parse_args()
    chosen = map(thinned, cases(arguments.part)) if arguments.thin else cases(arguments.part)
    outcomes = [run(one, arguments.build) for one in chosen]
    if arguments.verbose:
        for outcome in outcomes:
            print(f"{outcome.made.case.name}")
            for line in outcome.wrong:
                print(f"  {line}")
            for line in outcome.missed:
                print(f"  not found {line}")
    report(outcomes, arguments.by)
    if arguments.build:
        print(f"\nbuilt: {sum(o.built in (0, 1) for o in outcomes)} of {len(outcomes)}")


if __name__ == "__main__":
    main()
