"""Lending and receiving: what comes back is exactly what changed."""

from __future__ import annotations

import csv
import datetime
import json
import re
import shutil
import sqlite3
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import polars as pl
import pytest
from openpyxl import load_workbook
from openpyxl.comments import Comment

from conftest import alone, edit, layout_json, make_move, needs_office, office, program
from mudanza.core.work.loans.faulty import faulty_cells


@pytest.fixture(scope="session")
def lent_once(tmp_path_factory: pytest.TempPathFactory) -> Path:
    move = make_move(tmp_path_factory.mktemp("lent") / "move")
    (move / "incoming/a.csv").write_text(
        "Id,Name,Born,Paid,Active,Kind,State\n1,Ana,1980-01-31,1234.5,y,D,\n2,Rui,,,n,C,\n3,Eva,1970-02-28,0,y,,\n4,Zé,,2,,D,\n"
    )
    program("build", "people", cwd=move, status=0)
    program("lend", "people", cwd=move, status=0)
    shutil.copy(move / "loans/people-2.xlsx", move / "back.xlsx")
    return move


@pytest.fixture
def lent(lent_once: Path, tmp_path: Path) -> Path:
    """The small move with four people built and lent, as `back.xlsx`; a move may be copied elsewhere."""
    return shutil.copytree(lent_once, tmp_path / "lent")


def change(path: Path, work: Callable[[Any], None]) -> None:
    workbook = load_workbook(path)
    work(workbook["people"])
    workbook.save(path)


def cells(path: Path, values: dict[str, object]) -> None:
    def work(sheet: Any) -> None:
        for cell, value in values.items():
            sheet[cell] = value

    change(path, work)


def table(path: Path) -> list[dict[str, str]]:
    with path.open(encoding="utf-8", newline="") as file:
        return list(csv.DictReader(file, delimiter=";"))


def test_a_lent_workbook_helps_people(lent: Path) -> None:
    sheet = load_workbook(lent / "back.xlsx")["people"]
    assert [c.value for c in sheet[1]] == ["Code", "Full name", "Born", "Paid", "Active", "Kind", "Remove?", "(loan)"]
    assert (sheet["A2"].value, sheet["C2"].value, sheet["D2"].value) == ("P001", datetime.datetime(1980, 1, 31), 1234.5)
    assert sheet["A2"].protection.locked and not sheet["B2"].protection.locked
    assert not sheet.column_dimensions["A"].protection.locked  # new rows may be written below
    assert sheet.protection.sheet and sheet.freeze_panes == "B2" and sheet.auto_filter.ref
    assert (
        sheet["A2"].number_format == "@"
        and "12 characters" in sheet["B1"].comment.text
        and "Required" in sheet["B1"].comment.text
    )
    lists = {str(v.sqref).split(":")[0]: v.formula1 for v in sheet.data_validations.dataValidation if v.type == "list"}
    assert lists == {"E2": '"J,N"', "F2": '"cat,dog"', "G2": '"remove"'}
    assert load_workbook(lent / "back.xlsx")["slip"].sheet_state == "veryHidden"


def test_nothing_changed_is_nothing_written(lent: Path) -> None:
    document = program("receive", "back.xlsx", "--accept", "--json", cwd=lent, status=0).json
    assert (document["changes"], document["additions"], document["removals"], document["files"]) == ([], [], [], [])


@alone
@needs_office
def test_an_office_suite_changes_nothing_by_saving(lent: Path) -> None:
    cells(lent / "back.xlsx", {"B3": "Rui Sá"})
    office("xlsx", lent / "saved", lent / "back.xlsx")
    document = program("receive", "saved/back.xlsx", "--json", cwd=lent, status=0).json
    assert [(c["key"], c["field"], c["after"]) for c in document["changes"]] == [("P002", "Full name", "Rui Sá")]


def test_changes_additions_removals_and_the_way_back(lent: Path) -> None:
    new = {"A6": "P900", "B6": "Neu", "C6": datetime.date(2001, 2, 3), "D6": 7, "E6": "J", "F6": "cat"}
    cells(lent / "back.xlsx", {"D2": 99, "C3": datetime.date(1999, 12, 31), "B4": "Eva Reis", "G5": "remove", **new})
    document = program("receive", "back.xlsx", "--json", cwd=lent, status=0).json
    changed = [(c["key"], c["field"], c["before"], c["after"], c["cell"]) for c in document["changes"]]
    assert changed == [
        ("P001", "Paid", "1234,50", "99,00", "people!D2"),
        ("P002", "Born", None, "31/12/1999", "people!C3"),
        ("P003", "Full name", "Eva", "Eva Reis", "people!B4"),
    ]
    assert not (lent / "loans/people-2/changes.csv").exists()
    program("receive", "back.xlsx", "--accept", cwd=lent, status=0)
    folder = lent / "loans/people-2"
    # an untouched cell of a changed row is as it was lent
    assert table(folder / "changes.csv") == [
        {"Code": "P001", "Full name": "Ana", "Born": "31/01/1980", "Paid": "99,00"},
        {"Code": "P002", "Full name": "Rui", "Born": "31/12/1999", "Paid": ""},
        {"Code": "P003", "Full name": "Eva Reis", "Born": "28/02/1970", "Paid": "0,00"},
    ]
    assert [r["Full name"] for r in table(folder / "undo-changes.csv")] == ["Ana", "Rui", "Eva"]
    assert (
        folder / "additions.csv"
    ).read_text() == "Code;Full name;Born;Paid;Active;Kind\nP900;Neu;03/02/2001;7,00;J;cat\n"
    assert (folder / "removals.csv").read_text() == "Code\nP004\n"
    assert table(folder / "undo-removals.csv")[0]["Full name"] == "Zé"
    assert (folder / "undo-additions.csv").read_text() == "Code\nP900\n"
    assert "accepted already" in program("receive", "back.xlsx", "--accept", cwd=lent, status=2).err
    program("check", folder / "additions.csv", "--layout", "people", cwd=lent, status=0)
    assert [row["state"] for row in program("ledger", "--loans", "--json", cwd=lent, status=0).json] == ["received"]


def test_whole_rows_on_request(lent: Path) -> None:
    cells(lent / "back.xlsx", {"B3": "Rui Sá"})
    program("receive", "back.xlsx", "--accept", "--whole-rows", cwd=lent, status=0)
    assert (lent / "loans/people-2/changes.csv").read_text(
        "utf-8"
    ) == "Code;Full name;Born;Paid;Active;Kind\nP002;Rui Sá;;;N;cat\n"


def _drop_column(sheet: Any) -> None:
    sheet.delete_cols(2)


def _copy_row(sheet: Any) -> None:
    for column in range(1, 7):
        sheet.cell(6, column).value = sheet.cell(2, column).value


def _swap(sheet: Any) -> None:
    for row in range(1, 6):
        for a, b in ((2, 5),):
            sheet.cell(row, a).value, sheet.cell(row, b).value = sheet.cell(row, b).value, sheet.cell(row, a).value


# what people do to a workbook; the codes it gives; whether the rest can be accepted; the cells that count as changed
DAMAGE: dict[str, tuple[Callable[[Any], None], list[str], bool, list[str]]] = {
    "a column deleted": (_drop_column, ["loan.heading-missing"], False, []),
    "a heading renamed": (lambda s: s.__setitem__("B1", "Name"), ["loan.heading-renamed"], True, []),
    "a heading twice": (lambda s: (s.__setitem__("I1", "Paid"), s.__setitem__("I2", 5))[0], ["loan.heading-repeated"], False, []),
    "a column inserted": (lambda s: (s.insert_cols(2), s.__setitem__("B1", "Mine"), s.__setitem__("B2", "x"))[0], ["loan.heading-extra"], True, []),
    "columns moved": (_swap, ["loan.order"], True, []),
    "a formula": (lambda s: s.__setitem__("B2", '=CONCATENATE("A","x")'), ["loan.formula"], True, []),
    "a value outside": (lambda s: s.__setitem__("J9", "see me"), ["loan.outside"], True, []),
    "a row deleted": (lambda s: s.delete_rows(3), ["loan.row-missing"], False, []),
    "a row copied": (_copy_row, ["loan.key-repeated", "loan.key-repeated"], True, []),
    "a row without key": (lambda s: s.__setitem__("B7", "Nobody"), ["loan.key-blank"], True, []),
    "removal unclear": (lambda s: s.__setitem__("G2", "maybe"), ["loan.removal-unclear"], True, []),
    "a value too long": (lambda s: (s.__setitem__("B2", "x" * 13), s.__setitem__("B3", "fine"))[0], ["value.too-long"], True, ["P002"]),
    "no date": (lambda s: s.__setitem__("C2", "yesterday"), ["value.kind"], True, []),
    "rows sorted": (lambda s: _swap_rows(s), [], True, []),
    "a title above": (lambda s: s.insert_rows(1), [], True, []),
}  # fmt: skip


