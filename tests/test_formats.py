"""Formats beyond plain delimited text: read right from what was written, or refused with the true reason."""

from __future__ import annotations

import csv
import gzip
import json
import struct
import zipfile
from contextlib import suppress
from pathlib import Path

import polars as pl
import pytest
import xlsxwriter
import zstandard
from hypothesis import example, given
from hypothesis import strategies as st

from conftest import alone, layout_json, needs_office, office, program, stories
from mudanza.core.documents.errors import SourceError
from mudanza.core.sources.cells import look_at_cells, with_zeros, zeros_of
from mudanza.core.sources.opening import files_of, open_source, parts, recognise
from mudanza.core.sources.reader import ReadOptions, lazy_rows
from mudanza.core.sources.settings import said_options
from mudanza.core.values.row_columns import LINE

_tmp = stories(30)


def how(**said: str) -> ReadOptions:
    def fail(what: str, key: str, hint: str | None) -> Exception:
        return AssertionError(f"{key}: {what} {hint}")

    return said_options(said, fail)


def table(path: Path, options: ReadOptions | None = None) -> tuple[tuple[str, ...], list[tuple], list, list]:
    """Headings, rows with their lines at the end, damaged rows as (code, line), and what was noticed as (code, line, value)."""
    reader = open_source(path, options)
    rows, broken, noticed = [], [], []
    for batch in reader.batches():
        rows += batch.rows.select(*reader.headings, LINE).rows()
        broken += [(b.code, b.line) for b in batch.broken]
        if batch.noticed is not None:
            noticed += batch.noticed.select("code", "line", "value").rows()
    return reader.headings, rows, broken, noticed


def written(path: Path, content: str | bytes) -> Path:
    path.write_bytes(content if isinstance(content, bytes) else content.encode())
    return path


# delimited text as it really comes

FORMS = {
    "several characters": ("No||Name||Town\n1||Ana, or|so||Braga\n2||Rui||\n", ("No", "Name", "Town"), [("1", "Ana, or|so", "Braga", 2), ("2", "Rui", None, 3)]),
    "signs around": ("No~|~Name\n1~|~A\n2~|~B\n", ("No", "Name"), [("1", "A", 2), ("2", "B", 3)]),
    "escaped quotes": ('No,Name\n1,"Ana \\"Nani\\" Sá"\n2,"x \\\\ y"\n3,plain\n', ("No", "Name"), [("1", 'Ana "Nani" Sá', 2), ("2", "x \\ y", 3), ("3", "plain", 4)]),
    "quotes are only signs": ('Size;What\n5" nail;iron\n3" nail;"\n9";steel\n', ("Size", "What"), [('5" nail', "iron", 2), ('3" nail', '"', 3), ('9"', "steel", 4)]),
    "single quotes": ("'No','Name'\n'1','O,K'\n'2','B'\n", ("No", "Name"), [("1", "O,K", 2), ("2", "B", 3)]),
    "delimiter at every end": ("No;Name;\n1;A;\n2;B;\n", ("No", "Name"), [("1", "A", 2), ("2", "B", 3)]),
    "delimiter at the rows' ends": ("No;Name\n1;A;\n2;B;\n", ("No", "Name"), [("1", "A", 2), ("2", "B", 3)]),
    "no heading": ("1001;Ana;1980-01-31\n1002;Rui;1975-02-11\n1003;Eva;1969-12-01\n", ("column 1", "column 2", "column 3"), [("1001", "Ana", "1980-01-31", 1), ("1002", "Rui", "1975-02-11", 2), ("1003", "Eva", "1969-12-01", 3)]),
    "years as headings": ("Town;2019;2020\nA;1;2\nB;3;4\n", ("Town", "2019", "2020"), [("A", "1", "2", 2), ("B", "3", "4", 3)]),
    "groups over names": (",Owner,,Animal,\nNo,Name,Town,Name,Kind\n1,Ana,Braga,Rex,dog\n2,Rui,Porto,Nina,cat\n", ("No", "Owner Name", "Owner Town", "Animal Name", "Animal Kind"), [("1", "Ana", "Braga", "Rex", "dog", 3), ("2", "Rui", "Porto", "Nina", "cat", 4)]),
    "title above, total below": ("List of May\n\nNo;Name;Owed\n1;Ana;5,00\n2;Total Lda;7,50\nTotal;;12,50\n\n2 records\n", ("No", "Name", "Owed"), [("1", "Ana", "5,00", 4), ("2", "Total Lda", "7,50", 5)]),
    "carriage returns": ("a,b\r1,x\r2,y\r", ("a", "b"), [("1", "x", 2), ("2", "y", 3)]),
    "running text": ("It was, in truth, a long day.\nNobody came.\nAnd so, for want, of words, we went.\nHome.\nIt rained.\n", ("It was, in truth, a long day.",), None),
}  # fmt: skip


@pytest.mark.parametrize("name", FORMS)
def test_delimited_text_as_it_really_comes(tmp_path: Path, name: str) -> None:
    content, headings, rows = FORMS[name]
    found = table(written(tmp_path / "t.txt", content))
    assert found[0] == headings
    if rows is not None:
        assert (found[1], found[2]) == (rows, [])
    if name == "title above, total below":
        assert found[3] == [("read.below-data", 6, "Total;;12,50 | 2 records")]
        assert (
            len(table(tmp_path / "t.txt", how(below="0"))[1]) + len(table(tmp_path / "t.txt", how(below="0"))[2]) == 4
        )


