"""The survey: what it says of a source is true, and what is worth a look is found."""

from __future__ import annotations

import csv
import os
import random
import shutil
import sqlite3
from collections import Counter
from contextlib import closing
from dataclasses import replace
from pathlib import Path

import polars as pl
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from conftest import program
from mudanza.core.work.progress import Progress
from mudanza.core.work.survey.column_facts import ColumnFacts
from mudanza.core.work.survey.surveying import SurveyResult, survey


def of(tmp_path: Path, heads: str, rows: list[str], **options) -> SurveyResult:
    path = tmp_path / "t.csv"
    path.write_text("\n".join([heads, *rows]) + "\n", encoding="utf-8")
    return survey(path, **options)


def column(tmp_path: Path, values: list[str]) -> ColumnFacts:
    quoted = [f"{i};" + (f'"{v}"' if ";" in v else v) for i, v in enumerate(values, start=1)]
    return of(tmp_path, "No;C", quoted).columns[1]


chance = random.Random(7)
CODES = [f"{chance.randint(1000, 9999)}" for _ in range(90)] + [f"{chance.randint(100, 999)}" for _ in range(10)]

COLUMNS = {
    "placeholders": (["n/a"] * 3 + ["-", "UNKNOWN"] + [f"9{i:08d}" for i in range(40)], lambda c: c.placeholders == [("n/a", 3), ("-", 1), ("UNKNOWN", 1)]),
    "zero dates": (["00/00/0000"] + [f"{d:02d}/03/2024" for d in range(1, 31)], lambda c: c.placeholders == [("00/00/0000", 1)] and (c.least, c.most) == ("2024-03-01", "2024-03-30")),
    "a number that stands out": (["999999999"] * 9 + [f"2{i:08d}" for i in range(40)], lambda c: c.placeholders == [("999999999", 9)]),
    "a frequent last day is true": (["30/10/2026"] * 20 + [f"{d:02d}/03/2024" for d in range(1, 31)], lambda c: c.placeholders == []),
    "yes and dash": (["x", ""] * 20, lambda c: c.placeholders == [] and c.constant),
    "zeros lost": (CODES, lambda c: c.zeros_lost and c.shapes[0] == ("9999", 90)),
    "zeros there": ([v.zfill(4) for v in CODES], lambda c: not c.zeros_lost and c.leading_zeros == 10 and c.kind == "digits"),
    "running numbers lost nothing": ([str(i) for i in range(1, 1200)], lambda c: not c.zeros_lost and c.kind == "whole number"),
    "mixed dates": (["31/01/2024", "01/31/2024", "05/06/2024"] * 4, lambda c: c.date_orders == (4, 4, 4)),
    "several texts": ([f"a{i}@x.org" for i in range(20)] + ["b@x.org; c@x.org"], lambda c: c.several == (";", 1)),
    "one text with commas": ([f"Rua {i}, porta {i}" for i in range(20)] + ["Largo"], lambda c: c.several is None),
    "control characters": (["plain", "be\x07ll"] * 3, lambda c: c.control == (3, "be\x07ll")),
    "spaces and sums": ([" 1,50", "2,25 ", "0,25"] * 2, lambda c: c.spaces == 4 and c.total == "8" and c.kind == "number, decimal comma"),
    "exact sums": (["0.1"] * 10 + ["12345678901234.05"], lambda c: c.total == "12345678901235.05"),
    "odd values": (["1", "2", "3", "4", "x", "6"] * 3 + ["7"], lambda c: c.kind == "whole number" and set(c.odd) == {"x"}),
}  # fmt: skip


@pytest.mark.parametrize("name", COLUMNS)
def test_what_is_in_a_column(tmp_path: Path, name: str) -> None:
    values, expected = COLUMNS[name]
    found = column(tmp_path, values)
    assert expected(found), found


