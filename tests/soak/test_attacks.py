"""Ledgers that were damaged, several commands at once, and files that nobody honest writes."""

from __future__ import annotations

import gzip
import hashlib
import json
import os
import random
import shutil
import signal
import sqlite3
import subprocess
import sys
import time
from pathlib import Path

import polars as pl
import pytest

from conftest import edit, installed, make_move, program
from mudanza.core.plans.move_settings import find_move
from mudanza.core.state.evidence import ledger_of
from test_safety import HOSTILE

pytestmark = [pytest.mark.soak, pytest.mark.xdist_group("alone")]
LEDGERS, ROUNDS, FILES = 150, 30, 100
#: seconds and bytes that a look at any file may take; a machine that is busy takes twice the time
MOST_SECONDS, MOST_BYTES = 20, 1 << 30


def codes(move: Path) -> dict[str, str]:
    rows = pl.read_csv(move / "out/people.csv", separator=";", infer_schema=False)
    return dict(rows.select("Full name", "Code").iter_rows())


def lived(folder: Path) -> Path:
    """A move in which much is remembered, nearly all of it in one page of each kind."""
    move = make_move(folder)
    people = "".join(f"{n},N{n},,{n},y,D,\n" for n in range(200))
    edit(move / "incoming/a.csv", "1,Ana,1980-01-31,1234.5,y,D,\n2,", f"{people}1000,Ana,1980-01-31,1234.5,y,D,\n2000,")
    for words in (
        ["build"],
        ["handed-over", "last"],
        ["lend", "people", "--to", "l.csv"],
        ["survey", "incoming/a.csv"],
        ["build", "--since"],
    ):
        program(*words, cwd=move)
    edit(move / "l.csv", "N7;" if "N7;" in (move / "l.csv").read_text("utf-8-sig") else "N7,", "M7,")
    return move


