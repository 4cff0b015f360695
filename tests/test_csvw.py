"""CSV on the Web: a case for each rule of the standard that says what a cell, a key or a table may be.

Sections are those of "Model for Tabular Data and Metadata on the Web" (M) and of "Metadata Vocabulary for Tabular Data" (V).
"""

from __future__ import annotations

import csv
import io
import json
from pathlib import Path
from typing import Any

import pytest

from conftest import CSVW, layout_json, program
from mudanza.core.documents.errors import LayoutError
from mudanza.core.layouts.csvw import read_layout, read_layouts
from mudanza.core.work.check import check
from mudanza.core.work.package import check_package


def T(base: str, form: Any = None, **more: Any) -> dict[str, Any]:  # noqa: N802
    """A column of a datatype."""
    return {"datatype": {"base": base, **({"format": form} if form is not None else {}), **more}}


def N(base: str, pattern: str | None = None, decimal: str | None = None, group: str | None = None) -> dict[str, Any]:  # noqa: N802
    """A column of numbers."""
    parts = {"pattern": pattern, "decimalChar": decimal, "groupChar": group}
    return T(base, {key: value for key, value in parts.items() if value is not None})


# the section, the column, cells that are valid, cells that are not
CELLS = [
    # 6.4: spaces, null, default, required, separator
    ("M 6.4 1", T("token", "a b"), ["a b", " a  b ", "a\tb"], ["a c"]),
    ("M 6.4 1", T("normalizedString", "a b"), ["a\tb", "a\nb"], [" a b"]),
    ("M 6.4 1", T("string", "a b"), ["a b"], [" a b", "a  b"]),
    ("M 6.4 2", T("integer"), [" 7 ", "\t7"], ["7 7", "\u00a07"]),
    ("M 6.4 6", {**T("integer"), "default": "5"}, ["", "6"], ["x"]),
    ("M 6.4 7", {**T("integer"), "null": ["n/a", ""]}, ["n/a", "", " n/a "], ["N/A"]),
    ("M 6.4 7", {**T("integer"), "null": "-"}, ["-", "3"], ["", " "]),
    ("M 6.4 7", {**T("integer"), "required": True}, ["1"], ["", " "]),
    ("M 6.4 4", {**T("integer"), "separator": ";", "required": True}, ["1;2"], [""]),
    ("M 6.4 5", {**T("integer"), "separator": ";"}, ["1;2", "1; 2", "", "3"], ["1;x", "1,2", "1.5;2"]),
    ("M 6.4 5", {**T("integer", minimum=2), "separator": "|", "null": ["-", ""]}, ["2|3", "2|-|3"], ["2|1"]),
    ("M 6.4 5", {**T("date", "d.M.yyyy"), "separator": " "}, ["1.2.2024 2.2.2024"], ["1.2.2024 31.2.2024"]),
    ("M 6.4 5", {**T("boolean", "J|N"), "separator": ","}, ["J,N"], ["J,X"]),
    ("M 6.4 5", {**T("string", maxLength=2), "separator": "/"}, ["ab/cd"], ["abc/d", "ab/ cd"]),
    # 6.4.2: numbers
    ("M 6.4.2", T("decimal"), ["1", "+1", "-1.5", ".5", "5.", "0.1234567890123456789", "9" * 60], ["1e3", "1,5", "NaN", "INF", "٣", "1_0"]),
    ("M 6.4.2", T("integer"), ["1", "-0", "9" * 40], ["1.0", "1e3", "", ][:2]),
    ("M 6.4.2", T("double"), ["1e3", "1E-400", "NaN", "INF", "-INF", "1.5", ".5E+2"], ["inf", "nan", "1e", "0x1"]),
    ("M 6.4.2", T("float"), ["1e3", "NaN"], ["Infinity"]),
    ("M 6.4.2", N("decimal", "#.##0,00", ",", "."), ["1.234,50", "0,00", "-12,50"], ["1234,50", "1,234.50", "1.234,5", "12.34,00"]),
    ("M 6.4.2", N("decimal", None, ",", "."), ["1.234,5", "12.34", "5%", "-25%"], ["1..2", "1,2,3", "1e3"]),
    ("M 6.4.2", N("integer", None, None, ","), ["1,234", "12,34"], ["1,,2", "1.5"]),
    ("M 6.4.2", T("integer", "000"), ["007", "1234"], ["7", "07"]),
    ("M 6.4.2", T("decimal", "0.0#"), ["1.5", "1.25"], ["1", "1.255", "1,5"]),
    ("M 6.4.2", T("decimal", "#,##,##0.##"), ["12,34,567.5", "1"], ["1,234,567.5", "1234"]),
    ("M 6.4.2", T("double", "0.0#E0"), ["1.5E3", "1.25E-3"], ["1.5", "1.5e3", "1E3"]),
    ("M 6.4.2", T("decimal", "0.0%"), ["2.5%"], ["2.5", "2.5‰"]),
    ("M 6.4.2", T("decimal", "0‰"), ["2‰"], ["2%"]),
    ("M 6.4.2", T("integer", "+0"), ["+5", "-5"], ["5"]),
    ("M 5.2", T("byte"), ["-128", "127"], ["128", "-129"]),
    ("M 5.2", T("unsignedLong"), ["18446744073709551615"], ["18446744073709551616", "-1"]),
    ("M 5.2", T("positiveInteger"), ["1"], ["0"]),
    ("M 5.2", T("nonPositiveInteger"), ["0", "-1"], ["1"]),
    # 6.4.3: yes and no
    ("M 6.4.3", T("boolean"), ["true", "false", "1", "0", " true "], ["TRUE", "yes", "2"]),
    ("M 6.4.3", T("boolean", "Y|N"), ["Y", "N"], ["y", "true", "YN"]),
    # 6.4.4: dates and times
    ("M 6.4.4", T("date"), ["2024-02-29", "2024-01-31Z", "2024-01-31+14:00", "-0044-03-15", "12024-01-01"], ["2023-02-29", "2024-1-31", "31/01/2024", "2024-01-31+15:00", "２０２４-01-31"]),
    ("M 6.4.4", T("date", "d/M/yyyy"), ["1/2/2024", "01/02/2024"], ["2024-02-01", "32/1/2024", "31/2/2024", "1/2/24"]),
    ("M 6.4.4", T("date", "yyyyMMdd"), ["20240131"], ["2024131", "2024-01-31"]),
    ("M 6.4.4", T("date", "dd.MM.yyyy XXX"), ["31.01.2024 +01:00", "31.01.2024Z"], ["31.01.2024", "31.01.2024 +0100"]),
    ("M 6.4.4", T("dateTime"), ["2024-01-31T10:00:00", "2024-01-31T10:00:00.123456789Z", "2024-01-31T24:00:00"], ["2024-01-31 10:00:00", "2024-01-31T10:00", "2024-01-31T10:00:60", "2024-01-31T24:00:01"]),
    ("M 6.4.4", T("dateTimeStamp"), ["2024-01-31T10:00:00Z"], ["2024-01-31T10:00:00"]),
    ("M 6.4.4", T("dateTime", "yyyy-MM-ddTHH:mm:ss.SSS"), ["2024-01-31T10:00:00.5", "2024-01-31T10:00:00"], ["2024-01-31T10:00:00.1234"]),
    ("M 6.4.4", T("dateTime", "dd/MM/yyyy HH:mm X"), ["31/01/2024 10:00 +01", "31/01/2024 10:00Z", "31/01/2024 10:00 +0130"], ["31/01/2024 10:00", "31/01/2024 10:00 +01:30"]),
    ("M 6.4.4", T("dateTime", "yyyy-MM-ddTHH:mmxx"), ["2024-01-31T10:00+0100"], ["2024-01-31T10:00Z", "2024-01-31T10:00+01"]),
    ("M 6.4.4", T("time"), ["07:30:00", "07:30:00.25Z", "24:00:00"], ["7:30:00", "07:30", "25:00:00", "07:30:60"]),
    *[("M 6.4.4", T("time", form), good, bad) for form, good, bad in [
        ("HH:mm:ss.S", ["15:02:37", "15:02:37.1"], ["15:02:37.14"]), ("HH:mm:ss", ["15:02:37"], ["15:02", "15:02:60"]),
        ("HHmmss", ["150237"], ["15:02:37"]), ("HH:mm", ["15:02"], ["15:02:37", "24:00", "3:02"]), ("HHmm", ["1502"], ["15:02"]),
    ]],
    # 6.4.5 and 6.4.6: durations, parts of the calendar, all else
    ("M 6.4.5", T("duration"), ["P1Y2M3DT4H5M6.7S", "-P1D", "PT0S"], ["P", "P1DT", "1D", "P1S", "P1.5D", "PT1.5H"]),
    ("M 6.4.5", T("dayTimeDuration"), ["P1DT2H", "PT5M"], ["P1M", "P1Y", "P"]),
    ("M 6.4.5", T("yearMonthDuration"), ["P1Y2M"], ["P1D", "PT1M"]),
    ("M 6.4.5", T("duration", "P[0-9]+D"), ["P12D"], ["P1M"]),
    ("M 5.2", T("gDay"), ["---31", "---01Z"], ["---32", "31"]),
    ("M 5.2", T("gMonthDay"), ["--02-29"], ["--02-30", "--04-31"]),
    ("M 5.2", T("gYear"), ["2024", "-0001"], ["24", "02024"]),
    ("M 5.2", T("gYearMonth"), ["2024-01"], ["2024-13"]),
    ("M 5.2", T("gMonth"), ["--12"], ["--13"]),
    ("M 5.2", T("language"), ["pt", "en-GB"], ["portuguese", "e_n"]),
    ("M 5.2", T("hexBinary"), ["0aFF"], ["0", "zz"]),
    ("M 5.2", T("base64Binary"), ["QUJD", "QQ=="], ["QQ=", "QR==", "Q"]),
    ("M 6.4.6", T("string", "a|b|c.d"), ["a", "cxd"], ["ab", "x", "a\n"]),
    ("M 6.4.6", T("string", "[a&&b]"), ["a", "&", "b"], ["ab"]),
    ("M 6.4.6", T("string", r"\d{2}"), ["12"], ["١٢", "123"]),
    ("M 6.4.6", T("string", r"\w+"), ["a_1"], ["é"]),
    ("M 6.4.6", T("string", "x{,3}"), ["x{,3}"], ["xx"]),
    ("M 6.4.6", T("string", r"[^\s@]+@[^\s@]+"), ["a@b"], ["a@", "a @b"]),
    # 4.6: lengths and bounds
    ("M 4.6.1", T("string", length=2), ["ab", "é€"], ["a", "abc"]),
    ("M 4.6.1", T("hexBinary", length=2), ["0a0b"], ["0a", "0a0b0c"]),
    ("M 4.6.1", T("base64Binary", maxLength=2), ["QUI=", "QQ=="], ["QUJD"]),
    ("M 4.6.2", T("decimal", minExclusive="0", maximum="1E1" if False else "10"), ["0.000000000001", "10"], ["0", "10.0000000000001", "-5"]),
    ("M 4.6.2", T("decimal", maximum="-1e60" if False else 5), ["5", "5.000"], ["5.1", "9" * 40]),
    ("M 4.6.2", T("double", minimum="-INF", maximum="1.5"), ["-INF", "1e-300"], ["INF", "1.6", "NaN"]),
    ("M 4.6.2", T("date", minimum="2024-01-31"), ["2024-01-31", "12024-01-01"], ["2024-01-30", "-0001-01-01"]),
    ("M 4.6.2", T("dateTime", maximum="2024-01-31T10:00:00Z"), ["2024-01-31T11:00:00+01:00"], ["2024-01-31T10:00:01", "2024-01-31T10:00:00-01:00"]),
    ("M 4.6.2", T("time", "HH:mm", minimum="08:00:00"), ["08:00"], ["07:59"]),
    ("M 4.6.2", T("dayTimeDuration", maximum="P1D"), ["PT24H"], ["PT24H1S"]),
    ("M 4.6.2", T("duration", maximum="P1M"), ["P28D", "P1M"], ["P29D", "P31D"]),
    ("M 4.6.2", T("gYear", minimum="2000"), ["2000"], ["1999"]),
]  # fmt: skip


