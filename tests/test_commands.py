"""The command line as people meet it: help, errors, statuses, starting, and every finding's example."""

from __future__ import annotations

import io
import json
import os
import subprocess
import sys
from pathlib import Path

import pytest
from rich.console import Console

from conftest import edit, installed, layout_json, program
from mudanza.cli import look
from mudanza.cli.main import COMMANDS
from mudanza.core.findings.codes import CODES
from mudanza.core.language.steps import STEPS
from mudanza.core.plans.move_settings import find_move
from mudanza.core.sources import decoding, delimited
from mudanza.core.work.build import build
from mudanza.core.work.progress import Progress
from test_language import run
from test_reading import rows_of


@pytest.mark.parametrize("command", [*COMMANDS, "layout show"])
def test_every_command_has_help_with_examples(command: str, tmp_path: Path) -> None:
    shown = program(*command.split(), "--help", cwd=tmp_path, status=0).out
    assert "Example" in shown and f"mudanza {command.split()[0]}" in shown
    if command != "layout":
        assert "--json" in shown


def test_help_starts_without_the_heavy_packages(tmp_path: Path) -> None:
    code = (
        "import sys\n"
        "from mudanza.cli.main import main\n"
        "assert main(['--help']) == 0\n"
        "print([m for m in ('polars','rich','numpy','lark','openpyxl','pyarrow') if m in sys.modules])"
    )
    shown = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout
    assert shown.splitlines()[-1] == "[]"
    assert [name for name in COMMANDS if f"  {name} " in shown] == list(COMMANDS)
    assert program("--version", cwd=tmp_path, status=0).out.startswith("mudanza ")


SLIPS = [
    (["biuld"], 2, "'build'"),
    (["build", "poeple"], 2, "'people'"),
    (["-C", "nowhere", "build", "people"], 2, "nowhere"),
    (["build", "people", "--set", "x"], 2, "NAME=VALUE"),
    (["build", "people", "--as-of", "1.1.2020"], 2, "2026-01-31"),
    (["explain", "value.to-long"], 2, "'value.too-long'"),
    (["ledger", "99"], 2, "no run 99"),
    (["survey", "missing.csv"], 3, "does not exist"),
    (["survey", "incoming/a.csv", "--delimiter", ""], 2, "one character"),
    (["survey", "incoming/a.csv", "--encoding", "utf-9"], 3, "no encoding"),
    (["survey", "incoming/a.csv", "--heading", "99"], 3, "line 99"),
    (["lend", "people"], 2, "has not been built"),
    (["lend", "incoming/a.csv"], 2, "--layout"),
    (["init", "."], 2, "already"),
]


@pytest.mark.parametrize(("arguments", "status", "words"), SLIPS, ids=[" ".join(case[0]) for case in SLIPS])
def test_slips_are_answered(move: Path, arguments: list[str], status: int, words: str) -> None:
    ended = program(*arguments, cwd=move, status=status)
    assert words in ended.err and not ended.out
    # with --json, one document says the same on standard output
    error = program(*arguments, "--json", cwd=move, status=status).json["error"]
    assert error["status"] == status and words in f"{error['what']} {error.get('hint')} {error.get('place')}"


def test_settings_that_are_wrong_are_told_with_their_line(move: Path) -> None:
    for old, new, words in (
        ('pattern = "P{000}"', 'patern = "P{000}"', ["mudanza.toml", "pattern"]),
        ('pattern = "P{000}"', 'pattern = "P000"', ["line 3", "zeros in braces"]),
        ("[keys.people]", "[kyes.people]", ["'keys'"]),
        ('name = "Test"', 'name = "Test', ["line 1", "^"]),
    ):
        text = (move / "mudanza.toml").read_text()
        edit(move / "mudanza.toml", old, new)
        ended = program("build", "people", cwd=move, status=2)
        for word in words:
            assert word in ended.err
        (move / "mudanza.toml").write_text(text)


def test_debug_shows_the_trace_and_nothing_else_does(move: Path) -> None:
    command = [installed(), "--debug", "build", "no-such-list", "--json"]
    ended = subprocess.run(command, cwd=move, capture_output=True, text=True, check=False)
    assert "Traceback" in ended.stderr and ended.returncode == 2
    assert "no-such-list" in json.loads(ended.stdout)["error"]["what"]


def test_output_can_be_piped_and_is_plain(move: Path) -> None:
    shown = program("survey", "incoming/a.csv", cwd=move, status=0, env={"COLUMNS": "80"}, fresh=True).out
    assert "\x1b" not in shown
    assert not [line for line in shown.splitlines() if line != line.rstrip()]
    ended = subprocess.run(
        f"{installed()} explain | head -1",
        shell=True,
        cwd=move,
        capture_output=True,
        check=False,
    )
    assert not ended.stderr


