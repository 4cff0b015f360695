"""What trials with data that nobody had seen found, each mended with its cause."""

from __future__ import annotations

import importlib.util
import io
import json
import os
import random
import shutil
import signal
import sqlite3
import zipfile
from contextlib import closing
from pathlib import Path
from typing import Any

import polars as pl
import pytest
import xlsxwriter
from openpyxl import load_workbook
from rich.console import Console

from conftest import edit, layout_json, program
from mudanza.cli import look
from mudanza.cli.main import main
from mudanza.core.documents.errors import LedgerError, OutsideError, Place, SourceError
from mudanza.core.sources.decoding import look_at
from mudanza.core.sources.opening import open_source
from mudanza.core.sources.reader import ReadOptions
from mudanza.core.state import running as under_way
from mudanza.core.state.identities import brought
from mudanza.core.state.key_pages import open_book
from mudanza.core.state.ledger import Ledger
from mudanza.core.state.loans import Noted, accept_changes, accepted_since, all_loans, note_loan
from mudanza.core.state.sent import sent_by
from mudanza.core.tables.key_pattern import KeyPattern
from test_building import table
from test_reading import book

BENCH = Path(__file__).parent.parent / "bench"


def bench(name: str) -> Any:
    spec = importlib.util.spec_from_file_location(name, BENCH / f"{name}.py")
    assert spec is not None and spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module


def findings(move: Path, status: int, *more: str) -> dict[str, dict[str, Any]]:
    """The findings of a build by code, each with its count and example."""
    found = program("build", "people", "--json", *more, cwd=move, status=status).json["lists"][0]["findings"]
    return {g["code"]: {**g["example"], "count": g["count"], "field": g["field"]} for g in found}


ENCODINGS = bench("encodings")


@pytest.mark.parametrize("language", ENCODINGS.LANGUAGES)
def test_encodings_are_told_by_the_letters_of_languages(tmp_path: Path, language: str) -> None:
    """No text is read wrongly in silence: either each of its letters is right, or another encoding is said to fit as well."""
    text, encodings = ENCODINGS.LANGUAGES[language]
    for encoding in encodings:
        for rows in (2, 40):
            raw = ENCODINGS.text_of(text.split(), random.Random(f"{encoding}{rows}"), rows).encode(encoding, "ignore")
            (tmp_path / "f.csv").write_bytes(raw)
            found = look_at(tmp_path / "f.csv", ReadOptions()).found
            right = raw.decode(found.name, "replace") == raw.decode(encoding)
            assert right or (rows < 10 and found.others), (encoding, rows, found)


def test_a_guess_that_another_encoding_fits_as_well_is_a_finding(move: Path) -> None:
    rows = "Id,Name,Born,Paid,Active,Kind,State\n1,Muñoz,,1,y,D,\n"
    (move / "incoming/a.csv").write_bytes(rows.encode("cp1252"))
    told = findings(move, 0)["file.encoding-guessed"]
    assert told["value"] == "cp1252" and "cp1250" in told["rule"] and 'encoding = "cp1252"' in told["hint"]
    edit(move / "plans/people.toml", 'file = "incoming/a.csv"', 'file = "incoming/a.csv"\nencoding = "cp1252"')
    assert findings(move, 0) == {}
    # a byte that an encoding lacks, a megabyte further on, rules it out
    many = "".join(f"{n},Ana,,,y,D,\n" for n in range(2, 120_000))
    (move / "incoming/a.csv").write_bytes(
        (rows + many).encode("cp1252") + "200000,Dvo\u0159\u00e1k \u0164,,,y,D,\n".encode("cp1250")
    )
    survey = program("survey", "incoming/a.csv", cwd=move, status=0).out
    assert "cp1250" in survey and 'encoding = "cp1250"' in survey


def test_one_file_of_a_folder_that_cannot_be_read_does_not_hide_the_others(move: Path) -> None:
    (move / "incoming/empty.csv").write_bytes(b"")
    with zipfile.ZipFile(move / "incoming/broken.xlsx", "w") as archive:
        archive.writestr("xl/workbook.xml", "<no")
    shown = program("survey", "incoming", cwd=move, status=1)
    for words in ("a.csv", "2 files", "empty.csv", "the file is empty", "broken.xlsx", "Export it again"):
        assert words in shown.out
    told = program("survey", "incoming", "--json", cwd=move, status=1).json
    assert sorted(Path(f["file"]).name for f in told["about"]) == ["broken.xlsx", "empty.csv"] and told["rows"] == 7