def _check_column(tmp_path: Path, column: dict[str, Any], cells: list[str], **table: Any) -> set[int]:
    """The cells, by number, that a check finds something in."""
    columns = [{"name": "a", "titles": "A", **column}, {"name": "b", "titles": "B"}]
    (tmp_path / "l.json").write_text(layout_json(columns, **table))
    text = io.StringIO(newline="")
    csv.writer(text).writerows([["A", "B"], *([cell, "x"] for cell in cells)])
    (tmp_path / "f.csv").write_bytes(text.getvalue().encode())
    lines, line = {}, 2
    for number, cell in enumerate(cells):
        lines[line] = number
        line += 1 + cell.count("\n")
    found = check(tmp_path / "f.csv", read_layout(tmp_path / "l.json")).findings
    return {lines[at] for at in found["line"]}


@pytest.mark.parametrize(("column", "good", "bad"), [case[1:] for case in CELLS], ids=[f"{i} {case[0]}" for i, case in enumerate(CELLS)])  # fmt: skip
def test_cells(tmp_path: Path, column: dict[str, Any], good: list[str], bad: list[str]) -> None:
    cells = [*good, *bad]
    found = _check_column(tmp_path, column, cells)
    assert {cells[n] for n in found} == set(bad)


def test_what_is_no_number_is_not_out_of_bounds_too(tmp_path: Path) -> None:
    """One that cannot be held is: it fits the format."""
    (tmp_path / "l.json").write_text(layout_json([{"name": "a", **T("decimal", minimum=2, maximum=60)}]))
    (tmp_path / "f.csv").write_text("a\n1e3\n" + "9" * 50 + "\n1,5\n-\n")
    found = check(tmp_path / "f.csv", read_layout(tmp_path / "l.json")).findings
    codes = [("value.kind", 2), ("value.too-large", 3), ("read.ragged", 4), ("value.kind", 5)]
    assert found.select("code", "line").rows() == codes


