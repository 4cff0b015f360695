"""Headers and their lines: what becomes of the others where one of them is held back, and what their sums come to."""

from __future__ import annotations

import csv
import json
import shutil
from pathlib import Path
from xml.etree import ElementTree

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import edit, layout_json, program, stories
from mudanza.core.plans.move_settings import read_move
from mudanza.core.work.build import build

_NUMBER = {"base": "decimal", "format": {"pattern": "0.00"}}
PLANS = {
    "bills": "code = '{No} -> mint bills'\nname = '{Name} -> expect it matches \"[a-z]+\" \"a name\"'\ntotal = '{Total} -> number'\n",
    "lines": "no = '{Nr}'\nbill = '{Bill} -> key bills'\namount = '{Amount} -> number'\n",
}


def make(move: Path, says: str) -> Path:
    for folder in ("plans", "layouts", "incoming"):
        (move / folder).mkdir(parents=True)
    (move / "mudanza.toml").write_text('[keys.bills]\npattern = "B{00}"\n')
    bills = [{"name": "code", "required": True}, {"name": "name"}, {"name": "total", "datatype": _NUMBER}]
    lines = [{"name": "no"}, {"name": "bill", "required": True}, {"name": "amount", "datatype": _NUMBER}]
    refers = {"columnReference": "bill", "reference": {"resource": "bills.csv", "columnReference": "code"}}
    (move / "layouts/bills.json").write_text(layout_json(bills, url="bills.csv", primaryKey="code"))
    (move / "layouts/lines.json").write_text(layout_json(lines, primaryKey="no", foreignKeys=[refers]))
    for name, fields in PLANS.items():
        source = f'layout = "layouts/{name}.json"\n[[source]]\nname = "old"\nfile = "incoming/{name}.csv"\n[fields]\n{fields}'
        (move / f"plans/{name}.toml").write_text(source + (says if name == "lines" else ""))
    return move


def write(move: Path, bills: list[tuple[str, str]], lines: list[tuple[str, str]]) -> None:
    """Bills by their names and totals, and lines by their bills (from 0) and amounts."""
    with (move / "incoming/bills.csv").open("w", newline="") as file:
        csv.writer(file).writerows([("No", "Name", "Total"), *((n, *bill) for n, bill in enumerate(bills))])
    with (move / "incoming/lines.csv").open("w", newline="") as file:
        csv.writer(file).writerows([("Nr", "Bill", "Amount"), *((f"n{n}", *line) for n, line in enumerate(lines))])


def column(path: Path, name: str) -> list[str]:
    with path.open(newline="") as file:
        return [row[name] for row in csv.DictReader(file)]


def expected(
    bills: list[tuple[str, str]], lines: list[tuple[str, str]], goes: str, summed: bool
) -> tuple[list[int], list[int], set[str]]:
    """The numbers of bills and lines that a plain loop writes, and what it finds of totals."""
    there = {str(n) for n, (name, _) in enumerate(bills) if name.isalpha()}
    good = {n for n, (bill, amount) in enumerate(lines) if amount != "x" and bill in there}
    apart: set[str] = set()
    differs: set[str] = set()
    while True:
        standing = {n for n in good if lines[n][0] in there - (apart if goes != "each for itself" else set())}
        sums = {b: sum(float(lines[n][1]) for n in standing if lines[n][0] == b) for b in there}
        differs = {b for b in there - apart if summed and bills[int(b)][1] and float(bills[int(b)][1]) != sums[b]}
        more = {lines[n][0] for n in range(len(lines)) if n not in standing and lines[n][0] in there} | differs
        if goes == "each for itself" or more <= apart:
            break
        apart |= more
    written = there - apart if goes == "all or none" else there
    return sorted(int(b) for b in written), sorted(standing), differs


_bills = st.lists(st.tuples(st.sampled_from(["a", "b", "b", "?"]), st.sampled_from(["", "3", "1", "0"])), max_size=4)
_lines = st.lists(
    st.tuples(st.sampled_from(["0", "1", "2", "3", "9"]), st.sampled_from(["1", "1", "2", "x"])), max_size=7
)