ENCODINGS = [
    ("cp1252", "José, Inês, João"), ("cp850", "José, Inês, João, Zélia, Gonçalo"), ("mac_roman", "José, Inês, João, Zélia"),
    ("cp1250", "Łódź, Žižek, Škoda, Zażółć gęślą"), ("cp1251", "Москва, Санкт-Петербург, улица"), ("cp1253", "Αθήνα, Θεσσαλονίκη, οδός"),
    ("utf-16", "José"), ("utf-16-le", "José"), ("utf-8-sig", "José"), ("utf-8", "José"), ("big5", "電話, 地址, 姓名, 台北市中正區"),
]  # fmt: skip


@pytest.mark.parametrize(("encoding", "words"), ENCODINGS)
def test_encodings_are_found(tmp_path: Path, encoding: str, words: str) -> None:
    lines = [f"{i};{word.strip()}" for i, word in enumerate(words.split(","))]
    path = written(tmp_path / "t.csv", ("No;Name\n" + "\n".join(lines * 3) + "\n").encode(encoding))
    assert [row[1] for row in table(path)[1]][: len(lines)] == [word.strip() for word in words.split(",")]
    assert open_source(path).facts.text.because


def test_packed_files_are_unpacked_and_bombs_are_not(tmp_path: Path) -> None:
    content = b"a;b\n1;x\n2;y\n"
    written(tmp_path / "t.csv.gz", gzip.compress(content))
    written(tmp_path / "t.csv.zst", zstandard.compress(content))
    for name, files in {
        "one.zip": ["t.csv", "__MACOSX/t.csv"],
        "two.zip": ["a.csv", "b/t.csv"],
        "none.zip": [],
    }.items():
        with zipfile.ZipFile(tmp_path / name, "w") as archive:
            for file in files:
                archive.writestr(file, content)
    for name in ("t.csv.gz", "t.csv.zst", "one.zip"):
        assert table(tmp_path / name)[1] == [("1", "x", 2), ("2", "y", 3)]
        assert open_source(tmp_path / name).facts.path == tmp_path / name
    assert len(table(tmp_path / "two.zip", how(inside="b/t.csv"))[1]) == 2
    written(tmp_path / "bomb.csv.gz", gzip.compress(b"0" * (300 << 20)))
    written(tmp_path / "cut.csv.gz", gzip.compress(content * 99)[:-9])
    for name, words in {
        "two.zip": "2 files",
        "none.zip": "empty",
        "bomb.csv.gz": "more than 256 MiB",
        "cut.csv.gz": "damaged",
    }.items():
        with pytest.raises(SourceError, match=words):
            table(tmp_path / name)


# workbooks


def workbook(path: Path) -> Path:
    book = xlsxwriter.Workbook(str(path))
    zeros, places = book.add_format({"num_format": "00000"}), book.add_format({"num_format": "0000-000"})
    day = book.add_format({"num_format": "dd/mm/yyyy"})
    book.add_worksheet("Tips").write(0, 0, "Do not sort")
    sheet = book.add_worksheet("Data")
    sheet.merge_range(1, 1, 1, 2, "Client")
    sheet.merge_range(1, 3, 1, 5, "Visit")
    sheet.write_row(2, 1, ["No", "Zip", "Day", "Owed", "Paid", "Town", "Code"])
    for row in range(3, 7):
        sheet.write_number(row, 1, row, zeros)
        sheet.write_number(row, 2, 4710057, places)
        sheet.write_number(row, 3, 45000 + row, day)
        sheet.write_formula(row, 4, "=1+1", None, 2)
        sheet.write_boolean(row, 5, row % 2 == 0)
        sheet.write_string(row, 7, "12345678901234567")
    sheet.merge_range(3, 6, 5, 6, "Braga")
    sheet.write(6, 6, "Porto")
    sheet.write_formula(4, 4, "=NA()", None, "#N/A")
    sheet.write_number(5, 7, 12345678901234567)
    sheet.write(8, 1, "Total")
    sheet.write_number(8, 4, 8)
    book.add_worksheet("Old").hide()
    book.close()
    return path


WORKBOOK_ROWS = [
    ("00003", "4710-057", "2023-03-18", "2", "false", "Braga", "12345678901234567", 4),
    ("00004", "4710-057", "2023-03-19", "#N/A", "true", "Braga", "12345678901234567", 5),
    ("00005", "4710-057", "2023-03-20", "2", "false", "Braga", None, 6),
    ("00006", "4710-057", "2023-03-21", "2", "true", "Porto", "12345678901234567", 7),
]


def test_a_workbook_is_read_as_it_is_shown(tmp_path: Path) -> None:
    headings, rows, _, noticed = table(workbook(tmp_path / "w.xlsx"))
    assert headings == ("Client No", "Client Zip", "Visit Day", "Visit Owed", "Visit Paid", "Town", "Code")
    assert [(*r[:6], r[6] if r[7] != 6 else None, r[7]) for r in rows] == WORKBOOK_ROWS
    assert {(c, n) for c, n, _ in noticed} == {
        ("cell.error", 5),
        ("cell.long-number", 6),
        ("cell.formula", 4),
        ("cell.merged", 4),
        ("read.below-data", 9),
    }
    facts = open_source(tmp_path / "w.xlsx").facts
    assert [(s.name, s.visible, s.chosen) for s in facts.sheets] == [
        ("Tips", True, False),
        ("Data", True, True),
        ("Old", False, False),
    ]


@alone
@needs_office
@pytest.mark.parametrize("kind", ["ods", "xls"])
def test_other_kinds_of_workbook_are_read_alike(tmp_path: Path, kind: str) -> None:
    workbook(tmp_path / "w.xlsx")
    office(kind, tmp_path, tmp_path / "w.xlsx")
    headings, rows, _, noticed = table(tmp_path / f"w.{kind}")
    assert headings[:3] == ("Client No", "Client Zip", "Visit Day")
    # the office computes the formulas anew, and xls keeps no long numbers apart
    assert [(*r[:3], r[5], r[7]) for r in rows] == [(*r[:3], r[5], r[7]) for r in WORKBOOK_ROWS]
    assert {"cell.error", "cell.merged", "cell.formula"} <= {c for c, *_ in noticed}


