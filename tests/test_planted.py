"""Errors planted in clean files by a generator that knows each place: a check finds every one of them there, and nothing else."""

from __future__ import annotations

import csv
import io
import random
from collections.abc import Callable
from datetime import date, timedelta
from pathlib import Path
from typing import Any

import pytest
import xlsxwriter

from conftest import layout_json
from mudanza.core.layouts.csvw import read_layout, read_layouts
from mudanza.core.sources import delimited
from mudanza.core.work.check import check
from mudanza.core.work.package import check_package

COLUMNS: list[dict[str, Any]] = [
    {"name": "no", "titles": "No", "required": True, "datatype": {"base": "integer", "minimum": 1}},
    {"name": "branch", "titles": "Branch", "required": True, "datatype": {"base": "string", "format": "NOR|HAR|SUL"}},
    {"name": "name", "titles": "Name, full", "required": True, "datatype": {"base": "string", "minLength": 2, "maxLength": 20}},
    {"name": "code", "titles": "Code", "datatype": {"base": "string", "format": "[A-Z]{2}-[0-9]{4}"}},
    {"name": "born", "titles": "Born", "datatype": {"base": "date", "format": "dd/MM/yyyy", "minimum": "1950-01-01", "maximum": "2020-12-31"}},
    {"name": "due", "titles": "Due", "datatype": {"base": "decimal", "format": {"pattern": "0,00", "decimalChar": ","}, "maximum": 5000}},
    {"name": "at", "titles": "At", "datatype": {"base": "time", "format": "HH:mm"}},
    {"name": "active", "titles": "Active", "datatype": {"base": "boolean", "format": "J|N"}},
    {"name": "tags", "titles": "Tags", "separator": "|", "datatype": {"base": "string", "format": "a|b|c"}},
    {"name": "note", "titles": "Note", "urn:mudanza:forbidden": ";"},
    {"name": "parent", "titles": "Parent", "datatype": "integer"},
]  # fmt: skip
LAYOUT = layout_json(
    COLUMNS,
    url="people.csv",
    primaryKey=["no", "branch"],
    foreignKeys=[{"columnReference": "parent", "reference": {"resource": "parents.csv", "columnReference": "id"}}],
    dialect={"delimiter": ";", "encoding": "utf-8", "lineTerminators": ["\r\n", "\n"]},
)
PARENTS = layout_json([{"name": "id", "titles": "Id", "datatype": "integer"}], url="parents.csv", primaryKey="id")

#: what is put into a field in place of a good value ({n}: another number each time, so that no key repeats), and the code that tells it
PLANTS: list[tuple[str, str, str]] = [
    ("no", "", "value.required"), ("no", "{n}.5", "value.kind"), ("no", "x{n}", "value.kind"), ("no", "-{n}", "value.too-small"),
    ("branch", "nor", "value.not-permitted"), ("branch", "NOR ", "value.not-permitted"), ("branch", "", "value.required"),
    ("name", "", "value.required"), ("name", "   ", "value.required"), ("name", "Z", "value.too-short"), ("name", "N" * 21, "value.too-long"), ("name", "Ñandú " * 4, "value.too-long"),
    ("code", "AB-123", "value.pattern"), ("code", "ab-1234", "value.pattern"), ("code", "AB-1234 ", "value.pattern"), ("code", "АB-1234", "value.pattern"),
    ("born", "31/02/1990", "value.kind"), ("born", "1990-13-01", "value.kind"), ("born", "1/1/90", "value.kind"), ("born", "31/12/1949", "value.too-small"), ("born", "01/01/2021", "value.too-large"),
    ("due", "12", "value.kind"), ("due", "1.234,00", "value.kind"), ("due", "12,345", "value.kind"), ("due", "5000,01", "value.too-large"), ("due", "-", "value.kind"),
    ("at", "24:00", "value.kind"), ("at", "7:30", "value.kind"), ("at", "07:60", "value.kind"),
    ("active", "j", "value.kind"), ("active", "yes", "value.kind"),
    ("tags", "a|d", "value.not-permitted"), ("tags", "a||b ", "value.not-permitted"),
    ("note", "one; two", "value.forbidden"), ("parent", "99999", "reference.missing"), ("parent", "p1", "value.kind"),
]  # fmt: skip
COUNT = 240


def _good(rng: random.Random, number: int) -> dict[str, str]:
    maybe: Callable[[str], str] = lambda text: text if rng.random() < 0.8 else ""  # noqa: E731
    born = date(1950, 1, 1) + timedelta(days=rng.randrange(25_000))
    notes = ["", "plain", 'with "quotes"', "two\nlines", "comma, here", "Straße 5, Łódź", "#5 first"]
    return {
        "no": str(number),
        "branch": rng.choice(["NOR", "HAR", "SUL"]),
        "name": rng.choice(["Ana", "Rui Müller", "O'Brien", "Ñandú", "李雷"]),
        "code": maybe(f"{rng.choice('ABC')}{rng.choice('XYZ')}-{rng.randrange(10_000):04d}"),
        "born": maybe(born.strftime("%d/%m/%Y")),
        "due": maybe(f"{rng.randrange(0, 4999)},{rng.randrange(100):02d}"),
        "at": maybe(f"{rng.randrange(24):02d}:{rng.randrange(60):02d}"),
        "active": maybe(rng.choice("JN")),
        "tags": maybe("|".join(rng.sample("abc", rng.randrange(1, 4)))),
        "note": rng.choice(notes),
        "parent": maybe(str(rng.randrange(1, 50))),
    }