def test_a_new_move_works_as_it_is(tmp_path: Path) -> None:
    program("init", "ours", cwd=tmp_path, status=0)
    ended = program("-C", "ours", "build", "people", cwd=tmp_path, status=0, fresh=True)
    assert "3 = 1 + 0 + 0 + 2" in ended.out
    assert (tmp_path / "ours/out/people.csv").read_bytes() == (
        b"Code,Name,Born,Country,Paid\r\nP-00001,Ana Lopes,1980-03-05,PT,12.50\r\nP-00002,Rui De Castro,1975-11-17,ES,0.00\r\n"
    )
    program("-C", "ours", "check", "out/people.csv", "--layout", "people", cwd=tmp_path, status=0)
    assert "is there already" in program("init", "ours", cwd=tmp_path, status=2).err


def test_the_demo_tells_its_story(tmp_path: Path) -> None:
    ended = program("demo", "practice", cwd=tmp_path, status=0, fresh=True)
    assert "was expected" not in ended.out
    for words in (
        "2 of them damaged",
        "People (44 rows, has the records)",
        "122 = 5 + 1 + 8 + 108",
        "122 = 5 + 1 + 7 + 109",
        "all as the layout asks",
        "Post code",
        "1 new identifier given out",
        "loan owners-4",
        "OW-000013",
        "removed",
        "changes.csv",
    ):
        assert words in ended.out, words
    assert "Did you mean {Town}?" in ended.err
    assert "not empty" in program("demo", "practice", cwd=tmp_path, status=2).err
    program("demo", "practice", "--again", "--only-create", cwd=tmp_path, status=0)
    assert not (tmp_path / "practice/out").exists()
    (tmp_path / "mine").mkdir()
    (tmp_path / "mine/kept.txt").write_text("mine")
    program("demo", "mine", "--again", cwd=tmp_path, status=2)
    assert (tmp_path / "mine/kept.txt").read_text() == "mine"


@pytest.mark.parametrize("code", CODES.values(), ids=list(CODES))
def test_every_finding_is_explained_and_its_example_gives_it(code, tmp_path: Path) -> None:
    assert code.meaning.endswith(".") and code.next.endswith(".")
    example = code.example
    if example.kind == "flow":
        assert code.name in run(example.given, [(example.value,)])[0][1]
    elif example.kind == "file":
        path = tmp_path / "f.csv"
        rest = "".join(f"{n},é\n" for n in range(40)) if "\udce9" in example.given else ""
        path.write_bytes((example.given + rest).encode("utf-8", "surrogateescape"))
        _, broken, blank = rows_of(path)
        assert code.name in [b.code for b in broken] or (code.name == "read.blank-lines" and blank)


def test_explaining_from_the_command_line(tmp_path: Path) -> None:
    listed = program("explain", cwd=tmp_path, status=0).out
    for name in (*CODES, *STEPS):
        assert name in listed
    for name, words in (
        ("value.too-long", "maxLength"),
        ("fit", "Rua das"),
        ("read.stray-quote", '5" nail'),
        ("loan.formula", "CONCATENATE"),
    ):
        assert words in program("explain", name, cwd=tmp_path, status=0).out
    assert program("explain", "fit", "--json", cwd=tmp_path, status=0).json["usage"] == "fit LENGTH words=no"


def test_survey_of_several_files_and_options(move: Path) -> None:
    (move / "b.txt").write_bytes("Nº^Nome\n1^José\n2^\n".encode("cp850"))
    document = program("survey", "b.txt", "--delimiter", "^", "--encoding", "cp850", "--json", cwd=move, status=0).json
    assert [c["heading"] for c in document["columns"]] == ["Nº", "Nome"]
    assert (document["encoding"], document["encoding_because"], document["rows"]) == ("cp850", "as said", 2)
    both = program("survey", "b.txt", "incoming/a.csv", "--json", cwd=move, status=0).json
    assert [d["rows"] for d in both["sources"]] == [2, 7]


def test_values_given_at_run_time_and_the_day_that_counts(move: Path) -> None:
    edit(
        move / "plans/people.toml",
        "keep = '{State} != \"x\"'",
        "keep = '({Born} -> date \"yyyy-MM-dd\" or blank) within 400 days or {Id} = :who'",
    )
    one = program("build", "people", "--as-of", "1981-01-31", "--set", "who=6", "--json", cwd=move, status=1).json[
        "lists"
    ][0]
    assert (one["written"], one["skipped"], one["held_back"], one["merged"]) == (1, 4, 1, 1)
    assert "--set who=VALUE" in program("build", "people", cwd=move, status=2).err
    with (move / "mudanza.toml").open("a") as file:
        file.write('[parameters]\nwho = "6"\n')
    program("build", "people", "--fewer", cwd=move, status=1)