def _swap_rows(sheet: Any) -> None:
    for column in range(1, 7):
        first, second = sheet.cell(2, column), sheet.cell(3, column)
        first.value, second.value = second.value, first.value


@pytest.mark.parametrize("name", DAMAGE)
def test_what_people_do_to_workbooks(lent: Path, name: str) -> None:
    work, codes, acceptable, changed = DAMAGE[name]
    change(lent / "back.xlsx", work)
    document = program("receive", "back.xlsx", "--json", cwd=lent).json
    assert [f["code"] for f in document["findings"]] == codes
    assert (document["blocked"] is None) == acceptable
    assert [c["key"] for c in document["changes"]] == changed
    assert (document["additions"], document["removals"]) == ([], [])
    ended = program("receive", "back.xlsx", "--accept", cwd=lent)
    assert (lent / "loans/people-2/changes.csv").exists() == bool(changed)
    assert ("Nothing can be accepted" in ended.out) == (not acceptable)


def test_missing_rows_mean_what_was_said(lent: Path) -> None:
    change(lent / "back.xlsx", lambda sheet: sheet.delete_rows(3))
    assert program("receive", "back.xlsx", "--missing", "keep", "--json", cwd=lent, status=0).json["removals"] == []
    removed = program("receive", "back.xlsx", "--missing", "remove", "--json", cwd=lent, status=0).json["removals"]
    assert [row["Code"] for row in removed] == ["P002"]


def test_two_people_changing_one_record(lent: Path) -> None:
    program("lend", "people", cwd=lent, status=0)
    shutil.copy(lent / "loans/people-3.xlsx", lent / "second.xlsx")
    cells(lent / "back.xlsx", {"B2": "Anna", "B3": "Ruy"})
    cells(lent / "second.xlsx", {"B2": "Ann", "B3": "Ruy", "D2": 5})
    program("receive", "back.xlsx", "--accept", cwd=lent, status=0)
    document = program("receive", "second.xlsx", "--accept", "--json", cwd=lent, status=1).json
    conflicts = [(c["key"], c["field"], c["before"], c["after"], c["now"], c["by"]) for c in document["conflicts"]]
    assert conflicts == [("P001", "Full name", "Ana", "Ann", "Anna", "loan people-2")]
    assert [(c["key"], c["field"]) for c in document["changes"]] == [("P001", "Paid"), ("P002", "Full name")]
    assert "Ann," in (lent / "loans/people-3/conflicts.csv").read_text()


def test_a_new_build_meanwhile_is_a_conflict_where_it_differs(lent: Path) -> None:
    edit(lent / "incoming/a.csv", "2,Rui,", "2,Raul,")
    program("build", "people", cwd=lent, status=0)
    cells(lent / "back.xlsx", {"B3": "Ruy", "B4": "Evita"})
    document = program("receive", "back.xlsx", "--json", cwd=lent, status=1).json
    assert [(c["key"], c["now"]) for c in document["conflicts"]] == [("P002", "Raul")]
    assert [c["key"] for c in document["changes"]] == ["P003"]


def test_what_is_gone_or_was_corrected_meanwhile_is_a_conflict(lent: Path) -> None:
    program("lend", "people", cwd=lent, status=0)
    shutil.copy(lent / "loans/people-3.xlsx", lent / "second.xlsx")
    cells(lent / "back.xlsx", {"B2": "Anna", "D4": 7})
    program("receive", "back.xlsx", "--accept", cwd=lent, status=0)
    edit(lent / "incoming/a.csv", "2,Rui,,,n,C,\n", "")
    program("build", "people", cwd=lent, status=0)
    # P001 was corrected and is to go, P002 is gone and was corrected, P003 has the same correction twice
    cells(lent / "second.xlsx", {"G2": "remove", "B3": "Ruy", "D4": 7, "B5": "Zeno"})
    document = program("receive", "second.xlsx", "--json", cwd=lent, status=1).json
    assert [(c["key"], c["field"], c["now"], c["by"]) for c in document["conflicts"]] == [
        ("P002", "Full name", None, "the record is gone"),
        ("P001", "Remove?", "Full name is now Anna", "loan people-2"),
    ]
    assert document["removals"] == [] and [c["key"] for c in document["changes"]] == ["P003", "P004"]


def test_chosen_rows_and_columns(lent: Path) -> None:
    document = program(
        "lend",
        "people",
        "--columns",
        "paid,Kind",
        "--where",
        '{@paid} > 1 and {Kind} = "dog"',
        "--json",
        cwd=lent,
        status=0,
    ).json
    assert (document["fields"], document["rows"]) == (["Code", "Paid", "Kind"], 2)
    path = lent / document["workbook"]
    cells(path, {"A4": "P901", "B4": 3})
    document = program("receive", path, "--json", cwd=lent, status=1).json
    # a new record lacks a required field that was not lent
    assert [(f["code"], f["column"]) for f in document["findings"]] == [("value.required", "Full name")]
    # nor may it have the key of a record that was not lent
    cells(path, {"A4": "P002"})
    document = program("receive", path, "--json", cwd=lent, status=1).json
    assert [f["code"] for f in document["findings"]] == ["value.required", "key.repeated"]
    for where, words in (
        ('{Pai} = "1"', "{Paid}"),
        ("{@paid} > ", "ends too early"),
        ('{Full name} = "nobody"', "nothing to lend"),
    ):
        assert words in program("lend", "people", "--where", where, cwd=lent, status=2).err
    assert "did you mean 'paid'" in program("lend", "people", "--columns", "payd", cwd=lent, status=2).err


def test_any_file_with_a_layout_can_be_lent_if_it_is_sound(move: Path) -> None:
    columns = [
        {"name": "no", "titles": "No", "urn:mudanza:leftOutOfAdditions": True},
        {"name": "word", "titles": "Word"},
    ]
    (move / "l.json").write_text(layout_json(columns, primaryKey="no"))
    long = "9" * 20
    (move / "f.csv").write_text(f"No,Word\n0012,=1+1\n{long},http://x\n")
    loan = program("lend", "f.csv", "--layout", "l.json", "--to", "lent.xlsx", "--json", cwd=move, status=0).json
    sheet = load_workbook(move / "lent.xlsx")["f"]
    assert [sheet["A2"].value, sheet["A3"].value, sheet["B2"].value, sheet["B2"].data_type] == [
        "0012",
        long,
        "=1+1",
        "s",
    ]
    assert program("receive", "lent.xlsx", "--json", cwd=move, status=0).json["changes"] == []
    workbook = load_workbook(move / "lent.xlsx")
    workbook["f"]["B4"] = "new"
    workbook.save(move / "lent.xlsx")
    program("receive", "lent.xlsx", "--accept", cwd=move, status=0)
    # the target gives the number itself
    assert (move / f"loans/{loan['id']}/additions.csv").read_text().split() == ["Word", "new"]
    for content, words in (
        ("No,Word\n1,a\n1,b\n", "stands twice"),
        ("No,Word\n,a\n", "is blank"),
        ("No,Word\n1\n", "damaged"),
        ("No\n1\n", "'Word'"),
    ):
        (move / "f.csv").write_text(content)
        assert words in program("lend", "f.csv", "--layout", "l.json", cwd=move, status=2).err
    (move / "l.json").write_text(layout_json(columns))
    assert "no primary key" in program("lend", "f.csv", "--layout", "l.json", cwd=move, status=2).err


