"""Checking: each thing wrong with a file is one finding at its place."""

from __future__ import annotations

import csv
import re
import zipfile
from pathlib import Path
from typing import Any

import polars as pl
import pytest
import xlsxwriter
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import layout_json, program
from mudanza.core.findings.codes import CODES
from mudanza.core.layouts.csvw import read_layout
from mudanza.core.sources import cells as looking
from mudanza.core.sources.cell_refs import cell_refs, with_usual_quotes
from mudanza.core.sources.cells import column_letters
from mudanza.core.sources.far_cells import without_far_cells
from mudanza.core.work.check import check
from mudanza.core.work.checking import keys
from test_reading import book

HEAD = "Code;Full name;Born;Paid;Active;Kind\n"
GOOD = "P001;Ana;31/01/1980;1,50;J;dog\n"

# what stands in the file, then code, line, column and value of each finding
FILES = [
    ("fine", HEAD + GOOD, []),
    ("only a heading", HEAD, []),
    ("a column missing", "Code;Full name;Born;Paid;Active\nP001;Ana;;;\n", [("heading.missing", 1, "Kind", None)]),
    ("a column too many", "Code;Full name;Born;Paid;Active;Kind;More\nP001;Ana;;;;;x\n", [("heading.extra", 1, "More", "More")]),
    ("almost the heading", HEAD.replace("Full name", "full  name") + GOOD, [("heading.similar", 1, "Full name", "full  name")]),
    ("the plan's name as heading", HEAD.replace("Full name", "name") + GOOD, [("heading.similar", 1, "Full name", "name")]),
    ("a heading twice", "Code;Full name;Born;Paid;Active;Kind;Paid\nP001;Ana;;;;;\n", [("heading.repeated", 1, "Paid", None)]),
    ("another order", "Full name;Code;Born;Paid;Active;Kind\nAna;P001;;;;\n", [("heading.order", 1, "Full name", "column 1")]),
    ("title lines above", "People of May\n\n" + HEAD + GOOD + GOOD.replace("P001", "P002"), [("heading.not-first", 3, None, None)]),
    ("another delimiter", (HEAD + GOOD.replace(",", ".")).replace(";", "|"), [("file.delimiter", None, None, "|"), ("value.kind", 2, "Paid", "1.50")]),
    ("ragged", HEAD + "P001;Ana\n" + GOOD, [("read.ragged", 2, None, "2 values")]),
    ("line breaks count", HEAD + 'P001;"A\nn\na";;;;\nP002;;;;;\n', [("value.required", 5, "Full name", None)]),
    ("key twice", HEAD + GOOD + "P002;Eva;;;;\n" + GOOD.replace("Ana", "Zé"), [("key.repeated", 4, "Code", "P001")]),
    ("exactly the same row twice", HEAD + GOOD + GOOD, [("key.repeated", 3, "Code", "P001")]),
    ("all wrong", HEAD + "x;a name too long;1980-01-31;1.5;yes;Dog\n", [
        ("value.pattern", 2, "Code", "x"), ("value.too-long", 2, "Full name", "a name too long"), ("value.kind", 2, "Born", "1980-01-31"),
        ("value.kind", 2, "Paid", "1.5"), ("value.kind", 2, "Active", "yes"), ("value.not-permitted", 2, "Kind", "Dog"),
    ]),
    ("spaces only are blank", HEAD + "P001;  ; ; ;;\n", [("value.required", 2, "Full name", "  ")]),
]  # fmt: skip


@pytest.mark.parametrize(("content", "expected"), [case[1:] for case in FILES], ids=[case[0] for case in FILES])
def test_what_is_wrong_is_found_at_its_place(move: Path, content: str, expected: list[tuple]) -> None:
    (move / "f.csv").write_text(content, encoding="utf-8", newline="")
    document = program("check", "f.csv", "--layout", "people", "--json", cwd=move, status=1 if expected else 0).json
    found = [(f["code"], f["line"], f["column"], f["value"]) for f in document["findings"]]
    assert found == expected
    assert all(f["hint"] and f["severity"] == str(CODES[f["code"]].severity) for f in document["findings"])


