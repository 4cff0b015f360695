"""Parts on their own: files that appear whole, the ledger, plans, crosswalks, and how things look."""

from __future__ import annotations

import json
import os
import socket
import sqlite3
import tomllib
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import polars as pl
import pytest
import tomlkit
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import PLAN, edit, make_move, program
from mudanza.cli.look import shorten, size
from mudanza.core.disk.files import Outputs, put_into_place, sweep
from mudanza.core.disk.processes import this_process
from mudanza.core.documents.errors import LedgerError, MoveError, MudanzaError, OutsideError, PlanError, few, nearest
from mudanza.core.documents.json_marks import json_marks
from mudanza.core.documents.toml_marks import toml_marks
from mudanza.core.plans.crosswalk_files import read_crosswalk
from mudanza.core.plans.move_settings import find_move, read_move
from mudanza.core.plans.plan_reading import load_plan
from mudanza.core.sources.ahead import read_ahead
from mudanza.core.sources.opening import open_source
from mudanza.core.sources.sniff import find_delimiter
from mudanza.core.state import running as under_way
from mudanza.core.state.ledger import Ledger
from mudanza.core.state.loans import all_loans, noted_loan
from mudanza.core.state.running import begin, running, settle
from mudanza.core.values import row_columns
from mudanza.core.values.digest import digest_of
from mudanza.core.work.build import build
from mudanza.core.work.survey.surveying import survey
from test_reading import book

# files


def test_outputs_appear_together_or_not_at_all(tmp_path: Path) -> None:
    (tmp_path / "a.txt").write_text("old")
    with pytest.raises(ZeroDivisionError), Outputs() as outputs:
        outputs.create(tmp_path / "a.txt").write(b"new")
        outputs.create(tmp_path / "deep/b.txt").write(b"new")
        raise ZeroDivisionError
    assert (tmp_path / "a.txt").read_text() == "old" and not list(tmp_path.rglob("*.part"))
    with Outputs() as outputs:
        for name in ("a.txt", "deep/b.txt"):
            outputs.create(tmp_path / name).write(b"new")
        assert (tmp_path / "a.txt").read_text() == "old"
        digest = outputs.files[0].digest("a.txt")
        outputs.publish()
    assert (tmp_path / "a.txt").read_text() == (tmp_path / "deep/b.txt").read_text() == "new"
    assert digest == digest_of(tmp_path / "a.txt", "a.txt")
    with Outputs() as outputs:
        outputs.create(tmp_path / "given-up.txt").write(b"new")
    assert not list(tmp_path.rglob("*given-up*"))
    with Outputs(keep=False) as outputs:
        sink = outputs.create(tmp_path / "never.txt")
        sink.write(b"new")
    assert sink.digest("a.txt") == digest and not (tmp_path / "never.txt").exists()


def test_parts_belong_to_their_process(tmp_path: Path) -> None:
    # another process of the same number, which began at another moment, is another one
    gone, other = this_process().replace(f"-{os.getpid()}-", "-999999999-"), f"{this_process()}0"
    processes = (gone, other, this_process(), "abcdef-1-1")
    names = [f".mudanza-{owner}-{process}-77.part" for owner in ("0", "abc") for process in processes]
    for name in names:
        (tmp_path / name).write_text(name)
    pairs = [(str(tmp_path / names[0]), str(tmp_path / "a.csv"))]
    put_into_place(pairs)
    put_into_place(pairs)
    assert (tmp_path / "a.csv").read_text() == names[0]
    with Outputs() as outputs:
        part = outputs.create(tmp_path / "b.csv").part
        assert {one.name for one in tmp_path.glob("*.part")} == {*names[2:], part.name}
    sweep(tmp_path, ["abc"])
    # of a process of another machine nothing is known, until nobody has touched its file for a week
    left = {names[2], names[3], names[6], names[7]}
    assert {one.name for one in tmp_path.iterdir()} == {"a.csv", *left}
    os.utime(tmp_path / names[7], (0, 0))
    sweep(tmp_path)
    assert {one.name for one in tmp_path.iterdir()} == {"a.csv", *left - {names[7]}}