def test_workbooks_that_are_no_loans(lent: Path) -> None:
    (lent / "x.xlsx").write_text("no workbook")
    assert "headings of no loan" in program("receive", "x.xlsx", cwd=lent, status=2).err
    assert "does not exist" in program("receive", "y.xlsx", cwd=lent, status=2).err
    workbook = load_workbook(lent / "back.xlsx")
    del workbook["slip"]
    workbook["people"]["B3"] = "Ruy"
    workbook.save(lent / "bare.xlsx")
    # the marks beside the records say whose they are, and without them the records themselves
    assert len(program("receive", "bare.xlsx", "--json", cwd=lent, status=0).json["changes"]) == 1
    change(lent / "bare.xlsx", lambda sheet: sheet.delete_cols(8))
    assert len(program("receive", "bare.xlsx", "--json", cwd=lent, status=0).json["changes"]) == 1
    assert len(program("receive", "bare.xlsx", "--loan", "people-2", "--json", cwd=lent, status=0).json["changes"]) == 1
    (lent / "loans/people-2/lent.csv").write_text("changed")
    assert "missing or was changed" in program("receive", "back.xlsx", cwd=lent, status=2).err
    assert "did you mean 'people-2'" in program("receive", "bare.xlsx", "--loan", "people-9", cwd=lent, status=2).err


def test_keys_of_several_fields_and_kinds(move: Path) -> None:
    columns = [
        {"name": "no", "titles": "No", "datatype": "integer"},
        {"name": "day", "titles": "Day", "datatype": {"base": "dateTime", "format": "dd.MM.yyyy HH:mm"}},
        {"name": "tags", "titles": "Tags", "separator": "+"},
    ]
    (move / "l.json").write_text(layout_json(columns, primaryKey=["no", "day"]))
    (move / "f.csv").write_text("No,Day,Tags\n7,31.01.2024 00:00,a+b\n7,31.01.2024 09:30,\n")
    program("lend", "f.csv", "--layout", "l.json", "--to", "lent.xlsx", cwd=move, status=0)
    assert program("receive", "lent.xlsx", "--json", cwd=move, status=0).json["changes"] == []
    workbook = load_workbook(move / "lent.xlsx")
    workbook["f"]["C3"] = "c"
    workbook.save(move / "lent.xlsx")
    (change_,) = program("receive", "lent.xlsx", "--json", cwd=move, status=0).json["changes"]
    assert (change_["key"], change_["after"]) == ("7, 31.01.2024 09:30", "c")


def test_rows_held_back_come_back_in_another_return(lent: Path) -> None:
    """What was right is accepted once; the loan stays out for the rest, which reaches a file."""
    new = {"A6": "P900", "B6": "Neu", "E6": "J", "F6": "cat"}
    wrong = {"B4": "a name that is much too long", "A7": "P901", "B7": "Bad", "F7": "cow"}
    cells(lent / "back.xlsx", {"D2": 99, "G5": "remove", **new, **wrong})
    told = program("receive", "back.xlsx", "--accept", cwd=lent, status=1).out
    assert "The loan stays out for 2 rows held back" in told
    folder = lent / "loans/people-2"
    with (folder / "held-back.csv").open(encoding="utf-8-sig", newline="") as file:
        held = list(csv.DictReader(file))
    assert [(row["#line"], row["#why"], row["Code"]) for row in held] == [
        ("4", "Full name: value.too-long", "P003"),
        ("7", "Kind: value.not-permitted", "P901"),
    ]
    # the same workbook once more gives nothing that was accepted
    again = program("receive", "back.xlsx", "--json", cwd=lent, status=1).json
    assert (again["changes"], again["additions"], again["removals"], again["held_back"]) == ([], [], [], 2)
    cells(lent / "back.xlsx", {"B4": "Eva Reis", "F7": "dog", "D2": 98, "B6": "Neuer", "D3": 5})
    program("receive", "back.xlsx", "--accept", cwd=lent, status=0)
    (later,) = [path for path in folder.iterdir() if path.is_dir()]
    assert table(later / "changes.csv") == [
        {"Code": "P001", "Full name": "Ana", "Paid": "98,00"},
        {"Code": "P002", "Full name": "Rui", "Paid": "5,00"},
        {"Code": "P003", "Full name": "Eva Reis", "Paid": "0,00"},
        {"Code": "P900", "Full name": "Neuer", "Paid": ""},
    ]
    assert table(later / "undo-changes.csv")[0]["Paid"] == "99,00"
    assert [row["Code"] for row in table(later / "additions.csv")] == ["P901"]
    assert not (later / "removals.csv").exists() and table(folder / "removals.csv") == [{"Code": "P004"}]
    assert "accepted already" in program("receive", "back.xlsx", "--accept", cwd=lent, status=2).err


def test_what_was_accepted_is_told_by_trace_and_by_later_builds(lent: Path) -> None:
    shutil.copy(lent / "back.xlsx", lent / "other.xlsx")
    program("lend", "people", cwd=lent, status=0)
    cells(lent / "back.xlsx", {"D2": 99, "G5": "remove", "F4": "dog"})
    program("receive", "back.xlsx", "--accept", cwd=lent, status=0)
    assert '"removed"' in program("trace", "P004", cwd=lent, status=0).out
    # another loan that changes the record which this one removed
    cells(lent / "loans/people-3.xlsx", {"B5": "José"})
    (conflict,) = program("receive", "loans/people-3.xlsx", "--json", cwd=lent, status=1).json["conflicts"]
    assert (conflict["key"], conflict["by"]) == ("P004", "removed by loan people-2")
    one = program("build", "people", "--json", cwd=lent, status=0).json["lists"][0]
    found = {
        g["field"]: (g["count"], g["example"]["value"]) for g in one["findings"] if g["code"] == "loan.not-in-build"
    }
    assert found == {"Paid": (1, "P001: 1234,50"), "Kind": (1, "P003: (blank)"), "(record)": (1, "P004")}
    edit(lent / "incoming/a.csv", "1234.5", "99")
    edit(lent / "incoming/a.csv", "1970-02-28,0,y,,", "1970-02-28,0,y,D,")
    edit(lent / "incoming/a.csv", "4,Zé,,2,,D,\n", "")
    one = program("build", "people", "--json", cwd=lent, status=0).json["lists"][0]
    assert "loan.not-in-build" not in [g["code"] for g in one["findings"]]


def test_a_loan_that_lacks_what_a_new_record_needs_says_so(lent: Path) -> None:
    told = program("lend", "people", "--columns", "paid", "--to", "few.xlsx", cwd=lent, status=0).out
    assert "Records cannot be added in it: a new one needs Full name" in told
    sheet = load_workbook(lent / "few.xlsx")["people"]
    assert "cannot be added here: a new one would also need Full name" in sheet["A1"].comment.text
    assert sheet.protection.insertRows, "and the sheet takes no new rows"
    assert program("lend", "people", "--json", cwd=lent, status=0).json["needed"] == []


def test_a_heading_may_be_called_as_anything_inside(tmp_path: Path) -> None:
    """What is remembered of a loan has columns of its own, whatever the layout calls its own."""
    move = make_move(tmp_path / "move")
    names = ["key", "field", "after", "loan", "now"]
    fields = [{"name": n, "titles": n, "required": n == "key"} for n in names]
    (move / "layouts/people.json").write_text(layout_json(fields, primaryKey="key"), encoding="utf-8")
    flows = "\n".join(
        f"{name} = '{{{column}}}'" for name, column in zip(names, ["Id", "Name", "Born", "Paid", "Kind"], strict=True)
    )
    plan = f'layout = "layouts/people.json"\n[[source]]\nname = "a"\nfile = "incoming/a.csv"\n[left_behind]\n"*" = "no"\n[fields]\n{flows}\n'
    (move / "plans/people.toml").write_text(plan, encoding="utf-8")
    (move / "incoming/a.csv").write_text(
        "Id,Name,Born,Paid,Active,Kind,State\n1,Ana,b,p,y,D,\n2,Rui,b,p,y,C,\n", encoding="utf-8"
    )
    program("build", "people", cwd=move, status=0)
    program("lend", "people", "--to", "back.xlsx", cwd=move, status=0)
    cells(move / "back.xlsx", {"B2": "Ann", "E3": "dog", "A4": "9", "B4": "New"})
    program("receive", "back.xlsx", "--accept", cwd=move, status=0)
    one = program("build", "people", "--json", cwd=move, status=0).json["lists"][0]
    found = {g["field"]: g["example"] for g in one["findings"] if g["code"] == "loan.not-in-build"}
    assert {field: example["value"] for field, example in found.items()} == {
        "field": "1: Ana",
        "now": "2: C",
        "(record)": "9",
    }
    assert found["(record)"]["rule"].startswith("added by loan")


