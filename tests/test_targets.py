"""What targets give, and what they demand: layouts drafted, lent, compared; rows and files as the target takes them."""

from __future__ import annotations

import csv
import json
import sqlite3
import subprocess
import sys
from contextlib import closing
from datetime import date, datetime, time
from pathlib import Path
from typing import Any

import openpyxl
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from openpyxl.comments import Comment
from openpyxl.worksheet.datavalidation import DataValidation

from conftest import edit, layout_json, program
from mudanza.core.layouts.csvw import read_layout
from mudanza.core.values.date_format import DateFormat
from mudanza.core.work.proposing.from_field_list import from_field_list, is_field_list
from mudanza.core.work.proposing.words import date_pattern


@pytest.fixture
def school(tmp_path: Path) -> Path:
    (tmp_path / "mudanza.toml").write_text('name = "school"\n')
    (tmp_path / "incoming").mkdir()
    return tmp_path


def _template(path: Path) -> None:
    book = openpyxl.Workbook()
    sheet = book.active
    assert sheet is not None
    sheet.title = "Import"
    sheet.append(["Schüler-Nr.*", "Nachname*", "Geburtsdatum", "Instrument", "Beitrag", "Aktiv", "Ab", "PLZ", "Notiz"])
    sheet.append(["S0001", "Muster", date(2010, 1, 31), "Geige", 25.5, "Ja", time(14, 30), "04109", None])
    for cell, code in (("C2", "dd/mm/yyyy"), ("G2", "hh:mm"), ("E2", "#,##0.00"), ("H2", "@")):
        sheet[cell].number_format = code
    sheet["B1"].comment = Comment("Pflichtfeld, maximal 40 Zeichen", "x")
    sheet["I1"].comment = Comment("max. 200 Zeichen, kein Pflichtfeld", "x")
    lists = book.create_sheet("Listen")
    for row, value in enumerate(["Geige", "Klavier", "Flöte"], 1):
        lists.cell(row, 1, value)
    for formula, area in (("=Listen!$A$1:$A$3", "D2:D500"), ('"Ja,Nein"', "F2:F500")):
        rule = DataValidation(type="list", formula1=formula)
        sheet.add_data_validation(rule)
        rule.add(area)
    book.save(path)


def _field_list(path: Path) -> None:
    book = openpyxl.Workbook()
    sheet = book.active
    assert sheet is not None
    for row in (
        ["Feldliste, Version 3"],
        [],
        ["Lfd. Nr.", "Feldname", "Bezeichnung", "Datentyp", "Länge", "Pflicht", "Werteliste", "Bemerkung"],
        [1, "schueler_nr", "Schüler-Nr.", "Text", 5, "ja", None, "S und vier Ziffern"],
        [2, "nachname", "Nachname", "Text", 50, "ja", None, None],
        [3, "geb", "Geburtsdatum", "Datum (TT.MM.JJJJ)", None, "nein", None, None],
        [4, "instrument", "Instrument", "Auswahl", None, "nein", "Geige; Klavier; Flöte; Gitarre", None],
        [5, "beitrag", "Beitrag", "Zahl", "8,2", "nein", None, None],
        [6, "fax", "Fax", "Text", 20, None, None, None],
    ):
        sheet.append(row)
    book.save(path)


def _fields(folder: Path, name: str) -> dict[str, tuple[Any, ...]]:
    layout = read_layout(folder / f"layouts/{name}.json")
    return {one.name: (one.title, str(one.kind), one.required, one.type.rules) for one in layout.fields}


