"""Layouts: read strictly, obeyed exactly, and valid CSV on the Web."""

from __future__ import annotations

import json
from datetime import date, datetime
from decimal import Decimal
from pathlib import Path

import polars as pl
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from conftest import CSVW, PEOPLE, layout_json, program
from mudanza.core.documents.errors import LayoutError
from mudanza.core.findings.codes import CODES
from mudanza.core.layouts.csvw import read_layout
from mudanza.core.layouts.datatypes import permitted_values
from mudanza.core.values.date_format import DateFormat
from mudanza.core.values.kinds import DECIMAL
from mudanza.core.values.number_format import NumberFormat
from mudanza.core.work.check import check


def _schema(**column: object) -> dict:
    return {"@context": CSVW, "tableSchema": {"columns": [{"name": "a", **column}]}}


def _type(**datatype: object) -> dict:
    return _schema(datatype=datatype)


# what is wrong, where (its key), and words of the message or hint
WRONG = [
    ([], "", "object"),
    ({}, "@context", "@context"),
    ({"@context": CSVW}, "", "tableSchema"),
    ({"@context": CSVW, "tableSchema": {"columns": []}}, "tableSchema.columns", "at least one"),
    (_schema(titel="A"), "tableSchema.columns[0].titel", "'titles'"),
    (_type(base="strnig"), "tableSchema.columns[0].datatype.base", "'string'"),
    (_type(base="string", maxLenght=3), "tableSchema.columns[0].datatype.maxLenght", "'maxLength'"),
    (_type(base="string", maxLength="3"), "tableSchema.columns[0].datatype.maxLength", "whole number"),
    (_type(base="string", minLength=5, maxLength=3), "tableSchema.columns[0].datatype.minLength", "more than"),
    (_type(base="decimal", maxLength=3), "tableSchema.columns[0].datatype.maxLength", "minimum"),
    (_type(base="string", minimum=3), "tableSchema.columns[0].datatype.minimum", "maxLength"),
    (_type(base="decimal", minimum=5, maximum=3), "tableSchema.columns[0].datatype", "above the upper"),
    (_type(base="date", minimum="31/01/2020"), "tableSchema.columns[0].datatype.minimum", "2024-01-31"),
    (_type(base="date", format="DD/MM/YYYY"), "tableSchema.columns[0].datatype.format", "'dd'"),
    (_type(base="date", format="HH:mm"), "tableSchema.columns[0].datatype.format", "does not fit"),
    (_type(base="boolean", format="yes"), "tableSchema.columns[0].datatype.format", "Y|N"),
    (_type(base="integer", format="0.00"), "tableSchema.columns[0].datatype.format", "decimals"),
    (_type(base="decimal", format={"pattern": "abc"}), "tableSchema.columns[0].datatype.format", "0.00"),
    (_type(base="string", format="(?=x)"), "tableSchema.columns[0].datatype.format", "Look-ahead"),
    (_type(base="string", maxLength=2, format="cat|dog"), "tableSchema.columns[0].datatype.format", "length limits"),
    (_schema(required="yes"), "tableSchema.columns[0].required", "true or false"),
    (_schema(name="a b"), "tableSchema.columns[0].name", "no spaces"),
    ({"@context": CSVW, "tableSchema": {"columns": [{"name": "a"}, {"name": "a"}]}}, "tableSchema.columns[1]", "column 1"),
    ({"@context": CSVW, "tableSchema": {"columns": [{"name": "code"}], "primaryKey": "cod"}}, "tableSchema.primaryKey", "'code'"),
    ({**_schema(), "dialect": {"delimiter": ";;"}}, "dialect.delimiter", "one plain sign"),
    ({**_schema(), "dialect": {"encoding": "utf-9"}}, "dialect.encoding", "utf-9"),
    ({**_schema(), "dialect": {"header": True, "headerRowCount": 0}}, "dialect.headerRowCount", "contradicts"),
    ({**_schema(), "dialect": {"trim": "left"}}, "dialect.trim", "start"),
    ({**_schema(), "urn:mudanza:keyIgnoreCase": True}, "urn:mudanza:keyIgnoreCase", "keyIgnoresCase"),
]  # fmt: skip


@pytest.mark.parametrize(("node", "key", "words"), WRONG, ids=[f"{i} {case[1]}" for i, case in enumerate(WRONG)])
def test_what_is_wrong_is_named_with_its_place(tmp_path: Path, node: object, key: str, words: str) -> None:
    path = tmp_path / "l.json"
    path.write_text(json.dumps(node, indent=1))
    with pytest.raises(LayoutError) as raised:
        read_layout(path)
    error = raised.value
    assert error.place is not None and (error.place.key or "").startswith(key)
    assert words in f"{error.what} {error.hint}"
    last = key.split(".")[-1].split("[")[0]
    if last and last in path.read_text():
        assert f'"{last}' in path.read_text().splitlines()[(error.place.line or 1) - 1] or "[" in key


def test_broken_json_is_pointed_at(tmp_path: Path) -> None:
    for text, line in (('{"@context": 1,\n "x" 2}', 2), ("", 1), ("\n", 2), ('{"a": 1,\n"a": 2}', 2)):
        (tmp_path / "l.json").write_text(text)
        with pytest.raises(LayoutError) as raised:
            read_layout(tmp_path / "l.json")
        assert raised.value.place is not None and raised.value.place.line == line


_decimals = st.decimals(-(10**9), 10**9, places=4, allow_nan=False)