def test_masked_and_shown_fields_stay_as_they_are(lent: Path) -> None:
    """The same value has the same mask, which says nothing of it; masks come back as what they stand for, and what is new as it is."""
    edit(lent / "incoming/a.csv", "4,Zé,,2,,D,", "4,Ana,,2,,D,")
    program("build", "people", cwd=lent, status=0)
    loan = program(
        "lend", "people", "--mask", "name", "--show", "paid", "--to", "m.xlsx", "--json", cwd=lent, status=0
    ).json
    assert (loan["masked"], loan["locked"]) == (["Full name"], ["Paid"])
    sheet = load_workbook(lent / "m.xlsx")["people"]
    assert [row[1].value for row in sheet.iter_rows(min_row=2, max_row=5)] == ["*** 1", "*** 2", "*** 3", "*** 1"]
    assert sheet["B2"].protection.locked and sheet["D2"].protection.locked and not sheet["F2"].protection.locked
    assert b"Ana" not in (lent / "m.xlsx").read_bytes()
    cells(lent / "m.xlsx", {"B3": "*** 3", "B4": "Evi", "D2": 1, "F4": "dog", "B5": "*** 9"})
    document = program("receive", "m.xlsx", "--json", cwd=lent, status=1).json
    changed = [(c["key"], c["field"], c["before"], c["after"]) for c in document["changes"]]
    assert changed == [
        ("P002", "Full name", "Rui", "Eva"),
        ("P003", "Full name", "Eva", "Evi"),
        ("P003", "Kind", None, "dog"),
    ]
    held = [(c["line"], c["field"], c["why"]) for c in document["held_cells"]]
    assert held == [(5, "Full name", "loan.mask-unknown"), (2, "Paid", "loan.locked")]
    assert "cannot be masked" in program("lend", "people", "--mask", "code", cwd=lent, status=2).err


def test_rows_are_chosen_by_keys_and_by_what_a_check_finds(lent: Path) -> None:
    (lent / "keys.txt").write_text("P003\nP001\n", encoding="utf-8")
    (lent / "keys.csv").write_text("No;Code\n1;P002\n", encoding="utf-8")
    for file, rows in (("keys.txt", 2), ("keys.csv", 1)):
        assert program("lend", "people", "--keys", file, "--json", cwd=lent, status=0).json["rows"] == rows
    (lent / "keys.txt").write_text("P003\nP777\n", encoding="utf-8")
    assert (
        "1 key of the file is in no record, as P777"
        in program("lend", "people", "--keys", "keys.txt", cwd=lent, status=2).err
    )
    edit(lent / "out/people.csv", "P002;Rui;", "P002;a name that is too long;")
    told = program("lend", "people", "--findings", "value.too-long", "--json", cwd=lent, status=0).json
    assert told["rows"] == 1
    assert "nothing to lend" in program("lend", "people", "--findings", "value.kind", cwd=lent, status=2).err


def test_a_loan_for_each_branch(lent: Path) -> None:
    told = program("lend", "people", "--by", "kind", "--json", cwd=lent, status=0).json["loans"]
    assert [(one["whom"], one["rows"]) for one in told] == [("dog", 2), ("cat", 1), ("", 1)]
    assert [one["id"] for one in told] == ["people-3-dog", "people-3-cat", "people-3-blank"]
    with (lent / "loans/people-3.index.csv").open(encoding="utf-8-sig", newline="") as file:
        assert [row["Kind"] if "Kind" in row else row["kind"] for row in csv.DictReader(file)] == ["dog", "cat", ""]
    loans = program("ledger", "--loans", "--json", cwd=lent, status=0).json
    assert {(one["loan"], one["whom"]) for one in loans} >= {("people-3-dog", "dog"), ("people-2", None)}
    cells(lent / "loans/people-3-cat.xlsx", {"B2": "Ruy"})
    document = program("receive", "loans/people-3-cat.xlsx", "--json", cwd=lent, status=0).json
    assert [(c["key"], c["after"]) for c in document["changes"]] == [("P002", "Ruy")]


@pytest.mark.parametrize("language", ["en", "pt", "es", "fr", "de"])
@pytest.mark.parametrize("ending", ["xlsx", "ods", "csv"])
def test_loans_speak_the_language_of_the_move(lent: Path, ending: str, language: str) -> None:
    """Lent in any form and language, untouched, it changes nothing; its removal word is understood."""
    settings = (lent / "mudanza.toml").read_text(encoding="utf-8")
    (lent / "mudanza.toml").write_text(f'language = "{language}"\n{settings}', encoding="utf-8")
    program("lend", "people", "--mask", "born", "--to", f"l.{ending}", cwd=lent, status=0)
    document = program("receive", f"l.{ending}", "--json", cwd=lent, status=0).json
    assert (document["changes"], document["held_cells"], document["undone"]) == ([], [], [])
    if ending == "xlsx":
        book = load_workbook(lent / f"l.{ending}")
        word = next(v.formula1 for v in book["people"].data_validations.dataValidation if "G2" in str(v.sqref)).strip(
            '"'
        )
        assert len(list(book.worksheets[1].iter_rows())) == 6
        cells(lent / "l.xlsx", {"G3": word})
        removed = program("receive", "l.xlsx", "--json", cwd=lent, status=0).json["removals"]
        assert [one["Code"] for one in removed] == ["P002"]


def test_a_later_loan_shows_what_was_accepted(lent: Path) -> None:
    """The build does not know of it, the loan does; and what one loan said is no conflict with itself."""
    cells(lent / "back.xlsx", {"B2": "Anna", "G5": "remove", "A6": "P900", "B6": "Neu", "E6": "J", "F6": "cat"})
    program("receive", "back.xlsx", "--accept", cwd=lent, status=0)
    program("lend", "people", "--to", "next.xlsx", cwd=lent, status=0)
    sheet = load_workbook(lent / "next.xlsx")["people"]
    rows = [tuple(c.value for c in row[:2]) for row in sheet.iter_rows(min_row=2) if row[0].value]
    assert rows == [("P001", "Anna"), ("P002", "Rui"), ("P003", "Eva"), ("P900", "Neu")]
    cells(lent / "next.xlsx", {"B2": "Anne", "B5": "Neuer"})
    document = program("receive", "next.xlsx", "--json", cwd=lent, status=0).json
    assert [(c["key"], c["before"], c["after"]) for c in document["changes"]] == [
        ("P001", "Anna", "Anne"),
        ("P900", "Neu", "Neuer"),
    ]


def test_texts_that_no_cell_holds_are_not_cut(move: Path) -> None:
    (move / "l.json").write_text(
        layout_json([{"name": "no", "titles": "No"}, {"name": "t", "titles": "Text"}], primaryKey="no")
    )
    (move / "f.csv").write_text(f"No,Text\n1,{'x' * 40_000}\n2,short\n")
    loan = program("lend", "f.csv", "--layout", "l.json", "--to", "f.xlsx", "--json", cwd=move, status=0).json
    assert (loan["fields"], loan["left_out"]) == (["No"], ["Text"])
    loan = program("lend", "f.csv", "--layout", "l.json", "--to", "back.csv", "--json", cwd=move, status=0).json
    assert loan["left_out"] == []
    assert program("receive", "back.csv", "--json", cwd=move, status=0).json["changes"] == []


def decide(path: Path, decisions: dict[int, str]) -> None:
    """Fill in a review: by the number of a row, what was decided."""
    workbook = load_workbook(path)
    sheet = workbook["review"]
    for row in sheet.iter_rows(min_row=3):
        if row[0].value and int(str(row[0].value)) in decisions:
            row[7].value = decisions[int(str(row[0].value))]
    workbook.save(path)