def test_a_template_with_its_field_list_becomes_a_layout_without_hand_work(school: Path) -> None:
    _template(school / "incoming/vorlage.xlsx")
    _field_list(school / "incoming/felder.xlsx")
    drafted = program(
        "layout", "draft", "schueler", "incoming/vorlage.xlsx", "incoming/felder.xlsx", "--json", cwd=school, status=0
    ).json
    assert [one["as"] for one in drafted["from"]] == ["template", "field list"]
    assert _fields(school, "schueler") == {
        "schueler_nr": ("Schüler-Nr.*", "text", True, ["text", "at most 5 characters"]),
        "nachname": ("Nachname*", "text", True, ["text", "at most 50 characters"]),
        "geb": ("Geburtsdatum", "date", False, ["date as dd.MM.yyyy"]),
        "instrument": ("Instrument", "text", False, ["one of Geige, Klavier, Flöte, Gitarre"]),
        "beitrag": ("Beitrag", "number", False, ["a number as 0.00", "from -999999.99", "up to 999999.99"]),
        "aktiv": ("Aktiv", "yes/no", False, ["Ja or Nein"]),
        "ab": ("Ab", "text", False, ["a time as HH:mm"]),
        "plz": ("PLZ", "text", False, ["text"]),
        "notiz": ("Notiz", "text", False, ["text", "at most 200 characters"]),
    }
    told = "\n".join(drafted["remarks"])
    assert "Gitarre" in told and "Fax not among" in told and "dd/MM/yyyy" in told and "40, and 50" in told
    again = program("layout", "draft", "schueler", "incoming/vorlage.xlsx", cwd=school, status=2).err
    assert "there is a layout" in again and "--replace" in again
    # the list alone: its names are the headings, or its labels; by its labels columns are found
    said = program("layout", "draft", "names", "incoming/felder.xlsx", cwd=school, status=0)
    assert '"primaryKey": "schueler_nr"' in said.out
    (school / "incoming/alt.csv").write_text("Nachname;Instrument;Beitrag\nMuster;Geige;1,5\n")
    drafted = program("match", "names", "--source", "incoming/alt.csv", "--rehearse", "--json", cwd=school, status=0)
    found = {one["field"]: one["flow"] for one in drafted.json["proposals"]}
    assert {"nachname", "instrument", "beitrag"} <= found.keys() and found["nachname"] == "{Nachname}"
    program("layout", "draft", "labels", "incoming/felder.xlsx", "--labels", cwd=school, status=0)
    assert _fields(school, "names")["fax"][0] == "fax" and _fields(school, "labels")["fax"][0] == "Fax"


def test_schemas_and_exports_and_text_templates(school: Path) -> None:
    owner = {
        "type": "object",
        "required": ["id", "name"],
        "properties": {
            "id": {"type": "integer", "minimum": 1},
            "name": {"type": "string", "maxLength": 30},
            "kind": {"enum": ["a.b", "c"]},
            "born": {"type": ["string", "null"], "format": "date"},
            "price": {"type": "number", "multipleOf": 0.01},
            "code": {"type": "string", "pattern": "^[A-Z]{2}"},
            "home": {"$ref": "#/$defs/place"},
            "odd": {"type": "string", "pattern": "(?=x)"},
        },
    }
    schema = {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "items": {"allOf": [owner]},
        "$defs": {"place": {"properties": {"town": {"type": "string"}}}},
    }
    (school / "incoming/s.json").write_text(json.dumps(schema))
    told = program("layout", "draft", "s", "incoming/s.json", "--json", cwd=school, status=0).json
    fields = _fields(school, "s")
    assert fields["id"][2] and fields["id"][3] == ["a whole number", "from 1"]
    assert fields["kind"][3] == ["one of a.b, c"] and fields["price"][3] == ["a number as 0.00"]
    assert fields["code"][3] == ["text matching [A-Z]{2}.*"] and fields["home_town"][0] == "home.town"
    assert any("odd" in one and "look-ahead" in one for one in told["remarks"])
    (school / "incoming/loop.json").write_text('{"$defs": {"a": {"$ref": "#/$defs/a"}}, "$ref": "#/$defs/a"}')
    assert "leads back to itself" in program("layout", "draft", "x", "incoming/loop.json", cwd=school, status=2).err
    rows = "".join(f"C{n:03d};{n % 28 + 1:02d}/01/2020;{n},50;{'ab'[n % 2]}\n" for n in range(60))
    (school / "incoming/e.csv").write_text("Code;Born;Due;Sort\n" + rows)
    program("layout", "draft", "e", "incoming/e.csv", cwd=school, status=0)
    layout = read_layout(school / "layouts/e.json")
    assert (
        all(one.observed for one in layout.fields)
        and layout.primary_key == ("code",)
        and layout.dialect.delimiter == ";"
    )
    assert [one.type.rules[0] for one in layout.fields] == [
        "text", "date as dd/MM/yyyy", "a number with decimal sign ','", "one of a, b",
    ]  # fmt: skip
    (school / "incoming/t.csv").write_text("Name*,Born (DD/MM/YYYY)\n")
    program("layout", "draft", "t", "incoming/t.csv", cwd=school, status=0)
    assert [one[2:] for one in _fields(school, "t").values()] == [(True, ["text"]), (False, ["date as dd/MM/yyyy"])]