@stories(12)
@given(bills=_bills, lines=_lines, goes=st.sampled_from(["each for itself", "all lines or none", "all or none"]), summed=st.booleans())  # fmt: skip
def test_headers_and_lines_go_as_a_plain_loop_would_have_them(
    tmp_path: Path, bills: list[tuple[str, str]], lines: list[tuple[str, str]], goes: str, summed: bool
) -> None:
    asked = ', sum = "amount", is = "total"' if summed else ""
    shutil.rmtree(tmp_path / "move", ignore_errors=True)
    move = make(tmp_path / "move", f'[together]\nbill = {{ goes = "{goes}"{asked} }}\n')
    write(move, bills, lines)
    wanted_bills, wanted_lines, differs = expected(bills, lines, goes, summed)
    result = build(read_move(move), [], fewer=True, new_identities=True)
    assert all(one.balance.holds for one in result.lists)
    assert column(move / "out/bills.csv", "name") == [bills[n][0] for n in wanted_bills]
    # identifiers go to those alone that are written, without a gap
    assert column(move / "out/bills.csv", "code") == [f"B{n:02d}" for n in range(1, len(wanted_bills) + 1)]
    assert column(move / "out/lines.csv", "no") == [f"n{n}" for n in wanted_lines]
    told = {group.code: group.count for one in result.lists for group in one.findings}
    if goes == "each for itself":
        assert told.get("together.differs", 0) == len(differs) and "together.incomplete" not in told


def test_a_header_goes_with_its_lines(tmp_path: Path) -> None:
    """It is told which row keeps the others; a rehearsal tells it first; one is not built without the other."""
    move = make(tmp_path / "move", '[together]\nbill = { goes = "all or none", sum = "amount", is = "total" }\n')
    write(move, [("a", "3"), ("b", "5"), ("c", "")], [("0", "1"), ("0", "x"), ("1", "4"), ("2", "7")])
    lists = program("build", "--rehearse", "--json", cwd=move, status=1).json["lists"]
    groups = {(one["list"], group["code"]): group for one in lists for group in one["findings"]}
    example = groups["bills", "together.incomplete"]["example"]
    assert (example["line"], example["value"]) == (2, "incoming/lines.csv line 3")
    assert 'it is held back: amount "x"' in example["rule"]
    differs = groups["bills", "together.differs"]["example"]
    assert (differs["value"], differs["rule"]) == ("5", "4, the sum of amount of its lines in lines")
    assert groups["lines", "together.incomplete"]["count"] == 2
    assert [one["written"] for one in lists] == [1, 1]
    # nothing is known of a plan that is not finished
    (move / "plans/drafted.toml").write_text("[fields]\n")
    for made, other in (("bills", "bills"), ("lines", "lines")):
        wrong = program("build", made, cwd=move, status=2).err
        assert f"only {other} was to be built" in wrong and "mudanza build bills lines" in wrong
    assert program("preview", "bills", "--json", cwd=move, status=0).json["goes_with"] == ["lines"]
    edit(move / "plans/lines.toml", '{ goes = "all or none", sum = "amount", is = "total" }', '"each for itself"')
    program("build", "bills", cwd=move, status=0)


@pytest.mark.parametrize(
    ("says", "words"),
    [
        ('bill = "whole"', "does not say how"),
        ('amount = "all or none"', "no reference by 'amount'"),
        ('bill = { sum = "amount" }', "both are to be said"),
        ('bill = { sum = "bill", is = "total" }', "only numbers have sums"),
        ('bill = { sum = "amount", is = "name" }', "bills has no number 'name'"),
    ],
)
def test_what_a_plan_says_of_them_is_checked(tmp_path: Path, says: str, words: str) -> None:
    move = make(tmp_path / "move", f"[together]\n{says}\n")
    write(move, [("a", "3")], [("0", "3")])
    assert words in program("build", cwd=move, status=2).err
    edit(move / "plans/lines.toml", says, 'bill = "all or none"')
    program("build", cwd=move, status=0)