def test_formulas_without_values_and_both_date_systems(tmp_path: Path) -> None:
    import datetime

    from openpyxl import Workbook
    from openpyxl.utils.datetime import CALENDAR_MAC_1904

    for epoch in (None, CALENDAR_MAC_1904):
        book = Workbook()
        if epoch is not None:
            book.epoch = epoch
        sheet = book.active
        for row in [
            ["No", "Day", "Sum"],
            [1, datetime.date(2024, 2, 29), "=A2*2"],
            [2, datetime.date(1999, 12, 31), "=A3*2"],
        ]:
            sheet.append(row)
        book.save(tmp_path / "w.xlsx")
        _, rows, _, noticed = table(tmp_path / "w.xlsx")
        assert [r[1] for r in rows] == ["2024-02-29", "1999-12-31"]
        assert [(c, n) for c, n, _ in noticed] == [("cell.formula-without-value", 2), ("cell.formula-without-value", 3)]


@given(number=st.integers(0, 10**12), places=st.sampled_from(["00000", "0000-000", "000 000 000", "(00)", "0-00-000"]))
def test_zeros_are_filled_in_from_the_right(number: int, places: str) -> None:
    shown = pl.select(with_zeros(pl.lit(str(number)), places)).item()
    digits = "".join(c for c in shown if c.isdigit())
    assert digits == str(number).zfill(places.count("0"))
    # the literals stand where the format has them, counted from the right
    assert shown.endswith(places[places.rindex("0") + 1 :])
    if number < 10 ** places.count("0"):
        assert [c for c in shown if not c.isdigit()] == [c for c in places if c != "0"]
        assert len(shown) == len(places)
    assert (zeros_of("#,##0.00"), zeros_of("0"), zeros_of('"A"000'), zeros_of(places.replace("-", "\\-"))) == (
        None,
        None,
        None,
        places.replace("(", "(") if "(" not in places else None,
    )


def test_binary_workbooks(tmp_path: Path) -> None:
    def record(kind: int, *pieces: bytes) -> bytes:
        head, body = bytes([kind]) if kind < 128 else bytes([kind & 0x7F | 0x80, kind >> 7]), b"".join(pieces)
        return head + bytes([len(body)]) + body

    def number(value: int) -> bytes:
        return struct.pack("<I", value)

    def text(value: str) -> bytes:
        return number(len(value)) + value.encode("utf-16-le")

    def cell(kind: int, column: int, style: int, rest: bytes) -> bytes:
        return record(kind, number(column), number(style), rest)

    def row(at: int) -> bytes:
        return record(0, number(at), bytes(13))

    cells = row(0) + b"".join(cell(6, at, 0, text(title)) for at, title in enumerate("abcd"))
    cells += row(1) + cell(2, 0, 1, number((42 << 2) | 2)) + cell(5, 1, 0, struct.pack("<d", 12345678901234567.0))
    cells += cell(3, 2, 0, b"\x17") + cell(9, 3, 0, struct.pack("<d", 2.5) + bytes(4))
    cells += row(2) + cell(6, 0, 0, text("last")) + row(1048575) + cell(6, 16383, 0, text("far"))
    sheet = record(129) + record(148, bytes(16)) + record(145) + cells + record(146)
    styles = record(615, number(1)) + record(44, b"\xa4\0", text("00000")) + record(616) + record(617, number(2))
    styles += record(47, bytes(4)) + record(47, b"\0\0\xa4\0") + record(618)
    link = '<Relationships xmlns="{0}"><Relationship Id="rId1" Type="{1}/worksheet" Target="worksheets/sheet1.bin"/></Relationships>'
    parts: dict[str, bytes | str] = {
        "xl/workbook.bin": record(131)
        + record(143)
        + record(156, number(0), number(1), text("rId1"), text("S"))
        + record(144)
        + record(132),
        "xl/_rels/workbook.bin.rels": link.format(
            "http://schemas.openxmlformats.org/package/2006/relationships",
            "http://schemas.openxmlformats.org/officeDocument/2006/relationships",
        ),
        "xl/styles.bin": styles,
        "xl/worksheets/sheet1.bin": sheet + record(176, *map(number, (1, 2, 3, 3))) + b"\x05\xff",
    }
    with zipfile.ZipFile(tmp_path / "f.xlsb", "w") as archive:
        for name, content in parts.items():
            archive.writestr(name, content)
    (batch,) = open_source(tmp_path / "f.xlsb").batches()
    # the zeros of the format are filled in, and what is merged has one value in all its rows
    assert batch.rows.rows() == [("00042", "12345678901234568", "#REF!", "2.5", 2), ("last", None, None, "2.5", 3)]
    assert batch.noticed.select("code", "line", "cell").sort("code").rows() == [
        ("cell.error", 2, "S!C2"),
        ("cell.far", None, "S!XFD1048576"),
        ("cell.formula", 2, "S!D2"),
        ("cell.long-number", 2, "S!B2"),
        ("cell.merged", 2, "S!D2"),
    ]


# printed reports, tagged records, fixed width