@settings(max_examples=40, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    st.lists(
        st.sampled_from(["", " ", "a", "A ", "12", "012", "1.5", "-3", "31/01/2024", "é", "n/a", "x;y"]),
        min_size=1,
        max_size=60,
    ),
    st.integers(1, 30),
)
def test_counts_do_not_depend_on_how_a_file_falls_into_batches(values: list[str], size: int) -> None:
    """Against plain counting in Python."""
    from mudanza.core.work.survey.columns import new_columns

    frame = pl.DataFrame({"C": pl.Series([v or None for v in values], dtype=pl.String)})
    watch = new_columns(frame, ["C"])["C"]
    for part in frame.iter_slices(size):
        distinct = watch.values(part).collect()
        watch.take(pl.collect_all(watch.queries(distinct)))
    facts = watch.facts("C")
    plain = [v.strip() for v in values if v.strip()]
    assert (facts.filled, facts.distinct) == (len(plain), len(set(plain)))
    assert facts.spaces == sum(v != v.strip() for v in values if v.strip())
    counted = sorted(Counter(plain).items(), key=lambda one: (-one[1], one[0]))
    assert facts.frequent == counted[:10]
    assert facts.pretending <= plain.count("n/a") + len(plain)
    assert (facts.shortest, facts.longest) == ((min(map(len, plain)), max(map(len, plain))) if plain else (None, None))


