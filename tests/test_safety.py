"""Nothing is lost, leaked or overwritten: ledgers, files that others made, names, secrets, and what hostile files
hold."""

from __future__ import annotations

import base64
import gzip
import json
import os
import re
import shutil
import socket
import sqlite3
import stat
import subprocess
import threading
import time
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any
from urllib.parse import quote

import openpyxl
import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import alone, edit, installed, layout_json, program
from mudanza.cli import look
from mudanza.cli.main import main
from mudanza.core.disk.files import Outputs
from mudanza.core.disk.processes import this_process
from mudanza.core.disk.temporary import temporary_folder
from mudanza.core.documents.errors import MudanzaError
from mudanza.core.documents.names import is_name
from mudanza.core.documents.secrets import keep_secret, without_pieces, without_secrets
from mudanza.core.plans.move_settings import find_move
from mudanza.core.sinks.csv_text import QuotedWriter, quoted, unquoted, would_run
from mudanza.core.sources.address import Database
from mudanza.core.sources.opening import open_source
from mudanza.core.state.soundness import damage

posix = pytest.mark.skipif(os.name != "posix", reason="pipes and permissions of this kind are those of POSIX systems")


def files_of(folder: Path, *, ledger: bool = False) -> dict[str, bytes]:
    """All files below a folder, but for the ledger: it notes what is looked at."""
    found = [p for p in sorted(folder.rglob("*")) if p.is_file() and (ledger or not p.name.startswith("ledger.sqlite"))]
    return {str(p.relative_to(folder)): p.read_bytes() for p in found}


def codes(move: Path) -> dict[str, str]:
    """The identifier that each name has."""
    rows = pl.read_csv(move / "out/people.csv", separator=";", infer_schema=False)
    return dict(rows.select("Full name", "Code").iter_rows())


# the ledger


def test_all_that_a_ledger_holds_is_in_its_file_when_a_command_has_ended(move: Path) -> None:
    for words in (
        ["build"],
        ["lend", "people"],
        ["ledger"],
        ["preview", "people"],
        ["build", "nix"],
        ["handed-over", "1"],
    ):
        program(*words, cwd=move)
        assert [p.name for p in (move / ".mudanza").glob("ledger.sqlite*")] == ["ledger.sqlite"], words
    given = codes(move)
    # a copy of that one file is a backup
    (move / "copy").write_bytes((move / ".mudanza/ledger.sqlite").read_bytes())
    shutil.rmtree(move / ".mudanza")
    (move / ".mudanza").mkdir()
    (move / "copy").rename(move / ".mudanza/ledger.sqlite")
    program("build", cwd=move, status=1)
    assert codes(move) == given


def test_a_backup_is_whole_whoever_writes_meanwhile(move: Path) -> None:
    assert "no ledger yet" in program("ledger", "--backup", "b", cwd=move, status=3).err
    program("build", cwd=move, status=1)
    other = sqlite3.connect(move / ".mudanza/ledger.sqlite", isolation_level=None)
    other.execute("BEGIN IMMEDIATE")
    other.execute("DELETE FROM key_pages")
    told = program("ledger", "--backup", "b", "--json", cwd=move, status=0).json
    other.execute("ROLLBACK")
    other.close()
    assert told["size"] == (move / "b").stat().st_size
    with sqlite3.connect(f"file:{move / 'b'}?immutable=1", uri=True) as copy:
        assert copy.execute("SELECT sum(last - first + 1) FROM key_pages").fetchone() == (3,)
        assert copy.execute("PRAGMA integrity_check").fetchone() == ("ok",)
    # it holds what is of people
    assert os.name != "posix" or stat.S_IMODE((move / "b").stat().st_mode) == 0o600


def later(move: Path) -> None:
    """A second build that gives out further identifiers, and a loan."""
    with (move / "incoming/a.csv").open("a", encoding="utf-8") as file:
        file.write("7,Ida,,1,y,D,\n8,Jo,,1,y,D,\n")
    program("build", cwd=move, status=1)
    program("lend", "people", cwd=move, status=0)


def older(move: Path) -> None:
    """The ledger as it was before the second build, everything else as it is."""
    copy = (move / ".mudanza/ledger.sqlite").read_bytes()
    later(move)
    (move / ".mudanza/ledger.sqlite").write_bytes(copy)


def replaced(move: Path) -> None:
    """The ledger of another move, in which as many runs were made."""
    later(move)
    shutil.copytree(move, move.parent / "other", ignore=shutil.ignore_patterns(".mudanza", "out", "loans"))
    (move.parent / "other/incoming/a.csv").write_text("Id,Name,Born,Paid,Active,Kind,State\n9,Ada,,1,y,D,\n")
    for words in (["build"], ["build"], ["lend", "people"]):
        program(*words, cwd=move.parent / "other", status=0)
    shutil.copy(move.parent / "other/.mudanza/ledger.sqlite", move / ".mudanza/ledger.sqlite")