def test_changes_are_accepted_one_by_one_in_a_review(lent: Path) -> None:
    """A conflict is settled, a removal refused, a question answered; what is left open waits, and comes in another review."""
    program("lend", "people", cwd=lent, status=0)
    cells(lent / "loans/people-3.xlsx", {"B2": "Anna"})
    program("receive", "loans/people-3.xlsx", "--accept", cwd=lent, status=0)
    new = {"A6": "P900", "B6": "Neu", "E6": "J", "F6": "cat"}
    cells(lent / "back.xlsx", {"B2": "Ann", "D2": 99, "B3": "Ruy", "G5": "remove", "B4": "Evi", **new})
    told = program("receive", "back.xlsx", "--review", "--to", "review.xlsx", cwd=lent, status=1).out
    assert "6 rows to accept or refuse" in told
    sheet = load_workbook(lent / "review.xlsx")["review"]
    rows = [[cell.value for cell in row[:7]] for row in sheet.iter_rows(min_row=3)]
    assert [(row[1], row[2], row[3], row[4], row[5]) for row in rows] == [
        ("change", "P001", "Paid", "1234,50", "99,00"),
        ("change", "P002", "Full name", "Rui", "Ruy"),
        ("change", "P003", "Full name", "Eva", "Evi"),
        ("addition", "P900", None, None, "Code P900; Full name Neu; Active J; Kind cat"),
        ("removal", "P004", None, "stays", "goes"),
        ("conflict", "P001", "Full name", "Anna", "Ann"),
    ]
    # the workbook that came back is kept, whatever becomes of it
    (lent / "back.xlsx").unlink()
    decide(lent / "review.xlsx", {1: "accept", 2: "refuse", 4: "accept", 5: "refuse", 6: "Accept", 3: "perhaps"})
    document = program("receive", "review.xlsx", "--accept", "--json", cwd=lent, status=1).json
    assert [(c["key"], c["field"], c["after"]) for c in document["changes"]] == [
        ("P001", "Paid", "99,00"),
        ("P001", "Full name", "Ann"),
    ]
    assert ([r["Code"] for r in document["additions"]], document["removals"], document["conflicts"]) == (
        ["P900"],
        [],
        [],
    )
    assert document["waiting"] == 1 and document["wrong"][0]["value"] == "perhaps"
    assert table(lent / "loans/people-2/changes.csv") == [{"Code": "P001", "Full name": "Ann", "Paid": "99,00"}]
    decide(lent / "review.xlsx", {3: "accept"})
    document = program("receive", "review.xlsx", "--accept", "--json", cwd=lent, status=0).json
    assert [(c["key"], c["field"], c["after"]) for c in document["changes"]] == [("P003", "Full name", "Evi")]
    loans = program("ledger", "--loans", "--json", cwd=lent, status=0).json
    assert {one["loan"]: one["state"] for one in loans}["people-2"] == "received"


def test_some_of_it_is_accepted_and_the_rest_waits(lent: Path) -> None:
    cells(lent / "back.xlsx", {"B2": "Anna", "D2": 99, "B3": "Ruy"})
    document = program("receive", "back.xlsx", "--fields", "Paid", "--accept", "--json", cwd=lent, status=1).json
    assert ([(c["key"], c["field"]) for c in document["changes"]], document["waiting"]) == ([("P001", "Paid")], 2)
    document = program("receive", "back.xlsx", "--keys", "P002", "--accept", "--json", cwd=lent, status=1).json
    assert ([(c["key"], c["field"]) for c in document["changes"]], document["waiting"]) == ([("P002", "Full name")], 1)
    document = program("receive", "back.xlsx", "--accept", "--json", cwd=lent, status=0).json
    assert ([(c["key"], c["field"]) for c in document["changes"]], document["waiting"]) == ([("P001", "Full name")], 0)


def test_all_stands_in_one_file_with_the_words_of_the_target(lent: Path) -> None:
    layout = json.loads((lent / "layouts/people.json").read_text(encoding="utf-8"))
    action = {"name": "what", "titles": "What", "urn:mudanza:actions": {"add": "I", "change": "U", "remove": "D"}}
    layout["tableSchema"]["columns"].append(action)
    (lent / "layouts/people.json").write_text(json.dumps(layout), encoding="utf-8")
    edit(lent / "plans/people.toml", "[fields]", "[fields]\nwhat = '\"I\"'")
    program("build", "people", cwd=lent, status=0)
    program("lend", "people", "--columns", "Full name,active,kind", "--to", "b.xlsx", cwd=lent, status=0)
    new = {"A6": "P900", "B6": "Neu", "C6": "J", "D6": "cat"}
    cells(lent / "b.xlsx", {"B2": "Anna", "E4": "remove", **new})
    document = program("receive", "b.xlsx", "--accept", "--one-file", "--json", cwd=lent, status=0).json
    files = {Path(one["path"]).name: lent / one["path"] for one in document["files"]}
    assert [(row["Code"], row["Full name"], row["What"]) for row in table(files["import.csv"])] == [
        ("P900", "Neu", "I"),
        ("P001", "Anna", "U"),
        ("P003", "", "D"),
    ]
    assert [row["What"] for row in table(files["undo-removals.csv"])] == ["I"]


def test_three_ways_with_what_the_target_holds(lent: Path) -> None:
    """Cell by cell: changed by them, by us, by both alike, by both otherwise; and what changed there without us."""
    now = (lent / "out/people.csv").read_text(encoding="utf-8")
    for old, new in (("P001;Ana;", "P001;Anna;"), ("P002;Rui;", "P002;Ruy;"), ("P003;Eva;", "P003;Evita;")):
        assert old in now
        now = now.replace(old, new)
    (lent / "now.csv").write_text(now, encoding="utf-8")
    cells(lent / "back.xlsx", {"B2": "Ann", "B3": "Ruy", "D5": 7})
    document = program("receive", "back.xlsx", "--current", "now.csv", "--json", cwd=lent, status=1).json
    assert [(c["key"], c["field"]) for c in document["changes"]] == [("P004", "Paid")]
    assert [(c["key"], c["after"], c["now"], c["by"]) for c in document["conflicts"]] == [
        ("P001", "Ann", "Anna", "the target")
    ]
    assert [(f["code"], f["value"]) for f in document["findings"] if f["code"] == "loan.changed-there"] == [
        ("loan.changed-there", "P003: Evita")
    ]
    for rule, changes in (
        ("returned", [("P001", "Anna", "Ann"), ("P004", "2,00", "7,00")]),
        ("Full name=present", [("P004", "2,00", "7,00")]),
    ):
        document = program(
            "receive", "back.xlsx", "--current", "now.csv", "--prefer", rule, "--json", cwd=lent, status=0
        ).json
        assert [(c["key"], c["before"], c["after"]) for c in document["changes"]] == changes
        assert document["conflicts"] == []


def test_what_was_accepted_goes_into_later_builds(lent: Path) -> None:
    """Until the source says so too; what the source says otherwise by then is told, and so is a correction of nobody."""
    cells(lent / "back.xlsx", {"D2": 99, "B3": "Ruy", "C3": datetime.date(1990, 5, 6)})
    program("receive", "back.xlsx", "--accept", "--correct", "--from", "Maria", cwd=lent, status=0)
    with (lent / "corrections/people.csv").open(encoding="utf-8", newline="") as file:
        said = [
            (row["key"], row["field"], row["was"], row["is"], row["who"], row["loan"]) for row in csv.DictReader(file)
        ]
    assert said == [
        ("P001", "Paid", "1234,50", "99,00", "Maria", "people-2"),
        ("P002", "Full name", "Rui", "Ruy", "Maria", "people-2"),
        ("P002", "Born", "", "06/05/1990", "Maria", "people-2"),
    ]
    edit(lent / "incoming/a.csv", "1234.5", "98")
    edit(lent / "incoming/a.csv", "2,Rui,", "2,Ruy,")
    (lent / "corrections/people.csv").open("a").write('P777,Paid,"1,00","2,00",,,\n')
    one = program("build", "people", "--json", cwd=lent).json["lists"][0]
    rows = {row["Code"]: row for row in table(lent / "out/people.csv")}
    assert (rows["P001"]["Paid"], rows["P002"]["Full name"], rows["P002"]["Born"]) == ("99,00", "Ruy", "06/05/1990")
    told = {
        g["code"]: (g["field"], g["example"]["value"])
        for g in one["findings"]
        if g["code"].startswith(("correction", "loan"))
    }
    assert told == {
        "correction.source-changed": ("Paid", "98,00"),
        "correction.there": ("Full name", "Ruy"),
        "correction.made": ("Born", None),
        "correction.unused": ("Paid", "P777"),
    }
    assert "06/05/1990" in program("preview", "people", "--json", cwd=lent).out
    (lent / "corrections/people.csv").write_text("key,field,was,is,who\nP001,Payd,1,2,\n", encoding="utf-8")
    assert "did you mean 'Paid'" in program("build", "people", cwd=lent, status=2).err