def test_another_encoding_is_one_finding_and_stray_bytes_are_their_rows(move: Path) -> None:
    (move / "f.csv").write_bytes((HEAD + GOOD.replace("Ana", "José") * 1).encode("cp1252"))
    document = program("check", "f.csv", "--layout", "people", "--json", cwd=move, status=1).json
    assert [(f["code"], f["value"]) for f in document["findings"]] == [("file.encoding", "cp1252")]
    rows = "".join(f"P{n:03d};José é;;;;\n" for n in range(1, 60)).encode()
    (move / "f.csv").write_bytes(HEAD.encode() + rows + b"P060;Jos\xe9;;;;\n")
    document = program("check", "f.csv", "--layout", "people", "--json", cwd=move, status=1).json
    assert [(f["code"], f["line"]) for f in document["findings"]] == [("read.undecodable", 61)]


def test_a_workbook_is_checked_by_its_cells(move: Path) -> None:
    head = HEAD.strip().split(";")
    rows = [head, ["P001", "Ana", "1980-01-31", 12.5, "J", "dog"], ["P002", None, "31/01/1980", 12.555, "N", "cow"]]
    book(move / "f.xlsx", {"Notes": [["for you"]], "Sheet": rows})
    found = program("check", "f.xlsx", "--layout", "people", "--json", cwd=move, status=1).json["findings"]
    assert [(f["code"], f["cell"]) for f in found] == [
        ("cell.number-as-text", "Sheet!C2"),
        ("value.required", "Sheet!B3"),
        ("value.too-exact", "Sheet!D3"),
        ("value.not-permitted", "Sheet!F3"),
    ]


def test_references_lead_somewhere(tmp_path: Path) -> None:
    key = {"columnReference": "owner", "reference": {"resource": "owners.csv", "columnReference": "code"}}
    columns = [{"name": "owner", "titles": "Owner"}, {"name": "day", "titles": "Day"}]
    (tmp_path / "l.json").write_text(layout_json(columns, foreignKeys=[key]))
    (tmp_path / "visits.csv").write_text("Owner,Day\nO1,1\nO9,2\n,3\n")
    unchecked = program("check", "visits.csv", "--layout", "l.json", "--json", cwd=tmp_path, status=0).json["findings"]
    assert [f["code"] for f in unchecked] == ["reference.unchecked"]
    (tmp_path / "mine").mkdir()
    (tmp_path / "mine/owners.csv").write_text("Name,Code\nAna,O1\nRui,O2\n")
    found = program(
        "check", "visits.csv", "--layout", "l.json", "--with", "mine/owners.csv", "--json", cwd=tmp_path, status=1
    ).json
    assert [(f["code"], f["line"], f["value"]) for f in found["findings"]] == [("reference.missing", 3, "O9")]
    (tmp_path / "owners.csv").write_text("Nome\nAna\n")
    # what merely lies beside may be another file
    (beside,) = program("check", "visits.csv", "--layout", "l.json", "--json", cwd=tmp_path, status=0).json["findings"]
    assert beside["code"] == "reference.unchecked" and "no column 'code'" in beside["rule"]
    named = ["check", "visits.csv", "--layout", "l.json", "--with"]
    assert "no column 'code'" in program(*named, "owners.csv", cwd=tmp_path, status=3).err
    # a heading is known by the title that the other layout has for it
    (tmp_path / "mine/owners.csv").write_text("Name,No. of owner\nAna,O1\nRui,O2\n")
    assert "no column 'code'" in program(*named, "mine/owners.csv", cwd=tmp_path, status=3).err
    fields = [{"name": "name", "titles": "Name"}, {"name": "code", "titles": "No. of owner"}]
    (tmp_path / "owners.json").write_text(layout_json(fields, url="owners.csv"))
    found = program(*named, "mine/owners.csv", "--json", cwd=tmp_path, status=1).json["findings"]
    assert [f["code"] for f in found] == ["reference.missing"]
    # the wrong layout is told before all that follows from it
    told = program("check", "mine/owners.csv", "--layout", "l.json", cwd=tmp_path, status=1).out
    assert "This looks like owners" in told and len(told.splitlines()) == 2