# a primary key of this type takes these for one (M 4.6: values are compared)
SAME = [
    (T("integer"), ["1", "01", "+1", " 1"]),
    (T("decimal"), ["1.0", "1.00", "+1", "1"]),
    (T("double"), ["1e2", "100", "1.00E+2"]),
    (T("date", "d/M/yyyy"), ["1/2/2024", "01/02/2024"]),
    (T("dateTime"), ["2024-01-31T24:00:00", "2024-02-01T00:00:00", "2024-02-01T00:00:00.0"]),
    (T("duration"), ["P1Y", "P12M"]),
    (T("time"), ["07:30:00", "07:30:00.00"]),
    (T("boolean"), ["true", "1"]),
    (T("hexBinary"), ["0a", "0A"]),
    (T("token"), ["a b", " a  b"]),
    ({**T("integer"), "separator": ";"}, ["1;2", "01; 2"]),
    (N("decimal", None, ",", "."), ["1.000,5", "1000,50"]),
]
DIFFERENT = [
    (T("string"), ["1", "01", " 1", "1 "]),
    (T("date"), ["2024-01-31", "2024-01-31Z"]),
    (T("decimal"), ["1" + "0" * 30, "1" + "0" * 29 + "1"]),
    (T("decimal"), ["0." + "0" * 20 + "1", "0." + "0" * 20 + "2"]),
    (T("dateTime"), ["2024-01-31T10:00:00.1234567", "2024-01-31T10:00:00.1234568"]),
]