HEADINGS = [
    ["Field", "Label", "Type", "Length", "Required", "Permitted values", "Description"],
    ["Nombre técnico", "Etiqueta", "Tipo de datos", "Longitud", "Obligatorio", "Valores permitidos", "Descripción"],
    [
        "Nom technique",
        "Libellé",
        "Type de données",
        "Longueur max",
        "Obligatoire (O/N)",
        "Valeurs autorisées",
        "Remarques",
    ],
    ["Nazwa techniczna", "Etykieta", "Typ danych", "Długość", "Wymagane", "Dozwolone wartości", "Uwagi"],
    ["Campo", "Designação", "Tipo de dados", "Tam.", "Obrig.", "Valores possíveis", "Observações"],
    ["Veldnaam", "Naam", "Gegevenstype", "Lengte", "Verplicht", "Toegestane waarden", "Toelichting"],
]


@settings(deadline=None, max_examples=40)
@given(st.sampled_from(HEADINGS), st.permutations(range(7)))
def test_a_field_list_is_understood_in_any_order_and_language(headings: list[str], order: list[int]) -> None:
    row = ["nr", "Number", "varchar(9)", "", "x", "a|b", "the number"]
    assert is_field_list([headings[at] for at in order])
    (facts,) = from_field_list([headings[at] for at in order], [[row[at] for at in order]], "f").fields
    assert (facts.title, facts.name, facts.required, facts.description) == ("Number", "nr", True, "the number")
    assert facts.takes.permitted == ("a", "b")


def test_examples_tell_the_decimal_sign_and_what_contradicts_them(school: Path) -> None:
    rows = [
        "Nom du champ;Libellé;Type;Taille;Obligatoire;Exemple", "cotis;Cotisation;Décimal(8,2);;O;45,00", "ville;Ville;Texte;4;N;Paris",
        "dnaiss;Né le;Date (JJ/MM/AAAA);;N;31.12.1980", "actif;Actif;Booléen (O/N);;O;O", "note;Note;Texte;9;N;",
    ]  # fmt: skip
    (school / "incoming/champs.csv").write_text("\n".join(rows) + "\n", encoding="utf-8")
    told = program("layout", "draft", "a", "incoming/champs.csv", "--json", cwd=school, status=0).json["remarks"]
    assert _fields(school, "a")["cotis"][3][0] == "a number as 0,00"
    assert [one.split(":")[0] for one in told] == [
        'no field is said to be the key; add "primaryKey"',
        "ville",
        "dnaiss",
    ]
    assert "'Paris'" in told[1] and "4 characters" in told[1] and "dd/MM/yyyy" in told[2]


def test_date_patterns_as_people_write_them() -> None:
    for said, meant in [
        ("DD/MM/YYYY", "dd/MM/yyyy"), ("TT.MM.JJJJ", "dd.MM.yyyy"), ("jj/mm/aaaa", "dd/MM/yyyy"), ("GG/MM/AAAA", "dd/MM/yyyy"),
        ("YYYY-MM-DD HH:MM:SS", "yyyy-MM-dd HH:mm:ss"), ("yyyymmdd", "yyyyMMdd"), ("hh:mm", "HH:mm"), ("ABC", None), ("[A-Z]", None),
    ]:  # fmt: skip
        assert date_pattern(said) == meant
        assert meant is None or DateFormat.of(meant).text == meant