# in one file

LINES = [("0", "1"), ("1", "5"), ("0", "2"), ("3", "1")]
#: what each bill has: its code and the numbers of its lines
WHOLE = [("B01", ["n0", "n2"]), ("B02", ["n1"]), ("B03", []), ("B04", ["n3"])]
FORMS: dict[str, dict[str, object]] = {
    "json": {"format": "json", "records": "all.bills", "lines": {"lines": "positions"}},
    "ndjson": {"format": "ndjson", "blanks": "left out", "lines": {"lines": "count"}},
    "xml": {"format": "xml", "records": "bills.bill", "lines": {"lines": "header"}},
    "csv": {"format": "csv", "tag": "BILL", "lines": {"lines": "LINE"}},
}


def with_lines(path: Path, form: str) -> list[tuple[str, list[str]]]:
    """The bills of a file with the numbers of their lines, by libraries that are not ours."""
    text = path.read_text("utf-8")
    if form == "xml":
        bills = ElementTree.fromstring(text).findall("bill")
        return [(str(one.findtext("code")), [str(line.findtext("no")) for line in one.iter("header")]) for one in bills]
    if form == "csv":
        found: list[tuple[str, list[str]]] = []
        for tag, first, *_ in csv.reader(text.splitlines()):
            if tag == "BILL":
                found.append((first, []))
            elif tag == "LINE":
                found[-1][1].append(first)
        return found
    records = [json.loads(line) for line in text.splitlines()] if form == "ndjson" else json.loads(text)["all"]["bills"]
    # a heading that something of the work may be called by, too
    lines = "count" if form == "ndjson" else "positions"
    return [(one["code"], [line["no"] for line in one[lines]]) for one in records]


@pytest.mark.parametrize("form", FORMS)
def test_headers_stand_in_one_file_with_their_lines(tmp_path: Path, form: str) -> None:
    move = make(tmp_path / "m", "")
    write(move, [("ana", "3"), ("rui", "5"), ("eva", "0"), ("ivo", "1")], LINES)
    path = move / "layouts/bills.json"
    layout = {**json.loads(path.read_text()), "urn:mudanza:form": FORMS[form]}
    layout["tableSchema"]["urn:mudanza:rowsPerFile"] = 3
    path.write_text(json.dumps(layout))
    built = program("build", "--json", cwd=move, status=0).json
    ending = f".{form}"
    assert with_lines(move / f"out/bills.with-lines{ending}", form) == WHOLE
    # no part has more than three records, and none divides a bill from its lines
    parts = [with_lines(move / f"out/bills.with-lines.part-{n}{ending}", form) for n in (1, 2, 3)]
    assert parts == [WHOLE[:1], WHOLE[1:3], WHOLE[3:]]
    files = [Path(file["path"]).name for one in built["lists"] if one["list"] == "bills" for file in one["files"]]
    assert [name for name in files if "with-lines" in name] == [
        f"bills.with-lines{ending}", *(f"bills.with-lines.part-{n}{ending}" for n in (1, 2, 3)),
    ]  # fmt: skip
    # the two lists are checked by themselves, and what is made of them not once more
    told = program("check", "out", "--json", cwd=move, status=0).json
    assert sorted(Path(one["file"]).name for one in told["files"]) == sorted(
        [f"bills.part-{n}{ending}" for n in (1, 2)] + ["lines.csv"]
    )
    assert "Build both" in program("build", "bills", cwd=move, status=2).err
    # lines that belong to no bill would be lost
    edit(move / "layouts/lines.json", '"required": true', '"required": false')
    edit(move / "plans/lines.toml", "{Bill} -> key bills", "{Bill} -> key bills or blank")
    write(move, [("ana", "3")], [("0", "1"), ("7", "1")])
    assert "would be lost" in program("build", "--fewer", "--new-identities", cwd=move, status=2).err