REPORT = """North clinic;;;;
Visits;;;printed 30/10/2026;
;;;;
Date;Animal;What;;Amount
Owner: 01001 Ana Dinis;;;;
01/02/2026;Rex;Consultation;;35,00
02/02/2026;Rex;Vaccine;;1.020,50
  Subtotal;;;;1.055,50
;;;;
Owner: 01002 Rui Faria;;;;
03/02/2026;Miau;X-ray;;60,00
North clinic;;;;
Visits;;;printed 30/10/2026;
Date;Animal;What;;Amount
04/02/2026;Miau;Surgery;;(10,00)
see next page;;;;
  Subtotal;;;;{subtotal}
-----;;;;
Total;;;;1.105,50
Page 2;;;;
"""
FLAT = [
    ("01001 Ana Dinis", "01/02/2026", "Rex", "Consultation", "35,00", 6),
    ("01001 Ana Dinis", "02/02/2026", "Rex", "Vaccine", "1.020,50", 7),
    ("01002 Rui Faria", "03/02/2026", "Miau", "X-ray", "60,00", 11),
    ("01002 Rui Faria", "04/02/2026", "Miau", "Surgery", "(10,00)", 15),
]


@pytest.mark.parametrize("in_workbook", [False, True])
@pytest.mark.parametrize(("subtotal", "wrong"), [("50,00", []), ("52,00", [("report.total-differs", 17, "52,00")])])
def test_a_printed_report_becomes_records(tmp_path: Path, in_workbook: bool, subtotal: str, wrong: list) -> None:
    text = REPORT.replace("{subtotal}", subtotal)
    path = tmp_path / ("r.xlsx" if in_workbook else "r.csv")
    if in_workbook:
        book = xlsxwriter.Workbook(str(path))
        sheet = book.add_worksheet("Print")
        for row, line in enumerate(text.splitlines()):
            sheet.write_row(row, 0, line.split(";"))
        book.close()
    else:
        written(path, text)
    options = recognise(path, ReadOptions())
    assert options.format == "report"
    headings, rows, broken, noticed = table(path, options)
    assert headings == ("Owner", "Date", "Animal", "What", "Amount")
    assert (rows, broken, noticed) == (FLAT, [("read.odd-line", 16)], wrong)
    # what is proposed for the plan reads the same
    said = dict(line.split(" = ", 1) for line in open_source(path, options).facts.proposal)
    assert table(path, how(**said))[1] == FLAT


@pytest.mark.parametrize(
    ("order", "parents"),
    [
        ("I L L T T I L T I L L T", {"I": [], "L": ["I"], "T": ["I"]}),
        ("I L T L T T I L I L T", {"I": [], "L": ["I"], "T": ["I", "L"]}),
        ("I N L L I L L I N L N I L", {"I": [], "L": ["I"], "N": ["I"]}),
        ("H I L L I L F", {"H": [], "I": [], "L": ["I"], "F": []}),
        ("C I L I L P C I L P", {"C": [], "I": ["C"], "L": ["C", "I"], "P": ["C"]}),
    ],
)
def test_record_types_below_others(tmp_path: Path, order: str, parents: dict[str, list[str]]) -> None:
    heads = "".join(f"#{tag}|No\n" for tag in dict.fromkeys(order.split()))
    path = written(tmp_path / "t.txt", heads + "".join(f"{tag}|{i}\n" for i, tag in enumerate(order.split())))
    seen = parts(path, recognise(path, ReadOptions()))
    assert {p.own["type"]: p.own.get("parents", []) for p in seen} == parents


@pytest.mark.parametrize("subtotal", ["50,00", "52,00"])
def test_totals_and_page_lines_in_a_language_that_nobody_knows(tmp_path: Path, subtotal: str) -> None:
    words = {"Subtotal": "Vahesumma", "Total": "Kokku", "Page 2": "Lk 2 / 2", "see next page": "Lk 1 / 2"}
    text = REPORT.replace("{subtotal}", subtotal)
    for word, other in words.items():
        text = text.replace(word, other)
    # the first page ends where the titles come again
    text = text.replace("see next page;;;;\n", "").replace("Lk 1 / 2;;;;\n", "")
    text = text.replace(
        "North clinic;;;;\nVisits;;;printed 30/10/2026;\nDate",
        "Lk 1 / 2;;;;\nNorth clinic;;;;\nVisits;;;printed 30/10/2026;\nDate",
    )
    path = written(tmp_path / "r.csv", text)
    options = recognise(path, ReadOptions())
    assert options.format == "report"
    reader = open_source(path, options)
    assert 'totals = ["Vahesumma", "Kokku"]' in reader.facts.proposal
    _, rows, broken, noticed = table(path, options)
    assert ([row[:-1] for row in rows], broken) == ([row[:-1] for row in FLAT], [])
    assert [one[0] for one in noticed] == ([] if subtotal == "50,00" else ["report.total-differs"])


@pytest.mark.parametrize(
    ("last", "rows"),
    [
        ("Razem;;;1105,50", 4),
        ("Sum total;;;1105,50", 4),
        ("Összesen: 4 fő;;;", 4),
        ("x5;;;", 5),
        ("5;Eva;01/02/2026;2,00", 5),
        ("Razem;;;1,50", 5),
        ("x5;;;12,00", 5),
        ("Razem;Rui;01/02/2026;1105,50", 5),
    ],
)
def test_a_closing_line_is_told_by_its_shape(tmp_path: Path, last: str, rows: int) -> None:
    """A word where numbers stand above, and a number as large as theirs; what is less is a record."""
    body = "".join(f"{i};Ana {i};0{i}/02/2026;{i * 100},00\n" for i in range(1, 5))
    found = table(written(tmp_path / "c.csv", f"No;Name;Day;Amount\n{body}{last}\n"))[1]
    assert len(found) == rows


