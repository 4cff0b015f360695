"""Looking at chosen records of anything, writing them, and questions that are kept."""

from __future__ import annotations

import csv
import json
import sqlite3
from pathlib import Path

import polars as pl
import pytest

from conftest import program, some

TOWNS = "Code;Name;Town;Owed\n1;Ana;Braga;10,5\n2;Rui;Porto;2\n3;Eva;Braga;\n4;Zoé;Viana;100\nbroken;x\n"


@pytest.fixture
def practice(tmp_path: Path) -> Path:
    program("demo", "practice", "--only-create", cwd=tmp_path, status=0)
    program("build", "owners", cwd=tmp_path / "practice")
    return tmp_path / "practice"


#: what is asked beside the file, and the codes that answer; the file has a damaged row, so that the status is 1
ASKED: list[tuple[str, list[str], list[str]]] = [
    ("all", [], ["1", "2", "3", "4"]),
    ("a condition", ["--where", '{Town} = "Braga"'], ["1", "3"]),
    ("a typed condition", ["--where", '({Owed} -> number decimal="," or blank) > 5'], ["1", "4"]),
    ("from the last on", ["--sort", "-Town,Code"], ["4", "2", "1", "3"]),
    ("blanks come last", ["--sort", "Owed"], ["1", "4", "2", "3"]),
    ("as many as are wanted", ["--sort", "-Code", "-n", "2"], ["4", "3"]),
    ("alike once", ["--distinct", "--columns", "Code,Town"], ["1", "2", "3", "4"]),
    ("a key", ["--key", "Zoé"], ["4"]),
]


@pytest.mark.parametrize(("words", "expected"), [case[1:] for case in ASKED], ids=[case[0] for case in ASKED])
def test_chosen_records_of_a_file(tmp_path: Path, words: list[str], expected: list[str]) -> None:
    (tmp_path / "f.csv").write_text(TOWNS)
    told = program("records", "f.csv", *words, "--json", cwd=tmp_path, status=1).json
    assert [one["Code"] for one in told["records"]] == expected
    assert (told["looked_at"], told["damaged"]) == (4, 1)


def test_columns_that_are_left_aside_cost_no_row_its_place(tmp_path: Path) -> None:
    """A row too long and one too short in one block are damaged, whichever columns are looked at; quoted line breaks count as lines."""
    rows = [f"{n},a{n},b{n}" for n in range(500)]
    rows[100], rows[101], rows[200] = "100,a,b,c", "101,a", '200,"a\n200","b"'
    (tmp_path / "f.csv").write_text("id,a,b\n" + "\n".join(rows) + "\n")
    for columns in ("id", "b", "id,a,b"):
        told = program(
            "records", "f.csv", "--columns", columns, "--where", '{id} = "300"', "--json", cwd=tmp_path, status=1
        ).json
        assert told["records"] == [{name: {"id": "300", "a": "a300", "b": "b300"}[name] for name in columns.split(",")}]
        assert (told["looked_at"], told["damaged"]) == (498, 2)
    one = program("records", "f.csv", "--where", '{id} = "300"', cwd=tmp_path, status=1).out
    assert "300" in one
    # without quotes the rows are counted by their delimiters
    (tmp_path / "g.csv").write_text("id,a,b\n" + "\n".join([*rows[:200], *rows[201:]]) + "\n")
    told = program(
        "records", "g.csv", "--columns", "b", "--where", '{id} = "300"', "--json", cwd=tmp_path, status=1
    ).json
    assert (told["records"], told["looked_at"], told["damaged"]) == ([{"b": "b300"}], 497, 2)