def test_a_layout_is_lent_as_a_field_list_and_taken_back(school: Path) -> None:
    columns = [
        {"name": "code", "titles": "Code", "required": True, "datatype": {"base": "string", "maxLength": 5}},
        {"name": "born", "titles": "Born", "datatype": {"base": "date", "format": "dd/MM/yyyy"}},
        {"name": "due", "titles": "Due", "datatype": {"base": "decimal", "format": {"pattern": "0,00", "decimalChar": ","}}},
        {"name": "kind", "titles": "Kind", "datatype": {"base": "string", "format": "cat|dog"}, "urn:mudanza:observed": True},
    ]  # fmt: skip
    (school / "layouts").mkdir()
    (school / "layouts/pets.json").write_text(layout_json(columns, primaryKey="code"))
    program("layout", "lend", "pets", "--to", "lent.xlsx", cwd=school, status=0)
    # as it went out, it brings nothing
    assert "Nothing came back changed" in program("receive", "lent.xlsx", cwd=school, status=0).out
    book = openpyxl.load_workbook(school / "lent.xlsx")
    sheet = book.worksheets[0]
    at = {cell.value: cell.column for cell in sheet[2]}
    rows = {sheet.cell(row, 1).value: row for row in range(3, sheet.max_row + 1)}
    for name, title, value in [
        ("code", "Length", 8), ("born", "Format", "TT.MM.JJJJ"), ("due", "Maximum", "500"), ("kind", "Permitted values", "cat; dog; bird"),
        ("kind", "In the target", "no"), ("born", "Length", "long"),
    ]:  # fmt: skip
        sheet.cell(rows[name], at[title]).value = value
    new = rows["kind"] + 1
    for title, value in (
        ("Field", "chip"),
        ("Heading", "Chip"),
        ("Label", "Tag"),
        ("Type", "number"),
        ("Required", "ja"),
    ):
        sheet.cell(new, at[title]).value = value
    book.save(school / "back.xlsx")
    # meanwhile somebody changes the same field
    edit(school / "layouts/pets.json", "dd/MM/yyyy", "yyyyMMdd")
    back = program("receive", "back.xlsx", "--accept", "--json", cwd=school, status=1).json
    assert {(one["field"], one["what"]) for one in back["changes"]} == {
        ("code", "Length"), ("due", "Maximum"), ("kind", "Permitted values"), ("kind", "In the target"),
    }  # fmt: skip
    assert back["added"] == ["chip"]
    problems = {one["value"]: one["problem"] for one in back["wrong"]}
    assert "whole number" in problems["long"] and "changed too" in problems["TT.MM.JJJJ"]
    layout = read_layout(school / "layouts/pets.json")
    said = {one.name: (one.rule, one.required, one.absent, one.observed) for one in layout.fields}
    assert said["kind"] == ("one of cat, dog, bird", False, True, False)
    assert said["due"][0] == "a number as 0,00, up to 500" and said["chip"] == ("a number", True, False, False)
    assert layout.field_named("chip").label == "Tag"
    absent = program("layout", "absent", "pets", "--to", "make.xlsx", "--json", cwd=school, status=0).json
    assert [one["name"] for one in absent["fields"]] == ["kind"]
    made = openpyxl.load_workbook(school / "make.xlsx").worksheets[0]
    assert [cell.value for cell in made[3]][:2] == ["kind", "Kind"]


def test_comparing_two_layouts_tells_what_breaks(move: Path) -> None:
    layout = json.loads((move / "layouts/people.json").read_text())
    columns = {one["name"]: one for one in layout["tableSchema"]["columns"]}
    columns["kind"]["datatype"]["format"] = "cat|bird"
    columns["born"]["datatype"] = {"base": "string", "maxLength": 10}
    del columns["paid"]
    columns["since"] = {"name": "since", "titles": "Since", "required": True}
    layout["tableSchema"]["columns"] = list(columns.values())
    (move / "layouts/people-next.json").write_text(json.dumps(layout))
    edit(move / "plans/people.toml", "name = '{Name} -> squeeze'", "name = '\"{@paid} {Name}\"'")
    with (move / "plans/people.toml").open("a") as file:
        file.write('\n[[expect]]\nrow = { Id = "1" }\nfields = { paid = "1" }\n')
    told = program("layout", "compare", "people", "people-next", "--json", cwd=move, status=1).json
    changes = {(one["field"], one["kind"], one["what"]) for one in told["changes"]}
    assert {
        ("paid", "removed", ""),
        ("since", "added", "required"),
        ("born", "changed", "kind"),
        ("kind", "changed", "takes"),
    } <= changes
    breaks = {(one["where"], one["why"].split(",")[0]) for one in told["breaks"]}
    assert {
        ("[fields] paid", "the layout has no such field any more"),
        ("[fields] since", "it is required now"),
        ("[fields] born", "it is a text now"),
        ("[fields] name", "its flow uses {@paid}"),
        ("[[expect]] 1", "it expects paid"),
        ("line 2", "'dog' is not permitted in kind any more"),
    } <= breaks
    assert program("layout", "compare", "people", "people", cwd=move, status=0).out.count("Both say the same") == 1