def test_groups_by_indentation(tmp_path: Path) -> None:
    lines = ["Town / Street;No;Owed;Note"]
    for town in ("Braga", "Porto"):
        lines.append(f"{town};;;")
        for street in ("Rua A", "Rua B"):
            lines += [f"  {street};;;", f"    x;1;2.50;{town[0]}", f"    y;2;1.25;{street[-1]}", "Total street;;3.75;"]
        lines.append("Total town;;7.50;")
    path = written(tmp_path / "r.csv", "\n".join(lines) + "\n")
    options = how(
        format="report", heading="1", groups='{ "Town" = "", "Street" = "  " }', totals='["Total"]', decimal="."
    )
    _, rows, broken, noticed = table(path, options)
    assert [r[:4] for r in rows][:3] == [
        ("Braga", "Rua A", "x", "1"),
        ("Braga", "Rua A", "y", "2"),
        ("Braga", "Rua B", "x", "1"),
    ]
    assert (len(rows), broken, noticed) == (8, [], [])


TAGGED = """#OWNER|No|Name
#VISIT|Nr|Day|Vet
#LINE|Item|Qty
OWNER|1|Ana
VISIT|10|2026-01-02|Zé
LINE|Food|2
LINE|Vacc|1
VISIT|11|2026-01-05|Zé
LINE|Food|1
OWNER|2|Rui
LINE|Ghost|1
XX|what
VISIT|12|2026-01-07
VISIT|13|2026-01-08|Eva
LINE|"Say ""hi"" | there"|1
"""


def test_one_tagged_file_feeds_several_lists(tmp_path: Path) -> None:
    path = written(tmp_path / "t.txt", TAGGED)
    seen = parts(path, recognise(path, ReadOptions()))
    assert [(p.own["type"], p.own.get("parents")) for p in seen] == [
        ("OWNER", None),
        ("VISIT", ["OWNER"]),
        ("LINE", ["OWNER", "VISIT"]),
    ]
    headings, rows, broken, noticed = table(path, seen[2])
    assert headings == ("Item", "Qty", "OWNER.No", "OWNER.Name", "VISIT.Nr", "VISIT.Day", "VISIT.Vet")
    assert rows[2:] == [
        ("Food", "1", "1", "Ana", "11", "2026-01-05", "Zé", 9),
        ('Say "hi" | there', "1", "2", "Rui", "13", "2026-01-08", "Eva", 15),
    ]
    assert (broken, noticed) == ([("read.no-parent", 11)], [("read.unknown-tag", 12, "XX|what")])
    assert table(path, seen[1])[2] == [("read.ragged", 13)]
    with pytest.raises(SourceError, match="3 record types"):
        open_source(path, how(format="tagged"))
    with pytest.raises(SourceError, match="did you mean 'VISIT'"):
        open_source(path, how(type="VISITS"))
    written(path, TAGGED + "#OWNER|Name|No\n")
    with pytest.raises(SourceError, match="not those of line 1"):
        open_source(path, how(type="OWNER"))


def test_tagged_records_are_lines_whatever_quotes_they_hold(tmp_path: Path) -> None:
    closed = "#A|x|y|\nA|1||\nA||2|\nA|3|4|\n#B|x|\nB|1|\n"
    assert table(written(tmp_path / "c.txt", closed), how(type="A"))[1:3] == (
        [("1", None, 2), (None, "2", 3), ("3", "4", 4)],
        [],
    )
    quoted = '#A|x|y\nA|1|ok\nA|2|"open\nA|3|shut"\nA|4|"a|b"\n#B|x\nB|1\n'
    _, rows, broken, _ = table(written(tmp_path / "q.txt", quoted), how(type="A"))
    assert (rows, [line for _, line in broken]) == ([("1", "ok", 2), ("4", "a|b", 5)], [3, 4])


_word = st.text(st.characters(categories=["L", "N"]), min_size=1, max_size=8)


@_tmp
@given(st.lists(st.tuples(st.sampled_from("AB"), _word, _word), min_size=1, max_size=30))
def test_tagged_records_are_read_back(tmp_path: Path, records: list[tuple[str, str, str]]) -> None:
    lines = ["#A|x|y", "#B|x|y", *("|".join(r) for r in records)]
    path = written(tmp_path / "t.txt", "\n".join(lines) + "\n")
    for kind in "AB":
        expected = [(x, y, n) for n, (tag, x, y) in enumerate(records, start=3) if tag == kind]
        assert table(path, how(type=kind, marker="#", delimiter="|"))[1] == expected


@_tmp
@given(st.integers(2, 4).flatmap(lambda n: st.lists(st.lists(_word, min_size=n, max_size=n), min_size=3, max_size=40)))
def test_fixed_width_text_is_read_back_by_its_ruler(tmp_path: Path, rows: list[list[str]]) -> None:
    widths = [max(len(row[i]) for row in rows) + 1 for i in range(len(rows[0]))]
    lines = [
        "".join(f"h{i}".ljust(w + 3) for i, w in enumerate(widths)),
        "".join(("-" * (w + 2)) + " " for w in widths),
    ]
    lines += ["".join(cell.ljust(w + 3) for cell, w in zip(row, widths, strict=True)).rstrip() for row in rows]
    path = written(tmp_path / "t.txt", "A title\n" + "\n".join(lines) + "\n")
    expected = [(*row, n) for n, row in enumerate(rows, start=4)]
    assert table(path, how(format="fixed"))[1] == expected
    said = dict(line.split(" = ", 1) for line in open_source(path, how(format="fixed")).facts.proposal)
    assert table(path, how(**said))[1] == expected