@pytest.mark.parametrize("kind", ["csv", "xlsx"])
def test_records_below_the_data_stop(move: Path, kind: str) -> None:
    rows = [[str(n), f"N{n}", None, "1", "y", "D", None] for n in range(1, 13)] + [
        ["Total", None, None, "12", None, None, None]
    ]
    head = ["Id", "Name", "Born", "Paid", "Active", "Kind", "State"]
    if kind == "csv":
        (move / "incoming/a.csv").write_text("\n".join(",".join(c or "" for c in row) for row in [head, *rows]) + "\n")
    else:
        book(move / "incoming/a.xlsx", {"S": [head, *rows]})
        edit(move / "plans/people.toml", "a.csv", "a.xlsx")
    edit(move / "plans/people.toml", 'name = "a"', 'name = "a"\nbelow = 4')
    told = findings(move, 1)["read.record-below"]
    assert (told["count"], told["line"]) == (3, 11)
    edit(move / "plans/people.toml", "below = 4", "below = 1")
    assert findings(move, 0) == {}


def test_what_a_plan_adds_does_not_fill_a_row(move: Path) -> None:
    edit(move / "incoming/a.csv", "6,Ivo,,5,y,Q,", ",,,,,,")
    edit(move / "plans/people.toml", 'name = "a"', 'name = "a"\nadds = { Land = "pt" }')
    edit(move / "plans/people.toml", "[fields]", "[left_behind]\nLand = 'x'\n[fields]")
    assert program("build", "people", "--json", cwd=move, status=1).json["lists"][0]["skipped_by"] == {
        "blank row": 1,
        "keep": 1,
    }
    codes = program("crosswalk", "people", "--json", cwd=move, status=0).json["crosswalks"][0]["codes"]
    assert sum(c["rows"] for c in codes) == 5


def test_json_loses_no_value_and_no_record(tmp_path: Path) -> None:
    text = '[{"a": 1, "a": 2, "b.c": "x", "b": {"c": "y"}}, {"a": "half \\ud83d", "b.c": "z"}, {"a": "\\ud83d\\ude00"}]'
    (tmp_path / "f.json").write_text(text)
    reader = open_source(tmp_path / "f.json")
    (batch,) = reader.batches()
    assert reader.headings == ("a", "a (2)", "b.c", "b.c (2)")
    assert batch.rows.rows() == [("1", "2", "x", "y", 1), ("\U0001f600", None, None, None, 3)]
    assert [(b.line, b.code) for b in batch.broken] == [(2, "read.undecodable")]


def test_stand_ins_in_the_data_are_refused(tmp_path: Path) -> None:
    (tmp_path / "f.txt").write_text("a||b\n1||x\x1ey\n")
    with pytest.raises(SourceError, match=r"U\+001E"):
        list(open_source(tmp_path / "f.txt", ReadOptions(delimiter="||")).batches())
    (tmp_path / "f.txt").write_text("a,b\n1,x\\,y\x1dz\n")
    with pytest.raises(SourceError, match=r"U\+001D"):
        list(open_source(tmp_path / "f.txt", ReadOptions(delimiter=",", escape="\\")).batches())
    (tmp_path / "f.txt").write_text("a,b\n1,x\x1ey\n")
    assert next(open_source(tmp_path / "f.txt").batches()).rows.rows() == [("1", "x\x1ey", 2)]


def test_databases_in_folders_with_signs_and_read_twice(move: Path) -> None:
    folder = move / "incoming/100% #1?"
    folder.mkdir()
    with sqlite3.connect(folder / "d.sqlite") as db:
        db.execute("CREATE TABLE t (Id TEXT, Name TEXT, Born TEXT, Paid TEXT, Active TEXT, Kind TEXT, State TEXT)")
        db.execute("INSERT INTO t VALUES ('1', 'Ana', NULL, '1', 'y', 'D', NULL)")
    (move / "mudanza.toml").write_text(
        '[keys.people]\npattern = "P{000}"\n[databases.d]\nfile = "incoming/100% #1?/d.sqlite"\n'
    )
    edit(move / "plans/people.toml", 'file = "incoming/a.csv"', 'database = "d"\ntable = "t"')
    digests = [
        program("build", "people", "--json", cwd=move, status=0).json["lists"][0]["sources_read"] for _ in range(2)
    ]
    assert digests[0] == digests[1]
    reader = open_source(folder / "d.sqlite", ReadOptions(own={"table": "t"}))
    twice = [(list(reader.batches()), reader.digest("d").sha256)[1] for _ in range(2)]  # type: ignore[attr-defined]
    assert twice[0] == twice[1]


