"""Sources: whatever was written is read back the same, and what is broken is named with its line."""

from __future__ import annotations

import csv
import io
import zipfile
from pathlib import Path

import polars as pl
import pytest
import xlsxwriter
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st

from mudanza.core.documents.errors import SourceError
from mudanza.core.sources import delimited, structure
from mudanza.core.sources.headings import find_heading
from mudanza.core.sources.opening import open_source
from mudanza.core.sources.reader import ReadOptions
from mudanza.core.sources.structure import Shape, body_of, cut_as_parsed, cut_exactly, cut_quickly
from mudanza.core.values.row_columns import LINE
from mudanza.core.work.survey.surveying import survey


def rows_of(path: Path, options: ReadOptions | None = None) -> tuple[list[tuple], list, list[int]]:
    reader = open_source(path, options)
    rows, broken, blank = [], [], []
    for batch in reader.batches():
        rows += batch.rows.select(*reader.headings, LINE).rows()
        broken += batch.broken
        blank += batch.blank_lines
    return rows, broken, blank


_cell = st.text(
    st.characters(exclude_categories=["Cs", "Cc"], exclude_characters="\u2028\u2029"), max_size=12
) | st.sampled_from(['"', '""', 'a"b', "x\ny", "x\r\ny", ",", ";", "\t", " ", "", "é", "0012", "'"])


@settings(max_examples=150, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    table=st.integers(2, 5).flatmap(
        lambda n: st.lists(st.lists(_cell, min_size=n, max_size=n), min_size=1, max_size=12)
    ),
    delimiter=st.sampled_from([",", ";", "\t", "|", "^", "¦"]),
    line_end=st.sampled_from(["\n", "\r\n"]),
    quote_all=st.booleans(),
    encoding=st.sampled_from(["utf-8", "utf-8-sig", "utf-16"]),
    block=st.sampled_from([64, 1 << 12, 8 << 20]),
)
def test_any_table_in_any_dialect_is_read_back_with_its_lines(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, table, delimiter, line_end, quote_all, encoding, block
) -> None:
    """Small blocks make records fall across their borders."""
    monkeypatch.setattr(delimited, "BLOCK", block)
    monkeypatch.setattr(delimited, "_FIRST_BLOCK", block)
    heads = [f"h{i}" for i in range(len(table[0]))]
    buffer = io.StringIO()
    quoting = csv.QUOTE_ALL if quote_all else csv.QUOTE_MINIMAL
    writer = csv.writer(buffer, delimiter=delimiter, lineterminator=line_end, quoting=quoting)
    writer.writerow(heads)
    expected = []
    for row in table:
        line = buffer.getvalue().count("\n") + 1
        writer.writerow(row)
        expected.append((*(cell or None for cell in row), line))
    path = tmp_path / "t.csv"
    path.write_bytes(buffer.getvalue().encode(encoding))
    rows, broken, _ = rows_of(path, ReadOptions(delimiter=delimiter, heading=1, exact=True))
    assert (rows, broken) == (expected, [])


@settings(max_examples=400, deadline=None)
@given(
    columns=st.integers(2, 3),
    pieces=st.lists(st.sampled_from(["a", ",", ",", '"', "\n", '""', "é", "\r\n", '"x,y"', '"a""b"', '"a\nb"', '"a\r\nb"', '"b"c""']), max_size=14),
)  # fmt: skip
@example(columns=3, pieces=['a,b,"q"x""', "\n", "a,b,c"])
@example(columns=2, pieces=['"a""b","x,y"', "\r\n", 'a,""'])
def test_a_block_that_adds_up_when_parsed_is_whole(columns: int, pieces: list[str]) -> None:
    block, shape = ("".join(pieces) + "\n").encode(), Shape(b",", b'"', columns)
    exact, body = cut_exactly(block, shape, True), body_of(block, shape)
    whole = not exact.broken and not exact.blank_lines
    try:
        rows = pl.read_csv(block, has_header=False, schema={f"c{n}": pl.String for n in range(columns)})
    except pl.exceptions.PolarsError:
        assert not whole
        return
    held = sum(len((value or "").encode()) for row in rows.rows() for value in row)
    cut = body and cut_as_parsed(body, rows.height, held, shape)
    assert (cut is not None) == whole
    if cut is not None:
        assert (cut.body, cut.rows, cut.lines.tolist()) == (exact.body, exact.rows, exact.lines.tolist())
        assert (cut.used, cut.passed) == (exact.used, exact.passed)