@pytest.mark.parametrize(("column", "cells"), SAME)
def test_keys_that_are_one_value_are_one_key(tmp_path: Path, column: dict[str, Any], cells: list[str]) -> None:
    assert _check_column(tmp_path, column, cells, primaryKey="a") == set(range(1, len(cells)))


@pytest.mark.parametrize(("column", "cells"), DIFFERENT)
def test_keys_that_differ_as_values_are_several(tmp_path: Path, column: dict[str, Any], cells: list[str]) -> None:
    assert _check_column(tmp_path, column, cells, primaryKey="a") == set()


def test_a_key_is_filled_and_one_that_is_partly_blank_is_compared(tmp_path: Path) -> None:
    columns = [{"name": "a", "titles": "A", "datatype": "integer", "null": ["-", ""]}, {"name": "b", "titles": "B"}]
    (tmp_path / "l.json").write_text(layout_json(columns, primaryKey=["a", "b"]))
    (tmp_path / "f.csv").write_text("A,B\n1,\n01,\n-,x\n,x\n-,\n1,x\n")
    found = check(tmp_path / "f.csv", read_layout(tmp_path / "l.json")).findings
    assert found.select("code", "line").rows() == [("key.repeated", 3), ("key.repeated", 5), ("key.blank", 6)]


def _group(tables: list[dict[str, Any]], **more: Any) -> dict[str, Any]:
    return {"@context": CSVW, **more, "tables": tables}