def test_accepted_changes_go_back_into_the_old_program(lent: Path) -> None:
    """By the plan read backwards: with the rows that it gives in the place of the old ones, the plan makes just what was accepted."""
    born = datetime.date(1999, 12, 31)
    cells(
        lent / "back.xlsx",
        {"B2": "Anna", "C3": born, "D2": 99.5, "E2": "N", "F3": "dog", "F4": "cat", "D4": None, "G5": "remove"},
    )
    program("receive", "back.xlsx", "--accept", cwd=lent, status=0)
    document = program("carry-back", "people", "--json", cwd=lent, status=1).json
    back = {
        (one["key"], one["field"]): {c: (v["before"], v["after"]) for c, v in one["columns"].items()}
        for one in document["carried"]
    }
    assert back == {
        ("P001", "Full name"): {"Name": ("Ana", "Anna")},
        ("P001", "Paid"): {"Paid": ("1234.5", "99.5")},
        ("P001", "Active"): {"Active": ("y", "n")},
        ("P002", "Born"): {"Born": (None, "1999-12-31")},
        ("P002", "Kind"): {"Kind": ("C", "D")},
        ("P003", "Kind"): {"Kind": (None, "C")},
        ("P003", "Paid"): {"Paid": ("0", "")},
    }
    assert [(one["key"], one["field"], one["after"]) for one in document["by_hand"]] == [
        ("P004", "(record)", "removed")
    ]
    with (lent / "out/people.carry-back.a.csv").open(encoding="utf-8-sig", newline="") as file:
        new = {row["Id"]: row for row in csv.DictReader(file)}
    with (lent / "incoming/a.csv").open(encoding="utf-8", newline="") as file:
        reader = csv.DictReader(file)
        rows, headings = [new.get(row["Id"], row) for row in reader], list(reader.fieldnames or [])
    with (lent / "incoming/a.csv").open("w", encoding="utf-8", newline="") as file:
        writer = csv.DictWriter(file, headings)
        writer.writeheader()
        writer.writerows(rows)
    one = program("build", "people", "--json", cwd=lent, status=0).json["lists"][0]
    assert [g["field"] for g in one["findings"] if g["code"] == "loan.not-in-build"] == ["(record)"]
    again = program("carry-back", "people", "--json", cwd=lent, status=1).json
    assert (again["carried"], again["there"]) == ([], 7)


def test_records_are_lent_again_as_they_are_now(lent: Path) -> None:
    """What changed since is marked; a record that was changed at both ends is a conflict once, and not of the next loan."""
    cells(lent / "back.xlsx", {"B2": "Anna"})
    program("receive", "back.xlsx", "--accept", cwd=lent, status=0)
    edit(lent / "incoming/a.csv", "2,Rui,", "2,Raul,")
    program("build", "people", cwd=lent)
    program("lend", "people-2", "--again", "--to", "again.xlsx", cwd=lent, status=0)
    sheet = load_workbook(lent / "again.xlsx")["people"]
    assert [sheet[f"B{n}"].value for n in (2, 3, 4)] == ["Anna", "Raul", "Eva"]
    marked = [
        cell.coordinate
        for row in sheet.iter_rows(min_row=2, max_row=5, max_col=6)
        for cell in row
        if cell.fill.fgColor.rgb == "FFFFF1C9"
    ]
    assert marked == ["B3"]  # they know what they said themselves
    cells(lent / "again.xlsx", {"B3": "Rui Sá"})
    document = program("receive", "again.xlsx", "--json", cwd=lent, status=0).json
    assert [(c["key"], c["before"], c["after"]) for c in document["changes"]] == [("P002", "Raul", "Rui Sá")]
    assert "loan of records" in program("lend", "people-9", "--again", cwd=lent, status=2).err


def test_rows_held_back_by_a_build_are_corrected_by_others(move: Path) -> None:
    """They go into the next build beside the sources, which stay as they are, and need no word in the plan."""
    before = program("build", "people", "--json", cwd=move, status=1).json["lists"][0]
    program("lend", "people", "--held-back", "--whom", "Maria", "--to", "h.xlsx", cwd=move, status=0)
    book = load_workbook(move / "h.xlsx")
    sheet = book.worksheets[0]
    at = {cell.value: cell.column for cell in sheet[1]}
    assert [sheet.cell(n, at["(row)"]).value for n in (2, 3)] == ["4", "9"]
    assert "flow.not-a-date" in sheet.cell(2, at["(why)"]).value
    sheet.cell(2, at["Born"]).value = "1970-02-28"
    sheet.cell(3, at["Kind"]).value = "C"
    book.save(move / "h.xlsx")
    old = (move / "incoming/a.csv").read_bytes()
    program("receive", "h.xlsx", "--accept", "--from", "Maria", cwd=move, status=0)
    after = program("build", "people", "--json", cwd=move, status=0).json["lists"][0]
    assert (after["held_back"], after["written"]) == (0, before["written"] + before["held_back"])
    assert (move / "incoming/a.csv").read_bytes() == old
    assert "held nothing back" in program("lend", "people", "--held-back", cwd=move, status=2).err


def test_what_was_lent_to_be_corrected_is_no_spoilage_however_alike(move: Path) -> None:
    """Amounts with the wrong sign are all corrected in one way; in the same file a program took the zeros of identifiers that nobody corrected."""
    rows = "".join(f"0{n},Person {n},1980-01-0{n},{n}:50,y,D,\n" for n in range(1, 8))
    (move / "incoming/a.csv").write_text("Id,Name,Born,Paid,Active,Kind,State\n" + rows)
    program("build", "people", cwd=move, status=1)
    program("lend", "people", "--held-back", "--to", "h.xlsx", cwd=move, status=0)
    book = load_workbook(move / "h.xlsx")
    sheet = book.worksheets[0]
    at = {cell.value: cell.column for cell in sheet[1]}
    for row in range(2, 9):
        paid, known = sheet.cell(row, at["Paid"]), sheet.cell(row, at["Id"])
        paid.value, known.value = paid.value.replace(":", "."), int(known.value)
    book.save(move / "h.xlsx")
    document = program("receive", "h.xlsx", "--json", cwd=move, status=0).json
    assert [(one["field"], one["after"]) for one in document["changes"]] == [("Paid", f"{n}.50") for n in range(1, 8)]
    assert [(one["field"], one["cells"]) for one in document["undone"]] == [("Id", 7)]
    assert "incoming/a.csv row 2" in program("receive", "h.xlsx", "--accept", cwd=move, status=0).out
    assert program("build", "people", "--json", cwd=move, status=0).json["lists"][0]["written"] == 7


def test_another_copy_does_not_take_back_what_was_accepted(lent: Path) -> None:
    """Two copies of a loan come back one after the other, masks in them: each mask stands for what it stood for when it was lent."""
    program("lend", "people", "--mask", "name", "--to", "m.xlsx", cwd=lent, status=0)
    shutil.copy(lent / "m.xlsx", lent / "copy.xlsx")
    cells(lent / "m.xlsx", {"B2": "Anna", "D2": 99, "G3": "remove"})
    program("receive", "m.xlsx", "--accept", "--fields", "Full name,Paid", cwd=lent)
    cells(lent / "copy.xlsx", {"F4": "dog"})
    document = program("receive", "copy.xlsx", "--json", cwd=lent, status=0).json
    assert [(c["key"], c["field"], c["after"]) for c in document["changes"]] == [("P003", "Kind", "dog")]
    assert [f["code"] for f in document["findings"]] == ["loan.stale", "loan.stale"]


def test_a_loan_outlives_its_layout(lent: Path) -> None:
    """It is read by the layout that it was lent by; what is accepted is written by the one that is, where that is certain."""
    path = lent / "layouts/people.json"
    edit(path, '"Full name"', '"Name"')
    edit(path, '"dd/MM/yyyy"', '"yyyy-MM-dd"')
    program("build", "people", cwd=lent, status=0)
    cells(lent / "back.xlsx", {"B2": "Anna", "C3": datetime.date(1999, 12, 31)})
    document = program("receive", "back.xlsx", "--accept", "--json", cwd=lent, status=0).json
    assert [f["code"] for f in document["findings"]] == ["loan.layout-changed"]
    assert [(c["key"], c["field"]) for c in document["changes"]] == [("P001", "Full name"), ("P002", "Born")]
    assert table(lent / "loans/people-2/changes.csv") == [
        {"Code": "P001", "Name": "Anna", "Born": "1980-01-31"},
        {"Code": "P002", "Name": "Rui", "Born": "1999-12-31"},
    ]