def test_what_is_told_does_not_depend_on_blocks(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Blocks of few rows are put together: so is what stands in them, and beside the rows."""
    from mudanza.core.sources import delimited

    heads = ";".join(f"c{i}" for i in range(40))
    rows = [";".join(str((n * i) % (7 + i)) if i % 3 else "" for i in range(40)) for n in range(400)]
    rows[100:100] = ["", "a;b"]
    rows[300] = rows[300].replace("1", "x")
    first = of(tmp_path, heads, rows)
    monkeypatch.setattr(delimited, "BLOCK", 1 << 12)
    told: list[Progress] = []
    again = survey(tmp_path / "t.csv", tell=told.append)
    assert (again.rows, again.damaged, again.findings, again.keys) == (401, 1, first.findings, first.keys)
    for one, other in zip(first.columns, again.columns, strict=True):
        assert replace(one, hashes=other.hashes) == other
        assert one.hashes.sort("h").equals(other.hashes.sort("h"))
    assert [one.rows for one in told] == [0, 401, 401] and told[-1].share == 1


def test_keys_alone_and_together(tmp_path: Path) -> None:
    rows = [f"{shop};{number};{chance.randint(1, 5)}" for shop in ("A", "B", "C") for number in range(40)]
    assert [k.columns for k in of(tmp_path, "Shop;Number;X", rows).keys] == [("Shop", "Number")]
    alike = of(tmp_path, "Id;Name", [f"{i:03d};n{i % 7}" for i in range(30)] + ["K1;x", "k1;y", "K 1;z", "7;w", "29;v"])
    (key,) = alike.keys
    assert (key.columns, key.repeated, key.alike_count) == (("Id",), 0, 3)
    assert ("K1", "k1", "K 1") in key.alike
    assert [g.code for g in alike.findings if g.code == "key.alike"] == ["key.alike"]
    assert of(tmp_path, "A;B", ["x;y"] * 9).keys == []


def test_is_it_whole(tmp_path: Path) -> None:
    from datetime import date

    def codes(rows: int, text: str = "", **options) -> set[str]:
        path = tmp_path / "w.csv"
        path.write_text("No;Name\n" + "".join(f"{i};n{i}\n" for i in range(rows)) + text)
        os.utime(path, (1_700_000_000, 1_700_000_000))
        return {g.code for g in survey(path, **options).findings if g.code.startswith(("whole", "read"))}

    assert codes(999) == set()
    assert codes(1000) == {"whole.round-count"}
    assert codes(1000, expect=1000) == set()
    assert codes(999, expect=1000) == {"whole.count"}
    assert codes(9, "10;half") == {"whole.cut-off"}
    assert codes(9, "10") == {"whole.cut-off", "read.cut-off"}
    assert codes(9, newer_than=date(2023, 11, 16)) == {"whole.old"}
    assert codes(9, newer_than=date(2023, 11, 14)) == set()


def test_references_between_sources(tmp_path: Path) -> None:
    (tmp_path / "clients.csv").write_text("No;Name\n" + "".join(f"C{i:03d};n{i}\n" for i in range(60)))
    (tmp_path / "pets.csv").write_text(
        "Pet;Owner;Age\n"
        + "".join(f"P{i:03d};C{i % 50:03d};{i % 9}\n" for i in range(100))
        + "P900;C777;1\nP901;C777;2\n"
    )
    ended = program("survey", ".", "--json", cwd=tmp_path, status=0)
    (reference,) = ended.json["references"]
    assert (
        reference["column"],
        reference["key"],
        reference["values"],
        reference["missing"],
        reference["missing_rows"],
    ) == ("Owner", "No", 51, 1, 2)
    assert reference["examples"] == ["C777"]
    shown = program("survey", "clients.csv", "pets.csv", cwd=tmp_path, status=0).out
    assert "1 of 51 values lead nowhere" in shown
    assert "reference.nowhere" in shown


def test_a_file_surveyed_before_is_known_again(move: Path) -> None:
    assert "whole.same" not in program("survey", "incoming/a.csv", cwd=move, status=0).out
    assert "whole.same" not in program("survey", "incoming/a.csv", cwd=move, status=0).out
    shutil.copy(move / "incoming/a.csv", move / "incoming/new.csv")
    document = program("survey", "incoming/new.csv", "--json", cwd=move, status=0).json
    assert [(f["code"], f["value"]) for f in document["about"]] == [("whole.same", "the same bytes as incoming/a.csv")]
    # and what is known of a move's lists can be surveyed by their names
    assert program("survey", "people", "--json", cwd=move, status=0).json["source"] == "people/a"
    assert "It has: a." in program("survey", "people/b", cwd=move, status=2).err
    assert "Did you mean 'people'" in program("survey", "peopel", cwd=move, status=2).err


def test_the_chart_and_what_cannot_be_drawn(tmp_path: Path) -> None:
    (tmp_path / "t.csv").write_text("A,B\n1,\n2,n/a\n3,x\n4,y\n")
    program("survey", "t.csv", "--chart", "t.png", cwd=tmp_path, status=0)
    assert (tmp_path / "t.png").read_bytes().startswith(b"\x89PNG")
    first = (tmp_path / "t.png").read_bytes()
    program("survey", "t.csv", "--chart", "t.png", "--overwrite", cwd=tmp_path, status=0)
    assert (tmp_path / "t.png").read_bytes() == first
    assert "Name it .png" in program("survey", "t.csv", "--chart", "t.doc", cwd=tmp_path, status=3).err
    assert sorted(p.name for p in tmp_path.iterdir()) == ["t.csv", "t.png"]


def test_several_files_of_one_shape(move: Path) -> None:
    text = (move / "plans/people.toml").read_text("utf-8")
    (move / "plans/people.toml").write_text(text.replace("incoming/a.csv", "incoming/a-*.csv"), encoding="utf-8")
    rows = (move / "incoming/a.csv").read_text("utf-8").splitlines()
    (move / "incoming/a-1.csv").write_text("\n".join(rows[:3]) + "\n", encoding="utf-8")
    (move / "incoming/a-2.csv").write_text(
        "\n".join([rows[0].replace(",State", ""), "9,Bia,,3,y,C", "8,Gil,2000-02-30,3,y,C"]) + "\n", encoding="utf-8"
    )
    one = program("survey", "incoming/a-*.csv", "--json", cwd=move, status=0).json
    assert (one["rows"], [f["rows"] for f in one["files"]]) == (4, [2, 2])
    built = program("build", "people", "--json", cwd=move, status=1).json["lists"][0]
    assert (built["read"], built["written"], built["held_back"]) == (4, 3, 1)
    told = {(f["code"], f["example"]["file"]) for f in built["findings"]}
    assert {("flow.not-a-date", "incoming/a-2.csv"), ("column.absent", "incoming/a-2.csv")} <= told


def test_blanks_and_wrong_cells_in_a_build(move: Path) -> None:
    import xlsxwriter

    book = xlsxwriter.Workbook(str(move / "incoming/a.xlsx"))
    sheet = book.add_worksheet()
    for row, values in enumerate(
        [
            ["Id", "Name", "Born", "Paid", "Active", "Kind", "State", "Extra"],
            ["1", "Ana", "?", 5, "y", "D", None, 1],
            ["2", "Rui", None, 6, "y", "C", None, 1],
        ]
    ):
        for at, value in enumerate(values):
            if value is not None:
                sheet.write(row, at, value)
    sheet.write_formula(2, 3, "=1/0", None, "#DIV/0!")
    sheet.write_formula(1, 7, "=1/0", None, "#DIV/0!")
    book.close()
    text = (move / "plans/people.toml").read_text("utf-8")
    text = (
        text.replace('file = "incoming/a.csv"', 'file = "incoming/a.xlsx"\nblanks = ["?"]')
        + '[left_behind]\nExtra = "junk"\n'
    )
    (move / "plans/people.toml").write_text(text, encoding="utf-8")
    built = program("build", "people", "--json", cwd=move, status=1).json["lists"][0]
    assert (built["written"], built["held_back"]) == (1, 1)
    # an error in a cell only counts if its column is used
    errors = [f for f in built["findings"] if f["code"] == "cell.error"]
    assert [(f["field"], f["count"], f["example"]["cell"]) for f in errors] == [("Paid", 1, "Sheet1!D3")]
    assert "#DIV/0!" in (move / "out/people.held-back.csv").read_text("utf-8")
    assert "cell.error" in program("preview", "people", "--json", cwd=move, status=0).out


def test_the_demos_lists_are_read_right(tmp_path: Path) -> None:
    program("demo", "d", "--only-create", cwd=tmp_path, status=0)
    folder = tmp_path / "d"
    everything = program("survey", "incoming", "--json", cwd=folder, status=1).json
    found = {
        s["source"].removeprefix("incoming/"): (s["format"], s["rows"], s["damaged"]) for s in everything["sources"]
    }
    assert found["north/prices.txt [ITEM]"] == ("tagged records", 12, 0)
    assert found["north/visits.csv"] == ("printed report (delimited text)", 67, 0)
    assert found["harbour/animals.txt"] == ("delimited text", 30, 0)
    assert found["harbour/registrations.json [registrations.pets]"] == ("JSON", 4, 0)
    assert found["harbour/clinic.sqlite [visits]"] == ("SQLite database", 45, 0)
    assert {(r["column"], r["missing"]) for r in everything["references"]} >= {
        ("Client No", 3),
        ("Owner Id", 0),
        ("client", 0),
    }
    lists = program("build", "prices", "owners", "animals", "visits", "--json", cwd=folder, status=1).json["lists"]
    ends = {
        one["list"]: (one["read"], one["skipped"], one["merged"], one["held_back"], one["written"]) for one in lists
    }
    assert ends == {
        "prices": (12, 0, 0, 1, 11),
        "owners": (122, 5, 1, 8, 108),
        "animals": (94, 0, 0, 13, 81),
        "visits": (112, 0, 0, 21, 91),
    }
    # an identifier is given out for a row that is written, and for no other case of a flow
    assert lists[3]["keys_given"] == {"visits": 91}
    assert [d["path"] for d in lists[3]["sources_read"]] == [
        "incoming/north/visits.csv",
        "incoming/harbour/clinic.sqlite [visits]",
    ]
    checked = program(
        "check",
        "out/visits.csv",
        "--layout",
        "visits",
        "--with",
        "out/owners.csv",
        "--with",
        "out/prices.csv",
        "--json",
        cwd=folder,
    )
    assert {f["code"] for f in checked.json["findings"]} <= {"reference.missing", "file.too-large"}


HOW = [
    (["--how", "tpye=ITEM"], 2, "Did you mean 'type'?"),
    (["--how", "heading=one"], 2, "whole number"),
    (["--how", "heading=-1"], 2, "cannot be -1"),
    (["--how", "format=reprot"], 2, "no format 'reprot'"),
    (["--how", "blanks=n/a, -"], 0, "rows"),
    (["--how", "positions={ 'Id' = 1 }"], 2, "holds texts"),
    (["--how", "quote=<<"], 2, "one plain character"),
    (["--how", "format=tagged"], 3, "marker"),
    (["--how", "format=report", "--how", "heading=99"], 3, "no heading can be seen"),
    (["--heading", "99"], 3, "fewer lines"),
    (["--expect", "7"], 0, "7 rows"),
    (["--expect", "8"], 1, "whole.count"),
    (["incoming/a.csv", "--expect", "7"], 2, "about one source"),
    (["--newer-than", "yesterday"], 2, "2026-01-31"),
    (["--newer-than", "2999-01-01"], 0, "whole.old"),
    (["--columns"], 0, "frequent"),
    (["nowhere.csv"], 3, "does not exist"),
]


@pytest.mark.parametrize(("arguments", "status", "words"), HOW, ids=[" ".join(case[0]) for case in HOW])
def test_how_a_source_is_asked_for(move: Path, arguments: list[str], status: int, words: str) -> None:
    ended = program("survey", "incoming/a.csv", *arguments, cwd=move, status=status)
    assert words in (ended.out + ended.err).replace("\n", " ").replace("  ", " ")


MANY = """layout = "layouts/people.json"
[[source]]
name = "fixed"
file = "incoming/old.txt"
positions = { "Id" = "1-3", "Name" = "4-11", "Born" = "12-21" }
heading = 1
lacks = ["Paid"]
[[source]]
name = "cards"
file = "incoming/contacts.vcf"
rename = { "FN" = "Name", "BDAY" = "Born", "UID" = "Id" }
lacks = ["Paid"]
[[source]]
name = "web"
file = "incoming/form.xml"
records = "form.person.visit"
rename = { "no" = "Id", "person.name" = "Name", "paid" = "Paid" }
lacks = ["Born"]
[[source]]
name = "lines"
file = "incoming/tags.zip"
inside = "tags.txt"
type = "PAY"
parents = ["WHO"]
rename = { "Nr" = "Id", "WHO.Name" = "Name", "Sum" = "Paid" }
lacks = ["Born"]
[[source]]
name = "print"
file = "incoming/print.csv"
format = "report"
heading = 2
groups = { "Name" = "Person:" }
totals = ["Sum"]
decimal = ","
rename = { "No" = "Id", "Paid" = "PaidPrinted" }
lacks = ["Born", "Paid"]
[fields]
code = '{#source}, {Id} -> mint people'
name = '{Name} -> squeeze'
born = '{Born} -> date "yyyy-MM-dd"'
paid = '{PaidPrinted} -> number decimal="," when {#source} = "print"; {Paid} -> number otherwise'
[left_behind]
"WHO.Nr" = "stands in the name"
"""


def test_one_list_from_sources_of_many_formats(move: Path) -> None:
    """Every format from a plan; what is wrong is held back and cites its place in the file's own units."""
    import zipfile

    incoming = move / "incoming"
    (incoming / "old.txt").write_text(
        "No Name    Born\n001Ana     1980-01-31\n002Rui     1981-02-30\n003Eva     1990-05-05 and more\n"
    )
    card = "BEGIN:VCARD\nVERSION:4.0\nUID:{0}\nFN:{1}\nBDAY:{2}\nEND:VCARD\n"
    (incoming / "contacts.vcf").write_text(
        card.format(1, "Zoé Ito", "1999-12-31") + card.format(2, "Bad Day", "31-12-99"), encoding="utf-8"
    )
    (incoming / "form.xml").write_text(
        "<form><person><name>Gil</name><visit><no>1</no><paid>2.50</paid></visit><visit><no>2</no><paid>much</paid></visit></person></form>"
    )
    with zipfile.ZipFile(incoming / "tags.zip", "w") as archive:
        archive.writestr("readme.txt", "x")
        archive.writestr("tags.txt", "#WHO|Nr|Name\n#PAY|Nr|Sum\nPAY|0|1\nWHO|7|Lia\nPAY|1|3.75\nPAY|2\n")
    (incoming / "print.csv").write_text(
        "Payments;;\nNo;Paid;By\nPerson: Ivo;;\n1;2,25;cash\n2;1,00;card\nSum;4,25;\n", encoding="utf-8"
    )
    (move / "plans/people.toml").write_text(MANY, encoding="utf-8")
    built = program("build", "people", "--json", cwd=move, status=1).json["lists"][0]
    ends = {name: (s["read"], s["held_back"], s["written"]) for name, s in built["sources"].items()}
    assert ends == {"fixed": (3, 2, 1), "cards": (2, 1, 1), "web": (2, 1, 1), "lines": (3, 2, 1), "print": (2, 0, 2)}
    with (move / "out/people.findings.csv").open(encoding="utf-8") as file:
        found = {(r["code"], r["file"].removeprefix("incoming/"), r["line"], r["cell"]) for r in csv.DictReader(file)}
    assert found >= {
        ("flow.not-a-date", "old.txt", "3", ""),
        ("read.ragged", "old.txt", "4", ""),
        ("flow.not-a-date", "contacts.vcf", "7", ""),
        ("flow.not-a-number", "form.xml", "2", "record 2"),
        ("read.no-parent", "tags.zip [PAY]", "3", ""),
        ("read.ragged", "tags.zip [PAY]", "6", ""),
        ("report.total-differs", "print.csv", "6", ""),
        ("column.unused", "plans/people.toml", "", ""),
    }
    with (move / "out/people.csv").open(encoding="utf-8") as file:
        rows = [(r["Full name"], r["Born"], r["Paid"]) for r in csv.DictReader(file, delimiter=";")]
    assert rows == [
        ("Ana", "31/01/1980", ""),
        ("Zoé Ito", "31/12/1999", ""),
        ("Gil", "", "2,50"),
        ("Lia", "", "3,75"),
        ("Ivo", "", "2,25"),
        ("Ivo", "", "1,00"),
    ]
    # and the plan's sources are surveyed as the plan reads them
    seen = program("survey", "people", "--json", cwd=move, status=1).json["sources"]
    assert [(s["source"], s["rows"], s["damaged"]) for s in seen] == [
        ("people/fixed", 3, 1),
        ("people/cards", 2, 0),
        ("people/web", 2, 0),
        ("people/lines", 3, 2),
        ("people/print", 2, 0),
    ]


def test_running_numbers_are_no_evidence_of_references(tmp_path: Path) -> None:
    """Small numbers are among any running number; what refers is told by its heading, or by values that hit against all chance."""
    rows = range(1, 12001)
    (tmp_path / "readings.csv").write_text(
        "id;meter_id;a;b;value\n" + "".join(f"{i};{i % 300 + 1};{i % 40};{i % 90};{i * 7 % 5000}\n" for i in rows)
    )
    (tmp_path / "meters.csv").write_text(
        "id;customer;floor\n" + "".join(f"{i};{(i * 977) % 99991 + 100000};{i % 12}\n" for i in range(1, 301))
    )
    (tmp_path / "customers.csv").write_text(
        "number;name\n" + "".join(f"{(i * 977) % 99991 + 100000};n{i}\n" for i in range(1, 400)) + "999999;z\n"
    )
    found = program("survey", ".", "--json", cwd=tmp_path).json["references"]
    assert {(r["source"], r["column"], r["target"], r["key"]) for r in found} == {
        ("readings.csv", "meter_id", "meters.csv", "id"),
        ("meters.csv", "customer", "customers.csv", "number"),
    }


def test_lists_in_cells_keys_and_round_counts(tmp_path: Path) -> None:
    """Lists of words are told and decimal commas are not; what tells rows apart alone needs no other column; a database knows its count."""
    words = ["krym,hist", "hist", "poez, krym", "krym", "hist,poez", ""]
    rows = [f"{i if i else ''};{words[i % 6]};{i % 7},{i % 10}5;Costa{i % 5}, Ana{i % 4};{i % 9}" for i in range(100)]
    (tmp_path / "a.csv").write_text("Id;Interests;Price;Name;Floor\n" + "\n".join(rows) + "\n")
    one = program("survey", "a.csv", "--json", cwd=tmp_path).json
    assert [f["example"]["column"] for f in one["findings"] if f["code"] == "column.several-texts"] == ["Interests"]
    assert [key["columns"] for key in one["keys"] if "Id" in key["columns"]] == [["Id"]]
    assert "whole.round-count" in [f["code"] for f in one["findings"]]
    with closing(sqlite3.connect(tmp_path / "d.sqlite")) as db:
        db.execute("CREATE TABLE t (a TEXT)")
        db.executemany("INSERT INTO t VALUES (?)", [(str(i),) for i in range(100)])
        db.commit()
    one = program("survey", "d.sqlite", "--json", cwd=tmp_path).json
    assert "whole.round-count" not in [f["code"] for f in one["findings"]]