OWNERS = {
    "url": "owners.csv",
    "tableSchema": {"@id": "urn:x:owners", "columns": [{"name": "code", "titles": "Code", "datatype": "integer"}], "primaryKey": "code"},
}  # fmt: skip
ANIMALS = {
    "url": "animals.csv",
    "tableSchema": {
        "columns": [{"name": "owner", "titles": "Owner", "datatype": "integer"}],
        "foreignKeys": [{"columnReference": "owner", "reference": {"schemaReference": "urn:x:owners", "columnReference": "code"}}],
    },
}  # fmt: skip


def test_a_group_is_a_package_whose_references_lead_to_one_row_by_value(tmp_path: Path) -> None:
    group = _group([OWNERS, ANIMALS], dialect={"delimiter": ";"}, null="-", notes=[{"schema:name": "x"}])
    (tmp_path / "csv-metadata.json").write_text(json.dumps(group))
    owners, animals = read_layouts(tmp_path / "csv-metadata.json")
    assert (owners.name, animals.name, animals.references[0].resource) == ("owners", "animals", "owners.csv")
    assert {owners.dialect.delimiter, animals.dialect.delimiter} == {";"} and animals.fields[0].null == ("-",)
    (tmp_path / "owners.csv").write_text("Code\n1\n2\n02\n")
    (tmp_path / "animals.csv").write_text("Owner\n01\n+1\n9\n-\n2\n")
    result = check_package(tmp_path, {})
    found = {Path(one.file).name: one.findings.select("code", "line").rows() for one in result.files}
    assert found == {
        "owners.csv": [("key.repeated", 4)],
        "animals.csv": [("reference.missing", 4), ("reference.several", 6)],
    }
    with pytest.raises(LayoutError, match="2 tables"):
        read_layout(tmp_path / "csv-metadata.json")
    assert read_layout(tmp_path / "csv-metadata.json#animals").name == "animals"
    (tmp_path / "owners.csv").unlink()
    told = program("check", ".", "--json", cwd=tmp_path, status=1).json
    assert [f["code"] for f in told["findings"]] == ["package.missing"]


# the dialect, the file's bytes, the findings by code and line (V 5.9; M 8)
DIALECTS: list[tuple[dict[str, Any], bytes, list[tuple[str, int | None]]]] = [
    ({"skipRows": 2}, b"x\ny\nA,B\n1,2\n", []),
    ({"skipRows": 1, "headerRowCount": 2}, b"x\nup,up\nA,B\n1,2\n", []),
    ({"header": False}, b"1,2\n3,4\n", []),
    ({"header": False, "skipRows": 1}, b"no,t,one\n1,2\nx,2\n", [("value.kind", 3)]),
    ({"skipColumns": 1}, b"-,A,B\n-,1,2\n", []),
    ({"trim": True}, b" A ,B\n 1 , 2\n", [("heading.similar", 1)]),
    ({"skipInitialSpace": True, "quoteChar": None}, b"A,B\n1, 2\n", []),
    ({"commentPrefix": "#"}, b"#c,c,c\nA,B\n#1\n1,2\n\"#1\",2\n", [("value.kind", 5)]),
    ({}, b"A,B\n#1,2\n", [("value.kind", 2)]),
    ({"doubleQuote": False}, b'A,B\n1,"say \\"x\\""\n', []),
    ({"skipBlankRows": True}, b"A,B\n1,2\n\n,\n3,4\n", []),
    ({"lineTerminators": "\r\n"}, b"A,B\r\n1,\"a\nb\"\r\n2,3\n4,5\r\n", [("file.line-ends", 4)]),
    ({"lineTerminators": ["\n"]}, b"A,B\n1,2\r\n", [("file.line-ends", 2)]),
    ({"encoding": "utf-8"}, b"\xef\xbb\xbfA,B\n1,2\n", []),
    ({"encoding": "windows-1252", "delimiter": ";", "quoteChar": "'"}, b"A;B\n1;'\xe9;\xe8'\n", []),
]  # fmt: skip