def test_a_path_says_nothing_about_what_a_file_holds(move: Path) -> None:
    (move / "incoming/held-back").mkdir()
    (move / "incoming/a.csv").rename(move / "incoming/held-back/a.csv")
    edit(move / "plans/people.toml", "incoming/a.csv", "incoming/held-back/a.csv")
    edit(move / "plans/people.toml", "'{State} != \"x\"'", "'{#source} = \"b\"'")
    assert "no source of the plan is named 'b'" in program("build", "people", cwd=move, status=2).err


def test_keys_whose_capitals_alone_differ_are_one_record(move: Path) -> None:
    columns = [{"name": "code", "titles": "Code"}, {"name": "name", "titles": "Name"}]
    more = {"primaryKey": ["code"], "urn:mudanza:keyIgnoresCase": True}
    (move / "layouts/people.json").write_text(layout_json(columns, **more))
    (move / "plans/people.toml").write_text(
        'layout = "layouts/people.json"\n[[source]]\nname = "a"\nfile = "incoming/b.csv"\n[fields]\ncode = "{Code}"\nname = "{Name}"\n'
    )
    (move / "incoming/b.csv").write_text("Code,Name\nAb,Ana\naB,Ana\nAB,Eva\n")
    one = program("build", "people", "--json", cwd=move, status=1).json["lists"][0]
    assert (one["written"], one["merged"], one["held_back"]) == (1, 1, 1)
    assert [r["Code"] for r in table(move / "out/people.csv")] == ["Ab"]


def test_keys_of_several_fields_are_compared_field_by_field(move: Path) -> None:
    (move / "layouts/people.json").write_text(
        layout_json([{"name": "a"}, {"name": "b"}, {"name": "c"}], primaryKey=["a", "b"])
    )
    (move / "plans/people.toml").write_text(
        'layout = "layouts/people.json"\n[[source]]\nname = "a"\nfile = "incoming/b.csv"\n[fields]\na = "{A}"\nb = "{B}"\nc = "{C}"\n'
    )
    (move / "incoming/b.csv").write_text('A,B,C\n"x, y",z,1\nx,"y, z",2\n')
    program("build", "people", cwd=move, status=0)
    again = program("build", "people", "--compare", "--json", cwd=move, status=0).json["lists"][0]["compared"]
    assert (again["same"], again["changed"]) == (2, 0)
    program("lend", "people", "--to", "l.xlsx", cwd=move, status=0)
    assert program("receive", "l.xlsx", "--json", cwd=move, status=0).json["changes"] == []


def test_lists_of_one_run_are_built_as_they_need_each_other(move: Path) -> None:
    (move / "layouts/notes.json").write_text(layout_json([{"name": n, "titles": n} for n in ("who", "code")]))
    plan = (
        'layout = "layouts/notes.json"\n[[source]]\nname = "n"\nfile = "incoming/n.csv"\n[lookup.people]\nlist = "people"\nkey = "code"\n'
        '[fields]\nwho = \'{P} -> lookup people "name"\'\ncode = "{P}"\n'
    )
    (move / "plans/a-notes.toml").write_text(plan)
    (move / "incoming/n.csv").write_text("P\nP001\nP002\n")
    for more in (["--rehearse"], []):
        built = program("build", "--json", *more, cwd=move, status=1).json["lists"]
        assert [(one["list"], one["held_back"]) for one in built][::-1] == [("a-notes", 0), ("people", 2)]
    assert [r["who"] for r in table(move / "out/a-notes.csv")] == ["Ana", "Rui Sá"]
    edit(move / "incoming/a.csv", "Rui  Sá", "Rita")
    program("build", "a-notes", "people", cwd=move, status=1)
    assert [r["who"] for r in table(move / "out/a-notes.csv")] == ["Ana", "Rita"]
    # identifiers that another list gives out are an order as well
    edit(move / "plans/a-notes.toml", 'code = "{P}"', "code = '{O} -> key people'")
    (move / "incoming/n.csv").write_text("P,O\nP001,1\nP004,9\n")
    with (move / "incoming/a.csv").open("a") as more_rows:
        more_rows.write("9,Ida,,1,y,D,\n")
    program("build", "a-notes", "people", cwd=move, status=1)
    assert [r["code"] for r in table(move / "out/a-notes.csv")] == ["P001", "P004"]
    edit(move / "plans/people.toml", "[fields]", '[lookup.n]\nlist = "a-notes"\nkey = "code"\n[fields]')
    told = program("build", cwd=move, status=2).err
    assert "in a circle: a-notes -> people -> a-notes" in told and "line 6, lookup.people.list" in told
    assert (
        "'../plans/people' cannot be the name of a plan" in program("build", "../plans/people", cwd=move, status=2).err
    )