DEMANDS: dict[str, Any] = {
    "urn:mudanza:oneOf": [["email", "phone"]],
    "urn:mudanza:rowLength": 60,
    "urn:mudanza:rowsPerFile": 3,
    "urn:mudanza:columnOrder": "any",
}
PEOPLE: list[dict[str, Any]] = [
    {"name": "code", "titles": "Code", "required": True},
    {"name": "name", "titles": "Name", "urn:mudanza:survives": "iso-8859-1"},
    {"name": "email", "titles": "E-mail"},
    {"name": "phone", "titles": "Phone"},
    {"name": "standing", "titles": "Standing"},
    {"name": "reason", "titles": "Reason", "urn:mudanza:requiredWhen": {"standing": ["debtor"]}},
    {"name": "tags", "titles": "Tags", "separator": "|", "urn:mudanza:knownLabels": "tags.txt"},
    {
        "name": "what",
        "titles": "What",
        "required": True,
        "urn:mudanza:actions": {"add": "A", "change": "C", "remove": "D"},
    },
]
ROWS = """No,Name,Mail,Tel,St,Why,Tags
1,Ana,a@b,,clear,,vip
2,Łucja,,123,clear,,vip|new
3,Rui,a@b,123,clear,,
4,Eva,,,clear,,
5,Bo,b@c,,debtor,,
6,Al,b@c,,debtor,late,old
7,Cy,c@d,,clear,,
8,Di,d@e,,clear,,
9,A very long name that takes too much room in the row,d@e,,clear,,
"""
PLAN = """layout = "layouts/people.json"
[[source]]
name = "old"
file = "incoming/p.csv"
[fields]
code = '{No}'
name = '{Name}'
email = '{Mail}'
phone = '{Tel}'
standing = '{St}'
reason = '{Why}'
tags = '{Tags} -> split "|"'
"""


def test_what_targets_demand_beyond_the_standard_is_made_and_checked(school: Path) -> None:
    for folder in ("layouts", "plans"):
        (school / folder).mkdir()
    (school / "layouts/people.json").write_text(layout_json(PEOPLE, primaryKey="code", **DEMANDS))
    (school / "layouts/tags.txt").write_text("vip\n")
    (school / "plans/people.toml").write_text(PLAN)
    (school / "incoming/p.csv").write_text(ROWS)
    built = program("build", "--json", cwd=school, status=1).json["lists"][0]
    assert {(f["code"], f["count"]) for f in built["findings"]} == {
        ("row.one-of", 2), ("row.too-long", 1), ("value.required", 1), ("value.unencodable", 1),
    }  # fmt: skip
    parts = [(school / f"out/people.part-{n}.csv").read_text().splitlines() for n in (1, 2)]
    assert [line.split(",")[0] for part in parts for line in part] == ["Code", "1", "6", "7", "Code", "8"]
    assert all(line.endswith(",A") for part in parts for line in part[1:])
    with (school / "out/people.labels.csv").open() as file:
        assert [tuple(row.values()) for row in csv.DictReader(file)] == [
            ("Tags", "old", "1", "no"),
            ("Tags", "vip", "1", "yes"),
        ]
    whole = program("check", "out/people.csv", "--layout", "people", "--json", cwd=school, status=1).json
    assert [(g["code"], g["count"]) for g in whole["groups"]] == [("file.too-large", 1), ("label.unknown", 1)]
    package = program("check", "out", "--json", cwd=school, status=0).json
    assert [Path(one["file"]).name for one in package["files"]] == ["people.part-1.csv", "people.part-2.csv"]
    # the same rows, as somebody else made the file: in another order of columns
    (school / "other.csv").write_text("Name,Code,E-mail,Phone,Standing,Reason,Tags,What\nAna,1,,,debtor,,,X\n")
    found = program("check", "other.csv", "--layout", "people", "--json", cwd=school, status=1).json["findings"]
    assert [(f["code"], f["column"]) for f in found] == [
        ("value.not-permitted", "What"), ("value.required", "Reason"), ("row.one-of", "E-mail"),
    ]  # fmt: skip
    program("handed-over", "1", cwd=school, status=0)
    edit(school / "incoming/p.csv", "1,Ana", "1,Anna")
    edit(school / "incoming/p.csv", "8,Di,d@e", "10,New,x@y")
    edit(school / "plans/people.toml", "[fields]", '[leavers]\ngone = "remove"\n[fields]')
    program("build", "--since", "handed-over", cwd=school, status=1)
    sets = {
        name: (school / f"out/people.{name}.csv").read_text().splitlines()[1:]
        for name in ("additions", "changes", "removals")
    }
    assert [[line.split(",")[0] + line[-1] for line in lines] for lines in sets.values()] == [["10A"], ["1C"], ["8D"]]
    # a set is known for its list, though another layout has the same headings
    (school / "layouts/a-people.json").write_text(layout_json(PEOPLE, primaryKey="code"))
    named = program("check", "out/people.additions.csv", "--json", cwd=school, status=0).json
    assert named["layout"] == "people"
    # a part that is not made any more does not stay
    edit(school / "layouts/people.json", '"urn:mudanza:rowsPerFile": 3', '"urn:mudanza:bytesPerFile": 100000')
    program("build", cwd=school, status=1)
    assert not list((school / "out").glob("*.part-*"))