def without_page(move: Path) -> None:
    later(move)
    with sqlite3.connect(move / ".mudanza/ledger.sqlite") as db:
        db.execute("DELETE FROM key_pages")


def gone(move: Path) -> None:
    later(move)
    shutil.rmtree(move / ".mudanza")


def gone_but_for_files(move: Path) -> None:
    """Nothing is left of what Mudanza remembers but the files that it built."""
    gone(move)
    (move / "out/run.json").unlink()
    shutil.rmtree(move / "loans")


@pytest.mark.parametrize("what", [older, replaced, without_page, gone, gone_but_for_files])
def test_a_ledger_that_does_not_know_what_was_given_out_is_refused(move: Path, what: Callable[[Path], None]) -> None:
    program("build", cwd=move, status=1)
    what(move)
    before, given = files_of(move), codes(move)
    assert len(given) == 5
    for words in (
        ["build"],
        ["build", "--rehearse"],
        ["lend", "people"],
        ["keys", "people", "--export"],
        ["ledger", "--backup", "b"],
    ):
        told = " ".join(program(*words, cwd=move, status=3).err.split())
        assert "would be given to other records" in told and "--older-ledger" in told, words
    assert files_of(move) == before
    # looking is always possible, and tells it
    if (move / ".mudanza").exists():
        assert "older ledger, or another one" in program("ledger", cwd=move, status=0).out
    accepted = program("ledger", "--older-ledger", cwd=move, status=0)
    assert "what must be done now" in accepted.out and "keys BOOK --import" in accepted.out
    # whoever gets an identifier now gets one that nobody had
    program("build", cwd=move, status=1)
    fresh = {name: code for name, code in codes(move).items() if given[name] != code}
    assert not set(fresh.values()) & set(given.values()), (fresh, given)
    assert "is not an older one" in program("ledger", "--older-ledger", cwd=move, status=3).err
    # numbers of runs, which loans are called by, are not given again either
    assert max(run["id"] for run in program("ledger", "--json", cwd=move, status=0).json["runs"]) > (
        3 if what is older else 1
    )


def test_an_older_ledger_with_something_left_to_do_is_older_all_the_same(move: Path) -> None:
    """What a killed run left to be put into place says nothing of what the ledger lacks, and is not lost with it."""
    program("build", cwd=move, status=1)
    older(move)
    (move / "out/late.part").write_text("whole")
    with sqlite3.connect(move / ".mudanza/ledger.sqlite") as db:
        db.execute("INSERT INTO pending VALUES (1, '../out/late.part', '../out/late.csv')")
    db.close()
    assert "--older-ledger" in program("build", cwd=move, status=3).err
    program("ledger", "--older-ledger", cwd=move, status=0)
    assert (move / "out/late.csv").read_text() == "whole"