@pytest.mark.parametrize("what", ["a signal", "another command's help", "a full disk"])
def test_from_the_commit_on_a_run_is_done(
    move: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str], what: str
) -> None:
    """What comes between the commit and the last renaming is waited for, or told as it is."""
    real = under_way.put_into_place

    def meanwhile(pairs: list[tuple[str, str]]) -> None:
        if not pairs:
            return
        if what == "a signal":
            os.kill(os.getpid(), signal.SIGTERM)
        elif what == "another command's help":
            replaced = Path.replace
            monkeypatch.setattr(Path, "replace", lambda part, final: replaced(replaced(part, final), part / "gone"))
        else:
            raise OutsideError("no space left", place=Place("out"))
        real(pairs)

    monkeypatch.chdir(move)
    monkeypatch.setattr(under_way, "put_into_place", meanwhile)
    status, told = main(["build", "people"]), capsys.readouterr().err
    monkeypatch.undo()
    assert status == {"a signal": 130, "another command's help": 1, "a full disk": 3}[what]
    if what == "a signal":
        assert "run 1 is recorded as done; written: people.csv" in told and "nothing was changed" not in told
    if what == "a full disk":
        assert (
            "run 1 is done" in told
            and "the next build, lend or receive puts" in told
            and not (move / "out/people.csv").exists()
        )
    assert program("ledger", "--json", cwd=move, status=0).json["runs"][0]["state"] == "done"
    program("lend", "people", "--to", "l.xlsx", cwd=move, status=0)
    assert len(table(move / "out/people.csv")) == 3
    assert not list((move / "out").glob(".*.part"))


@pytest.mark.parametrize("error", [MemoryError(), pl.exceptions.PanicException("index out of bounds")])
def test_what_nobody_foresaw_ends_with_its_own_status(
    move: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str], error: BaseException
) -> None:
    def fails(*_: object) -> None:
        raise error

    monkeypatch.chdir(move)
    monkeypatch.setattr("mudanza.core.work.build.open_sources", fails)
    assert main(["build", "people", "--json"]) == 3
    shown = capsys.readouterr()
    told = shown.err
    assert "Traceback" not in told and len(told.splitlines()) == 2
    document = json.loads(shown.out)["error"]
    assert (list(document), document["status"]) == (["what", "place", "hint", "status"], 3)
    assert ("memory" in told) is isinstance(error, MemoryError)


def test_numbers_are_never_cut(monkeypatch: pytest.MonkeyPatch) -> None:
    narrow = Console(width=50, file=io.StringIO())
    monkeypatch.setattr(look, "out", narrow)
    look.columns([["12", "a word " * 20, "1,234,567", "x" * 90]], right=(0, 2), fold=(1,))
    shown = narrow.file.getvalue()  # type: ignore[attr-defined]
    assert "12" in shown and "1,234,567" in shown and shown.count("word") == 20


def test_nobody_rounds_in_silence(move: Path) -> None:
    """7.999 is not 8,00: not from a flow, not in a returned workbook, not in one that is checked."""
    edit(move / "incoming/a.csv", "1,Ana,1980-01-31,1234.5,y,D,\n2", "1,Ana,1980-01-31,7.999,y,D,\n2")
    assert findings(move, 1)["value.too-exact"]["value"] == "7.999"
    program("lend", "people", "--to", "l.xlsx", cwd=move, status=0)
    workbook = load_workbook(move / "l.xlsx")
    cell = next(c for row in workbook["people"].iter_rows() for c in row if c.value == 0)
    cell.value = 41.255
    workbook.save(move / "l.xlsx")
    back = program("receive", "l.xlsx", "--accept", "--json", cwd=move, status=1).json
    assert back["changes"] == [] and [g["code"] for g in back["findings"]] == ["value.too-exact"]
    checked = program("check", "l.xlsx", "--layout", "layouts/people.json", "--json", cwd=move, status=1).json
    assert ("value.too-exact", "41.255") in [(f["code"], f["value"]) for f in checked["findings"]]