def test_what_cannot_be_wrong_is_corrected_and_the_rest_annotated(tmp_path: Path) -> None:
    columns = [
        {"name": "code", "titles": "Code", "required": True, "datatype": {"base": "string", "format": "[0-9]{5}"}},
        {"name": "kind", "titles": "Kind", "datatype": {"base": "string", "format": "Cat|Dog"}},
        {"name": "born", "titles": "Born", "datatype": {"base": "date", "format": "dd/MM/yyyy"}},
        {"name": "seen", "titles": "Seen", "datatype": {"base": "date", "format": "dd/MM/yyyy"}},
        {"name": "paid", "titles": "Paid", "datatype": {"base": "decimal", "format": "0.00"}},
    ]  # fmt: skip
    (tmp_path / "l.json").write_text(layout_json(columns, primaryKey="code"))
    text = (
        "Code;kind;Born;Seen\u200b;Paid;More\r\n"
        "123;cat ;12/31/2001;01/02/2003;5.00;é\r\n"
        "00124; Dog;03/04/2001;02/01/2003; 7.00;y\r\n"
        "abc;bird;01/13/2001;03/03/2003;7;\r\n"
    )
    (tmp_path / "f.csv").write_bytes(text.encode("cp1252", "ignore").replace(b"Seen", b"Seen"))
    before = (tmp_path / "f.csv").read_bytes()
    told = program(
        "check",
        "f.csv",
        "--layout",
        "l.json",
        "--fix",
        "g.csv",
        "--annotated",
        "a.xlsx",
        "--json",
        cwd=tmp_path,
        status=1,
    ).json
    assert (tmp_path / "f.csv").read_bytes() == before
    assert {(c["line"], c["column"], c["after"], c["why"].split()[0]) for c in told["fixed"]["corrections"]} == {
        (1, "Kind", "Kind", "a"), (2, "Code", "00123", "zeros"), (2, "Kind", "Cat", "capitals"), (3, "Kind", "Dog", "spaces"),
        (2, "Born", "31/12/2001", "the"), (3, "Born", "04/03/2001", "the"), (4, "Born", "13/01/2001", "the"),
    }  # fmt: skip
    with (tmp_path / "g.csv").open(encoding="utf-8", newline="") as file:
        rows = list(csv.reader(file))
    assert rows[0] == ["Code", "Kind", "Born", "Seen", "Paid", "More"] and rows[1] == [
        "00123",
        "Cat",
        "31/12/2001",
        "01/02/2003",
        "5.00",
        "é",
    ]
    left = program("check", "g.csv", "--layout", "l.json", "--json", cwd=tmp_path, status=1).json
    assert [(g["code"], g["count"]) for g in left["groups"]] == [
        ("heading.extra", 1), ("value.kind", 1), ("value.not-permitted", 1), ("value.pattern", 1),
    ]  # fmt: skip
    book = openpyxl.load_workbook(tmp_path / "a.xlsx")
    findings, records = book["Findings"], book["Records"]
    assert [cell.value for cell in findings[4]] == ["Where", "Column", "Value", "Asked", "What to do", "Code"]
    linked = {
        (cell.hyperlink.location, findings.cell(cell.row, 6).value)
        for row in findings["A5:A40"]
        for cell in row
        if cell.hyperlink
    }
    assert ("'Records'!A4", "value.pattern") in linked and ("'Records'!B2", "value.not-permitted") in linked
    assert (
        records["A4"].value == "abc"
        and records["A4"].fill.fgColor.rgb == "FFF4C7C3"
        and "[0-9]{5}" in records["A4"].comment.text
    )
    assert records["D2"].comment is None and program(
        "check", "f.csv", "--layout", "l.json", "--fix", "f.csv", cwd=tmp_path, status=2
    ).err.count("never changed")


