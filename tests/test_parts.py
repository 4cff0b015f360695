"""Parts on their own: files that appear whole, the ledger, plans, crosswalks, and how things look."""

from __future__ import annotations

import sqlite3
from pathlib import Path

import polars as pl
import pytest

from conftest import PLAN, edit, make_move, program
from mudanza.cli.look import shorten, size
from mudanza.core.building.build import build
from mudanza.core.crosswalking.tables import read_crosswalk
from mudanza.core.errors import LedgerError, MoveError, MudanzaError, PlanError, few, nearest
from mudanza.core.files import Outputs, digest_of, rename_all, sweep
from mudanza.core.ledger import Ledger
from mudanza.core.move import find_move, read_move, toml_place
from mudanza.core.plans import load_plan
from mudanza.core.sources.opening import open_source, read_ahead
from mudanza.core.sources.sniff import find_delimiter
from mudanza.core.survey.surveying import survey
from test_reading import book

# files


def test_outputs_appear_together_or_not_at_all(tmp_path: Path) -> None:
    (tmp_path / "a.txt").write_text("old")
    with pytest.raises(ZeroDivisionError), Outputs("7") as outputs:
        outputs.create(tmp_path / "a.txt").write(b"new")
        outputs.create(tmp_path / "deep/b.txt").write(b"new")
        raise ZeroDivisionError
    assert (tmp_path / "a.txt").read_text() == "old" and not list(tmp_path.rglob("*.part"))
    with Outputs("8") as outputs:
        for name in ("a.txt", "deep/b.txt"):
            outputs.create(tmp_path / name).write(b"new")
        assert (tmp_path / "a.txt").read_text() == "old"
        digest = outputs.files[0].digest("a.txt")
        outputs.publish()
    assert (tmp_path / "a.txt").read_text() == (tmp_path / "deep/b.txt").read_text() == "new"
    assert digest == digest_of(tmp_path / "a.txt", "a.txt")
    with Outputs("", keep=False) as outputs:
        sink = outputs.create(tmp_path / "never.txt")
        sink.write(b"new")
    assert sink.digest("a.txt") == digest and not (tmp_path / "never.txt").exists()


def test_renaming_can_be_repeated_and_old_parts_are_swept(tmp_path: Path) -> None:
    for name in (".a.csv.3.part", ".b.csv.4.part"):
        (tmp_path / name).write_text(name)
    pairs = [(str(tmp_path / ".a.csv.3.part"), str(tmp_path / "a.csv"))]
    rename_all(pairs)
    rename_all(pairs)
    (tmp_path / ".c.csv.5.part").write_text("left behind")
    sweep(tmp_path, {"4"})
    assert sorted(p.name for p in tmp_path.iterdir()) == [".b.csv.4.part", "a.csv"]


# the ledger


def test_a_ledger_keeps_nothing_of_a_run_that_fails(tmp_path: Path) -> None:
    ledger = Ledger(tmp_path / "sub/ledger.sqlite")
    assert (ledger.runs(), ledger.books(), ledger.loans(), ledger.loan("x")) == ([], {}, [], None)
    assert not ledger.exists()
    run = ledger.begin("build", "a")
    with pytest.raises(ZeroDivisionError), ledger.held(run):
        ledger.put_page("b", 1, 5, run, b"")
        raise ZeroDivisionError
    assert (ledger.books(), ledger.runs()[0].state) == ({}, "failed")
    run = ledger.begin("build", "a")
    with ledger.held(run):
        ledger.put_page("b", 1, 5, run, b"")
        ledger.commit(run, Outputs(str(run)), {"read": 3}, [{"path": "x"}], [])
    done = Ledger(tmp_path / "sub/ledger.sqlite").runs(1)[0]
    assert (done.state, done.counts, done.read) == ("done", {"read": 3}, [{"path": "x"}])
    assert ledger.books() == {"b": 5}


def test_runs_whose_process_is_gone_are_interrupted(tmp_path: Path) -> None:
    ledger = Ledger(tmp_path / "ledger.sqlite")
    gone = ledger.begin("build", "a")
    with sqlite3.connect(ledger.path) as db:
        db.execute("UPDATE runs SET process = 999999999")
    assert ledger.runs()[0].state == "interrupted" and ledger.alive_runs() == set()
    with ledger.held(ledger.begin("build", "b")):
        pass
    with sqlite3.connect(ledger.path) as db:
        assert db.execute("SELECT state FROM runs WHERE id = ?", (gone,)).fetchone() == ("running",)
    with sqlite3.connect(ledger.path) as db:
        db.execute("PRAGMA user_version = 99")
    with pytest.raises(LedgerError, match="newer"):
        Ledger(ledger.path).runs()


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


def test_a_move_is_found_upwards_and_told_if_there_is_none(move: Path, tmp_path: Path) -> None:
    assert find_move(move / "plans").folder == move.resolve()
    with pytest.raises(MoveError, match="no move folder"):
        find_move(tmp_path)
    assert toml_place('[a]\nx = 1\n[[b]]\nx = 2\n[[b]]\n"x y" = 3\n', "b", "x y", 1)[0] == 6


def test_sources_with_different_headings_feed_one_list(move: Path) -> None:
    rows = [["No.", "Nome", "Pago", "Zustand"], ["1", "Joana", "3.5", None]]
    book(move / "incoming/b.xlsx", {"S": rows})
    second = '[[source]]\nname = "b"\nfile = "incoming/b.xlsx"\nrename = { "No." = "Id", Nome = "Name", Pago = "Paid", Zustand = "State" }\n[rows]'
    edit(move / "plans/people.toml", "[rows]", second)
    edit(move / "plans/people.toml", "'{Id} -> mint people'", "'{#source}, {Id} -> mint people'")
    result = build(read_move(move), ["people"]).lists[0]
    assert result.by_source["b"].as_dict() == {"read": 1, "skipped": 0, "merged": 0, "held_back": 0, "written": 1}
    assert (move / "out/people.csv").read_text("utf-8").splitlines()[-1] == "P004;Joana;;3,50;;"
    assert sorted(g.column or "" for g in result.findings if g.code == "column.absent") == ["Active", "Born", "Kind"]
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
    assert frame.to_arrow().column_names[:2] == ["Id", "Name"] and frame["#line"].to_list() == [2, 3, 4, 5, 6, 7, 9]
