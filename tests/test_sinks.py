"""Every form that files are written in: what was written is read back the same, by our own reader and by libraries that are not ours."""

from __future__ import annotations

import csv
import io
import json
import os
import subprocess
import time
from datetime import date, datetime
from decimal import Decimal
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import openpyxl
import polars as pl
import pyarrow.parquet
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import PEOPLE_COLUMNS, alone, installed, layout_json, needs_office, office, program, some, stories
from mudanza.core.documents.errors import LayoutError
from mudanza.core.layouts.csvw import read_layout
from mudanza.core.layouts.layout import Layout
from mudanza.core.layouts.rules import render
from mudanza.core.sinks import csv_text
from mudanza.core.sinks.formats import SINKS, RecordFile, sink_of
from mudanza.core.values.kinds import Kind

FORMS = [*SINKS]
FIELDS: list[dict[str, Any]] = [
    {"name": "id", "titles": "id", "datatype": "long"},
    {"name": "code", "titles": "code", "urn:mudanza:attribute": True},
    {"name": "owed", "titles": "sums.owed", "datatype": {"base": "decimal", "format": {"pattern": "#.##0,00##", "decimalChar": ",", "groupChar": "."}}},
    {"name": "rate", "titles": "sums.rate", "datatype": "decimal", "null": ["-"]},
    {"name": "born", "titles": "born", "datatype": {"base": "date", "format": "d/M/yyyy"}},
    {"name": "seen", "titles": "seen", "datatype": {"base": "datetime", "format": "dd.MM.yyyy HH:mm:ss"}},
    {"name": "active", "titles": "active", "datatype": {"base": "boolean", "format": "S|N"}},
    {"name": "note", "titles": "note"},
    {"name": "tags", "titles": "tags", "separator": "|"},
    {"name": "sizes", "titles": "sizes", "separator": ";", "datatype": "decimal"},
]  # fmt: skip
TITLES = [one["titles"] for one in FIELDS]


def layout_of(folder: Path, form: Any, columns: list[dict[str, Any]] = FIELDS, **more: Any) -> Layout:
    wide = [{**one, "urn:mudanza:width": 40} for one in columns]
    path = folder / "things.json"
    path.write_text(layout_json(wide, primaryKey="id", **{"urn:mudanza:form": form}, **more))
    return read_layout(path)


def write(layout: Layout, parts: list[pl.DataFrame]) -> bytes:
    buffer = io.BytesIO()
    file = RecordFile(buffer, sink_of(layout).writer(layout, [one.title for one in layout.fields]))
    for part in parts:
        file.write(part)
    file.close()
    return buffer.getvalue()


_texts = st.text(st.one_of(st.characters(codec="utf-8"), st.sampled_from(" =\"+-@<&>'|;\n\t\r,0_x")), max_size=12)
_parts = st.text("ab ,é<\"'&", max_size=4).map(str.strip)
_numbers = st.decimals(-(10**12), 10**12, places=4, allow_nan=False)
_moments = st.datetimes(datetime(1000, 1, 1), datetime(9999, 12, 31)).map(lambda one: one.replace(microsecond=0))
_records = st.fixed_dictionaries(
    {
        "id": st.integers(-(2**63) + 1, 2**63 - 1).map(Decimal),
        "code": st.one_of(
            _texts, st.sampled_from(["007", "1e5", "=1+1", "TRUE", "12345678901234567890", "_x0041_", "#N/A"])
        ),
        "sums.owed": st.none() | _numbers,
        "sums.rate": st.none() | st.decimals(-(10**20), 10**20, places=12, allow_nan=False),
        "born": st.none() | st.dates(date(1, 1, 1)),
        "seen": st.none() | _moments,
        "active": st.none() | st.booleans(),
        "note": _texts,
        "tags": st.lists(_parts, max_size=3),
        "sizes": st.lists(st.decimals(-999, 999, places=2, allow_nan=False), max_size=3),
    }
)


