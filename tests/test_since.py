"""What a build is beside the build before: identities known, new and missing, kinds of columns, and builds taken back."""

from __future__ import annotations

import json
import multiprocessing
import os
import sqlite3
import time
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

from conftest import edit, program
from mudanza.core.documents.errors import SourceError
from mudanza.core.plans.move_settings import find_move
from mudanza.core.state.ledger import Ledger
from mudanza.core.state.running import begin
from mudanza.core.work.build import build
from mudanza.core.work.progress import Progress
from test_building import table

HEADING = "Id,Name,Born,Paid,Active,Kind,State\n"


def _source(move: Path, codes: list[str]) -> None:
    rows = "".join(f"{code},Ana,,1,y,D,\n" for code in codes)
    (move / "incoming/a.csv").write_text(HEADING + rows, encoding="utf-8")


def _identifiers(move: Path, *more: str) -> dict[str, Any]:
    one = program("build", "people", "--json", *more, cwd=move, status=0).json["lists"][0]["identifiers"]
    return {source.pop("source"): source for source in one}


def test_identifiers_are_told_by_source(move: Path) -> None:
    plan = move / "plans/people.toml"
    before = (move / "incoming/a.csv").read_text("utf-8").splitlines()[0]
    assert before + "\n" == HEADING
    _source(move, ["1", "2", "3", "2"])
    assert _identifiers(move) == {"a": {"book": "people", "known": 0, "new": 3, "missing": 0}}
    _source(move, ["2", "4"])
    (move / "incoming/b.csv").write_text(HEADING + "5,Bo,,1,y,D,\n", encoding="utf-8")
    plan.write_text(
        plan.read_text("utf-8").replace("[fields]", '[[source]]\nname = "b"\nfile = "incoming/b.csv"\n[fields]', 1),
        "utf-8",
    )
    expected = {
        "a": {"book": "people", "known": 1, "new": 1, "missing": 2},
        "b": {"book": "people", "known": 0, "new": 1, "missing": 0},
    }
    assert _identifiers(move, "--rehearse") == expected
    assert _identifiers(move) == expected
    assert _identifiers(move)["a"] == {"book": "people", "known": 2, "new": 0, "missing": 0}


def test_a_second_identity_is_not_given_in_silence(move: Path) -> None:
    """An export that writes 1.00 where it wrote 1 makes all its records look new."""
    codes = [str(number) for number in range(1, 41)]
    _source(move, codes)
    program("build", "people", cwd=move, status=0)
    first = table(move / "out/people.csv")
    _source(move, [*(f"{code}.00" for code in codes), "1", "2"])
    told = program("build", "people", cwd=move, status=3).err
    assert '40 new ones, as "1.00", instead of 40 known ones of a, as "3"' in told.replace("\n", "")
    assert "--new-identities" in told
    assert table(move / "out/people.csv") == first
    rehearsed = program("build", "people", "--rehearse", cwd=move, status=1).out
    assert "build.new-identities" in rehearsed
    # a few new ones, or most of them gone, is no such case
    _source(move, [*codes[:30], *(f"{code}.00" for code in codes[:10])])
    assert _identifiers(move, "--rehearse") == {"a": {"book": "people", "known": 30, "new": 10, "missing": 10}}
    _source(move, [f"{code}.00" for code in codes])
    assert _identifiers(move, "--new-identities") == {"a": {"book": "people", "known": 0, "new": 40, "missing": 40}}
    program("build", "people", "--rehearse", cwd=move, status=0)