def test_a_list_is_asked_by_its_fields(practice: Path) -> None:
    owed = program(
        "records",
        "owners",
        "--where",
        "{@balance} > 300",
        "--sort=-balance",
        "--columns",
        "balance",
        "--json",
        cwd=practice,
        status=0,
    ).json
    values = [float(one["Balance"]) for one in owed["records"]]
    assert values == sorted(values, reverse=True) and min(values) > 300
    counts = program("records", "owners", "--count-by", "town", "--json", cwd=practice, status=0).json
    assert sum(int(one["records"]) for one in counts["records"]) == counts["found"] == counts["looked_at"]
    key = program("records", "owners", "--key", "OW-000007", cwd=practice, status=0).out
    assert "1 of " in key and "Client since" in key
    lost = program("records", "owners", "--where", '{@town} = "Brga"', cwd=practice, status=0).out
    assert 'Town has no such value; it has "Braga"' in lost


#: what is wrong, and the words of the answer
WRONG = [
    (["owners", "--columns", "toown"], "did you mean 'Town'"), (["ownrs"], "Did you mean 'owners'"), (["animals"], "has not been built"), (["owners", "--where", "{@twn} = 1"], "town"),
    (["owners", "--to", "x.pdf"], "in no form"), (["owners", "--to", "incoming/x.csv"], "made by people, by old programs"), (["--question", "nix"], "no question"), ([], "Say of what"),
    (["owners/nord"], "no source 'nord'"), (["owners", "--save", "a b"], "cannot be the name"),
]  # fmt: skip


def test_slips_are_answered(practice: Path) -> None:
    for words, expected in WRONG:
        ended = program("records", *words, cwd=practice, status=2)
        assert expected in " ".join(ended.err.split()), words


@pytest.mark.parametrize("ending", some(["csv", "tsv", "xlsx", "ods", "json", "ndjson", "xml", "txt", "parquet"], 3))
def test_what_is_written_can_be_asked_again_and_is_no_export(practice: Path, ending: str) -> None:
    to = f"braga.{ending}"
    words = ["owners", "--where", '{@town} = "Braga"', "--columns", "owner_code,full_name,balance,since", "--to", to]
    told = program("records", *words, "--json", cwd=practice, status=0).json
    again = program("records", to, "--json", cwd=practice, status=0).json
    assert (again["found"], len(again["columns"])) == (told["rows"], 4)
    names = [[*one.values()][1] for one in again["records"]]
    assert (
        names
        == [one["Name"] for one in program("records", *words[:5], "--json", cwd=practice, status=0).json["records"]][
            : len(names)
        ]
    )
    # what Mudanza wrote it may write again; what somebody changed it may not
    program("records", *words, cwd=practice, status=0)
    (practice / "incoming" / f"renamed.{ending}").write_bytes((practice / to).read_bytes())
    assert (
        "is no export of an old program" in program("survey", f"incoming/renamed.{ending}", cwd=practice, status=3).err
    )
    with (practice / to).open("ab") as file:
        file.write(b" ")
    assert "did not write it as it is now" in program("records", *words, cwd=practice, status=2).err
    assert "called --overwrite" in program("records", *words, "--over", cwd=practice, status=0).err


def test_a_build_takes_no_answer_for_an_export(practice: Path) -> None:
    program("records", "incoming/north/clients.csv", "--to", "mine.csv", cwd=practice, status=0)
    (practice / "incoming/north/clients.csv").write_bytes((practice / "mine.csv").read_bytes())
    for words in (["build", "owners"], ["build", "owners", "--rehearse"]):
        assert "no export of an old program" in program(*words, cwd=practice, status=3).err


def test_a_value_that_the_form_cannot_hold_leaves_nothing_behind(tmp_path: Path) -> None:
    with sqlite3.connect(tmp_path / "d.sqlite") as database:
        database.execute("create table t (id, note)")
        database.executemany("insert into t values (?, ?)", [(1, "fine"), (2, "a\x01b")])
    ended = program("records", "d.sqlite", "--to", "x.xml", cwd=tmp_path, status=3)
    assert "XML cannot hold a value of 'note'" in ended.err and "row 2" in ended.err.replace("line 2", "row 2")
    assert not [path for path in tmp_path.iterdir() if "xml" in path.name]
    program("records", "d.sqlite", "--to", "x.json", cwd=tmp_path, status=0)
    assert json.loads((tmp_path / "x.json").read_text())[1]["note"] == "a\x01b"