def as_rendered(layout: Layout, records: list[dict[str, Any]]) -> pl.DataFrame:
    """Records as a build hands them to a sink, without those that the sink would have held back."""
    kinds = {
        Kind.NUMBER: pl.Decimal(38, 12),
        Kind.DATE: pl.Date,
        Kind.DATETIME: pl.Datetime("us"),
        Kind.YESNO: pl.Boolean,
    }
    made = []
    for one in layout.fields:
        values = [record[one.title] for record in records]
        if one.separator is not None:
            texts = [
                [f"{part.normalize():f}" if isinstance(part, Decimal) else part for part in value] for value in values
            ]
            series, kind = pl.Series(texts, dtype=pl.List(pl.String)), Kind.TEXTS
        else:
            series, kind = pl.Series(values, dtype=kinds.get(one.kind, pl.String)), one.kind
        made.append(series.to_frame("v").select(render(one, pl.col("v"), kind)).to_series().alias(one.title))
    frame = pl.DataFrame(made)
    asked = [problem for one in layout.fields for problem in sink_of(layout).problems(one, layout, pl.col(one.title))]
    stops = [problem.when.fill_null(False) for problem in asked if problem.code != "value.formula"]
    return frame.filter(~pl.any_horizontal(stops)) if stops else frame


@stories(5)
@given(records=st.lists(_records, min_size=1, max_size=5))
@pytest.mark.parametrize("form", FORMS)
def test_what_is_written_is_read_back_the_same(tmp_path: Path, form: str, records: list[dict[str, Any]]) -> None:
    layout = layout_of(tmp_path, form)
    rows = as_rendered(layout, records)
    whole = write(layout, [rows])
    # however they came, the bytes are the same
    assert whole == write(layout, [rows[:1], rows[1:]])
    path = tmp_path / f"things{layout.form.ending}"
    path.write_bytes(whole)
    back = sink_of(layout).read(path, layout, "things").drop("#line")
    assert back.rows() == rows.rows()


@pytest.mark.parametrize("form", [*FORMS, {"format": "json", "blanks": "left out"}])
def test_what_is_planned_grows_with_the_fields_and_with_nothing_else(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, form: Any
) -> None:
    """An expression that stands in another twice is planned twice, and one record would cost seconds."""

    def planned(count: int, deep: int) -> int:
        kinds: list[Any] = ["decimal", "string", {"base": "date", "format": "d/M/yyyy"}, "double", "boolean"]
        within = "".join(f"l{n}." for n in range(deep))
        columns = [
            {"name": f"f{n}" if n else "id", "titles": f"{within}f{n}", "datatype": kinds[n % 5]} for n in range(count)
        ]
        layout = layout_of(tmp_path, form, columns)
        sink = sink_of(layout).writer(layout, [one.title for one in layout.fields])
        size = 0

        def counted(run: Any) -> Any:
            def wrapped(frame: pl.DataFrame, *columns: Any, **more: Any) -> pl.DataFrame:
                nonlocal size
                given = [
                    one for many in columns for one in ([many] if isinstance(many, pl.Expr | pl.Series) else [*many])
                ]
                size += sum(len(str(one)) for one in given)
                return run(frame, given, **more)

            return wrapped

        with monkeypatch.context() as patch:
            for name in ("select", "with_columns"):
                patch.setattr(pl.DataFrame, name, counted(getattr(pl.DataFrame, name)))
            sink.rows(pl.DataFrame({one.title: ["1.50"] for one in layout.fields}))
        return size

    few = planned(10, 1)
    assert planned(40, 1) <= 4.5 * few
    assert planned(10, 9) <= 4 * few
    assert few < 50_000


RECORDS: list[dict[str, Any]] = [
    {
        "id": Decimal(1), "code": "007", "sums.owed": Decimal("1234.5"), "sums.rate": Decimal("0.000000000001"), "born": date(1980, 1, 31),
        "seen": datetime(2024, 2, 29, 7, 30, 15), "active": True, "note": "two  spaces", "tags": ["a b", "c<&>"], "sizes": [Decimal("1.5"), Decimal(2)],
    },
    {
        "id": Decimal(2), "code": '=1+1 "x"', "sums.owed": None, "sums.rate": Decimal("12345678901234567890"), "born": None, "seen": None, "active": False, "note": None,
        "tags": [], "sizes": [],
    },
]  # fmt: skip


def flat(node: dict[str, Any], before: str = "") -> dict[str, Any]:
    """An object within objects by dotted names."""
    found: dict[str, Any] = {}
    for key, value in node.items():
        found.update(flat(value, f"{before}{key}.") if isinstance(value, dict) else {f"{before}{key}": value})
    return found