MOMENTS: list[dict[str, Any]] = [
    {"name": "id", "titles": "Id", "required": True},
    {"name": "day", "titles": "Day", "null": ["-", ""], "datatype": {"base": "date", "format": "dd/MM/yyyy"}},
    {"name": "when", "titles": "When", "datatype": {"base": "dateTime", "format": "dd/MM/yyyy HH:mm"}},
    {"name": "at", "titles": "At", "datatype": {"base": "time", "format": "HH:mm"}},
]
# what comes in, whether it has headings, and what goes out corrected
CORRECTED = [
    ("a heading twice, and two without", True, "Id,Day,Day,When,At,,\na,31/01/2024,x,,10:00,q,w\n", "Id,Day,When,At,Day,\"\",\"\"\na,31/01/2024,,10:00,x,q,w\n"),
    ("days where moments are asked for", True, "Id,Day,When,At\na,,2024-01-31,\nb,,2024-02-28,\n", "Id,Day,When,At\na,,2024-01-31,\nb,,2024-02-28,\n"),
    ("words for nothing beside proven dates", True, "Id,Day,When,At\na,12/31/2024,,\nb,-,,\n", "Id,Day,When,At\na,31/12/2024,,\nb,-,,\n"),
    ("no headings", False, "a ,31/01/2024,,\n", "a ,31/01/2024,,\n"),
]  # fmt: skip


@pytest.mark.parametrize(
    ("headed", "content", "expected"), [case[1:] for case in CORRECTED], ids=[c[0] for c in CORRECTED]
)
def test_a_corrected_file_has_all_that_came_in(tmp_path: Path, headed: bool, content: str, expected: str) -> None:
    (tmp_path / "l.json").write_text(layout_json(MOMENTS, dialect={"header": headed, "lineTerminators": "\n"}))
    (tmp_path / "f.csv").write_text(content)
    program("check", "f.csv", "--layout", "l.json", "--fix", "g.csv", "--overwrite", cwd=tmp_path)
    assert (tmp_path / "g.csv").read_text() == expected


def test_a_sheet_that_is_right_is_right_as_text_too(tmp_path: Path) -> None:
    (tmp_path / "l.json").write_text(
        layout_json([*MOMENTS, {"name": "sizes", "titles": "Sizes", "separator": "|", "datatype": "decimal"}])
    )
    book = openpyxl.Workbook()
    sheet = book.active
    assert sheet is not None
    for row in (
        ["Id", "Day", "When", "At", "Sizes"],
        ["a", date(2024, 1, 31), datetime(2024, 1, 31, 7, 30), time(7, 30), "1|2.5"],
    ):
        sheet.append(row)
    book.save(tmp_path / "f.xlsx")
    told = program("check", "f.xlsx", "--layout", "l.json", "--fix", "g.csv", "--json", cwd=tmp_path, status=0).json
    assert told["fixed"]["corrections"] == []
    assert (tmp_path / "g.csv").read_text().splitlines()[1] == "a,31/01/2024,31/01/2024 07:30,07:30,1|2.5"
    program("check", "g.csv", "--layout", "l.json", cwd=tmp_path, status=0)


@pytest.mark.parametrize(
    "written",
    [
        ["--annotated", "f.csv"],
        ["--findings", "./f.csv"],
        ["--fix", "f.csv"],
        ["--fix", "x.csv"],
        ["--findings", "with.csv"],
    ],
)
def test_no_output_takes_the_place_of_an_input(tmp_path: Path, written: list[str]) -> None:
    (tmp_path / "l.json").write_text(layout_json([{"name": "a"}, {"name": "b"}]))
    checked = "x.corrections.csv" if written[1] == "x.csv" else "f.csv"
    for name in (checked, "with.csv"):
        (tmp_path / name).write_text("a,b\n1,2\n")
    told = program("check", checked, "--layout", "l.json", "--with", "with.csv", *written, cwd=tmp_path, status=2).err
    assert "what came in is never changed" in told
    assert {(tmp_path / name).read_text() for name in (checked, "with.csv")} == {"a,b\n1,2\n"}