def test_keys_without_case_several_values_and_no_heading(tmp_path: Path) -> None:
    columns = [
        {"name": "a", "titles": "A"},
        {"name": "tags", "titles": "Tags", "separator": "|", "datatype": {"base": "string", "format": "x|y"}},
    ]
    more = {
        "primaryKey": "a",
        "urn:mudanza:keyIgnoresCase": True,
        "dialect": {"header": False, "lineTerminators": ["\n"]},
    }
    (tmp_path / "l.json").write_text(layout_json(columns, **more))
    (tmp_path / "f.csv").write_text("k1,x|y\nK1,x|z\n")
    found = program("check", "f.csv", "--layout", "l.json", "--json", cwd=tmp_path, status=1).json["findings"]
    assert [(f["code"], f["line"], f["value"]) for f in found] == [
        ("value.not-permitted", 2, "x|z"),
        ("key.repeated", 2, "K1"),
    ]


def test_findings_go_to_a_file_and_a_limit_shortens_the_list(move: Path) -> None:
    (move / "f.csv").write_text(HEAD + "".join(f"Q{n};Ana;;;;\n" for n in range(300)))
    document = program("check", "f.csv", "--layout", "people", "--limit", "5", "--json", cwd=move, status=1).json
    assert (len(document["findings"]), document["count"], document["rows"]) == (5, 300, 300)
    shown = program("check", "f.csv", "--layout", "people", "--findings", "all.csv", cwd=move, status=1).out
    assert "the first 20 of 300" in shown
    with (move / "all.csv").open(newline="") as file:
        assert [row["line"] for row in csv.DictReader(file)] == [str(n) for n in range(2, 302)]