def by_others(form: str, data: bytes, path: Path) -> list[dict[str, Any]]:
    """The records as a library reads them that is not ours."""
    text = data.decode() if form in ("csv", "tsv", "json", "ndjson", "xml", "fixed") else ""
    match form:
        case "csv" | "tsv":
            return [*csv.DictReader(io.StringIO(text), delimiter="\t" if form == "tsv" else ",")]
        case "json":
            return [flat(one) for one in json.loads(text, parse_float=Decimal)]
        case "ndjson":
            return [flat(json.loads(line, parse_float=Decimal)) for line in text.splitlines()]
        case "xml":
            found = []
            for record in ElementTree.fromstring(text):
                cells: dict[str, Any] = dict(record.attrib)
                for one in [each for each in record.iter() if each is not record and each.tag != "sums"]:
                    name = f"sums.{one.tag}" if one.tag in ("owed", "rate") else one.tag
                    cells.setdefault(name, []).append(one.text)
                found.append(cells)
            return found
        case "fixed":
            lines = text.split("\r\n")[:-1]
            return [{title: line[at * 40 : at * 40 + 40] for at, title in enumerate(TITLES)} for line in lines]
        case "xlsx":
            rows = [*openpyxl.load_workbook(path)["things"].values]
            return [dict(zip(map(str, rows[0]), row, strict=True)) for row in rows[1:]]
        case "parquet":
            return list(pyarrow.parquet.read_table(path).to_pylist())
    raise AssertionError(form)


#: what each form makes of the first record, and of the blanks of the second
SEEN: dict[str, tuple[dict[str, Any], Any]] = {
    "csv": ({"id": "1", "code": "007", "sums.owed": "1.234,50", "sums.rate": "0.000000000001", "born": "31/1/1980", "seen": "29.02.2024 07:30:15", "active": "S", "note": "two  spaces", "tags": "a b|c<&>", "sizes": "1.5;2"}, ""),
    "json": ({"id": 1, "code": "007", "sums.owed": Decimal("1234.5"), "sums.rate": Decimal("1E-12"), "born": "31/1/1980", "seen": "29.02.2024 07:30:15", "active": True, "note": "two  spaces", "tags": ["a b", "c<&>"], "sizes": [Decimal("1.5"), 2]}, None),
    "xml": ({"id": ["1"], "code": "007", "sums.owed": ["1234.5"], "sums.rate": ["0.000000000001"], "born": ["31/1/1980"], "seen": ["29.02.2024 07:30:15"], "active": ["S"], "note": ["two  spaces"], "tags": ["a b", "c<&>"], "sizes": ["1.5", "2"]}, KeyError),
    "fixed": ({name: value.ljust(40) for name, value in zip(TITLES, ["1", "007", "1.234,50", "0.000000000001", "31/1/1980", "29.02.2024 07:30:15", "S", "two  spaces", "a b|c<&>", "1.5;2"], strict=True)}, " " * 40),
    "xlsx": ({"id": 1, "code": "007", "sums.owed": 1234.5, "sums.rate": "0.000000000001", "born": datetime(1980, 1, 31), "seen": datetime(2024, 2, 29, 7, 30, 15), "active": "S", "note": "two  spaces", "tags": "a b|c<&>", "sizes": "1.5;2"}, None),
    "parquet": ({"id": 1, "code": "007", "sums.owed": Decimal("1234.5"), "sums.rate": Decimal("1E-12"), "born": date(1980, 1, 31), "seen": datetime(2024, 2, 29, 7, 30, 15), "active": True, "note": "two  spaces", "tags": ["a b", "c<&>"], "sizes": [Decimal("1.5"), Decimal(2)]}, None),
}  # fmt: skip
SEEN |= {"tsv": SEEN["csv"], "ndjson": SEEN["json"]}


@pytest.mark.parametrize("form", SEEN)
def test_others_read_the_same(tmp_path: Path, form: str) -> None:
    layout = layout_of(tmp_path, form)
    path = tmp_path / f"things{layout.form.ending}"
    path.write_bytes(write(layout, [as_rendered(layout, RECORDS)]))
    first, second = by_others(form, path.read_bytes(), path)
    expected, blank = SEEN[form]
    assert first == expected
    assert second.get("born", KeyError) == blank
    assert str(second["code"]).rstrip() == '=1+1 "x"'