def test_positions_hold_back_what_is_beyond_them(tmp_path: Path) -> None:
    path = written(tmp_path / "t.txt", "01Ana  x\n02Rui  yBEYOND\n\n03Eva\n")
    options = how(positions='{ "No" = "1-2", "Name" = "3-7", "Sign" = "8" }')
    assert table(path, options)[1:3] == ([("01", "Ana", "x", 1), ("03", "Eva", None, 4)], [("read.ragged", 2)])
    with pytest.raises(SourceError, match="position of 'No'"):
        open_source(path, how(positions='{ "No" = "7-2" }'))


# nested text

NESTED = {"form": "x", "data": {"clients": [
    {"id": 1, "name": {"first": "Ana"}, "tags": ["a", "b"], "pets": [{"n": "Rex", "w": 1.10}, {"n": "Miau", "w": None}]},
    {"id": 2, "name": {"first": "Rui"}, "tags": [], "pets": [{"n": "Tó", "w": 2.50}]},
]}}  # fmt: skip
XML = """<?xml version="1.0"?><form xmlns="urn:x"><data><clients id="1"><name><first>Ana</first></name><tags>a</tags><tags>b</tags>
<pets><n>Rex</n><w>1.10</w></pets><pets><n>Miau</n><w/></pets></clients><clients id="2"><name><first>Rui</first></name>
<pets><n>Tó</n><w>2.50</w></pets></clients></data></form>"""


def test_nested_records_from_json_and_xml_are_the_same(tmp_path: Path) -> None:
    text = json.dumps(NESTED, ensure_ascii=False, indent=1).replace("1.1", "1.10").replace("2.5", "2.50")
    as_json, as_xml = written(tmp_path / "n.json", text), written(tmp_path / "n.xml", XML)
    for path, at in ((as_json, "data.clients"), (as_xml, "form.data.clients")):
        assert [p.own["records"] for p in parts(path, ReadOptions())] == [at, f"{at}.pets"]
        headings, rows, _, _ = table(path)
        assert set(headings) == {"id", "name.first", "tags", "pets.n", "pets.w"}
        order = [headings.index(h) for h in ("id", "name.first", "tags", "pets.n", "pets.w")]
        assert [[r[i] for i in order] for r in rows] == [
            ["1", "Ana", "a; b", "Rex; Miau", "1.10; "],
            ["2", "Rui", None, "Tó", "2.50"],
        ]
        headings, rows, _, _ = table(path, how(records=f"{at}.pets"))
        order = [headings.index(h) for h in ("n", "w", "clients.id", "clients.name.first")]
        assert [[r[i] for i in order] for r in rows] == [
            ["Rex", "1.10", "1", "Ana"],
            ["Miau", None, "1", "Ana"],
            ["Tó", "2.50", "2", "Rui"],
        ]
    lines = written(
        tmp_path / "l.ndjson", '{"id": 12345678901234567890, "v": 1.50}\nnot json\n\n{"id": 2, "w": [1, 2]}\n'
    )
    assert table(lines)[:3] == (
        ("id", "v", "w"),
        [("12345678901234567890", "1.50", None, 1), ("2", None, "1; 2", 4)],
        [("read.not-json", 2)],
    )


_scalar = st.none() | st.booleans() | st.integers() | st.text(max_size=6)


@_tmp
@given(st.lists(st.dictionaries(_word, _scalar, min_size=1, max_size=4), min_size=1, max_size=12))
def test_plain_json_is_read_back(tmp_path: Path, records: list[dict]) -> None:
    def text(value: object) -> str | None:
        return (
            {True: "true", False: "false"}[value]
            if isinstance(value, bool)
            else (str(value) if value is not None else None) or None
        )

    names = list(dict.fromkeys(k for r in records for k in r))
    for path, content in (
        (tmp_path / "a.json", json.dumps(records)),
        (tmp_path / "a.jsonl", "\n".join(map(json.dumps, records))),
    ):
        reader = open_source(written(path, content), how(records="."))
        rows = pl.concat([b.rows for b in reader.batches()])
        assert reader.raw_headings == tuple(names)
        assert rows.select(reader.headings).rows() == [tuple(text(r.get(n)) for n in names) for r in records]


_key = st.sampled_from(["a", "b", "c", "a.b"])
_tree = st.recursive(
    _scalar,
    lambda one: (
        st.lists(one, max_size=4) | st.lists(st.dictionaries(_key, one), max_size=4) | st.dictionaries(_key, one)
    ),
    max_leaves=25,
)


@_tmp
@given(
    st.dictionaries(_key, _tree, min_size=1) | st.lists(st.dictionaries(_key, _tree), max_size=5), st.integers(1, 40)
)
@example({"a": {"b": [{"c": 1}]}, "a.b": [{"c": 2}]}, 5)
@example({"a": {"c": {"b": [{"x": 1}]}, "b": [{"c": 1}, 3, {"a": [1, True]}]}}, 5)
def test_trees_are_read_record_by_record_as_they_are_whole(tmp_path: Path, tree: dict | list, size: int) -> None:
    """Against walking the whole tree and making each record plain; also where pieces end within a value."""
    from mudanza.core.sources import json_stream
    from mudanza.core.sources.decoding import look_at
    from mudanza.core.sources.nested import open_records, records_of
    from mudanza.core.sources.trees import flatten, is_unclear, lists_in, records_at

    text = look_at(written(tmp_path / "t.json", json.dumps(tree)), ReadOptions())
    kinds = [records_of(json_stream.DECODER.decode(json.dumps(tree)))]
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(json_stream, "BLOCK", size)
        with suppress(json_stream.NotStreamedError):
            records, can_stream = json_stream.streamed(text)
            kinds.append(records)
        for path in lists_in(tree):
            expected = []
            for record, above in records_at(json_stream.DECODER.decode(json.dumps(tree)), path):
                row: dict[str, str | None] = {}
                flatten(record, "", "; ", row)
                expected.append({name: value for name, value in {**above, **row}.items() if value})
            # a path that goes two ways, by a key with a dot, may lead to no record
            for one in kinds[: 2 if len(kinds) > 1 and can_stream(path) else 1] if expected else ():
                assert path in one.paths
                facts = {"format": "JSON", "size": 1, "encoding": text.found}
                reader = open_records(one, how(records=path or "."), tmp_path, **facts)
                rows = pl.concat([b.rows for b in reader.batches()])
                back = dict(zip(reader.headings, reader.raw_headings, strict=True))
                found = [{back[k]: v for k, v in row.items() if k in back and v} for row in rows.rows(named=True)]
                assert found == expected
            # with the columns of the first records alone, no value is another
            patch.setattr(json_stream, "_ENOUGH", 1)
            with suppress(json_stream.NotStreamedError):
                records, can_stream = json_stream.streamed(text, path)
                if path in records.paths and can_stream(path) and expected and not is_unclear(records_of(tree).outline):
                    reader = open_records(records, how(records=path or "."), tmp_path, **facts)
                    rows = pl.concat([b.rows for b in reader.batches()]).rows(named=True)
                    known = dict(zip(reader.raw_headings, reader.headings, strict=True))
                    assert [{k: row[h] for k, h in known.items() if row[h]} for row in rows] == [
                        {k: v for k, v in row.items() if k in known} for row in expected
                    ]