def test_a_sound_ledger_is_not_blamed(
    move: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    for words in (
        ["build"],
        ["handed-over", "last"],
        ["lend", "people", "--to", "l.csv"],
        ["survey", "incoming/a.csv"],
    ):
        program(*words, cwd=move)
    assert damage(find_move(move)) is None

    def fails(*_: object) -> None:
        raise KeyError("nobody foresaw that")

    monkeypatch.chdir(move)
    monkeypatch.setattr("mudanza.core.work.build.open_sources", fails)
    assert main(["build"]) == 3 and "fault: KeyError" in capsys.readouterr().err
    with sqlite3.connect(move / ".mudanza/ledger.sqlite") as db:
        db.execute("UPDATE handed_over SET moment = 'x'")
    db.close()
    assert main(["build"]) == 3 and "the ledger is damaged (handed_over.moment" in capsys.readouterr().err


def test_lost_identifiers_of_groups_are_given_to_nobody(move: Path) -> None:
    edit(move / "mudanza.toml", 'pattern = "P{000}"', 'pattern = "P{000}"\ngroups = 1')
    edit(move / "layouts/people.json", "P[0-9]{3}", "[A-Z0-9-]+")
    edit(move / "mudanza.toml", "P{000}", "{group}-{000}")
    edit(move / "plans/people.toml", "{Id} -> mint people", "{Kind}, {Id} -> mint people")
    program("build", cwd=move, status=1)
    older(move)
    copy, given = (move / ".mudanza/ledger.sqlite").read_bytes(), codes(move)
    for _ in range(2):
        program("ledger", "--older-ledger", cwd=move, status=0)
        program("build", cwd=move, status=1)
        fresh = {code for name, code in codes(move).items() if given[name] != code}
        assert len(fresh) == 2 and not fresh & set(given.values())
        # and what was given then is lost a second time
        given = codes(move)
        (move / ".mudanza/ledger.sqlite").write_bytes(copy)


def test_what_lies_in_a_foreign_ledger_writes_nothing_outside(move: Path, tmp_path: Path) -> None:
    program("build", cwd=move, status=1)
    victim, part = tmp_path / "victim", move / "out/x.part"
    victim.write_text("mine")
    rows = [("", str(victim)), (str(part), str(victim)), ("", "../../victim"), ("../out/x.part", "../../victim")]
    for part_, final in rows:
        part.write_text("theirs")
        with sqlite3.connect(move / ".mudanza/ledger.sqlite") as db:
            db.execute("DELETE FROM pending")
            db.execute("INSERT INTO pending VALUES (1, ?, ?)", (part_, final))
        told = program("build", cwd=move, status=3).err
        assert "outside of the project" in told and victim.read_text() == "mine"
    program("ledger", "--older-ledger", cwd=move, status=0)
    program("build", cwd=move, status=1)
    assert victim.read_text() == "mine"


@posix
def test_what_is_of_people_is_for_its_owner_alone(move: Path) -> None:
    def modes() -> dict[str, int]:
        seen = [p for folder in ("out", "loans", ".mudanza") for p in ((move / folder), *(move / folder).rglob("*"))]
        return {str(p.relative_to(move)): stat.S_IMODE(p.stat().st_mode) for p in seen}

    program("build", cwd=move, status=1)
    program("lend", "people", cwd=move, status=0)
    program("check", "out/people.csv", "--findings", "f.csv", cwd=move, status=0)
    made = modes()
    assert "loans/people-2/lent.csv" in made and ".mudanza/ledger.sqlite" in made
    assert {name: oct(mode) for name, mode in made.items() if mode not in (0o600, 0o700)} == {}
    assert stat.S_IMODE((move / "f.csv").stat().st_mode) & 0o044
    edit(move / "mudanza.toml", 'name = "Test"', 'name = "Test"\naccess = "group"')
    program("build", cwd=move, status=1)
    program("lend", "people", cwd=move, status=0)
    made = modes()
    assert {made[name] for name in (".mudanza/ledger.sqlite", "out/people.csv", "loans/people-4/lent.csv")} == {0o660}
    edit(move / "mudanza.toml", '"group"', '"all"')
    assert "owner, group, everyone" in program("build", cwd=move, status=2).err


# files


def test_parts_of_a_living_command_are_left_alone(move: Path) -> None:
    with Outputs(command="check") as outputs:
        file = outputs.create(move / "out/fixed.csv")
        program("build", cwd=move, status=1)
        program("build", cwd=move, status=1)
        file.write(b"whole")
        outputs.publish()
    assert (move / "out/fixed.csv").read_bytes() == b"whole"


@alone
def test_several_at_once_lose_nothing(move: Path) -> None:
    """Each adds a line to one file, or writes one file: all lines are there, and the file is one of those written."""
    rows = "".join(f"{n},N{n},,1,y,D,\n" for n in range(20))
    (move / "incoming/a.csv").write_text(f"Id,Name,Born,Paid,Active,Kind,State\n{rows}")
    program("build", cwd=move, status=0)
    words = [["preview", "people", "--exclude", str(n), f"no {n}"] for n in range(6)]
    words += [["check", "out/people.csv", "--fix", "fixed.csv", "--overwrite"]] * 2
    running = [
        subprocess.Popen([installed(), *one], cwd=move, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)
        for one in words
    ]
    ended = [(one.communicate(timeout=200)[1].decode(), one.returncode) for one in running]
    assert {status for _, status in ended} == {0}, ended
    lines = (move / "exclusions/people.csv").read_text("utf-8").splitlines()
    assert sorted(line.split(",")[0] for line in lines[1:]) == [str(n) for n in range(6)]
    assert (move / "fixed.csv").read_bytes() == (move / "out/people.csv").read_bytes()
    assert not list(move.rglob("*.part"))


#: commands that write where their user says, and where they may not: what people, old programs and the ledger made
NAMED = [
    ["lend", "people", "--to"], ["lend", "people", "--mapping", "--to"], ["records", "people", "--to"], ["ledger", "--backup"],
    ["check", "out/people.csv", "--findings"], ["check", "out/people.csv", "--fix"], ["check", "out/people.csv", "--annotated"],
    ["survey", "incoming/a.csv", "--chart"], ["match", "people", "--rehearse", "--chart"],
]  # fmt: skip
FORBIDDEN = ["incoming/a.csv", "incoming/new.csv", "plans/people.toml", "mudanza.toml", ".mudanza/ledger.sqlite", "crosswalks/kinds.csv", "layouts/new.csv"]  # fmt: skip


@pytest.mark.parametrize(
    "places", [FORBIDDEN[:3], pytest.param(FORBIDDEN, marks=pytest.mark.soak)], ids=["some", "all"]
)
@pytest.mark.parametrize("words", NAMED, ids=lambda words: " ".join(words))
def test_no_file_is_overwritten_without_a_word(move: Path, words: list[str], places: list[str]) -> None:
    program("build", cwd=move, status=1)
    ending = {"--chart": ".svg", "--annotated": ".xlsx"}.get(words[-1], ".xlsx" if "lend" in words else ".csv")
    before = files_of(move)
    for name in FORBIDDEN if words[0] in ("check", "records", "ledger") else places:
        path = (
            name if words[0] in ("check", "ledger") or name == "mudanza.toml" else str(Path(name).with_suffix(ending))
        )
        if Path(path).suffix != ending and words[0] not in ("check", "ledger"):
            continue
        (move / path).parent.mkdir(exist_ok=True)
        there = (move / path).exists()
        for more in ([], ["--overwrite"]):
            ended = program(*words, path, *more, cwd=move)
            assert ended.status == 2 and "is not a place for this file" in ended.err, (words, path, ended.err)
        assert (move / path).exists() is there
    assert {name: data for name, data in files_of(move).items() if name in before} == before
    # somebody's own file is replaced only if that is meant; what the same command wrote may be written again
    mine = move / f"mine{ending}"
    mine.write_text("mine")
    told = program(*words, mine.name, cwd=move, status=2).err
    assert "did not write it as it is now" in told and "--overwrite" in told and mine.read_text() == "mine"
    program(*words, mine.name, "--overwrite", cwd=move, status=0)
    program(*words, mine.name, cwd=move, status=0)
    with mine.open("ab") as file:
        file.write(b" ")
    assert "--overwrite" in program(*words, mine.name, cwd=move, status=2).err


def test_what_plans_read_is_never_written_over(move: Path) -> None:
    """Wherever it lies, and even if it is said that files are to be replaced."""
    (move / "incoming/a.csv").rename(move.parent / "a.csv")
    edit(move / "plans/people.toml", "incoming/a.csv", "../a.csv")
    program("build", cwd=move, status=1)
    shutil.copy(move / "out/people.csv", move.parent / "b.csv")
    for words in (
        ["records", "people", "--to"], ["check", "out/people.csv", "--findings"], ["lend", "people", "--to"], ["survey", "../a.csv", "--chart"],
        ["lend", "../b.csv", "--layout", "people", "--to"], ["check", "out/people.csv", "--layout", "../a.csv", "--fix"],
    ):  # fmt: skip
        to = "../b.csv" if "../b.csv" in words else "../a.csv"
        assert "one that is read" in program(*words, to, "--overwrite", cwd=move, status=2).err
    # outside of a move nobody knows who wrote a file
    (move.parent / "mine.csv").write_text("mine")
    program("records", "a.csv", "--to", "mine.csv", cwd=move.parent, status=2)
    program("records", "a.csv", "--to", "mine.csv", "--overwrite", cwd=move.parent, status=0)


@posix
def test_devices_and_pipes_are_written_to(move: Path) -> None:
    program("build", cwd=move, status=1)
    os.mkfifo(move / "pipe")
    got: list[bytes] = []
    reader = threading.Thread(target=lambda: got.append((move / "pipe").read_bytes()))
    reader.start()
    program("check", "out/people.csv", "--fix", "pipe", cwd=move, status=0)
    reader.join(20)
    assert got == [(move / "out/people.csv").read_bytes()] and stat.S_ISFIFO((move / "pipe").stat().st_mode)
    program("check", "out/people.csv", "--findings", "/dev/null", cwd=move, status=0)
    assert Path("/dev/null").is_char_device()
    for words in (["survey", "pipe"], ["check", "pipe", "--layout", "people"], ["records", "pipe"]):
        assert "this is a pipe, and not a file" in program(*words, cwd=move, status=3).err
    (move / "incoming/link").symlink_to("nowhere")
    os.mkfifo(move / "incoming/pipe")
    told = program("survey", "incoming", cwd=move).out
    assert "a broken link (to nowhere)" in told and "this is a pipe" in told


@posix
def test_a_file_that_cannot_be_removed_is_removed_by_the_next_command(move: Path) -> None:
    program("build", cwd=move, status=1)
    (move / "out/people.findings.csv").unlink()
    (move / "out/people.findings.csv").mkdir()
    told = program("ledger", "1", "--take-back", cwd=move, status=3).err
    assert "run 2 is done" in told and "run 2 is recorded as done" in " ".join(told.split())
    (move / "out/people.findings.csv").rmdir()
    program("build", cwd=move, status=1)
    assert [one["state"] for one in program("ledger", "--json", cwd=move, status=0).json["runs"]] == [
        "done",
        "done",
        "taken back",
    ]


def test_temporary_folders_of_killed_processes_go(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("tempfile.tempdir", str(tmp_path))
    left = tmp_path / f"mudanza-{this_process().replace(f'-{os.getpid()}-', '-999999999-')}-x"
    left.mkdir()
    (left / "unpacked").write_text("of a process that was killed")
    folder = temporary_folder()
    assert [one.name for one in tmp_path.iterdir()] == [folder.name]


# names


@given(st.text(max_size=12))
def test_a_name_never_leads_out_of_its_folder(text: str) -> None:
    if is_name(text):
        path = Path("folder") / f"{text}.csv"
        assert path.parent == Path("folder") and not text.startswith(".") and os.path.normpath(path) == str(path)


def test_names_that_lead_elsewhere_are_errors_with_their_place(move: Path) -> None:
    program("build", cwd=move, status=1)
    before = files_of(move)
    for words in (
        ["layout", "draft", "../../x", "incoming/a.csv"], ["layout", "draft", "", "incoming/a.csv"], ["match", "../../x"], ["match", ""],
        ["match", "../../x", "--layout", "people", "--source", "incoming/a.csv"], ["build", "../plans/people"], ["crosswalk", "a/b"],
        ["records", "people", "--save", "../q"], ["records", "--question", "../q"], ["lend", "../../x", "--held-back"], ["preview", ".hidden"],
    ):  # fmt: skip
        ended = program(*words, cwd=move)
        assert ended.status == 2 and "cannot be the name of" in ended.err, (words, ended.err)
    edit(move / "plans/people.toml", "crosswalk kinds", 'crosswalk "../incoming/a"')
    for words in (["crosswalk", "people"], ["lend", "people", "--crosswalks"], ["build"]):
        told = program(*words, cwd=move, status=2).err
        assert "'../incoming/a'" in told and "plans/people.toml" in told, told
    edit(move / "plans/people.toml", 'crosswalk "../incoming/a"', "crosswalk kinds")
    edit(move / "mudanza.toml", "[keys.people]", '[keys."../people"]')
    assert "cannot be the name of a key book" in program("build", cwd=move, status=2).err
    edit(move / "mudanza.toml", '[keys."../people"]', "[keys.people]")
    assert files_of(move) == before and sorted(p.name for p in move.parent.iterdir()) == ["move"]


# rows that are chosen by dates, while others refer to their list


def test_a_date_in_keep_goes_with_references(move: Path) -> None:
    edit(
        move / "plans/people.toml",
        "keep = '{State} != \"x\"'",
        "keep = '({Born} -> date \"yyyy-MM-dd\" or blank) within 40000 days'",
    )
    columns = [{"name": "pet", "titles": "Pet"}, {"name": "owner", "titles": "Owner"}]
    keys = {"columnReference": "owner", "reference": {"resource": "people.csv", "columnReference": "code"}}
    (move / "layouts/pets.json").write_text(layout_json(columns, primaryKey="pet", foreignKeys=[keys], url="pets.csv"))
    (move / "plans/pets.toml").write_text(
        'layout = "layouts/pets.json"\n[[source]]\nname = "a"\nfile = "incoming/pets.csv"\n[fields]\npet = "{Pet}"\nowner = "{Owner} -> mint people"\n'
    )
    (move / "incoming/pets.csv").write_text("Pet,Owner\nRex,1\nTim,2\n")
    made = program("build", "--json", cwd=move, status=1).json["lists"]
    assert {one["list"]: one["written"] for one in made} == {"people": 1, "pets": 1}


# secrets


@pytest.mark.parametrize("secret", ["p@qPine", "a:b/c?d#e", "per%20cent", "with space", 'quo"te', "uni–code"])
def test_no_form_of_a_secret_is_said(secret: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("OLD_PASSWORD", secret)
    url = Database("old", "postgresql://me@127.0.0.1:1/d", password_from="OLD_PASSWORD").url()
    assert (url.password, url.host) == (secret, "127.0.0.1")
    encoded = base64.b64encode(secret.encode()).decode()
    for form in (secret, quote(secret, safe=""), json.dumps(secret)[1:-1], encoded):
        assert form not in without_secrets(f"driver: {form}.")
        assert form not in look.message(f"a name {form}")
        # what is shown of the data is as it is
        assert look.harmless(f"a name {form}") == f"a name {form}"
    # a driver that takes the address apart at the wrong place names a piece
    assert secret != "p@qPine" or "Pine" not in without_pieces("failed to resolve host 'qPine'")


#: addresses with whatever in their passwords: the password that is meant, and the host
ADDRESSES = [
    ("postgresql://u:p@qPine@db.old/x", "p@qPine", "db.old"), ("mariadb://u:p%40q@h:3306/x", "p@q", "h"), ("postgresql://u:a/b?c@h/x", "a/b?c", "h"),
    ("mysql://u:x@[::1]:3306/d", "x", "::1"), ("postgresql://h/d?options=a@b", None, "h"), ("postgresql://u:p@h/d?sslmode=require&x=a@b", "p", "h"),
]  # fmt: skip


@pytest.mark.parametrize(("address", "password", "host"), ADDRESSES)
def test_addresses_are_taken_apart_by_their_last_at(
    address: str, password: str | None, host: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("OLD", address)
    url = Database("old", address_from="OLD").url()
    assert (url.password, url.host) == (password, host)


def test_what_is_typed_or_does_not_parse_shows_no_credentials(move: Path) -> None:
    typed = "postgresql://me:se cr@t@host/db"
    for words in (
        ["survey", typed],
        ["records", typed],
        ["check", typed, "--layout", "people"],
        ["build", typed],
        ["match", typed],
        ["lend", typed],
        [typed],
    ):
        for more in ([], ["--json"]):
            ended = program(*words, *more, cwd=move)
            assert ended.status in (2, 3) and "se cr" not in ended.err + ended.out, (words, ended.err)
    settings = (move / "mudanza.toml").read_text()
    for wrong in (
        'address = "postgresql://me:secret\n@h/d"', 'passwrod = "secret"', 'x = "postgresql://me:secret@h"', 'old = "postgresql://a:secret@h/d',
        'address = "postgresql://me:secret@h/d"', 'address = ["secret"]',
    ):  # fmt: skip
        (move / "mudanza.toml").write_text(f"{settings}[databases.old]\n{wrong}\n")
        for more in ([], ["--json"]):
            ended = program("build", *more, cwd=move, status=2)
            assert "secret" not in ended.err + ended.out, ended.err


@alone
def test_a_server_that_says_nothing_is_not_waited_for(monkeypatch: pytest.MonkeyPatch) -> None:
    pytest.importorskip("pymysql")
    monkeypatch.setattr("mudanza.core.sources.database._PATIENCE", 1)
    from mudanza.core.sources.database import open_database
    from mudanza.core.sources.reader import ReadOptions

    with socket.create_server(("127.0.0.1", 0)) as silent:
        database = Database("old", f"mariadb://127.0.0.1:{silent.getsockname()[1]}/d")
        with pytest.raises(MudanzaError, match="the database says"):
            open_database(database, ReadOptions(own={"table": "t"})).headings  # noqa: B018


# what comes from elsewhere


@given(st.lists(st.text(st.sampled_from("'=+-@\t\ra1 |"), max_size=6)))
def test_texts_get_an_apostrophe_and_lose_it_again(texts: list[str]) -> None:
    rows = pl.DataFrame({"t": texts}, schema={"t": pl.String})
    made = rows.select(quoted("t"))
    assert made.select(unquoted(pl.col("t"))).equals(rows)
    assert not made.select(would_run(pl.col("t")).any()).item()
    assert QuotedWriter(["=cmd"]).head() == b"'=cmd\r\n"


def test_nothing_that_people_open_runs(move: Path) -> None:
    """Texts that a spreadsheet program would run are lent, shown and held back with an apostrophe, and come back as
    they were."""
    edit(move / "layouts/people.json", '"P[0-9]{3}"', '"P[0-9]{3}"')
    (move / "incoming/a.csv").write_text(
        "Id,Name,Born,Paid,Active,Kind,State\n1,=cmd|' /C'!A,,1,y,D,\n2,@SUM(A1),,1,y,Q,\n3,'=x,,1,y,D,\n4,-5,,1,y,D,\n"
    )
    edit(move / "layouts/people.json", '"maxLength": 12', '"maxLength": 40')
    program("build", cwd=move, status=1)
    assert "'@SUM(A1)" in (move / "out/people.held-back.csv").read_text("utf-8-sig")
    assert "\n1;" not in (move / "out/people.csv").read_text() and "=cmd" in (move / "out/people.csv").read_text()
    program("records", "people", "--to", "r.csv", cwd=move, status=0)
    program("lend", "people", "--to", "l.csv", cwd=move, status=0)
    for name in ("r.csv", "l.csv"):
        texts = [
            cell
            for row in (move / name).read_text("utf-8-sig").splitlines()
            for cell in re.split("[;,]", row.replace('"', ""))
        ]
        assert "'=cmd|' /C'!A" in texts and "''=x" in texts and "-5" in texts, texts
    came = program("receive", "l.csv", "--json", cwd=move, status=0).json
    assert not came["changes"], came["changes"]
    # a held-back row is corrected in its file, and read again as it was
    text = (move / "out/people.held-back.csv").read_text("utf-8-sig").replace(",Q,", ",D,")
    (move / "incoming/back.csv").write_text(text, "utf-8")
    edit(move / "plans/people.toml", "[rows]", '[[source]]\nname = "back"\nfile = "incoming/back.csv"\n[rows]')
    program("build", cwd=move)
    assert "@SUM(A1)" in codes(move) and "'@SUM(A1)" not in codes(move)


def test_control_signs_are_seen_and_do_nothing(tmp_path: Path) -> None:
    (tmp_path / "a\x1b[31m.csv").write_text("a,b\n1,x\x1b[8mhidden\x1b[0m\n2,\u202eabc\x9b8m\n", encoding="utf-8")
    for words in (
        ["survey"],
        ["records"],
        ["records", "--json"],
        ["records", "--key", "1"],
        ["check", "--layout", "nix.json"],
        ["survey", "--columns"],
    ):
        ended = program(words[0], "a\x1b[31m.csv", *words[1:], cwd=tmp_path)
        assert not set(ended.out + ended.err) & set("\x1b\x9b\u202e"), words
    assert "\\e[8mhidden\\e[0m" in program("records", "a\x1b[31m.csv", cwd=tmp_path, status=0).out


def test_a_mapping_sheet_with_control_characters_leaves_a_plan(move: Path) -> None:
    program("build", cwd=move, status=1)
    program("lend", "people", "--mapping", "--to", "m.xlsx", cwd=move, status=0)
    book = openpyxl.load_workbook(move / "m.xlsx")
    sheet = book["people"]
    place = {cell.value: cell.column for cell in sheet[2]}
    row_of = {sheet.cell(row, 1).value: row for row in range(3, sheet.max_row + 1)}
    sheet.cell(row_of["name"], place["Remark"]).value = "who_x0007_ decides?"
    sheet.cell(row_of["kind"], place["Flow"]).value = "{Kind}_x000B_ -> upper"
    book.save(move / "m.xlsx")
    came = program("receive", "m.xlsx", "--accept", "--json", cwd=move)
    plan = (move / "plans/people.toml").read_text("utf-8")
    assert (
        came.status in (0, 1) and [one["problem"] for one in came.json["left_out"]] and not set(plan) & set("\x07\x0b")
    ), came.err
    program("build", cwd=move, status=1)


def test_a_draft_from_headings_with_control_characters_can_be_read(move: Path) -> None:
    (move / "incoming/b.csv").write_text("Na\x07me,Born\x7f\nAna,1980-01-31\nRui,1981-01-31\n")
    made = program("match", "b", "--layout", "people", "--source", "incoming/b.csv", "--json", cwd=move)
    assert made.status in (0, 1), made.err
    shown = program("preview", "b", cwd=move)
    assert "illegal" not in shown.err and "fault" not in shown.err


# hostile files


def workbook(path: Path, sheet: Callable[[Any], None]) -> Path:
    """A workbook of one sheet, whose markup is written by a function."""
    kinds = "application/vnd.openxmlformats-officedocument.spreadsheetml"
    relations = "http://schemas.openxmlformats.org/officeDocument/2006/relationships"
    package = "http://schemas.openxmlformats.org/package/2006"
    main = "http://schemas.openxmlformats.org/spreadsheetml/2006/main"
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
        types = f'<Override PartName="/xl/workbook.xml" ContentType="{kinds}.sheet.main+xml"/><Override PartName="/xl/worksheets/sheet1.xml" ContentType="{kinds}.worksheet+xml"/>'
        archive.writestr("[Content_Types].xml", f'<Types xmlns="{package}/content-types"><Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/>{types}</Types>')  # fmt: skip
        archive.writestr("_rels/.rels", f'<Relationships xmlns="{package}/relationships"><Relationship Id="r1" Type="{relations}/officeDocument" Target="xl/workbook.xml"/></Relationships>')  # fmt: skip
        archive.writestr("xl/workbook.xml", f'<workbook xmlns="{main}" xmlns:r="{relations}"><sheets><sheet name="S" sheetId="1" r:id="r1"/></sheets></workbook>')  # fmt: skip
        archive.writestr("xl/_rels/workbook.xml.rels", f'<Relationships xmlns="{package}/relationships"><Relationship Id="r1" Type="{relations}/worksheet" Target="worksheets/sheet1.xml"/></Relationships>')  # fmt: skip
        with archive.open("xl/worksheets/sheet1.xml", "w") as out:
            out.write(
                f'<worksheet xmlns="{main}"><sheetData><row r="1"><c r="A1" t="inlineStr"><is><t>A</t></is></c></row>'.encode()
            )
            sheet(out)
            out.write(b"</sheetData></worksheet>")
    return path


def lying(path: Path) -> None:
    """A workbook that declares 100 kB and brings 300 MB."""
    workbook(path, lambda out: [out.write(b" " * 1_000_000) for _ in range(300)])
    raw = bytearray(path.read_bytes())
    at = raw.rfind(b"PK\x01\x02")
    raw[at + 24 : at + 28] = (100_000).to_bytes(4, "little")
    path.write_bytes(bytes(raw))


def unclosed(path: Path) -> None:
    workbook(path, lambda out: out.write(b'<row r="1048576">' + b'<c r="XFD1048576">' * 200_000 + b"</row>"))


def endless(path: Path) -> None:
    with sqlite3.connect(path) as db:
        db.execute("create view v as with recursive n(x) as (select 1 union all select x + 1 from n) select x from n")


def bomb(path: Path) -> None:
    with gzip.open(path, "wb", 9) as file:
        for _ in range(300):
            file.write(bytes(1 << 20))


def text(content: Callable[[], str]) -> Callable[[Path], None]:
    return lambda path: path.write_text(content(), "utf-8") and None


HOSTILE: list[tuple[str, Callable[[Path], None], str]] = [
    ("lying.xlsx", lying, "larger than it says"),
    ("unclosed.xlsx", unclosed, "cannot be read"),
    ("keys.json", text(lambda: json.dumps([{f"k{n}": n} for n in range(30_000)])), "too many different keys"),
    ("sparse.json", text(lambda: json.dumps([{f"k{n}": n} for n in range(8_000)])), "hardly any of them in common"),
    ("wide.csv", text(lambda: ",".join(f"c{n}" for n in range(100_000)) + "\n"), "more than 20,000 columns"),
    ("endless.sqlite", endless, "without an end"),
    ("zeros.csv.gz", bomb, "no honest export"),
    ("deep.json", text(lambda: '{"a":' * 900 + "1" + "}" * 900), "nested too deeply"),
    ("folder.csv", lambda path: path.mkdir(), "folder"),
]


@pytest.mark.parametrize(("name", "make", "why"), HOSTILE, ids=[name for name, _, _ in HOSTILE])
def test_a_hostile_file_is_refused_soon_and_with_the_reason(
    tmp_path: Path, name: str, make: Callable[[Path], None], why: str
) -> None:
    make(tmp_path / name)
    ended = program("survey", name, cwd=tmp_path)
    assert ended.status == 3 and why in " ".join((ended.err + ended.out).split()), ended.err
    assert "fault" not in ended.err


def test_long_words_and_wide_lines_are_looked_at_once(tmp_path: Path) -> None:
    """A word without an end took its square in time, a wide line in a printed report all memory."""
    (tmp_path / "word.csv").write_bytes(b"a,b\nS\xe1,1\n" + b"a" * 500_000 + b",2\n")
    lines = [f"Client: {n};;;\n{n};Rex;x;{n},00\nTotal;;;{n},00\n" for n in range(300)]
    report = "Date;Animal;Vet;Amount\n" + "".join(lines)
    (tmp_path / "report.csv").write_text(report + ";" * 15_000 + "\n" + report, "utf-8")
    for name in ("word.csv", "report.csv"):
        began = time.monotonic()
        assert program("survey", name, cwd=tmp_path).status in (0, 1)
        assert time.monotonic() - began < 30, name


def test_layouts_are_bounded_and_hold_characters(move: Path) -> None:
    (move / "layouts/people.json").write_text(layout_json([{"name": f"c{n}"} for n in range(20_001)]))
    assert "no table has more than 20,000" in program("build", cwd=move, status=2).err
    (move / "layouts/people.json").write_text('{"tableSchema": {"columns": [{"name": "a", "titles": "\\ud800"}]}}')
    assert "half of a pair of surrogates" in program("build", cwd=move, status=2).err
    for seconds in ("nan", "-1", "inf"):
        assert "not a number of seconds" in program("build", f"--wait={seconds}", cwd=move, status=2).err


def test_a_word_without_an_end_is_received_at_once(move: Path) -> None:
    """It took half a minute to look in it for the mark of a loan."""
    program("build", cwd=move, status=1)
    program("lend", "people", "--to", "l.csv", cwd=move, status=0)
    edit(move / "l.csv", "Ana", "a" * 65_536)
    assert "too-long" in program("receive", "l.csv", "--json", cwd=move).out


def test_a_part_of_a_zip_is_read_as_it_comes(tmp_path: Path) -> None:
    path = workbook(
        tmp_path / "good.xlsx", lambda out: out.write(b'<row r="2"><c r="A2" t="inlineStr"><is><t>b</t></is></c></row>')
    )
    assert [batch.rows["A"].to_list() for batch in open_source(path).batches() if batch.rows.height] == [["b"]]
    raw = bytearray(path.read_bytes())
    raw[raw.find(b"PK\x01\x02", raw.rfind(b"PK\x01\x02")) + 16] ^= 1
    path.write_bytes(bytes(raw))
    with pytest.raises(MudanzaError, match="damaged"):
        open_source(path)


def test_a_second_interruption_does_not_disturb_the_first(move: Path) -> None:
    """An impatient user gets no trace, and the files are as they were."""
    import signal

    from mudanza.cli import main as command

    before = signal.getsignal(signal.SIGINT)
    try:
        command._end_like_ctrl_c()
        with pytest.raises(KeyboardInterrupt):
            signal.raise_signal(signal.SIGINT)
        signal.raise_signal(signal.SIGINT)
        signal.raise_signal(signal.SIGINT)
    finally:
        signal.signal(signal.SIGINT, before)
    with pytest.raises(KeyboardInterrupt), Outputs() as outputs:
        outputs.create(move / "x.csv")
        raise KeyboardInterrupt
    assert not (move / "x.csv").exists()


def test_a_word_of_any_length_is_looked_at_once() -> None:
    began = time.monotonic()
    assert look.message("a" * 300_000).endswith("aaa")
    # every start of it, each looked at to its end, would take many minutes
    assert time.monotonic() - began < 20


def test_secrets_hide_short_words_only_as_words() -> None:
    keep_secret("zq")
    assert without_secrets("zq and azqb") == "… and azqb"