@pytest.mark.parametrize("form", ["parquet", "ndjson"])
def test_a_value_is_the_same_beside_whatever_others(tmp_path: Path, form: str) -> None:
    """Columns in which all is plain are written in a quicker way than those in which something is not."""
    columns = [
        {"name": "number", "titles": "number", "datatype": "decimal"},
        {"name": "day", "titles": "day", "datatype": {"base": "date", "format": "yyyy-MM-dd"}},
        {"name": "word", "titles": "word"},
    ]
    path = tmp_path / "l.json"
    path.write_text(layout_json(columns, **{"urn:mudanza:form": form}))
    layout = read_layout(path)
    numbers = ["5", "-.5", "+3.", " 7 ", "", "  ", None, "1234567.123456789012", "12345678901234567890", "1e2"]
    days = ["2024-02-29", " 2024-02-29", "", None, "2024-02-28 ", "  ", "1999-12-31", "0001-01-01", "9999-12-31", "x"]
    words = ["a", " a", "a ", "", "  ", None, "\u2003", "é", "#", "1e2"]
    frame = pl.DataFrame({"number": numbers, "day": days, "word": words})

    def written(parts: list[pl.DataFrame]) -> list[tuple[Any, ...]]:
        target = io.BytesIO(write(layout, parts))
        made = pl.read_parquet(target) if form == "parquet" else pl.read_ndjson(target, infer_schema_length=None)
        return made.with_columns(pl.col(pl.Float64).round(9)).rows()

    whole = written([frame])
    assert whole == written([*frame.iter_slices(1)]) == written([frame[:3], frame[3:]])
    assert [row[2] for row in whole] == ["a", " a", "a ", None, None, None, None, "é", "#", "1e2"]
    if form == "parquet":
        # what a layout does not take is no number and no date, here as elsewhere
        held = [None if not (one or "").strip() else Decimal(one.strip()) for one in numbers[:-1]]
        assert [row[0] for row in whole] == [*held, None]
        kept = [None if not (one or "").strip() else date.fromisoformat(one.strip()) for one in days[:-1]]
        assert [row[1] for row in whole] == [*kept, None]


def test_the_form_of_a_workbook(tmp_path: Path) -> None:
    layout = layout_of(tmp_path, {"format": "xlsx", "sheet": "Records: all"})
    (tmp_path / "x.xlsx").write_bytes(write(layout, [as_rendered(layout, RECORDS)]))
    sheet = openpyxl.load_workbook(tmp_path / "x.xlsx")["Records all"]
    assert (sheet.freeze_panes, sheet.auto_filter.ref) == ("A2", "A1:J3")
    assert [(str(one.sqref), one.formula1) for one in sheet.data_validations.dataValidation if one.type == "list"] == [
        ("G2:G3", '"S,N"')
    ]
    assert [sheet.cell(2, at).number_format for at in (2, 3, 5)] == ["@", "0.00", "yyyy-mm-dd"]
    assert sheet["B3"].data_type == "s"


TEMPLATE = [{"name": "id", "titles": "Id", "datatype": "integer"}, {"name": "born", "titles": "Born", "datatype": {"base": "date", "format": "d/M/yyyy"}}]  # fmt: skip


def test_records_go_below_what_the_targets_own_workbook_has(tmp_path: Path) -> None:
    book = openpyxl.Workbook()
    book.active.title = "Read me"
    sheet = book.create_sheet("Data")
    for row in (["Import of owners"], ["Born", "Id", "Remarks"], ["(a date)", "(a number)"]):
        sheet.append(row)
    book.save(tmp_path / "target.xlsx")
    layout = layout_of(tmp_path, {"format": "xlsx", "into": "target.xlsx"}, TEMPLATE)
    rows = pl.DataFrame({"Id": ["7", "8"], "Born": ["31/1/1980", None]})
    data = write(layout, [rows])
    assert data == write(layout, [rows[:1], rows[1:]])
    (tmp_path / "made.xlsx").write_bytes(data)
    made = openpyxl.load_workbook(tmp_path / "made.xlsx")
    assert made.sheetnames == ["Read me", "Data"]
    assert [row[:2] for row in made["Data"].values][2:] == [
        ("(a date)", "(a number)"), (datetime(1980, 1, 31), 7), (None, 8),
    ]  # fmt: skip
    back = sink_of(layout).read(tmp_path / "made.xlsx", layout, "made")
    assert back.drop("#line").rows()[1:] == rows.rows()


