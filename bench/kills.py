"""Kills a story of builds, hand-overs and a loan at many of its writes, and looks whether each time all of a command is done, or nothing of it.

    python bench/kills.py [--points 200] [--only receive]

Each command is run once to count its writes (to the ledger and to files, renamings among them), then from the same state again and again, each time killed (SIGKILL) before, in the
middle of, or after another of them. What a killed run has committed is finished by whoever comes next; so after that the files, the key books and what is known of the target must be those before the command, or
those after it; and the command run again comes to the latter.
"""

from __future__ import annotations

import argparse
import os
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from mudanza.core.plans.move_settings import read_move
from mudanza.core.state.in_target import in_target
from mudanza.core.state.key_pages import open_book
from mudanza.core.state.ledger import ledger_of
from mudanza.core.state.loans import accepted, all_loans

HEADING = "Id,Name,Born,Paid,Active,Kind,State\n"
#: the sources of each month, and what is done in it
MONTHS = [
    (
        {"1": "Ana,", "2": "Rui,", "3": "Eva,", "4": "Zé,"},
        [
            ["build", "--since"],
            ["handed-over", "last"],
            ["lend", "people", "--to", "back.csv"],
            ["receive", "back.csv", "--accept", "--correct"],
        ],
    ),
    (
        {"1": "Ana Sá,", "2": "Rui,x", "4": "Zé,", "5": "Íris,"},
        [["build", "--since"], ["handed-over", "last"], ["keys", "people", "--join", "1", "4", "--because", "one"]],
    ),
    ({"1": "Ana Sá,", "2": "Rui,", "4": "Ana Sá,", "6": "Ivo,"}, [["build"], ["handed-over", "last", "--whole"]]),
    (
        {"2": "Rui,", "6": "Ivo,"},
        [["build", "--since", "--fewer"], ["handed-over", "last"], ["handed-over", "last", "--take-back"]],
    ),
]
LEAVERS = '[leavers]\ngone = { mark = { name = "gone" } }\nunselected = "last change"\nmerged = "remove"\n'
#: counts where writes begin, are half done, and end, and ends the process at one of these points
KILLER = """
import os, signal, sys
from pathlib import Path
from mudanza.core.state import files, ledger
from mudanza.cli.main import main
count, at = 0, int(sys.argv[1])
def reached():
    global count
    count += 1
    return count == at
def end():
    os.kill(os.getpid(), signal.SIGKILL)
def counted(of, name):
    work = getattr(of, name)
    def wrapped(*arguments, **named):
        if reached():
            end()
        if name == "write" and reached():
            # what was written so far, and half of this
            work(arguments[0], arguments[1][: len(arguments[1]) // 2])
            arguments[0]._file.flush()
            end()
        done = work(*arguments, **named)
        if reached():
            end()
        return done
    setattr(of, name, wrapped)
for of, name in ((ledger.Ledger, "tell"), (ledger.Ledger, "begin"), (ledger.Ledger, "_put_into_place"), (files.PartFile, "write"),
                 (files.PartFile, "close"), (Path, "replace"), (Path, "unlink"), (ledger, "now"), (os, "fsync")):
    counted(of, name)
status = main(sys.argv[2:])
print(count, file=sys.stderr)
sys.exit(status)
"""


@dataclass(frozen=True)
class State:
    """What a move has come to."""

    files: dict[str, bytes]
    keys: list[Any]
    target: list[Any]
    accepted: list[Any]
    loans: list[tuple[str, str]]


def state(folder: Path) -> State:
    """The state of a move, once what was committed is finished."""
    move = read_move(folder)
    ledger = ledger_of(move)
    ledger.settle()
    found = [path for part in ("out", "loans", "corrections") for path in sorted((folder / part).rglob("*"))]
    files = {
        str(path.relative_to(folder)): path.read_bytes()
        for path in found
        if path.is_file() and not path.name.startswith(".") and path.name != "run.json"
    }
    keys = open_book(ledger, "people", move.key_pattern("people")).all().rows()
    target = in_target(ledger, "people").drop("run").sort("key").rows()
    cells, loans = accepted(ledger, "people"), [(one.id, one.state) for one in all_loans(ledger)]
    ledger.close()
    return State(files, keys, target, cells, loans)


def run(folder: Path, command: list[str], at: int = 0) -> subprocess.CompletedProcess[str]:
    """Run a command, and kill it at one of the points of its writes (0: let it be)."""
    return subprocess.run(
        [sys.executable, "-c", KILLER, str(at), *command], cwd=folder, capture_output=True, text=True, check=False
    )


def story(folder: Path) -> Iterator[tuple[Path, list[str], Path]]:
    """Each command of the story, with the move before it and after it. `folder` is a move with the list people."""
    with (folder / "plans/people.toml").open("a") as plan:
        plan.write(LEAVERS)
    for number, (people, commands) in enumerate(MONTHS):
        rows = "".join(f"{id_},{name.split(',')[0]},,,y,D,{name.split(',')[1]}\n" for id_, name in people.items())
        (folder / "incoming/a.csv").write_text(HEADING + rows, encoding="utf-8")
        for at, command in enumerate(commands):
            if command[0] == "receive":
                returned = folder / command[1]
                returned.write_text(returned.read_text("utf-8").replace("Ana", "Anna").replace("Eva", "Evi"), "utf-8")
            if command[0] == "lend":
                # a loan is called by the number of its run, so the next attempt has another name
                run(folder, command)
                continue
            before = folder.with_name(f"before-{number}-{at}")
            shutil.copytree(folder, before)
            ended = run(folder, command)
            if ended.returncode:
                raise SystemExit(f"{command} failed: {ended.stderr}")
            after = folder.with_name(f"after-{number}-{at}")
            shutil.copytree(folder, after)
            yield before, command, after


def killed(folder: Path, points: int, only: str = "") -> tuple[int, list[str]]:
    """How often a command was killed (`only` one of a name, if it is said), and what was wrong after that."""
    commands = list(story(folder))
    wrong, count = [], 0
    asked = [one for one in commands if only in ("", one[1][0])]
    for before, command, then in asked:
        trial = before.with_name("trial")
        shutil.copytree(before, trial)
        there = int(run(trial, command).stderr.split()[-1])
        shutil.rmtree(trial)
        ends = (state(before), state(then))
        each = max(1, points // len(asked))
        for at in sorted({1 + (2 * step + 1) * there // (2 * each) for step in range(each)} & set(range(1, there + 1))):
            shutil.copytree(before, trial)
            ended = run(trial, command, at)
            count += 1
            now = state(trial)
            if ended.returncode != -9 or now not in ends:
                wrong.append(f"{' '.join(command)} killed at {at} of {there}: neither before nor after")
            elif now == ends[0] and (run(trial, command).returncode or state(trial) != ends[1]):
                wrong.append(f"{' '.join(command)} killed at {at} of {there}: run again it comes to something else")
            shutil.rmtree(trial)
    return count, wrong


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--points", type=int, default=200)
    parser.add_argument("--only", default="", help="a command, such as receive")
    asked = parser.parse_args()
    sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
    from conftest import make_move

    with tempfile.TemporaryDirectory() as folder:
        count, wrong = killed(make_move(Path(folder) / "move"), asked.points, asked.only)
    print("\n".join(wrong))
    print(f"{count} kills, {len(wrong)} of them wrong; {os.cpu_count()} processors")
    sys.exit(bool(wrong))


if __name__ == "__main__":
    main()