def test_rows_of_chosen_columns_are_as_whole_as_all(tmp_path: Path) -> None:
    """A row too long may make up for one too short; only where the last column is blank can that be."""
    path = tmp_path / "t.csv"
    path.write_text("a,b,c\n" + "1,2,\n" * 50 + "x,y\n" + "1,2,3\n" * 50 + "x,y,z,z\n")
    for wanted in (["a"], ["b", "c"], ["a", "b", "c"]):
        batches = [*open_source(path).narrowed(wanted).batches()]
        assert [b.line for batch in batches for b in batch.broken] == [52, 103]
        assert sum(batch.rows.height for batch in batches) == 100
        assert batches[0].rows.columns == [*wanted, LINE]


@settings(max_examples=200, deadline=None)
@given(st.lists(st.sampled_from(["a", "bc", ",", '"', "\n", '""', "é", " ", "\r\n", '"x,y"']), max_size=40))
def test_whatever_the_quick_cut_accepts_the_exact_walk_reads_alike(pieces: list[str]) -> None:
    block = ("".join(pieces) + "\n").encode()
    shape = Shape(b",", b'"', 2)
    quick = cut_quickly(block, shape, True)
    if quick is None:
        return
    exact = cut_exactly(block, shape, True)
    if any(row.code == "read.ragged" for row in exact.broken) or exact.blank_lines:
        # a row too long makes up for one too short: the parser refuses the block, and it is walked
        with pytest.raises(pl.exceptions.PolarsError):
            rows = pl.read_csv(quick.body, has_header=False, schema={"a": pl.String, "b": pl.String})
            if rows.height != quick.rows:
                raise pl.exceptions.ComputeError
    else:
        assert (exact.body, exact.rows, exact.lines.tolist()) == (quick.body, quick.rows, quick.lines.tolist())


BROKEN = [
    ("ragged", b"a,b\n1,2\n3\n4,5,6\n7,8\n", [("1", "2", 2), ("7", "8", 5)], [("read.ragged", 3), ("read.ragged", 4)]),
    ("stray quote", b'a,b\n1,5" nail\n2,ok\n', [("2", "ok", 3)], [("read.stray-quote", 2)]),
    ("quote after a closed one", b'a,b\n1,"x"y\n2,ok\n', [("2", "ok", 3)], [("read.stray-quote", 2)]),
    ("unclosed quote", b'a,b\n1,"x\n2,ok\n3,fine\n', [("2", "ok", 3), ("3", "fine", 4)], [("read.unclosed-quote", 2)]),
    ("unclosed at the very end", b'a,b\n1,x\n2,"y', [("1", "x", 2)], [("read.cut-off", 3)]),
    ("NUL", b"a,b\n1,x\x00\n2,y\n", [("2", "y", 3)], [("read.nul", 2)]),
    ("lines after a quoted break", b'a,b\n1,"x\ny"\n2\n3,z\n', [("1", "x\ny", 2), ("3", "z", 5)], [("read.ragged", 4)]),
    ("cut off", b"a,b\n1,x\n2", [("1", "x", 2)], [("read.cut-off", 3)]),
    ("bad UTF-8", "a,b\n1,é\n".encode() * 1 + b"2,\xe9\n" + "3,é\n".encode() * 30, None, [("read.undecodable", 3)]),
    ("a byte cp1252 lacks", b"a,b\n1,Jos\xe9 e S\xe3o \xe0s tr\xeas\n2,\x81\n3,ok\n", [("1", "José e São às três", 2), ("3", "ok", 4)], [("read.undecodable", 3)]),
]  # fmt: skip


