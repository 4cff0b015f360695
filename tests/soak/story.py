"""Months of a small move, command by command, and what a move has come to."""

from __future__ import annotations

import re
import shutil
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from conftest import make_move
from mudanza.core.plans.move_settings import read_move
from mudanza.core.state.evidence import ledger_of, unknown_to
from mudanza.core.state.in_target import in_target
from mudanza.core.state.key_pages import open_book
from mudanza.core.state.loans import accepted, all_loans
from mudanza.core.state.running import settle
from soak.faults import run

HEADING = "Id,Name,Born,Paid,Active,Kind,State\n"
#: the sources of each month, and what is done in it
MONTHS = [
    (
        {"1": "Ana,", "2": "Rui,", "3": "Eva,", "4": "Zé,"},
        [
            ["build"],
            ["ledger", "1", "--take-back"],
            ["build", "--since"],
            ["handed-over", "last"],
            ["records", "people", "--to", "some.csv"],
            ["check", "out/people.csv", "--findings", "f.csv", "--annotated", "a.xlsx", "--fix", "x.csv"],
            ["lend", "people", "--to", "back.csv"],
            ["receive", "back.csv", "--accept", "--correct"],
            ["carry-back", "people"],
            ["preview", "people", "--exclude", "3", "no more"],
            ["ledger", "--backup", "ledger.copy"],
        ],
    ),
    (
        {"1": "Ana Sá,", "2": "Rui,x", "4": "Zé,", "5": "Íris,"},
        [
            ["build", "--since"],
            ["handed-over", "last"],
            ["keys", "people", "--join", "1", "4", "--because", "one"],
            ["match", "people", "--chart", "c.svg"],
        ],
    ),
    ({"1": "Ana Sá,", "2": "Rui,", "4": "Ana Sá,", "6": "Ivo,"}, [["build"], ["handed-over", "last", "--whole"]]),
    (
        {"2": "Rui,", "6": "Ivo,"},
        [["build", "--since", "--fewer"], ["handed-over", "last"], ["handed-over", "last", "--take-back"]],
    ),
]
LEAVERS = '[leavers]\ngone = { mark = { name = "gone" } }\nunselected = "last change"\nmerged = "remove"\n'
#: commands that are no runs: each of their files is whole, but they appear one after the other
SEVERAL = ("check", "match")


@dataclass(frozen=True)
class State:
    """What a move has come to: its files, identifiers, what the target holds, what was accepted, its loans, and how
    many runs are done."""

    files: dict[str, bytes]
    keys: list[Any]
    target: list[Any]
    accepted: list[Any]
    loans: list[tuple[str, str]]
    done: int


def visible(folder: Path) -> dict[str, bytes]:
    """The files that people see."""
    found = sorted(path for path in folder.rglob("*") if path.is_file())
    shown = [path for path in found if not path.name.startswith(".") and ".mudanza" not in path.parts]
    return {str(path.relative_to(folder)): path.read_bytes() for path in shown}


def state(folder: Path) -> State:
    """The state of a move, once what was committed is finished. A loan is called by the number of its run, and a
    workbook knows when it was made."""
    move = read_move(folder)
    ledger = ledger_of(move)
    settle(ledger)
    assert not list(unknown_to(move, ledger))
    files = {
        re.sub(r"people-\d+", "people-N", name): b"" if name.endswith((".xlsx", ".copy", ".svg")) else plain(data)
        for name, data in visible(folder).items()
    }
    keys = open_book(ledger, "people", move.key_pattern("people")).all().rows()
    target = in_target(ledger, "people").drop("run").sort("key").rows()
    cells = [(key, field, before, after) for _, key, field, before, after in accepted(ledger, "people")]
    loans = [("N", one.state) for one in all_loans(ledger)]
    done = sum(one.state in ("done", "taken back") for one in ledger.runs())
    ledger.close()
    return State(files, keys, target, cells, loans, done)


def plain(data: bytes) -> bytes:
    """What was written, without the number of the run that wrote it."""
    return re.sub(rb'people-\d+|"run": \d+|"given_out"', b"N", data)


def story(folder: Path) -> Iterator[tuple[Path, list[str], Path]]:
    """Each command of the story, with the move before it and after it."""
    make_move(folder)
    with (folder / "plans/people.toml").open("a", encoding="utf-8") as plan:
        plan.write(LEAVERS)
    for number, (people, commands) in enumerate(MONTHS):
        rows = "".join(f"{id_},{name.split(',')[0]},,,y,D,{name.split(',')[1]}\n" for id_, name in people.items())
        (folder / "incoming/a.csv").write_text(HEADING + rows, encoding="utf-8")
        for at, command in enumerate(commands):
            if command[0] == "receive":
                returned = folder / command[1]
                text = returned.read_text("utf-8-sig").replace("Ana", "Anna").replace("Eva", "Evi")
                returned.write_text(text, "utf-8")
            before, after = (folder.with_name(f"{what}-{number}-{at}") for what in ("before", "after"))
            shutil.copytree(folder, before)
            ended = run(folder, command).ended
            assert ended.status in (0, 1), f"{command} failed: {ended.err}"
            shutil.copytree(folder, after)
            yield before, command, after