def test_a_preview_of_json_shows_what_a_build_writes(tmp_path: Path) -> None:
    """Also where a column first stands far down; and one that the whole text does not have is told."""
    columns = [{"name": name, "titles": name} for name in ("no", "late", "made")]
    for folder in ("layouts", "plans", "incoming"):
        (tmp_path / folder).mkdir()
    written(tmp_path / "mudanza.toml", 'name = "Test"\n')
    written(tmp_path / "layouts/a.json", layout_json(columns, url="a.csv", primaryKey="no"))
    records = [{"no": n} | ({"late": f"far down {n}"} if n > 6000 else {}) for n in range(1, 6101)]
    written(tmp_path / "incoming/a.json", json.dumps({"x": {"made": "monday", "all": records}}))
    plan = 'layout = "layouts/a.json"\n[[source]]\nname = "a"\nfile = "incoming/a.json"\nrecords = "x.all"\n[fields]\n'
    flows = {"no": "{no}", "late": "{late}", "made": "{x.made}"}

    def shown(number: int, *fields: str) -> list[str | None]:
        lines = "".join(f"{name} = '{flows[name]}'\n" for name in fields)
        written(tmp_path / "plans/a.toml", plan + lines)
        rows = program("preview", "a", "--key", str(number), "--json", cwd=tmp_path, status=0).json["rows"]
        return [one["after"] for one in rows[0]["fields"]]

    assert shown(2, "no", "made") == ["2", None, "monday"]
    assert shown(6050, "no", "late", "made") == ["6050", "far down 6050", "monday"]
    program("build", "a", cwd=tmp_path, status=0)
    assert "6050,far down 6050,monday" in (tmp_path / "out/a.csv").read_text("utf-8").splitlines()
    written(tmp_path / "plans/a.toml", plan + "no = '{nowhere}'\n")
    assert "no source has a column 'nowhere'" in program("preview", "a", cwd=tmp_path, status=2).err


def test_contacts(tmp_path: Path) -> None:
    path = written(
        tmp_path / "c.vcf",
        """BEGIN:VCARD\r
VERSION:3.0\r
N:Dinis;Ana;;Dra.;\r
FN:Dra. Ana Dinis\r
TEL;TYPE=CELL:+351 912\r
TEL;TYPE="HOME,VOICE":253\r
TEL;TYPE=CELL:913\r
item1.ADR;TYPE=HOME:;;Rua A\\, 1;Braga;;4710-001;Portugal\r
NOTE:long li\r
 ne\\nsecond\r
PHOTO;ENCODING=b;TYPE=JPEG:AAAAAAAA\r
END:VCARD\r
BEGIN:VCARD\r
VERSION:4.0\r
FN:Rui\r
nonsense\r
END:VCARD\r
BEGIN:VCARD\r
FN:cut\r
""",
    )
    headings, rows, broken, _ = table(path)
    ana = dict(zip(headings, rows[0], strict=False))
    assert (ana["N.family"], ana["TEL.cell"], ana["TEL.home"], ana["ADR.home.street"]) == (
        "Dinis",
        "+351 912; 913",
        "253",
        "Rua A, 1",
    )
    assert (ana["NOTE"], ana["PHOTO"], rows[1][-1]) == ("long line\nsecond", "(binary, 6 bytes)", 13)
    assert broken == [("read.odd-line", 16), ("read.cut-off", 18)]


HOSTILE = {
    "bomb.xml": (
        '<?xml version="1.0"?><!DOCTYPE x [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;">]><x><y>&b;</y></x>',
        "entities",
    ),
    "outside.xml": (
        '<?xml version="1.0"?><!DOCTYPE x [<!ENTITY a SYSTEM "file:///etc/passwd">]><x><y>&a;</y></x>',
        "entities",
    ),
    "cut.xml": ("<?xml version='1.0'?><x><y>1</y><y>2", "breaks off"),
    "cut.json": ('[{"a": 1}, {"a": ', "breaks off"),
    "deep.json": ("[" * 100_000, "nested too deeply|breaks off"),
    "no.json": ("{'a': 1}", "no JSON"),
    "empty.json": ("[]", "no list of records"),
    "page.csv": ("<!DOCTYPE html><html><table><tr><td>1</td></tr></table></html>", "web page"),
    "p.csv": ("%PDF-1.7 ...", "a PDF"),
    "b.csv": (bytes(range(256)) + b"\n1,2\n", "no text"),
    "e.vcf": ("", "empty"),
    "x.sqlite": ("SQLite format 3\0" + "junk" * 400, "database says"),
}