def damaged(path: Path, chance: random.Random) -> str:
    """Damage a ledger in one way of many."""
    raw = bytearray(path.read_bytes())
    kind = chance.choice(["bits", "zeros", "cut", "swapped", "junk", "cells", "cells", "cells"])
    page = 4096
    if kind == "bits":
        for _ in range(chance.choice([1, 3, 30])):
            raw[chance.randrange(len(raw))] ^= 1 << chance.randrange(8)
    elif kind == "zeros":
        at = chance.randrange(len(raw) // page) * page
        raw[at : at + page] = bytes(page)
    elif kind == "cut":
        del raw[chance.randrange(len(raw)) :]
    elif kind == "swapped":
        one, other = (chance.randrange(1, len(raw) // page) * page for _ in range(2))
        raw[one : one + page], raw[other : other + page] = raw[other : other + page], raw[one : one + page]
    elif kind == "junk":
        at = chance.randrange(len(raw))
        raw[at : at + 64] = chance.randbytes(64)
    if kind != "cells":
        path.write_bytes(bytes(raw))
        return kind
    with sqlite3.connect(path) as db:
        tables = [
            name
            for (name,) in db.execute("SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite%'")
        ]
        table = chance.choice([one for one in tables if db.execute(f"SELECT count(*) FROM {one}").fetchone()[0]])
        column = chance.choice([row[1] for row in db.execute(f"PRAGMA table_info({table})")])
        value = chance.choice(
            [
                None,
                -1,
                2**62,
                1.5,
                "",
                "x",
                "\ud800".encode("utf-8", "surrogatepass"),
                b"\xff\xfe",
                '{"a":',
                "[" * 2000,
                "2026-99-99",
                "../../x",
            ]
        )
        try:
            db.execute(f"UPDATE {table} SET {column} = ? WHERE rowid = (SELECT min(rowid) FROM {table})", (value,))
        except sqlite3.Error:
            db.rollback()
            db.execute(f"DELETE FROM {table} WHERE rowid = (SELECT max(rowid) FROM {table})")
    db.close()
    return f"{table}.{column} = {value!r}"[:80]


def test_a_damaged_ledger_is_told_or_changes_nothing(tmp_path: Path) -> None:
    whole = lived(tmp_path / "whole")
    given, wrong = codes(whole), []
    for number in range(LEDGERS):
        chance = random.Random(number)
        move = tmp_path / "move"
        shutil.rmtree(move, ignore_errors=True)
        shutil.copytree(whole, move)
        what = damaged(move / ".mudanza/ledger.sqlite", chance)
        for words in (
            ["ledger"],
            ["ledger", "--loans"],
            ["receive", "l.csv"],
            ["trace", "Ana"],
            ["keys", "people", "--export"],
            ["handed-over"],
            ["build"],
            ["ledger", "--older-ledger"],
            ["build"],
        ):
            ended = program(*words, cwd=move)
            if "fault" in ended.err or "Traceback" in ended.err:
                wrong.append(f"{number} {what}: {words}: {ended.err}")
        # whatever was damaged, nobody has an identifier that was another's
        seen = codes(move)
        others = {name for name, code in seen.items() if given.get(name, code) != code and code in given.values()}
        if others:
            wrong.append(f"{number} {what}: {sorted(others)[:3]} have the identifiers of others")
    assert not wrong, f"{len(wrong)} of {LEDGERS}:\n" + "\n".join(wrong[:12])


def test_four_at_once_leave_what_one_after_the_other_would(tmp_path: Path) -> None:
    move = make_move(tmp_path / "move")
    rows = "".join(f"{n},N{n},,{n},y,D,\n" for n in range(300))
    (move / "incoming/a.csv").write_text(f"Id,Name,Born,Paid,Active,Kind,State\n{rows}")
    edit(move / "layouts/people.json", "P[0-9]{3}", "P[0-9]+")
    program("build", cwd=move, status=0)
    excluded: list[str] = []
    for number in range(ROUNDS):
        chance = random.Random(number)
        key = str(290 - number)
        kinds = [
            ["build"], ["build", "--since"], ["handed-over", "last"], ["lend", "people"], ["records", "people", "--to", "r.csv"], ["preview", "people", "--exclude", key, "x"],
            ["check", "out/people.csv", "--layout", "people", "--fix", "fixed.csv", "--overwrite"], ["ledger", "--backup", "b", "--overwrite"],
        ]  # fmt: skip
        chosen = [chance.choice(kinds) for _ in range(4)]
        running = [
            subprocess.Popen([installed(), *words], cwd=move, stdout=subprocess.PIPE, stderr=subprocess.PIPE)
            for words in chosen
        ]
        if number % 3 == 2:
            time.sleep(chance.random() * 2)
            running[0].send_signal(signal.SIGKILL)
        ended = [
            (words, *[text.decode() for text in one.communicate(timeout=200)], one.returncode)
            for words, one in zip(chosen, running, strict=True)
        ]
        for words, _, err, status in ended:
            assert status in (0, 1, 2, -9) and "fault" not in err, (words, status, err)
        excluded += [key for words, _, _, status in ended if "--exclude" in words and status == 0]
        program("build", cwd=move)
        # what the ledger says was written last is what stands there
        last = next(run for run in ledger_of(find_move(move)).runs(command="build") if run.state == "done")
        files = {file["path"]: file["sha256"] for file in last.written}
        assert {path: hashlib.sha256((move / path).read_bytes()).hexdigest() for path in files} == files
        made = codes(move)
        assert len(set(made.values())) == len(made) and not list(move.rglob("*.part"))
        if (move / "exclusions/people.csv").exists():
            lines = (move / "exclusions/people.csv").read_text().splitlines()[1:]
            assert set(excluded) <= {line.split(",")[0] for line in lines}


def spoilt(folder: Path) -> list[Path]:
    """Files that were honest once, and some that never were."""
    for name, make, _ in HOSTILE:
        make(folder / name)
    sources = [path for path in sorted((folder / "demo/incoming").rglob("*")) if path.is_file()] or [
        path for path in sorted(folder.iterdir()) if path.is_file()
    ]
    number = 0
    while len([one for one in folder.iterdir() if one.name != "demo"]) < FILES:
        chance = random.Random(number)
        path = sources[number % len(sources)]
        raw = bytearray(path.read_bytes()[: 1 << 20])
        for _ in range(chance.choice([1, 5, 50])):
            at = chance.randrange(len(raw) + 1)
            match chance.randrange(5):
                case 0:
                    raw[at : at + 1] = chance.randbytes(1)
                case 1:
                    raw[at:at] = chance.choice(
                        [
                            b'"',
                            b"\0" * 1000,
                            b"\n" * 1000,
                            b"," * 5000,
                            b"<" * 3000,
                            b"{" * 2000,
                            b"\xff\xfe",
                            b"<c r='",
                        ]
                    )
                case 2:
                    del raw[at : at + chance.randrange(2000)]
                case 3:
                    raw[at:at] = raw[at // 2 : at // 2 + 3000] * chance.choice([1, 20])
                case _:
                    raw[at:at] = chance.choice(["a", "1", ";", '";"', "é", " "]).encode() * 20_000
        (folder / f"{number}-{path.name}").write_bytes(bytes(raw))
        number += 1
    return sorted(one for one in folder.iterdir() if one.name != "demo")


def test_a_look_at_any_file_ends_soon_in_little_memory(tmp_path: Path) -> None:
    program("demo", "demo", "--only-create", cwd=tmp_path, status=0)
    (tmp_path / "small.csv.gz").write_bytes(gzip.compress(b"a,b\n1,2\n"))
    (tmp_path / "lines.ndjson").write_text("\n".join(json.dumps({"a": n, "b": {"c": [n]}}) for n in range(50)))
    files, wrong = spoilt(tmp_path), []
    for path in files:
        began = time.monotonic()
        process = subprocess.Popen(
            [installed(), "survey", path.name], cwd=tmp_path, stdout=subprocess.PIPE, stderr=subprocess.STDOUT
        )
        output = process.stdout.read() if process.stdout else b""
        _, status, used = os.wait4(process.pid, 0)
        took = time.monotonic() - began
        memory = used.ru_maxrss * (1 if sys.platform == "darwin" else 1024)
        if (
            took > MOST_SECONDS
            or memory > MOST_BYTES
            or os.waitstatus_to_exitcode(status) not in (0, 1, 2, 3)
            or b"fault:" in output
        ):
            wrong.append(
                f"{path.name}: {took:.1f} s, {memory >> 20} MiB, status {status}: {output[-400:].decode('utf-8', 'replace')}"
            )
    assert len(files) >= FILES and not wrong, f"{len(wrong)} of {len(files)}:\n" + "\n".join(wrong[:10])