#: a form, a field's text, and whether it can be written
HELD = [
    ("csv", "a\0b", False), ("json", "a\0b", True), ("xml", "a\x01b", False), ("xml", "]]>&", True), ("xlsx", "x" * 32_767, True),
    ("xlsx", "x" * 32_768, False), ("ods", "a\x0bb", False), ("fixed", "x" * 41, False), ("fixed", "é" * 40, True),
    ("fixed", "a\nb", False), ("fixed", " a", False), ("parquet", "a\0b", True),
]  # fmt: skip


@pytest.mark.parametrize(("form", "text", "held"), HELD)
def test_what_a_form_cannot_hold_is_a_finding(tmp_path: Path, form: str, text: str, held: bool) -> None:
    layout = layout_of(tmp_path, form, [{"name": "id", "titles": "id"}])
    problems = sink_of(layout).problems(layout.fields[0], layout, pl.col("id"))
    frame = pl.DataFrame({"id": [text]})
    found = [one.code for one in problems if frame.select(one.when.fill_null(False)).item()]
    assert found == ([] if held else ["value.unwritable"])


FORMULAS = ["=1", "@x", "+1 555 (01)", "-4,5", "+x", "-a", "\tx", "a=1", "'=1", ""]


def test_texts_that_would_run_are_told_kept_or_quoted(tmp_path: Path) -> None:
    frame = pl.DataFrame({"id": FORMULAS})
    runs = [True, True, False, False, True, True, True, False, False, False]
    for how in ("told", "kept", "quoted"):
        layout = layout_of(tmp_path, {"format": "csv", "formulas": how}, [{"name": "id", "titles": "id"}])
        asked = sink_of(layout).problems(layout.fields[0], layout, pl.col("id"))
        told = [one.exactly for one in asked if one.code == "value.formula"]
        assert [frame.select(one.fill_null(False)).to_series().to_list() for one in told] == (
            [runs] if how == "told" else []
        )
        data = write(layout, [frame])
        assert (b"'=1" in data) and (data.count(b"'") == (7 if how == "quoted" else 1))
        (tmp_path / "f.csv").write_bytes(data)
        back = sink_of(layout).read(tmp_path / "f.csv", layout, "f")["id"].to_list()
        assert [one or "" for one in back] == FORMULAS


#: what is said of a form, and the words of the refusal
WRONG_FORMS: list[tuple[Any, dict[str, Any], str]] = [
    ("xlxs", {}, "did you mean 'xlsx'"), ({"format": "json", "sheet": "x"}, {}, "says nothing of json"), ({"format": "csv", "formulas": "run"}, {}, "'told' or 'kept'"),
    ({"format": "xml", "records": "one"}, {}, "no path of elements"), ("xml", {"titles": "B x", "name": "b.x"}, "within 'b'"), ({"format": "csv", "tag": "A", "lines": {"x": "A"}}, {}, "have tags"), ("xml", {"titles": "Full name", "name": "full%20name"}, "name of an element"), ("json", {"titles": "b.c"}, "within 'b'"),
    ("fixed", {"urn:mudanza:width": None}, "has a width"), ("fixed", {"urn:mudanza:start": 3}, "ends at"), ({"format": "xlsx", "ending": "x"}, {}, "no ending"), (5, {}, "name of a format"),
]  # fmt: skip


@pytest.mark.parametrize(("form", "column", "words"), WRONG_FORMS)
def test_a_form_that_cannot_be_is_refused(tmp_path: Path, form: Any, column: dict[str, Any], words: str) -> None:
    made = {"name": "x", "titles": "x", "urn:mudanza:width": 5, **column}
    given = [{"name": "b", "titles": "b", "urn:mudanza:width": 5}, {k: v for k, v in made.items() if v is not None}]
    (tmp_path / "l.json").write_text(layout_json(given, **{"urn:mudanza:form": form}))
    with pytest.raises(LayoutError) as raised:
        read_layout(tmp_path / "l.json")
    assert words in f"{raised.value.what} {raised.value.hint}".lower()