@pytest.mark.parametrize(("dialect", "content", "expected"), DIALECTS)
def test_dialects(
    tmp_path: Path, dialect: dict[str, Any], content: bytes, expected: list[tuple[str, int | None]]
) -> None:
    columns = [{"name": "a", "titles": "A", "datatype": "integer"}, {"name": "b", "titles": "B"}]
    (tmp_path / "l.json").write_text(layout_json(columns, dialect=dialect))
    (tmp_path / "f.csv").write_bytes(content)
    found = check(tmp_path / "f.csv", read_layout(tmp_path / "l.json")).findings
    assert found.select("code", "line").rows() == expected


def _with(**column: Any) -> dict[str, Any]:
    return {"@context": CSVW, "tableSchema": {"columns": [{"name": "a", **column}]}}


# what no layout may say, and the section that forbids it
REFUSED: list[tuple[str, Any]] = [
    ("M 4.6.2", _with(**T("decimal", minInclusive=1, minExclusive=1))),
    ("M 4.6.2", _with(**T("decimal", minInclusive=1, maxExclusive=1))),
    ("M 4.6.2", _with(**T("integer", minimum=300, maximum=200))),
    ("M 4.6.2", _with(**T("byte", minimum=300))),
    ("M 4.6.2", _with(**T("string", minimum=3))),
    ("M 4.6.2", _with(**T("decimal", minimum="NaN"))),
    ("M 4.6.2", _with(**T("decimal", minimum="1_0"))),
    ("M 4.6.2", _with(**T("date", minimum="2024-02-30"))),
    ("M 4.6.2", _with(**T("date", minimum="20240131"))),
    ("M 4.6.2", _with(**T("dateTime", minimum="2024-01-31T10:00:60"))),
    ("M 4.6.1", _with(**T("integer", length=3))),
    ("M 4.6.1", _with(**T("anyURI", maxLength=3))),
    ("M 4.6.1", _with(**T("string", length=3, minLength=4))),
    ("M 6.4.2", _with(**N("decimal", "0.00", ","))),
    ("M 6.4.2", _with(**N("decimal", None, "5"))),
    ("M 6.4.2", _with(**N("decimal", None, ",", ","))),
    ("M 6.4.2", _with(**T("integer", "0.0"))),
    ("M 6.4.3", _with(**T("boolean", "YN"))),
    ("M 6.4.4", _with(**T("date", "yyyy-MM-dd HH:mm"))),
    ("M 6.4.4", _with(**T("time", "yyyy HH:mm"))),
    ("M 6.4.4", _with(**T("dateTime", "dd MM yyyy QQ"))),
    ("M 6.4.6", _with(**T("string", "x)|(?:.*"))),
    ("M 6.4.6", _with(**T("string", "(a{1000}){1000}"))),
    ("M 6.4.6", _with(**T("string", r"(a)\1"))),
    ("M 6.4 6", _with(**T("integer"), default="x")),
    ("V 5.6", {"@context": CSVW, "tableSchema": {"columns": [{"name": "v", "virtual": True}, {"name": "a"}]}}),
    ("V 5.6", _with(name="_a")),
    ("V 5.6", _with(name="größe")),
    ("V 5.7", _with(separator="")),
    ("V 5.7", _with(null=[])),
    ("V 5.7", _with(lang="not a language")),
    ("V 5.7", _with(required=1)),
    ("V 5.7", _with(textDirection="up")),
    ("V 5.7", _with(ordered="yes")),
    ("V 6.2", _with(**{"@type": "Table"})),
    ("V 6.2", {**_with(), "@id": "_:x"}),
    ("V 5.2", {"@context": [CSVW, {"@vocab": "x"}], "tableSchema": {"columns": [{"name": "a"}]}}),
    ("V 5.8", {**_with(), "dc:title": {"@value": "x", "dc:y": 1}}),
    ("V 5.8", {**_with(), "dc:title": {"@language": "en"}}),
    ("V 5.5", {"@context": CSVW, "tableSchema": {"columns": [{"name": "a"}], "primaryKey": ["a", "a"]}}),
    ("V 5.5", {"@context": CSVW, "tableSchema": {"columns": [{"name": "a"}], "rowTitles": "b"}}),
    ("V 5.5.2.1", {"@context": CSVW, "tableSchema": {"columns": [{"name": "a"}], "foreignKeys": [{"columnReference": "a", "reference": {"resource": "x", "schemaReference": "y", "columnReference": "a"}}]}}),
    ("V 5.3", {"@context": CSVW, "tables": ["x"]}),
    ("V 5.3", {"@context": CSVW, "tables": [5]}),
    ("V 5.3", {"@context": CSVW, "tables": []}),
    *[("V 5.9", {**_with(), "dialect": one}) for one in (
        {"delimiter": "5"}, {"delimiter": "\n"}, {"delimiter": "\0"}, {"delimiter": ""}, {"encoding": "base64"}, {"encoding": "idna"}, {"trim": "left"},
        {"lineTerminators": "x"}, {"skipRows": -1}, {"headerRowCount": 10**9}, {"quoteChar": "''"}, {"header": True, "headerRowCount": 0}, {"doubleQuote": "no"},
    )],
]  # fmt: skip