def test_standard_input_other_formats_and_the_layout_that_was_meant(move: Path) -> None:
    head = "Code;Full name;Born;Paid;Active;Kind\n"
    (move / "f.csv").write_text(head + "P001;Ana;31/01/1980;1,50;J;cow\n")
    told = program("check", "f.csv", "--json", cwd=move, status=1).json
    assert (told["layout"], told["recognised"]) == ("people", {"by": "headings", "share": 1.0})
    command = [sys.executable, "-m", "mudanza", "check", "-", "--json"]
    records = json.dumps([{"Code": "P001", "Full name": "Ana", "Kind": "cow"}]).encode()
    as_json = subprocess.run(
        [*command, "--layout", "people"], cwd=move, input=records, capture_output=True, check=False
    )
    assert json.loads(as_json.stdout)["rows"] == 1
    piped = subprocess.run(command, cwd=move, input=(move / "f.csv").read_bytes(), capture_output=True, check=False)
    said = json.loads(piped.stdout)
    assert piped.returncode == 1 and said["file"] == "standard input" and said["findings"][0]["value"] == "cow"
    record = {"Code": "P001", "Full name": "Ana", "Born": "31/01/1980", "Paid": "1,50", "Active": "J", "Kind": "cow"}
    (move / "f.json").write_text(json.dumps([record, {**record, "Code": "P002", "Kind": "cat"}]))
    xml = "".join(f"<p>{''.join(f'<{k}>{v}</{k}>' for k, v in one.items())}</p>" for one in [
        {"Code": "P001", "Born": "1/1/1980", "Kind": "cow"}, {"Code": "P002", "Kind": "dog"},
    ])  # fmt: skip
    (move / "f.xml").write_text(f"<?xml version='1.0'?><all>{xml}</all>")
    found = program("check", "f.json", "--json", cwd=move, status=1).json["findings"]
    assert [(f["code"], f["line"]) for f in found] == [("value.not-permitted", 1)]
    codes = {
        f["code"]
        for f in program("check", "f.xml", "--layout", "people", "--json", cwd=move, status=1).json["findings"]
    }
    assert {"heading.missing", "value.kind", "value.not-permitted"} <= codes
    (move / "x.csv").write_text("Lat,Lon\n1,2\n")
    assert "made for none of the layouts" in program("check", "x.csv", cwd=move, status=2).err
    # letters that look the same are told by name
    (move / "f.csv").write_text(head.replace("Code", "Сode") + "P001;Ana;;;;\n")
    (similar,) = program("check", "f.csv", "--layout", "people", "--json", cwd=move, status=1).json["findings"]
    assert "cyrillic capital letter es (U+0421)" in similar["rule"]


def test_a_field_list_that_was_lent_before_there_were_labels_is_taken_back(school: Path) -> None:
    (school / "layouts").mkdir()
    (school / "layouts/pets.json").write_text(layout_json([{"name": "code", "titles": "Code"}], primaryKey="code"))
    program("layout", "lend", "pets", "--to", "lent.xlsx", cwd=school, status=0)
    with closing(sqlite3.connect(school / ".mudanza/ledger.sqlite")) as ledger, ledger:
        ((detail,),) = ledger.execute("SELECT detail FROM loans").fetchall()
        noted = json.loads(detail)
        for row in noted["rows"]:
            del row["Label"]
        ledger.execute("UPDATE loans SET detail = ?", (json.dumps(noted),))
    book = openpyxl.load_workbook(school / "lent.xlsx")
    sheet = book.worksheets[0]
    sheet.delete_cols(next(cell.column for cell in sheet[2] if cell.value == "Label"))
    places = {cell.value: cell.column for cell in sheet[2]}
    sheet.cell(3, places["Length"]).value = 8
    sheet.cell(4, places["Field"]).value = "chip"
    book.save(school / "back.xlsx")
    back = program("receive", "back.xlsx", "--json", cwd=school, status=0).json
    assert ([(one["field"], one["what"]) for one in back["changes"]], back["added"]) == ([("code", "Length")], ["chip"])