def test_a_part_that_somebody_took_away_is_told(tmp_path: Path) -> None:
    with pytest.raises(OutsideError, match="unfinished file was removed"), Outputs() as outputs:
        outputs.create(tmp_path / "a.csv").part.unlink()
        outputs.publish()
    assert not list(tmp_path.iterdir())


# the ledger


def test_a_ledger_keeps_nothing_of_a_run_that_fails(tmp_path: Path) -> None:
    ledger = Ledger(tmp_path / "sub/.mudanza/ledger.sqlite")
    assert (ledger.runs(), ledger.books(), all_loans(ledger), noted_loan(ledger, "x")) == ([], {}, [], None)
    assert not ledger.exists()
    with pytest.raises(ZeroDivisionError), running(ledger, "build", "a") as run:
        ledger.put_page("b", 1, 5, run.id, b"")
        raise ZeroDivisionError
    assert (ledger.books(), ledger.runs()[0].state) == ({}, "failed")
    with running(ledger, "build", "a") as run:
        ledger.put_page("b", 1, 5, run.id, b"")
        run.commit({"read": 3}, [{"path": "x"}])
    done = Ledger(tmp_path / "sub/.mudanza/ledger.sqlite").runs(1)[0]
    assert (done.state, done.counts, done.read) == ("done", {"read": 3}, [{"path": "x"}])
    assert ledger.books() == {"b": 5}


def test_runs_whose_process_is_gone_are_interrupted(tmp_path: Path) -> None:
    ledger = Ledger(tmp_path / ".mudanza/ledger.sqlite")
    gone = begin(ledger, "build", "a", None, [])
    with sqlite3.connect(ledger.path) as db:
        db.execute("UPDATE runs SET process = 999999999")
    assert ledger.runs()[0].state == "interrupted" and ledger.unended_runs() == {gone: False}
    # another process has the number now; what runs on another machine only that one can tell
    for machine, started, alive in (
        (socket.gethostname(), "2001-01-01T00:00:00+00:00", False),
        (socket.gethostname(), ledger.runs()[0].started, True),
        ("another", "2001-01-01T00:00:00+00:00", True),
    ):
        with sqlite3.connect(ledger.path) as db:
            db.execute("UPDATE runs SET process = ?, machine = ?, started = ?", (os.getpid(), machine, started))
        assert (ledger.unended_runs()[gone], ledger.runs()[0].state == "running") == (alive, alive)
    with sqlite3.connect(ledger.path) as db:
        db.execute("UPDATE runs SET process = 999999999")
    with running(ledger, "build", "b"):
        pass
    with sqlite3.connect(ledger.path) as db:
        assert db.execute("SELECT state FROM runs WHERE id = ?", (gone,)).fetchone() == ("running",)
    with sqlite3.connect(ledger.path) as db:
        db.execute("PRAGMA user_version = 99")
    with pytest.raises(LedgerError, match="newer"):
        Ledger(ledger.path).runs()