@pytest.mark.parametrize(("content", "good", "bad"), [case[1:] for case in BROKEN], ids=[case[0] for case in BROKEN])
def test_broken_rows_are_named_and_the_others_kept(tmp_path: Path, content: bytes, good, bad) -> None:
    path = tmp_path / "t.csv"
    path.write_bytes(content)
    rows, broken, _ = rows_of(path)
    if good is not None:
        assert rows == good
    assert [(row.code, row.line) for row in broken] == bad


def test_a_broken_row_in_a_large_file_costs_no_other_row(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(delimited, "BLOCK", 1 << 16)
    monkeypatch.setattr(structure, "_STRETCH", 1 << 12)
    lines = [f'{n},"v {n}",x' if n % 7 == 0 else f"{n},v {n},x" for n in range(20_000)]
    lines[777], lines[15_000] = '777,"v,x', "15000,v"
    path = tmp_path / "t.csv"
    path.write_text("a,b,c\n" + "\n".join(lines))
    rows, broken, _ = rows_of(path)
    assert [(b.code, b.line) for b in broken] == [("read.unclosed-quote", 779), ("read.ragged", 15_002)]
    assert [int(r[0]) + 2 for r in rows] == [r[3] for r in rows]
    assert len(rows) == 19_998


def test_forms_are_found_out(tmp_path: Path) -> None:
    for content, encoding, delimiter, heading, headings in [
        (("a|b\n" + "1|Zażółć gęślą jaźń, Łódź\n" * 9).encode("cp1250"), "cp1250", "|", 1, ("a", "b")),
        (b"Report of May\n\nNo;Name;Town\n1;Ana;Braga\n2;Rui;Porto\n", "utf-8", ";", 3, ("No", "Name", "Town")),
        ("No^Name\n1^Ana, or so\n2^Rui\n".encode("utf-16-le"), "utf-16-le", "^", 1, ("No", "Name")),
        (b"No\tName\tName\t\n1\ta\tb\tc\n", "utf-8", "\t", 1, ("No", "Name", "Name (2)", "column 4")),
        (b"a\r1\r2\r", "utf-8", ",", 1, ("a",)),
    ]:
        path = tmp_path / "t.txt"
        path.write_bytes(content)
        reader = open_source(path)
        facts = reader.facts
        assert (facts.encoding, facts.delimiter, facts.heading_line, reader.headings) == (
            encoding,
            delimiter,
            heading,
            headings,
        )
    assert find_heading([["Total", ""], ["Code", "Name"], ["1", "x"]]) == 1


def book(path: Path, sheets: dict[str, list[list[object]]], hidden: str | None = None) -> Path:
    made = xlsxwriter.Workbook(str(path))
    for name, rows in sheets.items():
        sheet = made.add_worksheet(name)
        for row, values in enumerate(rows):
            for column, value in enumerate(values):
                if value is not None:
                    sheet.write(row, column, value)
        if name == hidden:
            sheet.hide()
    made.close()
    return path


def test_a_workbook_with_a_notice_in_front(tmp_path: Path) -> None:
    import datetime

    made = xlsxwriter.Workbook(str(tmp_path / "b.xlsx"))
    notice = made.add_worksheet("Read me")
    notice.write(0, 0, "Please do not sort")
    sheet = made.add_worksheet("Data")
    sheet.write(0, 0, "A title")
    sheet.write_row(2, 1, ["Id", "Paid", "Seen", "OK"])
    day = made.add_format({"num_format": "dd/mm/yyyy"})
    sheet.write_string(4, 1, "007")
    sheet.write_number(4, 2, 12.5)
    sheet.write_datetime(4, 3, datetime.datetime(2024, 1, 31), day)
    sheet.write_boolean(4, 4, True)
    made.close()
    reader = open_source(tmp_path / "b.xlsx")
    assert (reader.facts.sheet, reader.facts.heading_line) == ("Data", 3)
    assert rows_of(tmp_path / "b.xlsx")[0] == [("007", "12.5", "2024-01-31", "true", 5)]
    assert reader.letters["Paid"] == "C"


def _zip(path: Path, parts: dict[str, bytes]) -> Path:
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, body in parts.items():
            archive.writestr(name, body)
    return path


HOSTILE = {
    "empty": (lambda p: p.write_bytes(b""), "empty"),
    "text": (lambda p: p.write_bytes(b"a,b\n1,2\n"), "no workbook"),
    "zip": (lambda p: _zip(p, {"x.txt": b"x"}), "no workbook"),
    "cut": (lambda p: p.write_bytes(book(p, {"S": [["a", "b"], [1, 2]]}).read_bytes()[:1500]), "no workbook"),
    "bomb": (lambda p: _zip(p, {"[Content_Types].xml": b"", "xl/a.xml": b"\0" * (300 << 20)}), "unpack"),
    "entities": (
        lambda p: _zip(p, {"[Content_Types].xml": b'<?xml version="1.0"?><!DOCTYPE x [<!ENTITY a "b">]><x/>'}),
        "document type",
    ),
    "password": (
        lambda p: p.write_bytes(b"\xd0\xcf\x11\xe0" + b"\0" * 600 + "EncryptedPackage".encode("utf-16-le")),
        "password",
    ),
    "hollow": (lambda p: _zip(p, {"[Content_Types].xml": b"<x/>"}), "cannot be read"),
    "no rows": (lambda p: book(p, {"S": []}), "is empty"),
}


@pytest.mark.parametrize("name", HOSTILE)
def test_a_workbook_that_is_none_is_refused_with_the_reason(tmp_path: Path, name: str) -> None:
    make, words = HOSTILE[name]
    path = tmp_path / "b.xlsx"
    make(path)
    with pytest.raises(SourceError, match=words) as raised:
        rows_of(path)
    assert raised.value.hint and "b.xlsx" in str(raised.value.place)


def test_survey_counts_what_is_there(tmp_path: Path) -> None:
    path = tmp_path / "t.csv"
    path.write_text(
        "No,Day,Amount,Flag,Nothing,Code\n"
        + "\n".join(f'{n},{n % 28 + 1:02d}/03/2024,"{n},50",{"yn"[n % 2]},,00{n % 10}' for n in range(1, 101))
        + "\n100,31/02/2024,1,y,, 009\n"
    )
    result = survey(path)
    kinds = {c.name: c.kind for c in result.columns}
    assert kinds == {
        "No": "whole number",
        "Day": "date dd/MM/yyyy",
        "Amount": "number, decimal comma",
        "Flag": "yes/no",
        "Nothing": "blank",
        "Code": "digits",
    }
    by = {c.name: c for c in result.columns}
    assert (result.rows, by["No"].distinct, by["Code"].spaces, by["Day"].odd) == (101, 100, 1, ["31/02/2024"])
    assert (result.keys[0].columns, result.keys[0].examples) == (("No",), [("100", ["101", "102"])])
    assert result.blank_columns == ["Nothing"]


def test_distinct_beyond_the_exact_limit_is_estimated_within_a_few_percent(tmp_path: Path, monkeypatch) -> None:
    monkeypatch.setattr("mudanza.core.work.survey.columns.EXACT_DISTINCT", 2000)
    path = tmp_path / "t.csv"
    path.write_text("No,Twice\n" + "".join(f"{n},{n // 2}\n" for n in range(50_000)))
    many = survey(path).columns[0]
    assert not many.distinct_exact
    assert 45_000 < many.distinct < 55_000