def test_another_kind_of_a_column_is_told(move: Path) -> None:
    def make(kind: str) -> None:
        (move / "incoming/old.sqlite").unlink(missing_ok=True)
        with closing(sqlite3.connect(move / "incoming/old.sqlite")) as db:
            db.execute(
                f"CREATE TABLE people (Id {kind}, Name TEXT, Born TEXT, Paid TEXT, Active TEXT, Kind TEXT, State TEXT)"
            )
            db.execute("INSERT INTO people VALUES (1, 'Ana', NULL, '1', 'y', 'D', NULL)")
            db.commit()

    edit(move / "plans/people.toml", 'file = "incoming/a.csv"', 'file = "incoming/old.sqlite"\ntable = "people"')
    with (move / "mudanza.toml").open("a", encoding="utf-8") as settings:
        settings.write('[databases.old]\naddress = "sqlite:///incoming/old.sqlite"\n')
    edit(move / "plans/people.toml", 'file = "incoming/old.sqlite"', 'database = "old"')
    make("INTEGER")
    program("build", "people", cwd=move, status=0)
    make("NUMERIC(12, 2)")
    for arguments in (["--rehearse"], []):
        one = program("build", "people", "--json", *arguments, cwd=move, status=0).json["lists"][0]
        (told,) = [group for group in one["findings"] if group["code"] == "column.kind-changed"]
        assert (told["field"], told["example"]["value"]) == ("Id", "NUMERIC(12, 2)")
        assert told["example"]["rule"] == "INTEGER, as in run 1; source a"
    one = program("build", "people", "--json", cwd=move, status=0).json["lists"][0]
    assert "column.kind-changed" not in [group["code"] for group in one["findings"]]


def test_a_build_is_taken_back(move: Path) -> None:
    """After it all is as if the build had never been: the same identifiers, the same history, to the last byte."""
    _source(move, ["1", "2"])
    program("build", "people", cwd=move, status=0)
    _source(move, ["1", "2", "3"])
    program("build", "people", cwd=move, status=0)
    second = (move / "out/people.csv").read_bytes()
    _source(move, ["1", "9", "8"])
    program("build", "people", cwd=move, status=0)
    told = program("ledger", "2", "--take-back", cwd=move, status=2).err
    assert "run 3 (build people) came after run 2" in told
    done = program("ledger", "3", "--take-back", "--json", cwd=move, status=0).json
    assert (done["run"], done["taken_back"], done["key_books"]) == (4, 3, {"people": 2})
    assert not (move / "out/people.csv").exists() and "out/people.csv" in done["files"]
    states = [(run["id"], run["state"]) for run in program("ledger", "--json", cwd=move).json["runs"]]
    assert states == [(4, "done"), (3, "taken back"), (2, "done"), (1, "done")]
    _source(move, ["1", "2", "3"])
    assert _identifiers(move)["a"] == {"book": "people", "known": 3, "new": 0, "missing": 0}
    assert (move / "out/people.csv").read_bytes() == second
    for run in (5, 2):
        program("ledger", str(run), "--take-back", cwd=move, status=0)
    assert program("ledger", "--json", cwd=move).json["key_books"] == {"people": 2}
    program("ledger", "1", "--take-back", cwd=move, status=0)
    _source(move, ["9"])
    assert _identifiers(move)["a"]["new"] == 1
    assert table(move / "out/people.csv", ";")[0]["Code"] == "P001"


def test_what_something_was_made_of_is_not_taken_back(move: Path) -> None:
    assert "Say which run" in program("ledger", "--take-back", cwd=move, status=2).err
    _source(move, ["1", "2"])
    program("build", "people", cwd=move, status=0)
    held = move / "out/people.held-back.csv"
    as_written = held.read_bytes()
    held.write_bytes(as_written + b"\n")
    assert "not as run 1 wrote it" in program("ledger", "1", "--take-back", cwd=move, status=2).err
    held.write_bytes(as_written)
    program("lend", "people", cwd=move, status=0)
    assert "run 2 (lend people) came after" in program("ledger", "1", "--take-back", cwd=move, status=2).err
    assert "no build that is done" in program("ledger", "2", "--take-back", cwd=move, status=2).err
    assert "there is no run 7" in program("ledger", "7", "--take-back", cwd=move, status=2).err
    assert len(json.loads((move / "out/run.json").read_text("utf-8"))["lists"]) == 1