def test_repeated_keys_are_told_over_many_batches(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    from mudanza.core.layouts.csvw import read_layout
    from mudanza.core.sources import delimited
    from mudanza.core.work import check as checking

    monkeypatch.setattr(delimited, "BLOCK", 1 << 12)
    (tmp_path / "l.json").write_text(layout_json([{"name": "a"}, {"name": "b"}], primaryKey=["a", "b"]))
    lines = [f"{n % 5000},{n // 9000}" for n in range(9500)]
    (tmp_path / "f.csv").write_text("a,b\n" + "\n".join(lines) + "\n")
    result = checking.check(tmp_path / "f.csv", read_layout(tmp_path / "l.json"))
    first: dict[str, int] = {}
    expected = []
    for number, line in enumerate(lines, start=2):
        if line in first:
            expected.append((number, f"unique; first in line {first[line]}"))
        first.setdefault(line, number)
    assert list(result.findings.select("line", "rule").iter_rows()) == expected


def test_the_layout_may_be_missing_or_the_file(move: Path) -> None:
    assert "did you mean 'people'" in program("check", "x.csv", "--layout", "peopel", cwd=move, status=2).err
    assert "does not exist" in program("check", "x.csv", "--layout", "people", cwd=move, status=3).err
    assert "does not exist" in program("check", "x.csv", "--layout", "no.json", cwd=move, status=2).err
    assert "a folder is checked as a whole" in program("check", "layouts", "--layout", "people", cwd=move, status=2).err


def test_sheets_are_checked_as_strictly_as_text(tmp_path: Path) -> None:
    columns = [
        {"name": "id", "titles": "Id", "required": True, "datatype": "integer"},
        {"name": "ratio", "titles": "Ratio", "datatype": {"base": "decimal", "maximum": "0.3333333333"}},
        {"name": "at", "titles": "At", "datatype": {"base": "time", "format": "HH:mm"}},
        {"name": "ok", "titles": "Ok", "datatype": {"base": "boolean", "format": "Y|N"}},
        {"name": "part", "titles": "Part", "datatype": {"base": "string", "format": "[0-9].[0-9]{8}"}},
    ]
    (tmp_path / "l.json").write_text(layout_json(columns, primaryKey="id"))
    made = xlsxwriter.Workbook(str(tmp_path / "f.xlsx"))
    sheet, clock, hours = (
        made.add_worksheet("S"),
        made.add_format({"num_format": "hh:mm"}),
        made.add_format({"num_format": "[h]:mm"}),
    )
    sheet.write_row(0, 0, ["Id", "Ratio", "At", "Ok", "Part"])
    sheet.write_row(1, 0, [1, 0.25])
    sheet.write_number(1, 2, 0.3125, clock)
    sheet.write_boolean(1, 3, True)
    # a text that looks like a number keeps its zero
    sheet.write_string(1, 4, "1.12345670")
    sheet.write_row(2, 0, [2.5, 1 / 3])
    sheet.write_number(2, 2, 1.5, hours)
    sheet.write_row(4, 0, [3, 0.1 + 0.2])
    sheet.write_string(4, 6, "beside")
    sheet.write_string(1048575, 16383, "far")
    made.close()
    found = check(tmp_path / "f.xlsx", read_layout(tmp_path / "l.json")).findings
    assert found.select("code", "line", "cell").rows() == [
        ("cell.far", None, "S!XFD1048576"),
        ("value.kind", 3, "S!A3"),
        ("value.too-large", 3, "S!B3"),
        ("value.kind", 3, "S!C3"),
        ("read.blank-lines", 4, None),
        ("heading.none", 5, "S!G5"),
    ]


@pytest.mark.parametrize("bits", [32, 62])
def test_keys_of_like_hashes_are_told_apart(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, bits: int) -> None:
    """Of a hash only a part is at hand before all rows were seen."""
    monkeypatch.setattr(keys, "_HALF", bits)
    (tmp_path / "l.json").write_text(layout_json([{"name": "a"}], primaryKey="a"))
    (tmp_path / "f.csv").write_text("a\n" + "".join(f"{n % 90:02}\n" for n in range(100)))
    found = check(tmp_path / "f.csv", read_layout(tmp_path / "l.json")).findings
    assert found["line"].to_list() == [*range(92, 102)] and found["rule"][9] == "unique; first in line 11"


def test_a_sheet_beyond_the_grid_is_refused_and_a_file_that_is_written_meanwhile_told(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "l.json").write_text(layout_json([{"name": "a"}, {"name": "b"}]))
    book(tmp_path / "f.xlsx", {"S": [["a", "b"], [1, 2]]})
    with zipfile.ZipFile(tmp_path / "f.xlsx") as old, zipfile.ZipFile(tmp_path / "g.xlsx", "w") as new:
        for name in old.namelist():
            new.writestr(name, old.read(name).replace(b'r="B2"', b'r="XFE1048577"'))
    assert "beyond the 1,048,576 rows" in program("check", "g.xlsx", "--layout", "l.json", cwd=tmp_path, status=3).err
    book(tmp_path / "t.xlsx", {"S": [["a", "b"], ['<c r="ZZZZ12345678">', ' r="XFE1048577"']]})
    program("check", "t.xlsx", "--layout", "l.json", cwd=tmp_path, status=0)
    (tmp_path / "f.csv").write_text("a,b\n1,2\n")
    from mudanza.core.work import check as checking

    states = iter([(8, 1), (9, 2)])
    monkeypatch.setattr(checking, "_state", lambda _: next(states))
    told = check(tmp_path / "f.csv", read_layout(tmp_path / "l.json"))
    assert [group.code for group in told.groups] == ["file.changed"]


@settings(deadline=None)
@given(st.lists(st.tuples(st.integers(0, 16_383), st.integers(1, 1_048_576), st.booleans()), max_size=30))
def test_cells_are_told_from_markup_in_bulk_as_one_by_one(cells: list[tuple[int, int, bool]]) -> None:
    markup = "".join(
        f"""<row r="{row}"><c r={q}{column_letters(column)}{row}{q} s="1" t="s"><v>"1" r="x"</v></c></row>"""
        for column, row, usual in cells
        for q in ('"' if usual else "'")
    ).encode()
    refs = cell_refs(with_usual_quotes(markup))
    named = refs.columns > 0
    assert list(zip(refs.columns[named] - 1, refs.rows[named], strict=True)) == [(c, r) for c, r, _ in cells]
    tags = refs.rows[(refs.columns == 0) & (refs.rows > 0)]
    assert tags.tolist() == [row for _, row, _ in cells]


@pytest.mark.parametrize("ending", ["csv", "xlsx"])
def test_many_fields_that_take_the_same_are_asked_as_each_by_itself(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, ending: str
) -> None:
    whole = {"datatype": {"base": "integer", "maximum": "90"}, "required": True}
    columns = [{"name": f"n{at}", **whole} for at in range(12)]
    columns[5:5] = [{"name": "t", "datatype": {"base": "string", "maxLength": 2}}, {"name": "d", "datatype": "date"}]
    (tmp_path / "l.json").write_text(layout_json(columns, primaryKey="n0"))
    names = [str(one["name"]) for one in columns]
    wrong: list[Any] = ["x", None, 95, "7.5", "12", 3.25, 8]
    rows = [[wrong[(row * 5 + at) % 7] for at in range(len(names))] for row in range(9)]
    if ending == "xlsx":
        book(tmp_path / "f.xlsx", {"S": [names, *rows]})
    else:
        texts = [",".join("" if cell is None else str(cell) for cell in row) for row in [names, *rows]]
        (tmp_path / "f.csv").write_text("\n".join(texts) + "\n")
    from mudanza.core.work.checking import rows as asking

    layout = read_layout(tmp_path / "l.json")
    each = check(tmp_path / f"f.{ending}", layout).findings
    monkeypatch.setattr(asking, "_MANY", 4)
    assert [len(group) for group in asking._alike(layout.fields)[1]] == [12]
    together = check(tmp_path / f"f.{ending}", layout).findings
    assert each.height > 60 and each.sort(each.columns).equals(together.sort(each.columns))
    # in the order of the file, row by row, and of what is asked together, field by field
    asked = together.filter(pl.col("code").str.starts_with("value.") & pl.col("field").str.starts_with("n"))
    place = pl.col("field").replace_strict({name: at for at, name in enumerate(names)}, return_dtype=pl.Int64)
    assert asked.equals(asked.sort("line", place, maintain_order=True))


def test_markup_is_cut_between_rows_wherever_its_pieces_end(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Also where texts have the ends of tags in them, or tags have prefixes: formulas, errors and merged areas are told, and far cells taken out."""
    made = xlsxwriter.Workbook(str(tmp_path / "w.xlsx"))
    sheet = made.add_worksheet("S")
    sheet.write_row(0, 0, ["a", "b"])
    for row in range(1, 60):
        sheet.write_row(row, 0, ["arrow> row> :row>", row])
    sheet.write_formula(30, 1, "=1+1", value=2)
    sheet.write_formula(31, 1, "=1/0", value="#DIV/0!")
    sheet.merge_range(40, 0, 42, 0, "x")
    sheet.write(1_000_000, 16_000, "far")
    made.close()
    raw = tmp_path / "raw.xlsx"
    with zipfile.ZipFile(tmp_path / "w.xlsx") as old, zipfile.ZipFile(raw, "w") as new:
        for name in old.namelist():
            # as some programs write it: ends of tags in texts stand as they are
            new.writestr(name, old.read(name).replace(b"&gt;", b">"))
    prefixed = tmp_path / "prefixed.xlsx"
    with zipfile.ZipFile(raw) as old, zipfile.ZipFile(prefixed, "w") as new:
        for name in old.namelist():
            part = old.read(name)
            if "worksheets/sheet" in name:
                part = re.sub(rb"<(/?)([a-zA-Z])", rb"<\1x:\2", part).replace(b"xmlns=", b"xmlns:x=")
            new.writestr(name, part)
    for path in (raw, prefixed):
        seen = []
        for size in (37, 300, 1 << 20):
            monkeypatch.setattr(looking, "_PIECE", size)
            cells = looking.look_at_cells(path, "xlsx", "S")
            far = without_far_cells(path, "xlsx", path)
            seen.append((cells.formulas, cells.errors, cells.merged, far.cells))
        assert seen[0] == seen[1] == seen[2]
        assert seen[0] == ([(30, 1), (31, 1)], {(31, 1): "#DIV/0!"}, [(40, 0, 42, 0)], {"S": ["WQK1000001"]}), path.name