def test_two_lists_in_one_run_and_keys_between_them(move: Path) -> None:
    (move / "layouts/visits.json").write_text(
        layout_json([{"name": "owner", "titles": "Owner", "required": True}, {"name": "day", "titles": "Day"}])
    )
    (move / "plans/visits.toml").write_text(
        'layout = "layouts/visits.json"\n[[source]]\nname = "a"\nfile = "incoming/v.csv"\n[fields]\n'
        "owner = '{Person} -> key people'\nday = '{Day}'\n"
    )
    (move / "incoming/v.csv").write_text("Person,Day\n1,mon\n3,tue\n2,wed\n")
    rehearsed = program("build", "people", "visits", "--rehearse", "--json", cwd=move, status=1).json["lists"]
    lists = program("build", "people", "visits", "--json", cwd=move, status=1).json["lists"]
    assert rehearsed == lists and [one["keys_given"] for one in lists] == [{"people": 3}, {}]
    assert [one["list"] for one in lists] == ["people", "visits"]
    # person 3 was held back and so has no identifier: the visit has nowhere to go
    assert (move / "out/visits.csv").read_text().split() == ["Owner,Day", "P001,mon", "P002,wed"]
    assert [(g["code"], g["example"]["line"]) for g in lists[1]["findings"]] == [("reference.held-back", 3)]
    run = program("ledger", "1", cwd=move, status=0).out
    assert "incoming/v.csv" in run and "out/visits.csv" in run


def test_an_interruption_while_the_program_is_loaded_is_told() -> None:
    code = (
        "import os, signal, sys\n"
        "class Interrupting:\n"
        "    def find_spec(self, name, *_):\n"
        "        if name == 'click': os.kill(os.getpid(), signal.SIGINT)\n"
        "sys.meta_path.insert(0, Interrupting())\n"
        "from mudanza.__main__ import run\n"
        "run()\n"
    )
    ended = subprocess.run([sys.executable, "-c", code, "build"], capture_output=True, text=True, check=False)
    assert (ended.returncode, ended.stderr, ended.stdout) == (130, "interrupted; nothing was changed.\n", "")


def test_how_far_a_build_is(move: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """The share grows to the whole of it, list by list; a terminal shows it with the time that is left."""
    heading, *rows = (move / "incoming/a.csv").read_text("utf-8").splitlines()[:2]
    (move / "incoming/a.csv").write_text(heading + "\n" + (rows[0] + "\n") * 60_000, encoding="utf-8")
    monkeypatch.setattr(delimited, "BLOCK", 1 << 19)
    monkeypatch.setattr(decoding, "BLOCK", 1 << 19)
    told: list[Progress] = []
    build(find_move(move), ["people"], rehearse=True, tell=told.append)
    assert list(dict.fromkeys(one.phase for one in told)) == ["opening", "building people", "closing people"]
    shares = [one.share for one in told if one.phase == "building people" and one.share is not None]
    assert len(shares) > 2 and shares == sorted(set(shares)) and 0 < shares[0] < 0.5 and shares[-1] == 1
    assert [one.rows for one in told][-1] == 60_000

    shown = io.StringIO()
    monkeypatch.setattr(look, "err", Console(file=shown, force_terminal=True, width=100))
    monkeypatch.setattr(look, "_SOON", 0)
    monkeypatch.setattr(sys.stderr, "isatty", lambda: True, raising=False)
    with look.progress(quiet=False) as tell:
        while "people" not in shown.getvalue():
            tell(Progress("building people", 30_000, 0.5))
    assert all(words in shown.getvalue() for words in ("building people", "30,000 rows, 50%, about 1 s left"))


@pytest.mark.skipif(not Path("/dev/full").exists(), reason="needs /dev/full")
@pytest.mark.parametrize("words", [["ledger", "--json"], ["nonsense", "--json"], ["ledger"], ["--help"]])
def test_where_nothing_can_be_printed_it_is_told_without_a_trace(move: Path, words: list[str]) -> None:
    with Path("/dev/full").open("w") as full:
        ended = subprocess.run(
            [installed(), *words], cwd=move, stdout=full, stderr=subprocess.PIPE, text=True, check=False
        )
    assert ended.returncode == 3 and "Traceback" not in ended.stderr and "standard output" in ended.stderr
    closed = subprocess.run(
        ["sh", "-c", '"$0" "$@" >&-', installed(), *words], cwd=move, capture_output=True, text=True, check=False
    )
    assert closed.returncode == (2 if words[0] == "nonsense" else 0) and "Traceback" not in closed.stderr


def test_a_process_that_ends_at_once_has_written_all_and_leaves_nothing_behind(move: Path, tmp_path: Path) -> None:
    """Temporary folders go, output that is piped is whole, and the status is the command's."""
    (tmp_path / "t").mkdir()
    environment = {**os.environ, "TMPDIR": str(tmp_path / "t")}
    rows = (move / "incoming/a.csv").read_bytes()
    command = [installed(), "check", "-", "--layout", "people", "--json"]
    ended = subprocess.run(command, cwd=move, env=environment, input=rows, capture_output=True, check=False)
    assert ended.returncode == 1 and json.loads(ended.stdout)["findings"]
    assert list((tmp_path / "t").iterdir()) == []