@pytest.mark.parametrize("how", ["longer", "cut", "another", "gone"])
def test_a_source_that_changes_while_it_is_read_is_not_built(move: Path, how: str) -> None:
    program("build", "people", cwd=move, status=1)
    before = {path.name: path.read_bytes() for path in (move / "out").iterdir()}
    source = move / "incoming/a.csv"

    def change(now: Progress) -> None:
        if not now.rows:
            return
        if how == "longer":
            source.write_text(source.read_text("utf-8") + "9,Zoe,,1,y,D,\n", encoding="utf-8")
        elif how == "cut":
            source.write_text(HEADING, encoding="utf-8")
        elif how == "another":
            other = move / "other.csv"
            other.write_bytes(source.read_bytes())
            other.replace(source)
        else:
            source.unlink(missing_ok=True)

    with pytest.raises(SourceError, match="changed while it was read"):
        build(find_move(move), ["people"], tell=change)
    assert {path.name: path.read_bytes() for path in (move / "out").iterdir()} == before


def _begin(path: Path, moment: float) -> int:
    while time.time() < moment:
        pass
    return begin(Ledger(path), "build", "people", None, [])


@pytest.mark.skipif(not hasattr(os, "fork"), reason="only where processes can be forked")
def test_the_first_runs_of_a_move_may_begin_at_the_same_moment(tmp_path: Path) -> None:
    forked = multiprocessing.get_context("fork")
    for number in range(12):
        moment = time.time() + 0.1
        path = tmp_path / str(number) / ".mudanza/ledger.sqlite"
        runs = [forked.Process(target=_begin, args=(path, moment)) for _ in range(3)]
        for run in runs:
            run.start()
        for run in runs:
            run.join(60)
        assert [run.exitcode for run in runs] == [0, 0, 0]
        assert sorted(run.id for run in Ledger(path).runs()) == [1, 2, 3]


def test_corrections_count_for_the_source_that_they_are_of(move: Path) -> None:
    """Other corrections every month are no sign that a source's records only look new."""

    def month() -> dict[str, Any]:
        held = (move / "out/people.held-back.csv").read_text("utf-8-sig")
        (move / "incoming/mended.csv").write_text(held.replace(",Q,", ",D,"), encoding="utf-8")
        return _identifiers(move)

    plan = move / "plans/people.toml"

    def rows(first: int) -> None:
        lines = [f"{n},Ana,,1,y,{'Q' if first <= n < first + 12 else 'D'},\n" for n in range(1, 60)]
        (move / "incoming/a.csv").write_text(HEADING + "".join(lines), encoding="utf-8")

    rows(1)
    program("build", "people", cwd=move, status=1)
    edit(plan, "[rows]", '[[source]]\nname = "mended"\nfile = "incoming/mended.csv"\n[rows]')
    assert month() == {"a": {"book": "people", "known": 47, "new": 12, "missing": 0}}
    rows(20)
    program("build", "people", cwd=move, status=1)
    assert month() == {"a": {"book": "people", "known": 59, "new": 0, "missing": 0}}


def test_a_ledger_that_another_run_is_making_is_as_none(move: Path) -> None:
    """It may be seen between its first byte and its tables; a file of no bytes is none either, and stops a move that was built."""
    path = move / ".mudanza/ledger.sqlite"
    path.parent.mkdir()
    path.touch()
    program("build", "people", "--rehearse", cwd=move, status=1)
    with closing(sqlite3.connect(path)) as db:
        db.execute("PRAGMA journal_mode = WAL")
    assert path.stat().st_size > 0
    program("build", "people", "--rehearse", cwd=move, status=1)
    program("build", "people", cwd=move, status=1)
    for extra in ("", "-wal", "-shm"):
        path.with_name(f"ledger.sqlite{extra}").unlink(missing_ok=True)
    path.touch()
    assert "the ledger is not there" in program("build", "people", cwd=move, status=3).err