def _planted(seed: int, rows: int, plants: int) -> tuple[list[dict[str, str]], set[tuple[int, str, str]]]:
    """Rows, and what was planted: the number of the row, the field, the code. A row has one plant at most, every other none."""
    rng = random.Random(seed)
    made = [_good(rng, number) for number in range(1, rows + 1)]
    told = set()
    for turn, at in enumerate(rng.sample(range(1, rows, 2), plants)):
        name, value, code = PLANTS[turn % len(PLANTS)]
        if turn % (len(PLANTS) + 1) == len(PLANTS):
            # a key that an earlier row has, though it is written otherwise
            made[at].update(no=f"0{made[at - 1]['no']}", branch=made[at - 1]["branch"])
            told.add((at, "no, branch", "key.repeated"))
        else:
            made[at][name] = value.format(n=turn + 1)
            told.add((at, name, code))
    return made, told


def _titles(name: str) -> str:
    by_name = {one["name"]: one["titles"] for one in COLUMNS}
    return ", ".join(by_name[part] for part in name.split(", "))


def _folder(tmp_path: Path) -> None:
    (tmp_path / "people.json").write_text(LAYOUT)
    (tmp_path / "parents.json").write_text(PARENTS)
    (tmp_path / "parents.csv").write_text("Id\r\n" + "".join(f"{n}\r\n" for n in range(1, 50)), newline="")


@pytest.mark.parametrize(("seed", "plants"), [(1, 0), (2, COUNT), (3, COUNT)])
def test_every_plant_in_csv_is_found_at_its_line(
    tmp_path: Path, seed: int, plants: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(delimited, "BLOCK", 1 << 14)
    _folder(tmp_path)
    rows, told = _planted(seed, 2000, plants)
    text = io.StringIO(newline="")
    writer = csv.writer(text, delimiter=";", lineterminator="\r\n" if seed % 2 else "\n")
    writer.writerow([one["titles"] for one in COLUMNS])
    lines, line = [], 2
    for row in rows:
        writer.writerow(row.values())
        lines.append(line)
        line += 1 + row["note"].count("\n")
    (tmp_path / "people.csv").write_bytes(text.getvalue().encode())
    result = check(tmp_path / "people.csv", read_layout(tmp_path / "people.json"))
    expected = {(lines[at], _titles(name), code) for at, name, code in told}
    assert len(expected) >= plants * 0.95
    assert set(result.findings.select("line", "field", "code").rows()) == expected
    assert result.findings["line"].is_sorted() and result.rows == 2000
    # the first of the file, whatever the limit
    first = check(tmp_path / "people.csv", read_layout(tmp_path / "people.json"), limit=7)
    assert first.findings.equals(result.findings.head(7)) and first.total == result.total


def _as_cell(name: str, text: str) -> Any:
    """A value as a spreadsheet holds it; what is none of its kind as text."""
    try:
        if name in ("no", "parent"):
            return int(text) if text.lstrip("-").isdigit() else float(text)
        if name == "due":
            return float(text.replace(".", "x").replace(",", "."))
        if name == "born":
            day, month, year = text.split("/")
            return date(int(year), int(month), int(day)) if len(year) == 4 else text
        if name == "at":
            hours, minutes = map(int, text.split(":"))
            return (hours * 60 + minutes) / 1440 if hours < 24 and minutes < 60 and len(text) == 5 else text
    except ValueError:
        pass
    return text


@pytest.mark.parametrize(("seed", "plants"), [(4, 0), (5, COUNT)])
def test_every_plant_in_a_workbook_is_found_in_its_cell(tmp_path: Path, seed: int, plants: int) -> None:
    _folder(tmp_path)
    rows, told = _planted(seed, 1500, plants)
    # a sheet's number has no comma and no zeros at its end
    sheet_codes = {("due", "12"): None, ("due", "12,345"): "value.too-exact"}
    book = xlsxwriter.Workbook(str(tmp_path / "people.xlsx"))
    sheet = book.add_worksheet("People")
    day, clock = book.add_format({"num_format": "dd/mm/yyyy"}), book.add_format({"num_format": "hh:mm"})
    sheet.write_row(0, 0, [one["titles"] for one in COLUMNS])
    for at, row in enumerate(rows, start=1):
        for column, (name, text) in enumerate(row.items()):
            value = _as_cell(name, text)
            if isinstance(value, date):
                sheet.write_datetime(at, column, value, day)
            elif isinstance(value, float) and name == "at":
                sheet.write_number(at, column, value, clock)
            elif isinstance(value, int | float):
                sheet.write_number(at, column, value)
            else:
                sheet.write_string(at, column, value)
    book.close()
    result = check(tmp_path / "people.xlsx", read_layout(tmp_path / "people.json"))
    letters = {one["name"]: chr(65 + number) for number, one in enumerate(COLUMNS)}
    expected = set()
    for at, name, code in told:
        told_as = sheet_codes.get((name, rows[at].get(name, "")), code)
        if told_as is not None:
            expected.add((f"People!{letters[name.split(', ')[0]]}{at + 2}", told_as))
    assert set(result.findings.select("cell", "code").rows()) == expected


def test_a_package_of_planted_files_is_checked_whole(tmp_path: Path) -> None:
    _folder(tmp_path)
    rows, told = _planted(6, 400, 80)
    text = io.StringIO(newline="")
    csv.writer(text, delimiter=";").writerows([[one["titles"] for one in COLUMNS], *(row.values() for row in rows)])
    (tmp_path / "people.csv").write_text(text.getvalue(), newline="", encoding="utf-8")
    layouts = {one.name: one for name in ("people", "parents") for one in read_layouts(tmp_path / f"{name}.json")}
    result = check_package(tmp_path, layouts)
    assert {Path(one.file).name: one.total for one in result.files} == {"parents.csv": 0, "people.csv": len(told)}
    assert [f["code"] for f in result.findings.to_dicts()] == []