@settings(deadline=None)
@given(
    st.lists(_decimals, min_size=1, max_size=5),
    st.sampled_from(
        [
            "0.00",
            "#,##0.00",
            "#,##,##0.0#",
            "0",
            "000.0#",
            "0.0###",
            "+0.##",
            "0.0####%",
            "‰0.###",
            "0.###########E00",
            None,
        ]
    ),
    st.sampled_from([".", ","]),
)
def test_a_number_that_is_not_rounded_is_read_back(numbers: list[Decimal], pattern: str | None, sign: str) -> None:
    own = pattern and pattern.translate(str.maketrans(".,", f"{sign}'"))
    form = NumberFormat.of(sign) if own is None else NumberFormat.by(own, sign, "'")
    frame = pl.DataFrame({"n": pl.Series(numbers).cast(DECIMAL)})
    frame = frame.filter(~form.loses(pl.col("n")))
    out = frame.with_columns(form.render(pl.col("n")).alias("t")).with_columns(form.read(pl.col("t")).alias("back"))
    assert out["back"].to_list() == out["n"].to_list()
    for text in out["t"]:
        assert (sign in text) or "." not in text


@settings(deadline=None)
@given(
    st.datetimes(datetime(1000, 1, 1), datetime(9999, 12, 31)).map(lambda d: d.replace(microsecond=0)),
    st.sampled_from(
        [
            "dd/MM/yyyy",
            "d.M.yyyy",
            "yyyyMMdd",
            "d MMM yyyy",
            "MM-dd-yyyy",
            "yyyy-MM-dd'T'HH:mm:ss",
            "dd/MM/yyyy h:mm:ss a",
        ]
    ),
)
def test_a_date_written_in_a_pattern_is_read_back(moment: datetime, pattern: str) -> None:
    form = DateFormat.of(pattern)
    value: date | datetime = moment if form.has_time else moment.date()
    assume(form.has_date)
    text = pl.select(form.render(pl.lit(value))).item()
    assert pl.select(form.read(pl.lit(text))).item() == value
    assert pl.select(form.read(pl.lit(text + "0"))).item() is None


def test_permitted_values_are_those_of_a_plain_choice() -> None:
    for form, values in [
        ("cat|dog", ("cat", "dog")),
        ("^(cat|dog)$", ("cat", "dog")),
        (r"a\.b|c", ("a.b", "c")),
        ("c.t|dog", None),
        ("cat", None),
        ("[a-z]|x", None),
    ]:
        assert permitted_values(form) == values


_VALUE_CODES = [code for code in CODES.values() if code.example.kind == "column"]


@pytest.mark.parametrize("code", _VALUE_CODES, ids=[c.name for c in _VALUE_CODES])
def test_the_example_of_a_value_finding_gives_it(tmp_path: Path, code) -> None:
    (tmp_path / "l.json").write_text(layout_json([json.loads(code.example.given), {"titles": "B"}]))
    (tmp_path / "f.csv").write_text(f"A,B\n{code.example.value},x\n")
    result = check(tmp_path / "f.csv", read_layout(tmp_path / "l.json"))
    assert [g.code for g in result.groups] == [code.name]


def test_layout_show_lists_every_field(move: Path) -> None:
    shown = program("layout", "show", "people", cwd=move, status=0).out
    for words in (
        "Full name",
        "at most 12 characters",
        "date as dd/MM/yyyy",
        "one of cat, dog",
        "J or N",
        "key, required",
    ):
        assert words in shown
    fields = program("layout", "show", "people", "--json", cwd=move, status=0).json["fields"]
    assert [f["name"] for f in fields] == ["code", "name", "born", "paid", "active", "kind"]


def test_our_files_pass_a_general_validator(move: Path) -> None:
    """The metadata beside a built file is CSV on the Web that others can read."""
    csvw = pytest.importorskip("csvw")
    assert json.loads(PEOPLE)
    program("build", "people", cwd=move, status=1)
    table = csvw.CSVW(str(move / "out/people.csv-metadata.json"), validate=True)
    assert table.is_valid
    rows = list(table.t.iterdicts() if hasattr(table.t, "iterdicts") else table.tables[0].iterdicts())
    assert rows[0]["born"].date() == date(1980, 1, 31) and rows[0]["paid"] == Decimal("1234.50")


def test_the_demos_package_passes_it_too(tmp_path: Path) -> None:
    """Each file by itself, and all of them as a group with their references."""
    csvw = pytest.importorskip("csvw")
    program("demo", "d", "--only-create", cwd=tmp_path, status=0)
    program("-C", "d", "build", cwd=tmp_path, status=1)
    out = tmp_path / "d/out"
    described = [*out.glob("*.csv-metadata.json"), out / "csv-metadata.json"]
    assert len(described) == 5 and all(csvw.CSVW(str(one), validate=True).is_valid for one in described)
    group = json.loads((out / "csv-metadata.json").read_text())
    assert sorted(table["url"] for table in group["tables"] if "foreignKeys" in table["tableSchema"]) == [
        "animals.csv",
        "visits.csv",
    ]
    with (out / "animals.csv").open("a") as file:
        file.write("AN-999999,OW-999999,Nobody,dog,,,,\n")
    told = program("-C", "d", "check", "out", "--json", cwd=tmp_path, status=1).json
    assert [f["code"] for one in told["files"] for f in one["findings"]] == ["reference.missing"]