def test_questions_are_kept_and_asked_again(practice: Path) -> None:
    program(
        "records",
        "owners",
        "--where",
        "{@town} = :town",
        "--columns",
        "full_name",
        "--save",
        "of-town",
        "--set",
        "town=Braga",
        cwd=practice,
        status=0,
    )
    told = program("records", "--question", "of-town", "--set", "town=Viana", "--json", cwd=practice, status=0).json
    with (practice / "out/owners.csv").open(encoding="utf-8") as file:
        expected = [row["Name"] for row in csv.DictReader(file) if row["Town"] == "Viana"]
    assert [one["Name"] for one in told["records"]] == expected[:20]
    assert "no value was given for :town" in program("records", "--question", "of-town", cwd=practice, status=2).err
    fewer = program(
        "records", "--question", "of-town", "--set", "town=Viana", "-n", "1", "--json", cwd=practice, status=0
    ).json
    assert len(fewer["records"]) == 1
    (practice / "questions/of-town.toml").write_text('subject = "owners"\nwher = "x"\n')
    assert "Did you mean 'where'" in program("records", "--question", "of-town", cwd=practice, status=2).err


#: the words so far, and some of what is proposed for the last
COMPLETED = [
    (["bui"], "build"), (["build", "ow"], "owners"), (["records", "owners/n"], "owners/north"), (["records", "owners", "--columns", "Name,To"], "Name,Town"),
    (["records", "owners", "--key", "OW-00000"], "OW-000001"), (["explain", "value.un"], "value.unwritable"), (["trace", "OW-00000"], "OW-000002"),
]  # fmt: skip


def test_shells_complete(practice: Path) -> None:
    from click.shell_completion import ShellComplete

    from mudanza.cli.main import cli

    for words, expected in COMPLETED:
        with pytest.MonkeyPatch.context() as patch:
            patch.chdir(practice)
            found = [one.value for one in ShellComplete(cli, {}, "mudanza", "X").get_completions(words[:-1], words[-1])]
        assert expected in found, words
    for shell in ("bash", "zsh", "fish"):
        assert "_MUDANZA_COMPLETE" in program("completion", shell, cwd=practice, status=0).out


def test_parquet_is_read_like_any_source(tmp_path: Path) -> None:
    frame = pl.DataFrame({"id": [1, None], "d": [{"a": 1.5, "b": ["x", "y"]}, None], "raw": [b"12", b""]})
    frame.write_parquet(tmp_path / "f.parquet")
    told = program("records", "f.parquet", "--json", cwd=tmp_path, status=0).json
    assert told["records"] == [
        {"id": "1", "d.a": "1.5", "d.b": "x; y", "raw": "(binary, 2 bytes)"},
        {"id": None, "d.a": None, "d.b": None, "raw": "(binary, 0 bytes)"},
    ]
    (tmp_path / "g.parquet").write_bytes((tmp_path / "f.parquet").read_bytes()[:-40])
    assert "cannot be read" in program("records", "g.parquet", cwd=tmp_path, status=3).err


def test_a_condition_that_does_not_fit_says_what_would(move: Path) -> None:
    """By the field that the layout has for a heading; by the value that cannot be read."""
    program("build", "people", cwd=move)
    for where, words in (
        ("{Paid} > 27", "Ask {@paid}, which is a number"),
        ('{@born} > "2020-01-01"', '("2020-01-01" -> date'),
    ):
        assert words in program("records", "people", "--where", where, cwd=move, status=2).err
    told = program("records", "incoming/a.csv", "--where", "({Name} -> number) > 2", cwd=move, status=3).err
    assert "'Ana'" in told and "a number" in told and "line 2" in told