def test_what_a_changed_layout_does_not_take_is_held_back(lent: Path) -> None:
    """Edits and new records are asked the rules of both layouts: the one they were lent by, and the one they are to be imported by."""
    path = lent / "layouts/people.json"
    edit(path, '"Full name"', '"Name"')
    edit(path, '"maxLength": 12', '"maxLength": 5')
    program("build", "people", cwd=lent, status=0)
    cells(lent / "back.xlsx", {"B2": "Annabella", "D2": 7, "B3": "Ruy", "A6": "P009", "B6": "Ignacio", "E6": "J"})
    document = program("receive", "back.xlsx", "--json", cwd=lent, status=1).json
    assert [(c["key"], c["field"]) for c in document["changes"]] == [("P001", "Paid"), ("P002", "Full name")]
    assert document["additions"] == []
    told = [(f["code"], f["cell"], f["column"]) for f in document["findings"] if f["code"].startswith("value")]
    assert sorted(told) == [("value.too-long", "people!B2", "Full name"), ("value.too-long", "people!B6", "Full name")]


def test_what_is_to_be_saved_before_an_import_is_said_and_saved(lent: Path) -> None:
    with (lent / "mudanza.toml").open("a", encoding="utf-8") as settings:
        settings.write(
            '[before_import]\nsave = "export the owners of the practice system"\narchive = ["saved/*.csv"]\n'
        )
    cells(lent / "back.xlsx", {"B2": "Anna"})
    assert "no file to be saved" in program("receive", "back.xlsx", "--accept", cwd=lent, status=2).err
    (lent / "saved").mkdir()
    (lent / "saved/owners.csv").write_text("Code\n1\n", encoding="utf-8")
    assert program("receive", "back.xlsx", "--json", cwd=lent, status=0).json["before_import"] is None
    told = program("receive", "back.xlsx", "--accept", "--json", cwd=lent, status=0).json
    assert told["before_import"] == "export the owners of the practice system"
    with zipfile.ZipFile(lent / "loans/people-2/before-import.zip") as archive:
        assert archive.namelist() == ["saved/owners.csv"]


def test_a_record_that_is_to_go_and_was_changed_is_a_conflict(lent: Path) -> None:
    """By a new build, or at the target; a rule or a review decides."""
    now = (lent / "out/people.csv").read_text(encoding="utf-8").replace("P002;Rui;", "P002;Ruy;")
    (lent / "now.csv").write_text(now, encoding="utf-8")
    cells(lent / "back.xlsx", {"G3": "remove", "G5": "remove"})

    def removed(*said: str, status: int = 0) -> tuple[list[str], list[str]]:
        told = program("receive", "back.xlsx", "--current", "now.csv", "--json", *said, cwd=lent, status=status).json
        return [row["Code"] for row in told["removals"]], [one["key"] for one in told["conflicts"]]

    assert removed(status=1) == (["P004"], ["P002"])
    assert removed("--prefer", "present") == (["P004"], [])
    assert removed("--prefer", "returned") == (["P002", "P004"], [])
    edit(lent / "incoming/a.csv", "2,Rui,", "2,Ruy,")
    program("build", "people", cwd=lent)
    program("receive", "back.xlsx", "--review", "--to", "review.xlsx", cwd=lent, status=1)
    decide(lent / "review.xlsx", {1: "refuse", 2: "accept"})
    document = program("receive", "review.xlsx", "--accept", "--json", cwd=lent, status=0).json
    assert [row["Code"] for row in document["removals"]] == ["P002"]


def test_a_table_of_a_database_is_lent_by_a_layout(lent: Path) -> None:
    with sqlite3.connect(lent / "practice.sqlite") as database:
        database.execute("CREATE TABLE folk (code TEXT, name TEXT, born TEXT, paid REAL)")
        database.execute("INSERT INTO folk VALUES ('P001', 'Ana', '1980-01-31', 12.5), ('P002', 'Rui', NULL, NULL)")
    with (lent / "mudanza.toml").open("a", encoding="utf-8") as settings:
        settings.write('[databases.practice]\nfile = "practice.sqlite"\n')
    program("lend", "practice:folk", "--layout", "people", "--to", "t.xlsx", cwd=lent, status=0)
    book = load_workbook(lent / "t.xlsx")
    sheet = book.worksheets[0]
    assert [sheet.cell(2, n).value for n in (1, 2, 4)] == ["P001", "Ana", 12.5]
    sheet["B3"] = "Ruy"
    book.save(lent / "t.xlsx")
    document = program("receive", "t.xlsx", "--accept", "--json", cwd=lent, status=0).json
    assert [(c["key"], c["before"], c["after"]) for c in document["changes"]] == [("P002", "Rui", "Ruy")]


def test_blanks_are_written_as_the_layout_has_them(move: Path) -> None:
    """Also where a cell was cleared, in what is new, and in what undoes it."""
    columns = [
        {"name": "no", "titles": "No"},
        {"name": "word", "titles": "Word", "null": "NA"},
        {"name": "day", "titles": "Day", "null": "-", "datatype": {"base": "date", "format": "dd/MM/yyyy"}},
    ]
    (move / "l.json").write_text(layout_json(columns, primaryKey="no"))
    (move / "f.csv").write_text("No,Word,Day\n1,a,-\n2,NA,31/01/2024\n3,NA,-\n")
    program("lend", "f.csv", "--layout", "l.json", "--to", "f.xlsx", cwd=move, status=0)
    book = load_workbook(move / "f.xlsx")
    sheet = book.worksheets[0]
    sheet["B2"], sheet["B3"], sheet["C3"], sheet["A5"] = None, "b", None, "4"
    book.save(move / "f.xlsx")
    document = program("receive", "f.xlsx", "--accept", "--json", cwd=move, status=0).json
    folder = move / "loans" / document["loan"]
    assert (folder / "changes.csv").read_text() == "No,Word,Day\n1,NA,-\n2,b,-\n"
    assert (folder / "undo-changes.csv").read_text() == "No,Word,Day\n1,a,-\n2,NA,31/01/2024\n"
    assert (folder / "additions.csv").read_text() == "No,Word,Day\n4,NA,-\n"
    # and the next loan shows it
    program("lend", "f.csv", "--layout", "l.json", "--to", "n.csv", cwd=move, status=0)
    rows = [line.split(",")[:3] for line in (move / "n.csv").read_text("utf-8-sig").splitlines()]
    assert rows[1:] == [["1", "NA", "-"], ["2", "b", "-"], ["3", "NA", "-"], ["4", "NA", "-"]]


def test_what_does_not_go_together_is_not_carried_back(lent: Path) -> None:
    """Two fields of one column that were made different things; and a correction that the layout does not take."""
    layout = json.loads((lent / "layouts/people.json").read_text(encoding="utf-8"))
    layout["tableSchema"]["columns"].append({"name": "called", "titles": "Called"})
    (lent / "layouts/people.json").write_text(json.dumps(layout), encoding="utf-8")
    edit(lent / "plans/people.toml", "[fields]", "[fields]\ncalled = '{Name} -> squeeze'")
    program("build", "people", cwd=lent, status=0)
    program("lend", "people", "--to", "b.xlsx", cwd=lent, status=0)
    cells(lent / "b.xlsx", {"B2": "Anna", "G2": "Annie", "B3": "Ruy", "G3": "Ruy"})
    program("receive", "b.xlsx", "--accept", cwd=lent, status=0)
    document = program("carry-back", "people", "--json", cwd=lent, status=1).json
    assert {(one["key"], one["field"]) for one in document["carried"]} == {("P002", "Full name"), ("P002", "Called")}
    assert {(one["key"], one["field"]) for one in document["by_hand"]} == {("P001", "Full name"), ("P001", "Called")}
    (lent / "corrections").mkdir()
    (lent / "corrections/people.csv").write_text("key,field,was,is,who\nP001,Kind,dog,cow,\n", encoding="utf-8")
    told = program("build", "people", cwd=lent, status=2).err
    assert "Kind of P001 cannot be 'cow'" in told and "corrections/people.csv, line 2" in told


def test_a_review_remembers_what_the_target_held(lent: Path) -> None:
    now = (lent / "out/people.csv").read_text(encoding="utf-8").replace("P002;Rui;", "P002;Raul;")
    (lent / "now.csv").write_text(now, encoding="utf-8")
    cells(lent / "back.xlsx", {"B3": "Ruy"})
    program("receive", "back.xlsx", "--current", "now.csv", "--review", "--to", "r.xlsx", cwd=lent, status=1)
    decide(lent / "r.xlsx", {1: "accept"})
    assert "leave --accept out" in program("receive", "back.xlsx", "--review", "--accept", cwd=lent, status=2).err
    assert "stands in the review" in program("receive", "r.xlsx", "--fields", "Paid", cwd=lent, status=2).err
    document = program("receive", "r.xlsx", "--accept", "--json", cwd=lent, status=0).json
    assert [(c["key"], c["before"], c["after"]) for c in document["changes"]] == [("P002", "Raul", "Ruy")]