@pytest.mark.parametrize("keyed", [True, False])
def test_a_source_that_lost_its_rows_replaces_nothing(move: Path, keyed: bool) -> None:
    if not keyed:
        edit(move / "layouts/people.json", '"primaryKey"', '"was:primaryKey"')
        edit(move / "plans/people.toml", "{Id} -> mint people", '"P", ({Id} -> pad 3) -> join ""')
    rows = "".join(f"{i},Ana,,1,y,D,\n" for i in range(1, 21))
    source = move / "incoming/a.csv"
    heading = source.read_text("utf-8").splitlines()[0] + "\n"
    source.write_text(heading + rows)
    program("build", "people", cwd=move, status=0)
    for left in (0, 9):
        source.write_text(heading + "".join(rows.splitlines(keepends=True)[:left]))
        told = program("build", "people", cwd=move, status=3).err
        assert f"would have {left} records, and the build before wrote 20" in told and "--fewer" in told
        assert len(table(move / "out/people.csv")) == 20
    program("build", "people", "--fewer", cwd=move, status=0)
    assert len(table(move / "out/people.csv")) == 9
    source.write_text(heading + rows[: len(rows) // 3])
    program("build", "people", cwd=move, status=0)


def test_a_lost_ledger_gives_nobody_another_identifier(move: Path) -> None:
    program("build", "people", cwd=move, status=1)
    shutil.rmtree(move / ".mudanza")
    for command in (["build", "people"], ["build", "people", "--rehearse"], ["lend", "people"]):
        told = program(*command, cwd=move, status=3).err
        assert "the ledger is not there" in told and "backup" in told and not (move / ".mudanza").exists()
    (move / "out").rename(move / "out-before")
    program("build", "people", cwd=move, status=1)


def test_repeated_keys_are_told_whatever_the_columns_are_called(move: Path) -> None:
    """Also where the key's own columns have the names of what is told about it, and stand in several files."""
    columns = [{"name": n, "titles": n} for n in ("first", "same", "note")]
    (move / "layouts/people.json").write_text(layout_json(columns, primaryKey=["first", "same"]))
    (move / "plans/people.toml").write_text(
        'layout = "layouts/people.json"\n[[source]]\nname = "a"\nfile = "incoming/k*.csv"\n[fields]\nfirst = "{first}"\nsame = "{same}"\nnote = "{note}"\n'
    )
    (move / "incoming/k1.csv").write_text("first,same,note\n7,x,a\n7,y,a\n7,x,a\n")
    (move / "incoming/k2.csv").write_text("first,same,note\n8,x,a\n7,y,b\n")
    found = findings(move, 1)
    assert {(c, f["count"], f["line"], f["value"], f["rule"]) for c, f in found.items()} == {
        ("row.merged", 1, 4, "7, x", "unique; first in incoming/k1.csv line 2"),
        ("key.repeated", 1, 3, "7, y", "unique; first in incoming/k1.csv line 3"),
    }
    checked = program("check", "incoming/k1.csv", "--layout", "people", "--json", cwd=move, status=1).json["findings"]
    assert [(f["code"], f["line"], f["value"], f["rule"]) for f in checked] == [
        ("key.repeated", 4, "7, x", "unique; first in line 2")
    ]


def test_what_another_loan_changed_is_seen_when_the_clocks_go_back(tmp_path: Path) -> None:
    """Lent at 02:50 in summer, another loan accepted twenty minutes later: at 02:10 in winter. Earlier versions noted local times."""
    ledger = Ledger(tmp_path / "ledger.sqlite")
    note_loan(ledger, 1, "people-1", "people", {})
    (noted,) = all_loans(ledger)
    accept_changes(ledger, noted, [("P001", "Name", "Ana", "Anna")])
    ledger.tell("UPDATE changes SET accepted = ?", [("2026-10-25T02:10:00+01:00",)])
    others = [Noted("people-2", "people", f"2026-10-25T0{at}:00+02:00", "out", {}) for at in ("2:50", "3:20")]
    seen = [accepted_since(ledger, one) for one in others]
    assert seen == [[("P001", "Name", "Anna", "people-1")], []]
    assert noted.lent.endswith("+00:00") and [one.state for one in all_loans(ledger)] == ["received"]


def test_old_identifiers_never_stand_for_new_ones_whatever_the_columns_are_called(move: Path) -> None:
    """Where a row proves not to be written, what is shown of it is set beside the sources' own columns."""
    wanted = {"base": "string", "format": "P00[13]"}
    columns = [{"name": "code", "titles": "Code"}, {"name": "name", "titles": "Name", "datatype": wanted}]
    (move / "layouts/people.json").write_text(layout_json(columns, primaryKey="code"))
    names = ["theirs", "identity", "key", "written", "number", "group", "first", "next_key", "given_key", "record"]
    for name in names:
        others = "".join(f'"{n}" = "x"\n' for n in names if n != name)
        (move / "plans/people.toml").write_text(
            f'layout = "layouts/people.json"\n[[source]]\nname = "a"\nfile = "incoming/t.csv"\n[left_behind]\n{others}[fields]\n'
            f"code = '{{{name}}} -> mint people'\nname = '{{{name}}} -> mint people'\n"
        )
        rows = "".join(",".join([f"q{i}"] * len(names)) + "\n" for i in range(1, 4))
        (move / "incoming/t.csv").write_text(",".join(names) + "\n" + rows)
        shutil.rmtree(move / ".mudanza", ignore_errors=True)
        shutil.rmtree(move / "out", ignore_errors=True)
        program("build", "people", cwd=move, status=1)
        # the second number would be P002, which may not be; so nobody takes it
        assert [r["Code"] for r in table(move / "out/people.csv")] == ["P001"], name


@pytest.mark.parametrize("keyed", [True, False])
def test_records_are_compared_whatever_their_fields_are_called(move: Path, keyed: bool) -> None:
    titles = ["after", "hit", "was", "is", "now", "field", "line", "cell"]
    columns = [{"name": n, "titles": n} for n in titles]
    (move / "layouts/people.json").write_text(layout_json(columns, **({"primaryKey": ["hit"]} if keyed else {})))
    fields = "".join(f'{n} = "{{{n}}}"\n' for n in titles)
    (move / "plans/people.toml").write_text(
        f'layout = "layouts/people.json"\n[[source]]\nname = "a"\nfile = "incoming/t.csv"\n[fields]\n{fields}'
    )
    rows = [",".join(titles), *(",".join(f"{n}{i}" for n in titles) for i in (1, 2))]
    (move / "incoming/t.csv").write_text("\n".join(rows) + "\n")
    program("build", "people", cwd=move, status=0)
    edit(move / "incoming/t.csv", "was2", "was9")
    compared = program("build", "people", "--compare", "--json", cwd=move, status=0).json["lists"][0]["compared"]
    told = ("same", "changed") if keyed else ("same", "added", "removed")
    assert [compared[one] for one in told] == [1] * len(told)
    if not keyed:
        return
    program("lend", "people", "--to", "l.xlsx", cwd=move, status=0)
    workbook = load_workbook(move / "l.xlsx")
    for at in ("C2", "D3"):
        workbook["people"][at] = f"new {at}"
    workbook.save(move / "l.xlsx")
    back = program("receive", "l.xlsx", "--accept", "--json", cwd=move, status=0).json
    assert [(c["field"], c["before"], c["after"]) for c in back["changes"]] == [
        ("was", "was1", "new C2"),
        ("is", "is2", "new D3"),
    ]
    changes = next(move / f["path"] for f in back["files"] if f["path"].endswith("/changes.csv"))
    assert [tuple(r.values()) for r in table(changes)] == [("hit1", "new C2", "is1"), ("hit2", "was9", "new D3")]


def test_midnight_is_a_time_among_times(tmp_path: Path) -> None:
    """A column of moments keeps the one at midnight; a column of dates has none, though one cell has a time."""
    made = xlsxwriter.Workbook(str(tmp_path / "b.xlsx"))
    sheet = made.add_worksheet()
    moment, day = (made.add_format({"num_format": code}) for code in ("yyyy-mm-dd hh:mm", "yyyy-mm-dd"))
    sheet.write_row(0, 0, ["Id", "Seen", "Born"])
    for row, (seen, born) in enumerate([(45000.5, 30000), (45001, 30001), (45002.25, 30002.5)], start=1):
        sheet.write_number(row, 0, row)
        sheet.write_number(row, 1, seen, moment)
        sheet.write_number(row, 2, born, day)
    made.close()
    (batch,) = open_source(tmp_path / "b.xlsx", ReadOptions()).batches()
    assert batch.rows["Seen"].to_list() == ["2023-03-15 12:00:00", "2023-03-16 00:00:00", "2023-03-17 06:00:00"]
    assert batch.rows["Born"].to_list() == ["1982-02-18", "1982-02-19", "1982-02-20 12:00:00"]


def test_a_damaged_byte_of_the_ledger_gives_nobody_another_identifier(move: Path) -> None:
    """Wherever it stands in what the ledger keeps of key books and records."""
    program("build", "people", cwd=move, status=1)
    path = move / ".mudanza/ledger.sqlite"

    def read() -> None:
        ledger = Ledger(path)
        open_book(ledger, "people", KeyPattern.of("P{000}"))
        sent_by(ledger, "people")
        brought(ledger, "people", "a", "people")

    read()
    for table_, column in (("key_pages", "body"), ("sent", "body"), ("identities", "body"), ("key_pages", "last")):
        with closing(sqlite3.connect(path)) as db:
            (value,) = db.execute(f"SELECT {column} FROM {table_}").fetchone()
            places = [0, 3, 50, len(value) // 2, len(value) - 9] if isinstance(value, bytes) else [0]
            for at in places:
                if isinstance(value, bytes):
                    wrong: object = value[:at] + bytes([value[at] ^ 4]) + value[at + 1 :]
                else:
                    wrong = value + 1
                db.execute(f"UPDATE {table_} SET {column} = ?", (wrong,))
                db.commit()
                with pytest.raises(LedgerError, match="the ledger is damaged"):
                    read()
                db.execute(f"UPDATE {table_} SET {column} = ?", (value,))
                db.commit()
    read()
    with closing(sqlite3.connect(path)) as db:
        db.execute("UPDATE key_pages SET body = ?", (b"digest1\n" + b"x" * 99,))
        db.commit()
    assert "backup" in program("build", "people", cwd=move, status=3).err


def test_preview_shows_what_a_row_that_is_held_back_gives(move: Path) -> None:
    edit(move / "incoming/a.csv", "1,Ana,1980", "0,No,,,y,D,x\n,,,,,,\n1,Ana,1980")
    edit(move / "plans/people.toml", "active = '{Active} -> yesno'", "active = 'yes when {Active} = \"y\"'")

    def rows(*arguments: str) -> list[dict[str, Any]]:
        shown: list[dict[str, Any]] = program("preview", "people", "--json", *arguments, cwd=move, status=0).json[
            "rows"
        ]
        return shown

    # the first that is made, and none that is skipped
    (first,) = rows("-n", "1")
    assert (first["end"], first["rule"], first["fields"][1]["after"]) == ("written", None, "Ana")
    (eva,) = rows("--where", '{Name} = "Eva"')
    assert eva["end"] == "held back"
    assert {f["name"]: f["after"] for f in eva["fields"]} == {
        "code": "P001", "name": "Eva", "born": None, "paid": "1,00", "active": "J", "kind": "dog",
    }  # fmt: skip
    (eva,) = rows("--where", '{Name} = "Eva"', "--fields", "name")
    assert [(f["code"], f["column"]) for f in eva["findings"]] == [("flow.not-a-date", "Born")]
    assert (
        "flow.not-a-date" in program("preview", "people", "--where", '{Name} = "Eva"', "--fields", "name", cwd=move).out
    )
    skipped = rows("--where", '{Name} = "No" or {Name} is blank')
    assert [row["rule"] for row in skipped[:2]] == ["keep", "blank row"]
    # a number that another source's row was shown with is shown to nobody else
    (move / "incoming/b.csv").write_text(
        "Id,Name,Born,Paid,Active,Kind,State\n77,Zoe,1970-02-30,1,y,D,\n", encoding="utf-8"
    )
    edit(move / "plans/people.toml", "[rows]", '[[source]]\nname = "b"\nfile = "incoming/b.csv"\n[rows]')
    shown = rows("-n", "2", "--fields", "code")
    codes = [row["fields"][0]["after"] for row in shown]
    assert codes == ["P001", "P002", "P003"] and shown[-1]["end"] == "held back"
    # where no case applies, the column of the condition is not what the value comes from
    (rui,) = rows("--where", '{Id} = "2"', "--fields", "active")
    assert (rui["fields"][0]["before"], rui["fields"][0]["after"]) == ({}, None)