@pytest.mark.parametrize("name", HOSTILE)
def test_what_is_damaged_or_hostile_is_refused_with_the_reason(tmp_path: Path, name: str) -> None:
    content, words = HOSTILE[name]
    with pytest.raises(Exception, match=words) as raised:
        table(written(tmp_path / name, content))
    assert raised.value.hint and raised.value.status == 3


_SEEDS = {
    "d.csv": 'No;Name;Owed\n1;"Ana; or so";2,50\n2;Rui;3\nTotal;;5,50\n', "t.txt": TAGGED, "r.csv": REPORT, "n.json": json.dumps(NESTED),
    "l.ndjson": '{"a": 1}\n{"b": [1, {"c": 2}]}\n', "x.xml": XML, "c.vcf": "BEGIN:VCARD\nFN:Ana\nTEL;TYPE=HOME:1\nEND:VCARD\n",
    "f.txt": "Code  Name\n----- -----\n00001 Ana\n00002 Rui\n00003 Eva\n",
}  # fmt: skip


@stories(60)
@example(name="l.ndjson", changes=[(0, b"{\0\n", 99)])
@given(
    name=st.sampled_from([*_SEEDS, "w.xlsx"]),
    changes=st.lists(
        st.tuples(
            st.floats(0, 1),
            st.sampled_from([b"", b";", b'"', b"\n", b"\r", b"\0", b"<", b"{", b"\xff", b"|", b"#", b","]),
            st.integers(0, 9),
        ),
        max_size=6,
    ),
)
def test_damage_is_answered_and_never_a_fault(
    tmp_path: Path, name: str, changes: list[tuple[float, bytes, int]]
) -> None:
    """Whatever happens to a file's bytes: rows, findings, or an error that says what and why."""
    from mudanza.core.documents.errors import MudanzaError
    from mudanza.core.work.survey.subjects import subjects
    from mudanza.core.work.survey.surveying import survey_subject

    seed = tmp_path / "seed.xlsx"
    body = (seed if seed.exists() else workbook(seed)).read_bytes() if name == "w.xlsx" else _SEEDS[name].encode()
    for at, put, cut in changes:
        place = int(at * len(body))
        body = body[:place] + put + body[place + cut :]
    path = written(tmp_path / name, body)
    try:
        for subject in subjects([str(path)], ReadOptions(), None).subjects:
            survey_subject(subject)
    except MudanzaError as error:
        assert error.hint


def test_patterns_and_lazy_rows(tmp_path: Path) -> None:
    for name in ("b", "a"):
        written(tmp_path / f"2024-{name}.csv", f"x,y\n{name},1\n")
    assert [p.name for p in files_of(tmp_path / "2024-*.csv")] == ["2024-a.csv", "2024-b.csv"]
    with pytest.raises(SourceError, match="no file matches"):
        files_of(tmp_path / "2025-*.csv")
    rows = lazy_rows(open_source(tmp_path / "2024-a.csv"))
    assert rows.filter(pl.col("y") == "1").select("x", LINE).collect().rows() == [("a", 2)]


def test_files_that_nobody_here_wrote() -> None:
    """Data files that come inside a drawing library, against the standard library's own reader."""
    import matplotlib

    folder = Path(matplotlib.get_data_path()) / "sample_data"
    seen = 0
    for path in sorted(folder.glob("*.csv")):
        with path.open(newline="", encoding="utf-8") as file:
            expected = [row for row in csv.reader(file) if row and not row[0].startswith("#")]
        headings, rows, broken, _ = table(path)
        body = [[cell or "" for cell in row[:-1]] for row in rows]
        assert broken == []
        assert body in (expected, expected[1:]), path.name
        assert body == expected or list(headings) == [" ".join(h.split()) for h in expected[0]]
        seen += 1
    assert seen >= 3


def test_a_note_beside_a_number_of_ods_hides_no_zeros(tmp_path: Path) -> None:
    spaces = " ".join(
        f'xmlns:{one}="urn:oasis:names:tc:opendocument:xmlns:{one}:1.0"' for one in ("office", "table", "text")
    )
    number = '<number min-integer-digits="5"/>'
    rows = [
        "<text:p>Zip</text:p>",
        *(f'<office:annotation><text:p>{note}</text:p></office:annotation><text:p>0{zip_}</text:p>' for zip_, note in ((4710, "look 7"), (4711, ""))),
    ]  # fmt: skip
    cells = [
        f'<table:table-row><table:table-cell {said}>{row}</table:table-cell></table:table-row>'
        for row, said in zip(rows, ('office:value-type="string"', 'office:value-type="float" office:value="4710"', 'office:value-type="float" office:value="4711"'), strict=True)
    ]  # fmt: skip
    content = (
        f'<office:document-content {spaces}><office:body><office:spreadsheet><table:table table:name="S">{"".join(cells)}'
        f"</table:table></office:spreadsheet></office:body>{number}</office:document-content>"
    )
    kind = "application/vnd.oasis.opendocument.spreadsheet"
    manifest = '<manifest:manifest xmlns:manifest="urn:oasis:names:tc:opendocument:xmlns:manifest:1.0"/>'
    with zipfile.ZipFile(tmp_path / "w.ods", "w") as archive:
        for name, text in (("mimetype", kind), ("META-INF/manifest.xml", manifest), ("content.xml", content)):
            archive.writestr(name, text)
    assert look_at_cells(tmp_path / "w.ods", "ods", "S").shown == {(1, 0): "04710", (2, 0): "04711"}