def test_a_loan_in_ods_says_on_its_headings_what_they_take(lent: Path) -> None:
    program("lend", "people", "--to", "lent.ods", cwd=lent, status=0)
    with zipfile.ZipFile(lent / "lent.ods") as old, zipfile.ZipFile(lent / "back.ods", "w") as new:
        content = old.read("content.xml").decode()
        for name in old.namelist():
            new.writestr(name, content.replace(">Rui<", ">Ruy<") if name == "content.xml" else old.read(name))
    notes = re.findall("<office:annotation>(.*?)</office:annotation>", content)
    assert len(notes) == 7 and "Required." in notes[0] and "One of: cat, dog." in notes[5]
    untouched = program("receive", "lent.ods", "--json", cwd=lent, status=0).json
    edited = program("receive", "back.ods", "--json", cwd=lent, status=0).json
    assert (untouched["changes"], untouched["notes"], edited["notes"]) == ([], [], [])
    assert [(one["key"], one["after"]) for one in edited["changes"]] == [("P002", "Ruy")]


def test_what_people_note_beside_cells_is_kept(lent: Path) -> None:
    change(lent / "back.xlsx", lambda sheet: setattr(sheet["B3"], "comment", Comment("two of them?", "Maria")))
    cells(lent / "back.xlsx", {"B2": "Anna"})
    program("receive", "back.xlsx", "--accept", cwd=lent, status=0)
    kept = (lent / "loans/people-2/notes.csv").read_text(encoding="utf-8-sig").splitlines()
    assert kept == ["by,cell,note", "Maria,B3,two of them?"]


def test_a_loan_as_tsv_comes_back_as_it_went(lent: Path) -> None:
    program("lend", "people", "--to", "lent.tsv", cwd=lent, status=0)
    text = (lent / "lent.tsv").read_text(encoding="utf-8-sig")
    assert text.splitlines()[0].split("\t")[:2] == ["Code", "Full name"]
    (lent / "back.tsv").write_text(text.replace("\tRui\t", "\tRuy\t"), encoding="utf-8")
    edited = program("receive", "back.tsv", "--json", cwd=lent, status=0).json
    assert [(one["key"], one["after"]) for one in edited["changes"]] == [("P002", "Ruy")]


def test_conversations_beside_cells_are_notes(lent: Path) -> None:
    """As today's spreadsheet programs write them, with a note of the older kind that only says that they cannot be shown."""
    space = 'xmlns="http://schemas.microsoft.com/office/spreadsheetml/2018/threadedcomments"'
    parts = {
        "xl/threadedComments/threadedComment1.xml": f'<ThreadedComments {space}><threadedComment ref="B3" personId="p1"><text>two of them?</text></threadedComment></ThreadedComments>',
        "xl/persons/person.xml": f'<personList {space}><person displayName="Maria" id="p1"/></personList>',
    }
    change(lent / "back.xlsx", lambda sheet: setattr(sheet["B3"], "comment", Comment("[Threaded comment]", "tc={1}")))
    with zipfile.ZipFile(lent / "back.xlsx", "a") as archive:
        for name, text in parts.items():
            archive.writestr(name, text)
    document = program("receive", "back.xlsx", "--json", cwd=lent, status=0).json
    assert document["notes"] == [{"by": "Maria", "cell": "B3", "note": "two of them?"}]


def test_a_change_set_overwrites_nothing_that_others_changed(lent: Path) -> None:
    """Its columns are those of all changes: in a row's other cells stands what the target holds by now, what another loan brought, or what a later build wrote."""
    edits = {"B2": "Anna", "D3": 5, "G5": "remove"}
    now = (lent / "out/people.csv").read_text(encoding="utf-8")
    now = now.replace("P001;Ana;31/01/1980;1234,50", "P001;Ana;31/01/1980;").replace("P002;Rui;;", "P002;Rui;;1,00")
    (lent / "now.csv").write_text(now, encoding="utf-8")

    def accepted(book: str, *said: str) -> list[list[dict[str, str]]]:
        program("receive", book, "--accept", *said, cwd=lent)
        folder = max(lent.glob("loans/*/changes.csv"), key=lambda path: path.stat().st_mtime_ns).parent
        return [table(folder / f"{name}.csv") for name in ("changes", "undo-changes")]

    cells(lent / "back.xlsx", edits)
    changes, undo = accepted("back.xlsx", "--current", "now.csv", "--prefer", "returned")
    assert [tuple(row.values()) for row in changes] == [("P001", "Anna", ""), ("P002", "Rui", "5,00")]
    assert [tuple(row.values()) for row in undo] == [("P001", "Ana", ""), ("P002", "Rui", "1,00")]
    # two loans of the same records, and then a build
    for name in ("one", "two", "three"):
        program("lend", "people", "--to", f"{name}.xlsx", cwd=lent, status=0)
    cells(lent / "one.xlsx", {"D4": 7})
    accepted("one.xlsx")
    cells(lent / "two.xlsx", {"B4": "Evi", "D2": 8, "G5": "remove"})
    changes, _ = accepted("two.xlsx")
    assert [tuple(row.values()) for row in changes] == [("P001", "Anna", "8,00"), ("P003", "Evi", "7,00")]
    edit(lent / "incoming/a.csv", "2,Rui,,,n,C,", "2,Rui,1999-12-31,,n,C,")
    program("build", "people", cwd=lent)
    cells(lent / "three.xlsx", {"F3": "dog", "C4": None})
    changes, _ = accepted("three.xlsx")
    assert [tuple(row.values()) for row in changes] == [("P002", "31/12/1999", "dog"), ("P003", "", "")]


def test_what_undoes_a_removal_is_what_stood_there(lent: Path) -> None:
    for name in ("one", "two"):
        program("lend", "people", "--to", f"{name}.xlsx", cwd=lent, status=0)
    cells(lent / "one.xlsx", {"D5": 3})
    program("receive", "one.xlsx", "--accept", cwd=lent, status=0)
    cells(lent / "two.xlsx", {"G5": "remove"})
    program("receive", "two.xlsx", "--accept", "--prefer", "returned", cwd=lent, status=0)
    assert table(next(lent.glob("loans/*/undo-removals.csv")))[0]["Paid"] == "3,00"


def test_a_file_whose_first_record_is_of_another_loan_is_still_of_the_one_that_most_are_of(lent: Path) -> None:
    """What stands at its beginning is read beside it in advance, and believed only where the whole says so."""
    for name in ("one", "two"):
        program("lend", "people", "--to", f"{name}.csv", cwd=lent, status=0)
    strange = (lent / "one.csv").read_text(encoding="utf-8-sig").splitlines()[1]
    heading, first, *others = (lent / "two.csv").read_text(encoding="utf-8-sig").splitlines()
    assert strange.split(",")[0] == first.split(",")[0] == "P001"
    others[0] = others[0].replace(",Rui,", ",Ruy,")
    (lent / "back.csv").write_text("\n".join([heading, strange, *others]) + "\n", encoding="utf-8")
    document = program("receive", "back.csv", "--json", cwd=lent, status=1).json
    assert document["loan"] == others[0].rpartition(",")[2].split(":")[0]
    assert [(one["key"], one["after"]) for one in document["changes"]] == [("P002", "Ruy")]
    assert "loan.foreign-row" in [one["code"] for one in document["findings"]]


def test_which_cells_were_lent_to_be_corrected() -> None:
    rows = pl.DataFrame(
        {
            "why": ['Paid "x" [code: a number]', "read.ragged", 'Born "1" [code: a date]; Name (blank) [code]'],
            "Paid": ["x", "2", "3"],
            "Born": ["x y", None, "1"],
            "Name": ["Ana", "Rui", None],
        }
    )
    found = faulty_cells(rows, pl.col("why"), {one: pl.col(one) for one in ("Paid", "Born", "Name")})
    # what is quoted; all of a record of which nothing is; what is blank
    assert found.rows() == [(True, False, False), (True, True, True), (False, True, True)]


def test_a_field_of_any_name_is_corrected(move: Path) -> None:
    edit(move / "layouts/people.json", '"titles": "Paid"', '"titles": "row"')
    (move / "corrections").mkdir()
    (move / "corrections/people.csv").write_text('key,field,was,is,who\nP001,row,"1234,50","2,00",Ana\n')
    program("build", cwd=move, status=1)
    assert [row["row"] for row in table(move / "out/people.csv")] == ["2,00", "", "0,00"]