PEOPLE = [{**one, "urn:mudanza:width": 30} for one in PEOPLE_COLUMNS]


def make_move(folder: Path, form: Any, rows: int) -> Path:
    """A move of people that are written in a form."""
    for name in ("plans", "layouts", "incoming"):
        (folder / name).mkdir(parents=True)
    (folder / "mudanza.toml").write_text('name = "people"\n')
    (folder / "layouts/people.json").write_text(layout_json(PEOPLE, primaryKey="code", **{"urn:mudanza:form": form}))
    (folder / "plans/people.toml").write_text(
        'layout = "layouts/people.json"\n[[source]]\nname = "a"\nfile = "incoming/a.csv"\n[fields]\n'
        "code = '{Id}'\nname = '{Name}'\nborn = '{Born} -> date \"dd/MM/yyyy\"'\npaid = '{Paid} -> number'\n"
    )
    lines = "".join(f"P{n % 1000:03},N{n % 7},31/01/19{n % 90 + 10},{n}.5\n" for n in range(rows))
    (folder / "incoming/a.csv").write_text("Id,Name,Born,Paid\n" + lines)
    return folder


@pytest.mark.parametrize("form", some(FORMS, 3))
def test_a_built_list_is_a_list_in_whatever_form(tmp_path: Path, form: str) -> None:
    """Built, checked against its layout and found in parts of so many rows, traced, lent, compared; a change of form leaves nothing of the old one behind."""
    move = make_move(tmp_path / "m", {"format": form}, 7)
    path = move / "layouts/people.json"
    layout = json.loads(path.read_text())
    layout["tableSchema"]["urn:mudanza:rowsPerFile"] = 3
    path.write_text(json.dumps(layout))
    files = [
        Path(file["path"]).name for file in program("build", "--json", cwd=move, status=0).json["lists"][0]["files"]
    ]
    ending = read_layout(path).form.ending
    assert files[0] == f"people{ending}"
    parts = [name for name in files if ".part-" in name]
    assert parts == [f"people.part-{n}{ending}" for n in (1, 2, 3)]
    counts = []
    for name in (files[0], *parts):
        told = program("check", f"out/{name}", "--layout", "people", "--json", cwd=move).json
        # the whole alone is more than the target takes at once
        assert [one["code"] for one in told["findings"]] == (["file.too-large"] if name == files[0] else [])
        counts.append(told["rows"])
    assert counts == [7, 3, 3, 1]
    assert "P003" in program("trace", "P003", cwd=move, status=0).out
    # of what is new there are parts, too
    program("handed-over", "last", cwd=move, status=0)
    text = (move / "incoming/a.csv").read_text()
    (move / "incoming/a.csv").write_text(text + "".join(f"P{n:03},N,31/01/1980,{n}\n" for n in range(10, 15)))
    program("build", "--since", cwd=move, status=0)
    sets = [f"people.additions{ending}", *(f"people.additions.part-{n}{ending}" for n in (1, 2))]
    assert [
        program("check", f"out/{name}", "--layout", "people", "--json", cwd=move).json["rows"] for name in sets
    ] == [5, 3, 2]
    (move / "incoming/a.csv").write_text(text)
    program("build", "--fewer", cwd=move, status=0)
    assert not [*(move / "out").glob("people.additions*")]
    # what comes back of a loan is written in the form, too
    lent = program("lend", "people", "--json", cwd=move, status=0).json
    book = openpyxl.load_workbook(move / lent["workbook"])
    book.worksheets[0].cell(3, lent["fields"].index("Full name") + 1).value = "Neu"
    book.save(move / lent["workbook"])
    received = program("receive", lent["workbook"], "--accept", "--json", cwd=move, status=0).json
    (changes,) = [file["path"] for file in received["files"] if "undo" not in file["path"]]
    assert changes.endswith(f"/changes{ending}")
    assert program("check", changes, "--layout", "people", "--json", cwd=move).json["rows"] == 1
    assert program("build", "--compare", "--json", cwd=move, status=0).json["lists"][0]["compared"]["same"] == 7
    layout["urn:mudanza:form"] = "ndjson" if form == "json" else "json"
    path.write_text(json.dumps(layout))
    program("build", cwd=move, status=0)
    left = {file.name for file in (move / "out").iterdir()}
    assert files[0] not in left and not {*parts} & left