def test_parts_are_found_though_the_folder_was_moved(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    ledger = Ledger(tmp_path / "here/.mudanza/ledger.sqlite")

    def interrupted(*_: object) -> None:
        raise KeyboardInterrupt

    monkeypatch.setattr(under_way, "put_into_place", interrupted)
    with pytest.raises(KeyboardInterrupt), running(ledger, "receive", "a") as run:
        run.outputs.create_text(tmp_path / "here/loans/x/changes.csv", "whole")
        run.commit()
    monkeypatch.undo()
    ledger.close()
    (tmp_path / "here").rename(tmp_path / "there")
    settle(Ledger(tmp_path / "there/.mudanza/ledger.sqlite"))
    assert [p.name for p in (tmp_path / "there/loans/x").iterdir()] == ["changes.csv"]


# plans and settings

PLANS = [
    ("", "does not say its layout"),
    ('layout = "layouts/people.json"', "has no source"),
    (PLAN.replace("[rows]", "[row]"), "'rows'"),
    (PLAN.replace('name = "a"\n', ""), "lacks its name"),
    (PLAN.replace('name = "a"', "name = 1"), "name must be a text"),
    (PLAN.replace('name = "a"', 'name = "a"\nheding = 1'), "'heading'"),
    (PLAN.replace('name = "a"', 'name = "a"\nheading = true'), "whole number"),
    (PLAN.replace('name = "a"', 'name = "a"\ndelimiter = ""'), "one character or a few"),
    (PLAN.replace('name = "a"', 'name = "a"\nquote = "<<"'), "one plain character"),
    (PLAN.replace('name = "a"', 'name = "a"\nrename = { A = 1 }'), "holds texts"),
    (PLAN.replace("[[source]]", "[source]"), "no source"),
    (PLAN.replace("keep = ", "keep = 3 # "), "condition in quotes"),
    (PLAN.replace("[rows]", '[rows]\nsort = "Name"'), "list of columns"),
    (PLAN.replace("name = '{Name} -> squeeze'", "name = 3"), "single quotes"),
    (PLAN.replace("name = '{Name} -> squeeze'", "'Full name' = '{Name}'"), "'name'"),
    (PLAN + "[left_behind]\nFax = ''\n", "needs a reason"),
    (PLAN + "[left_behind]\nFax = 3\n", "needs a reason"),
    (PLAN.replace("born = ", "born ="), None),
]  # fmt: skip


@pytest.mark.parametrize(("text", "words"), PLANS, ids=[str(words) for _, words in PLANS])
def test_plans_are_read_strictly(move: Path, text: str, words: str | None) -> None:
    (move / "plans/people.toml").write_text(text, encoding="utf-8")
    if words is None:
        assert load_plan(read_move(move), "people").flows["born"].startswith("{Born}")
        return
    with pytest.raises(PlanError) as raised:
        load_plan(read_move(move), "people")
    assert words in f"{raised.value.what} {raised.value.hint}"
    assert raised.value.place is not None and "people.toml" in str(raised.value.place)


_keys = st.text("ab.\"'= é#[", min_size=1, max_size=4)
_leaves = st.text("ab'\"\n[=#\\", max_size=12) | st.integers(-9, 9) | st.booleans()
_content = st.dictionaries(
    _keys,
    st.recursive(
        _leaves, lambda inner: st.lists(inner, max_size=3) | st.dictionaries(_keys, inner, max_size=3), max_leaves=8
    ),
    max_size=4,
)


def paths_of(value: Any, path: tuple = ()) -> Iterator[tuple[tuple, Any]]:
    items = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    for key, inner in items:
        yield (*path, key), inner
        yield from paths_of(inner, (*path, key))


@settings(max_examples=200, deadline=None)
@given(_content, st.sampled_from([None, 0, 2]))
def test_every_key_of_a_document_is_found_where_it_stands(content: dict, indent: int | None) -> None:
    text = json.dumps(content, indent=indent, ensure_ascii=False)
    marks = json_marks(text)
    for path, value in paths_of(content):
        assert json.JSONDecoder().raw_decode(text, marks[path].value)[0] == value
        assert isinstance(path[-1], int) or json.loads(text[marks[path].start : marks[path].end]) == path[-1]
    written = tomlkit.dumps(content)
    marks = toml_marks(written)
    for path, _ in paths_of(tomllib.loads(written)):
        key = written[marks[path].start : marks[path].end]
        assert isinstance(path[-1], int) or key.startswith("[") or tomllib.loads(f"{key} = 1") == {path[-1]: 1}


HARD_TOML = (
    """# [fields]
[fields] # of the list
a = '''
b = 1
[rows]
'''
"b" = "x # y" # z
c.d = { e = [1, "]"], 'f g' = """
    + '"""q\n"""'
    + """ }
[[source]]
name = 'n'
[[source]]
x = 2
[source.rename]
"A.B" = "C"
"""
)


def test_keys_inside_texts_are_no_keys() -> None:
    marks = toml_marks(HARD_TOML)
    lines = {path: HARD_TOML.count("\n", 0, mark.start) + 1 for path, mark in marks.items()}
    assert lines == {
        ("source",): 10,
        ("fields", "c"): 8,
        ("fields",): 2,
        ("fields", "a"): 3,
        ("fields", "b"): 7,
        ("fields", "c", "d"): 8,
        ("fields", "c", "d", "e"): 8,
        ("fields", "c", "d", "e", 0): 8,
        ("fields", "c", "d", "e", 1): 8,
        ("fields", "c", "d", "f g"): 8,
        ("source", 0): 10,
        ("source", 0, "name"): 11,
        ("source", 1): 12,
        ("source", 1, "x"): 13,
        ("source", 1, "rename"): 14,
        ("source", 1, "rename", "A.B"): 15,
    }


def test_a_mistake_in_a_flow_of_several_lines_is_pointed_at_in_its_line(move: Path) -> None:
    edit(move / "plans/people.toml", "name = '{Name} -> squeeze'", "name = '''\n{Name}\n  -> sqeeze\n'''")
    told = program("build", "people", cwd=move, status=2).err
    assert "line 11" in told and "  -> sqeeze" in told and "Did you mean 'squeeze'" in told
    (move / "layouts/people.json").write_text('{"@context": 1, "a": 1,\n "a": 2}')
    told = program("build", "people", cwd=move, status=2).err
    assert "line 2" in told and "'a' stands twice" in told and "^^^" in told


def test_a_move_is_found_upwards_and_told_if_there_is_none(move: Path, tmp_path: Path) -> None:
    assert find_move(move / "plans").folder == move.resolve()
    with pytest.raises(MoveError, match="no move folder"):
        find_move(tmp_path)


def test_sources_with_different_headings_feed_one_list(move: Path) -> None:
    rows = [["No.", "Nome", "Pago", "Zustand"], ["1", "Joana", "3.5", None]]
    book(move / "incoming/b.xlsx", {"S": rows})
    second = '[[source]]\nname = "b"\nfile = "incoming/b.xlsx"\nrename = { "No." = "Id", Nome = "Name", Pago = "Paid", Zustand = "State" }\n[rows]'
    edit(move / "plans/people.toml", "[rows]", second)
    edit(move / "plans/people.toml", "'{Id} -> mint people'", "'{#source}, {Id} -> mint people'")
    result = build(read_move(move), ["people"]).lists[0]
    assert result.by_source["b"].as_dict() == {"read": 1, "skipped": 0, "merged": 0, "held_back": 0, "written": 1}
    assert (move / "out/people.csv").read_text("utf-8").splitlines()[-1] == "P004;Joana;;3,50;;"
    assert sorted(g.subject or "" for g in result.findings if g.code == "column.absent") == ["Active", "Born", "Kind"]
    edit(
        move / "plans/people.toml",
        'file = "incoming/b.xlsx"',
        'file = "incoming/b.xlsx"\nlacks = ["Active", "Born", "Kind"]',
    )
    assert not [g for g in build(read_move(move), ["people"]).lists[0].findings if g.code.startswith("column")]
    for old, new, words in (
        ('Nome = "Name"', 'Nome = "Id"', "two columns"),
        ('lacks = ["Active"', 'lacks = ["Name"', "said to lack"),
    ):
        text = (move / "plans/people.toml").read_text("utf-8")
        edit(move / "plans/people.toml", old, new)
        with pytest.raises(MudanzaError, match=words):
            build(read_move(move), ["people"], rehearse=True)
        (move / "plans/people.toml").write_text(text, encoding="utf-8")


# crosswalks

CROSSWALKS = [
    ("from,to\nA,a\n", {"A": "a"}, None),
    ("to,from,note\na,A,hm\n,B,\n", {"A": "a", "B": ""}, None),
    ("from;to\n A ; a b \n", {"A": "a b"}, None),
    ("von,to\nA,a\n", None, "no column 'from'"),
    ("from,to\nA,a\nB,b\nA,c\n", None, "lines 2, 4"),
    ("from,to\nA,a\nB\n", None, "damaged"),
    ("from,to,state\nA,a,\nB,b,proposed\nC,c,confirmed\n", {"A": "a", "C": "c"}, None),
    ("from,upto,to\n1,9,a\n1,,b\n", {"1": "b"}, None),
    ("from,upto,to\n1,x,a\n", None, "no range of numbers"),
    ("from,upto,to\n1e1,2e1,a\n", None, "no range of numbers"),
    ("from,to,state\nA,a,perhaps\n", None, "no state"),
]


@pytest.mark.parametrize(("text", "expected", "words"), CROSSWALKS, ids=range(len(CROSSWALKS)))
def test_crosswalks(tmp_path: Path, text: str, expected: dict[str, str] | None, words: str | None) -> None:
    (tmp_path / "c.csv").write_text(text)
    if words is not None:
        with pytest.raises(MudanzaError, match=words):
            read_crosswalk(tmp_path / "c.csv")
    else:
        assert {e.code: e.to for e in read_crosswalk(tmp_path / "c.csv").entries} == expected


def test_a_code_may_mean_different_things_in_different_places(tmp_path: Path) -> None:
    (tmp_path / "c.csv").write_text("from,to,clinic,note\nD,debtor,north,\nD,dead,south,\n")
    assert read_crosswalk(tmp_path / "c.csv").columns == ("from", "clinic")
    (tmp_path / "c.csv").write_text("from,to,clinic\nD,debtor,north\nD,dead,north\n")
    with pytest.raises(MudanzaError, match="D, north"):
        read_crosswalk(tmp_path / "c.csv")


# finding out, and looks


def test_delimiters_are_found_by_how_evenly_they_cut() -> None:
    for text, delimiter in [
        ("a,b\n1,2\n", ","),
        ("a;b\n1,5;2,5\n3,5;4\n", ";"),
        ('a|b\n"x|y"|2\n', "|"),
        ("Name\tPaid, net\n1\t2\n", "\t"),
        ("Report, 2024\n\na~b~c\n1~2~3\n4~5~6\n", "~"),
        ("word\none\ntwo\n", ","),
    ]:
        assert find_delimiter(text, '"') == delimiter, text


def test_dates_whose_order_cannot_be_told_are_not_guessed(tmp_path: Path) -> None:
    (tmp_path / "d.csv").write_text("a,b,c\n01/02/2024,13/02/2024,02/13/2024\n03/04/2024,01/02/2024,01/02/2024\n")
    kinds = [c.kind for c in survey(tmp_path / "d.csv").columns]
    assert kinds == ["date, day or month first", "date dd/MM/yyyy", "date MM/dd/yyyy"]


def test_reading_ahead_keeps_order_and_errors() -> None:
    def items():  # type: ignore[no-untyped-def]
        yield from range(5)
        raise LookupError("six")

    seen = []
    with pytest.raises(LookupError, match="six"):
        for item in read_ahead(items()):
            seen.append(item)
    assert seen == [0, 1, 2, 3, 4]
    assert next(read_ahead(iter([1, 2, 3]))) == 1


def test_words_for_values() -> None:
    assert [shorten(None), shorten("a\r\nb"), shorten("x" * 9, 5)] == ["(blank)", '"a⏎b"', '"xxxx…"']
    assert [size(12), size(1234), size(5_300_000), size(2_000_000_000)] == ["12 B", "1.2 kB", "5.3 MB", "2.0 GB"]
    assert nearest("client no", ["Client No", "Name"]) == "Client No" and nearest("zzz", ["Client No"]) is None
    assert few([str(n) for n in range(20)], 3) == "0, 1, 2 and 17 more" and few(["x" * 40]) == "x" * 29 + "…"


def test_a_caret_stays_in_view_of_a_long_line(tmp_path: Path) -> None:
    move = make_move(tmp_path / "move")
    flow = '"' + "long " * 60 + '{Nmae}"'
    edit(move / "plans/people.toml", "'{Name} -> squeeze'", f"'{flow}'")
    lines = program("build", "people", cwd=move, status=2).err.splitlines()
    shown = next(n for n, line in enumerate(lines) if "{Nmae}" in line)
    at = lines[shown].index("{Nmae}")
    assert lines[shown + 1][at : at + 6] == "^^^^^^" and len(lines[shown]) <= 100


def test_frames_go_on_to_other_tools(move: Path) -> None:
    frame = pl.concat(batch.rows for batch in open_source(move / "incoming/a.csv").batches())
    assert frame.columns[:2] == ["Id", "Name"] and frame["#line"].to_list() == [2, 3, 4, 5, 6, 7, 9]


def test_inner_columns_have_names_of_their_own() -> None:
    """None is called as another is, or as a stage or a problem calls its columns."""
    names = [
        value
        for name, value in vars(row_columns).items()
        if name.isupper() and str(value)[1:] and str(value)[0] == row_columns.INNER
    ]
    assert len(names) > 15 and len({*names}) == len(names)
    assert not [name for name in names if name[1] == "!" or name[1:].rsplit(" ")[-1].isdigit()]