@pytest.mark.parametrize(
    "node", [case[1] for case in REFUSED], ids=[f"{i} {case[0]}" for i, case in enumerate(REFUSED)]
)
def test_what_the_standard_forbids_is_refused_with_its_place(tmp_path: Path, node: Any) -> None:
    (tmp_path / "l.json").write_text(json.dumps(node))
    with pytest.raises(LayoutError) as raised:
        read_layout(tmp_path / "l.json")
    assert raised.value.place is not None and len(raised.value.what) < 300


ACCEPTED: list[tuple[str, Any]] = [
    ("V 5.2", {"@context": [CSVW, {"@language": "pt", "@base": "http://example.org/"}], "tableSchema": {"columns": [{"titles": {"en": "Name", "pt": ["Nome", "Nomes"]}}]}}),
    ("V 5.8", {**_with(), "dc:title": [{"@value": "x", "@language": "en"}, {"@id": "http://example.org/x"}], "schema:x": 5}),
    ("V 5.6", {"@context": CSVW, "tableSchema": {"columns": [{"name": "a"}, {"name": "v", "virtual": True, "propertyUrl": "x", "valueUrl": "y"}]}}),
    ("V 5.4", {**_with(), "suppressOutput": True, "tableDirection": "rtl", "transformations": [{"url": "x", "scriptFormat": "y", "targetFormat": "z"}]}),
    ("M 4.6.2", _with(**T("decimal", minimum="-1" + "0" * 60, maximum=10**50))),
    ("M 4.6.2", _with(**T("double", minimum="-INF", maximum="INF"))),
    ("M 4.6.2", _with(**T("double", minimum="1E+999999"))),
]  # fmt: skip


@pytest.mark.parametrize(
    "node", [case[1] for case in ACCEPTED], ids=[f"{i} {case[0]}" for i, case in enumerate(ACCEPTED)]
)
def test_what_the_standard_has_beside_is_accepted(tmp_path: Path, node: Any) -> None:
    (tmp_path / "l.json").write_text(json.dumps(node))
    layout = read_layout(tmp_path / "l.json")
    (tmp_path / "f.csv").write_text(f"{layout.fields[0].titles[-1]}\n5\n")
    # in whatever language, the heading is one of the column's
    assert "heading.similar" not in {g.code for g in check(tmp_path / "f.csv", layout).groups}


def test_what_is_no_layout_ends_in_words(tmp_path: Path) -> None:
    deep = "[" * 100_000 + "]" * 100_000
    for content in (deep, '{"@context": ' + "9" * 6000 + "}", '{"tables": {}}', "nul", '"x"'):
        (tmp_path / "l.json").write_text(content)
        told = program("check", "f.csv", "--layout", "l.json", cwd=tmp_path, status=2).err
        assert "Traceback" not in told and len(told) < 2000
    assert "no plain file" in program("check", "f.csv", "--layout", "/dev/null", cwd=tmp_path, status=2).err