def test_a_file_in_another_form_than_the_layout_says_is_told(tmp_path: Path) -> None:
    (tmp_path / "l.json").write_text(layout_json([{"name": "a"}, {"name": "b"}], **{"urn:mudanza:form": "json"}))
    (tmp_path / "f.csv").write_text("a,b\n1,2\n")
    told = program("check", "f.csv", "--layout", "l.json", "--json", cwd=tmp_path, status=1).json
    assert [(one["code"], one["value"]) for one in told["findings"]] == [("file.form", "delimited text")]
    # any text could be one of fixed width
    wide = [{"name": "a", "urn:mudanza:width": 2}, {"name": "b", "urn:mudanza:width": 2}]
    (tmp_path / "w.json").write_text(layout_json(wide, **{"urn:mudanza:form": "fixed"}))
    told = program("check", "f.csv", "--layout", "w.json", "--json", cwd=tmp_path, status=1).json
    assert [(one["code"], one["value"]) for one in told["findings"]] == [("file.form", "delimited text")]
    (tmp_path / "f.txt").write_text("a b \n1 2 \n")
    program("check", "f.txt", "--layout", "w.json", cwd=tmp_path, status=0)


@alone
@pytest.mark.skipif(os.name != "posix", reason="signals of this kind are those of POSIX systems")
@pytest.mark.parametrize("form", some(FORMS, 5))
def test_nothing_half_is_seen_of_a_build_that_is_killed(tmp_path: Path, form: str) -> None:
    move = make_move(tmp_path / "m", {"format": form}, 9)
    program("build", cwd=move, status=0)
    ending = read_layout(move / "layouts/people.json").form.ending
    before = {path.name: path.read_bytes() for path in (move / "out").iterdir()}
    text = (move / "incoming/a.csv").read_text().replace("N1", "M1")
    (move / "incoming/a.csv").write_text(text + "".join(f"P{n:03},N,31/01/1980,{n}\n" for n in range(10, 1000)))
    run = subprocess.Popen([installed(), "build"], cwd=move, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    while not list((move / "out").glob(f".mudanza-*-{run.pid}-*.part")) and run.poll() is None:
        time.sleep(0.002)
    run.kill()
    run.wait()
    after = {path.name: path.read_bytes() for path in (move / "out").iterdir() if not path.name.startswith(".")}
    whole = program("build", cwd=move, status=0)
    assert after == before or run.returncode == 0, whole.out
    assert (
        program("check", f"out/people{ending}", "--json", "--layout", "people", cwd=move, status=0).json["rows"] == 999
    )
    assert not [path for path in (move / "out").iterdir() if path.name.startswith(".")]


@alone
@needs_office
def test_an_office_suite_reads_the_same(tmp_path: Path) -> None:
    shown = []
    for form in ("xlsx", "ods"):
        layout = layout_of(tmp_path, form)
        path = tmp_path / f"things{layout.form.ending}"
        path.write_bytes(write(layout, [as_rendered(layout, RECORDS)]))
        office("csv:Text - txt - csv (StarCalc):44,34,76", tmp_path / form, path)
        with (tmp_path / form / "things.csv").open(encoding="utf-8", newline="") as file:
            shown.append([*csv.DictReader(file)])
    assert shown[0] == shown[1]
    first, second = shown[0]
    assert first == {
        "id": "1", "code": "007", "sums.owed": "1234.50", "sums.rate": "0.000000000001", "born": "1980-01-31", "seen": "2024-02-29 07:30:15", "active": "S",
        "note": "two  spaces", "tags": "a b|c<&>", "sizes": "1.5;2",
    }  # fmt: skip
    assert (second["code"], second["sums.rate"]) == ('=1+1 "x"', "12345678901234567890")


def test_signs_that_ask_for_quotes_take_nothing_away() -> None:
    """What is put into a first value that begins as a comment does is taken out again; what looks like it is data."""
    rows = pl.DataFrame({"a": ["#1", "2"], "b": ["x", "y\x1d\nz"]})
    assert csv_text.RowWriter(["a", "b"]).rows(rows) == b'"#1",x\r\n2,"y\x1d\nz"\r\n'
