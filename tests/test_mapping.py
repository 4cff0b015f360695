"""Mapping through the installed program: drafting, crosswalks, seeing what a plan does, and having it signed."""

from __future__ import annotations

import csv
import json
import os
import pty
import signal
import subprocess
import threading
import time
from pathlib import Path

import openpyxl
import pytest

from conftest import CSVW, edit, installed, layout_json, program
from mudanza.cli.main import main
from mudanza.core.documents.errors import OutsideError

COLUMNS = [
    {"name": "code", "titles": "Code", "required": True, "datatype": {"base": "string", "format": "C[0-9]{3}"}},
    {"name": "first_name", "titles": "First name", "required": True, "datatype": "string"},
    {"name": "last_name", "titles": "Last name", "required": True, "datatype": "string"},
    {"name": "street", "titles": "Street", "datatype": {"base": "string", "maxLength": 20}},
    {"name": "phone", "titles": "Phone", "datatype": {"base": "string", "format": "[0-9]{9}"}},
    {"name": "born", "titles": "Date of birth", "datatype": {"base": "date", "format": "yyyy-MM-dd"}},
    {"name": "balance", "titles": "Balance", "datatype": {"base": "decimal", "format": "0.00"}},
    {"name": "active", "titles": "Active", "datatype": "boolean"},
    {"name": "standing", "titles": "Standing", "datatype": {"base": "string", "format": "clear|debtor|sleeping"}},
    {"name": "vet", "titles": "Vet", "datatype": "string"},
]
HEADINGS = "KundenNr;Name;Strasse;Hausnr;Tel.;Geb.-Dat.;Saldo;Aktiv;Status;Tierarzt;Fax"
#: family, given; dates and numbers as in Germany; a code nobody knows (Z); a blank; the same client twice
ROWS = """1;Becker, Ana;Hauptstraße;12;0351 912345678;25.12.1980;1.234,50;J;A;7;
2;Costa,  Rui;Am alten Bahnhofsplatz;3;n/a;01.02.1975;0,00;N;D;7;
3;Silva, Eva;Ring;4;912345679;31.01.1999;-3,10;J;S;9;
4;Vega, Tom;Weg;9;912345670;13.05.2001;7,00;J;Z;8;1
5;Neri, Ivo;Weg;10;912345671;14.06.2002;;J;A;;
1;Becker, Ana;Hauptstraße;12;0351 912345678;25.12.1980;1.234,50;J;A;7;
"""
PLAN = """layout = "layouts/clients.json"

# the export of the old program
[[source]]
name = "old"
file = "incoming/clients.csv"

[fields]
# the vets have numbers there
vet = '{Tierarzt} -> lookup vets "Name" none="blank" several="first"'

[lookup.vets]
file = "incoming/vets.csv"
key = "No"
"""


@pytest.fixture
def clients(tmp_path: Path) -> Path:
    """A move whose plan for `clients` has one flow, written by a person."""
    for name, text in {
        "mudanza.toml": 'name = "Test"\n[keys.clients]\npattern = "C{000}"\n',
        "layouts/clients.json": layout_json(COLUMNS, primaryKey="code"),
        "plans/clients.toml": PLAN,
        "incoming/clients.csv": f"{HEADINGS}\n{ROWS}",
        "incoming/vets.csv": "No,Name\n7,Dr. Sá\n9,Ana\n9,Anna\n",
    }.items():
        (tmp_path / name).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / name).write_text(text, encoding="utf-8")
    return tmp_path


@pytest.fixture
def drafted(clients: Path) -> Path:
    """The same, drafted, with its crosswalk proposed and confirmed."""
    program("match", "clients", cwd=clients, status=0)
    program("crosswalk", "clients", cwd=clients, status=1)
    edit(clients / "crosswalks/standing.csv", "S,sleeping,proposed,", "S,sleeping,,")
    edit(clients / "crosswalks/standing.csv", "D,debtor,proposed,", "D,debtor,,")
    edit(clients / "crosswalks/standing.csv", "A,clear,proposed,", "A,clear,,")
    return clients


def written(folder: Path) -> dict[str, dict[str, str]]:
    with (folder / "out/clients.csv").open(encoding="utf-8") as file:
        return {row["Code"]: row for row in csv.DictReader(file)}


def test_a_plan_is_drafted_and_what_a_person_wrote_stays(clients: Path) -> None:
    before = (clients / "plans/clients.toml").read_text("utf-8")
    made = program("match", "clients", "--rehearse", "--json", cwd=clients, status=0).json
    assert (clients / "plans/clients.toml").read_text("utf-8") == before
    flows = {p["field"]: p["flow"] for p in made["proposals"]}
    assert flows == {
        "code": "{#source}, {KundenNr} -> mint clients",
        "first_name": '{Name} -> after "," -> squeeze',
        "last_name": '{Name} -> before "," -> squeeze',
        "street": '{Strasse}, {Hausnr} -> join " " -> fit 20 words=yes',
        "phone": '{Tel.} -> blank-if "n/a" -> digits -> last 9',
        "born": '{Geb.-Dat.} -> date "dd.MM.yyyy"',
        "balance": '{Saldo} -> number decimal="," group="."',
        "active": '{Aktiv} -> yesno yes="j" no="n"',
        "standing": "{Status} -> crosswalk standing",
    }
    assert [u["column"] for u in made["unused"]] == ["Fax"] and made["written"] == ["vet"]
    program("match", "clients", cwd=clients, status=0)
    after = (clients / "plans/clients.toml").read_text("utf-8")
    for piece in (
        "# the export of the old program",
        "# the vets have numbers there\nvet = '{Tierarzt}",
        '\n\n[lookup.vets]\nfile = "inc',
    ):
        assert piece in after
    again = program("match", "clients", cwd=clients, status=0).out
    assert "nothing was written" in again and (clients / "plans/clients.toml").read_text("utf-8") == after
    ended = program("build", "clients", "--rehearse", "--json", cwd=clients, status=1).json["lists"][0]
    assert (ended["read"], ended["held_back"], ended["merged"]) == (6, 6, 0)
    assert {f["code"] for f in ended["findings"]} >= {"flow.not-in-crosswalk", "column.unused"}


def test_a_plan_can_be_started_from_its_sources(clients: Path) -> None:
    (clients / "words.csv").write_text("meaning,words\nphone,Draht\n", encoding="utf-8")
    (clients / "incoming/more.csv").write_text("Nr,Draht\n1,912345678\n2,912345679\n", encoding="utf-8")
    shown = program(
        "match", "more", "--layout", "clients", "--source", "incoming/more.csv", "--rehearse", cwd=clients, status=0
    )
    assert "{Draht}" in shown.out and not (clients / "plans/more.toml").exists()
    program("match", "more", "--layout", "clients", "--source", "incoming/more.csv", cwd=clients, status=0)
    assert "{Draht}" in (clients / "plans/more.toml").read_text("utf-8")
    refused = program("match", "more", "--layout", "clients", "--source", "incoming/more.csv", cwd=clients, status=2)
    assert "there already" in refused.err
    program("match", "other", "--layout", "clients", "--source", "incoming/no.csv", cwd=clients, status=3)
    assert not (clients / "plans/other.toml").exists()
    (clients / "words.csv").write_text("meaning,words\nphoone,Draht\n", encoding="utf-8")
    refused = program("match", "clients", "--rehearse", cwd=clients, status=2).err
    assert "words.csv, line 2" in refused and "Did you mean 'phone'" in refused
    assert "phone" in program("explain", "meanings", "--json", cwd=clients, status=0).json["meanings"]


def test_codes_are_proposed_and_not_used_until_confirmed(clients: Path) -> None:
    program("match", "clients", cwd=clients, status=0)
    first = program("crosswalk", "clients", "--json", cwd=clients, status=1).json["crosswalks"][0]
    assert {c["code"][0]: c["proposal"] for c in first["codes"]} == {
        "A": "clear",
        "D": "debtor",
        "S": "sleeping",
        "Z": None,
    }
    assert first["codes"][0]["rows"] == 3 and first["proposed"] == 4
    build = program("build", "clients", "--rehearse", "--json", cwd=clients, status=1).json["lists"][0]
    assert build["written"] == 0
    # Enter takes the proposal of A; D is answered wrongly, then rightly; S is left open; Z becomes blank
    asked = subprocess.run(
        [installed(), "crosswalk", "clients", "--ask"],
        cwd=clients,
        input="\nowes\ndebtor\n?\n-\n",
        capture_output=True,
        text=True,
        check=False,
    )
    assert "no code 'owes'" in asked.stdout and "3 entries of standing confirmed" in asked.stdout
    now = program("crosswalk", "clients", "--json", cwd=clients, status=1).json["crosswalks"][0]
    assert {c["code"][0]: c["to"] for c in now["codes"]} == {"A": "clear", "D": "debtor", "S": None, "Z": ""}
    edit(clients / "crosswalks/standing.csv", "D,debtor", "D,detbor")
    with (clients / "crosswalks/standing.csv").open("a", encoding="utf-8") as file:
        file.write("Q,clear,,\n")
    found = program("crosswalk", "clients", "--rehearse", "--json", cwd=clients, status=1).json["crosswalks"][0]
    assert [e["to"] for e in found["not_permitted"]] == ["detbor"] and [e["code"] for e in found["unused"]] == [["Q"]]


def test_targets_come_from_the_targets_own_list(clients: Path) -> None:
    (clients / "layouts/clients.json").write_text(
        layout_json(
            [
                c if c["name"] != "standing" else {"name": "standing", "titles": "Standing", "datatype": "string"}
                for c in COLUMNS
            ],
            primaryKey="code",
        )
    )
    edit(clients / "plans/clients.toml", "[fields]", "[fields]\nstanding = '{Status}, {#source} -> crosswalk ends'")
    edit(
        clients / "mudanza.toml",
        "[keys",
        '[crosswalks.ends]\ntargets = "incoming/codes.csv"\ncode = "C"\nmeaning = "M"\n[keys',
    )
    (clients / "incoming/codes.csv").write_text("C,M\n10,Active\n20,Deceased\n30,Asleep (s)\n", encoding="utf-8")
    found = program("crosswalk", "clients", "--json", cwd=clients, status=1).json["crosswalks"][0]
    assert found["columns"] == ["from", "source"] and {c["code"][0]: c["proposal"] for c in found["codes"]}["A"] == "10"
    edit(clients / "mudanza.toml", 'code = "C"', 'code = "Cd"')
    assert "no column 'Cd'" in program("crosswalk", "clients", cwd=clients, status=2).err


def test_the_draft_builds_and_is_compared_expected_and_traced(drafted: Path) -> None:
    plan = drafted / "plans/clients.toml"
    with plan.open("a", encoding="utf-8") as file:
        file.write(
            '\n[left_behind]\nFax = "nobody"\n[[expect]]\nrow = { KundenNr = "3" }\nfields = { balance = "-3.10", vet = "Ana" }\n'
        )
        file.write(
            '[[expect]]\nkey = "C002"\nfields = { last_name = "Costa", phone = "" }\n[[expect]]\nrow = { KundenNr = "4" }\nends = "held back"\n'
        )
    first = program("build", "clients", "--compare", cwd=drafted, status=1)
    assert "no build before" in first.out and "record." not in first.out
    assert {code: row["Vet"] for code, row in written(drafted).items()} == {
        "C001": "Dr. Sá",
        "C002": "Dr. Sá",
        "C003": "Ana",
        "C004": "",
    }
    assert written(drafted)["C001"]["Balance"] == "1234.50" and written(drafted)["C002"]["Street"] == "Am alten"
    edit(plan, '-> before "," -> squeeze', '-> before "," -> squeeze -> upper')
    edit(plan, 'KundenNr = "4" }\nends = "held back"', 'KundenNr = "44" }')
    changed = program("build", "clients", "--compare", "--json", cwd=drafted, status=1).json["lists"][0]
    assert changed["compared"]["changed"] == 4 and changed["compared"]["same"] == 0
    assert changed["compared"]["fields"][0]["examples"][1] == {"key": "C002", "before": "Costa", "after": "COSTA"}
    told = {f["code"]: f["example"] for f in changed["findings"] if f["code"].startswith("record.")}
    assert told["record.differs"]["value"] == "COSTA" and "KundenNr 44" in told["record.missing"]["value"]
    traced = program("trace", "C002", "--json", cwd=drafted, status=0).json["found"][0]
    assert [(w["run"], w["how"]) for w, _ in traced["went"]] == [(1, "new"), (2, "changed")]
    phone = next(f for f in traced["rows"][0]["fields"] if f["name"] == "phone")
    assert [s["value"] for s in phone["steps"]] == ["n/a", None, None, None]
    assert (
        traced["rows"][0]["keys"] == [["clients", "old, 2", "C002", True]]
        and traced["rows"][0]["columns"]["Strasse"] == "Am alten Bahnhofsplatz"
    )
    old = program("trace", "1", "--fields", "standing", cwd=drafted, status=0).out
    assert "crosswalks/standing.csv line 2: A -> clear" in old and "clients C001  2 source rows" in old
    assert "no record has the key" in program("trace", "C009", cwd=drafted, status=2).err
    # of several lists the one that wrote the record is looked through, and the others are named
    plan = (drafted / "plans/clients.toml").read_text(encoding="utf-8")
    (drafted / "plans/again.toml").write_text(plan, encoding="utf-8")
    told = program("trace", "C002", "--json", cwd=drafted, status=0).json
    assert [one["list_name"] for one in told["found"]] == ["clients"] and told["left"] == ["again"]
    assert (
        len(program("trace", "C002", "--list", "again", "--list", "clients", "--json", cwd=drafted).json["found"]) == 2
    )


def test_rows_are_previewed_as_asked_for(drafted: Path) -> None:
    def lines(*options: str) -> list[int]:
        return [
            row["line"] for row in program("preview", "clients", "--json", *options, cwd=drafted, status=0).json["rows"]
        ]

    assert lines() == [2, 3, 4]
    assert lines("--where", '{Status} = "A" and {Saldo} is not blank') == [2, 7]
    assert lines("--key", "C005") == [] and lines("--key", "3") == [4]
    assert lines("--findings") == [3, 5, 7]
    sample = lines("--sample", "-n", "2")
    assert len(sample) == 2 and sample == lines("--sample", "-n", "2")
    refused = program("preview", "clients", "--where", "{@street} is blank", cwd=drafted, status=2)
    assert "before fields are made" in refused.err
    program("build", "clients", cwd=drafted, status=1)
    assert lines("--key", "C003") == [4]
    cover = program("preview", "clients", "--coverage", "--json", cwd=drafted, status=1).json
    columns = {c["name"]: (c["how"], c["values"]) for c in cover["columns"]}
    assert columns["Fax"] == ("not accounted for", 1) and columns["Name"] == ("used", 0)
    assert {f["how"] for f in cover["fields"]} == {"mapped"}


def test_a_preview_is_shown_again_after_each_save(drafted: Path) -> None:
    command = [
        installed(),
        "preview",
        "clients",
        "--fields",
        "last_name",
        "-n",
        "1",
        "--watch",
    ]
    watch = subprocess.Popen(command, cwd=drafted, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True)
    assert watch.stdout is not None
    late = threading.Timer(60, watch.kill)
    late.start()
    seen: list[str] = []

    def until(words: str) -> None:
        while words not in "".join(seen):
            line = watch.stdout.readline()  # type: ignore[union-attr]
            assert line, "".join(seen)
            seen.append(line)

    until('"Becker"')
    edit(drafted / "plans/clients.toml", '-> before "," -> squeeze', '-> before "," -> uper')
    until("Did you mean 'upper'?")
    edit(drafted / "plans/clients.toml", "-> uper", "-> upper")
    until('"BECKER"')
    watch.send_signal(signal.SIGINT)
    assert watch.wait(10) == 0
    late.cancel()


def test_a_missing_value_is_asked_for_at_a_terminal(drafted: Path) -> None:
    with (drafted / "mudanza.toml").open("a", encoding="utf-8") as file:
        file.write('[parameters.since]\nkind = "date"\nquestion = "Born since which day?"\n')
    edit(
        drafted / "plans/clients.toml",
        "[fields]",
        "[rows]\nkeep = '({Geb.-Dat.} -> date \"dd.MM.yyyy\") >= :since'\n[fields]",
    )
    missing = program("build", "clients", "--rehearse", cwd=drafted, status=2)
    assert "--set since=VALUE" in missing.err
    assert (
        "'soon' is no date"
        in program("build", "clients", "--rehearse", "--set", "since=soon", cwd=drafted, status=2).err
    )
    assert (
        "Did you mean since"
        in program(
            "build",
            "clients",
            "--rehearse",
            "--set",
            "sinse=2000-01-01",
            "--set",
            "since=2000-01-01",
            cwd=drafted,
            status=2,
        ).err
    )
    master, slave = pty.openpty()
    command = [installed(), "build", "clients", "--rehearse"]
    asked = subprocess.Popen(command, cwd=drafted, stdin=slave, stdout=subprocess.PIPE, stderr=slave, text=True)
    os.close(slave)
    late = threading.Timer(60, asked.kill)
    late.start()
    told = b""
    for answer in (b"soon\n", b"2000-01-01\n"):
        while b"which day?" not in told:
            told += os.read(master, 1000)
        told = b""
        time.sleep(0.2)
        os.write(master, answer)
    out = asked.communicate(timeout=60)[0]
    os.close(master)
    late.cancel()
    assert "skipped       4" in out


def test_numbers_run_on_by_group_and_sources_add_columns(tmp_path: Path) -> None:
    texts = {
        "mudanza.toml": 'name = "T"\n[keys.lines]\npattern = "{group}/{00}"\ngroups = 1\n',
        "layouts/texts.json": json.dumps(
            {
                "@context": CSVW,
                "tableSchema": {
                    "primaryKey": "no",
                    "columns": [{"name": n, "titles": n} for n in ("no", "lang", "text")],
                },
            }
        ),
        "plans/texts.toml": 'layout = "layouts/texts.json"\n'
        + "".join(
            f'[[source]]\nname = "{lang}"\nfile = "incoming/t.csv"\nrename = {{ "Text {lang}" = "Text" }}\nadds = {{ "Language" = "{lang}" }}\n'
            for lang in ("pt", "en")
        )
        + "[rows]\nkeep = '{Text} is not blank'\n[fields]\nno = '{Language}, {Id} -> mint lines'\nlang = '{Language}'\ntext = '{Text}'\n"
        '[left_behind]\n"Text pt" = "read by the other source"\n"Text en" = "read by the other source"\n',
        "incoming/t.csv": "Id,Text pt,Text en\na,Olá,Hello\nb,,Yes\nc,Fim,End\n",
    }
    for name, text in texts.items():
        (tmp_path / name).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / name).write_text(text, encoding="utf-8")
    program("build", "texts", cwd=tmp_path, status=0)
    expected = "no,lang,text\r\npt/01,pt,Olá\r\npt/02,pt,Fim\r\nen/01,en,Hello\r\nen/02,en,Yes\r\nen/03,en,End\r\n"
    assert (tmp_path / "out/texts.csv").read_bytes().decode() == expected
    (tmp_path / "incoming/t.csv").write_text(
        "Id,Text pt,Text en\nd,Novo,New\na,Olá,Hello\nb,Sim,Yes\nc,Fim,End\n", encoding="utf-8"
    )
    program("build", "texts", cwd=tmp_path, status=0)
    assert (
        "pt/03,pt,Novo\r\npt/01,pt,Olá\r\npt/04,pt,Sim\r\npt/02" in (tmp_path / "out/texts.csv").read_bytes().decode()
    )


OWN = '''import polars as pl
from mudanza.steps import TEXT, own_step

@own_step("chip", takes=TEXT, gives=TEXT, finding="fifteen digits", examples=[("{A} -> chip", ("620 098 100 123 456",), "620098100123456")])
def chip(value: pl.Expr, digits: int = 15) -> pl.Expr:
    """The digits of a chip number, if they are as many as there must be."""
    plain = value.str.replace_all("[^0-9]", "")
    return pl.when(plain.str.len_chars() == digits).then(plain)
'''
OWN_WRONG = [
    (('"620098100123456")', '"6")'), "gives '620098100123456' and not '6'"),
    (('    """The digits of a chip number, if they are as many as there must be."""\n', ""), "lacks its documentation"),
    (("import polars as pl", "import polers as pl"), "line 1"),
    (('own_step("chip"', 'own_step("trim"'), "cannot be called 'trim'"),
    (("def chip(", "def chip["), "no Python"),
]


def test_a_moves_own_steps_run_only_where_allowed(drafted: Path) -> None:
    (drafted / "steps.py").write_text(OWN + 'open("ran", "w")\n', encoding="utf-8")
    edit(drafted / "plans/clients.toml", "-> digits -> last 9", "-> chip digits=9 or blank")
    refused = program("build", "clients", "--rehearse", cwd=drafted, status=2)
    assert "own_steps = true" in refused.err and not (drafted / "ran").exists()
    edit(drafted / "mudanza.toml", 'name = "Test"', 'name = "Test"\nown_steps = true')
    shown = program("preview", "clients", "--fields", "phone", "--json", cwd=drafted, status=0).json["rows"]
    assert [row["fields"][0]["after"] for row in shown] == [None, None, "912345679"]
    assert "as many as there must be" in program("explain", "chip", cwd=drafted, status=0).out
    for (old, new), words in OWN_WRONG:
        assert old in OWN
        (drafted / "steps.py").write_text(OWN.replace(old, new), encoding="utf-8")
        assert words in program("preview", "clients", cwd=drafted, status=2).err
    (drafted / "steps.py").write_text(
        OWN.replace("return pl.when", "return pl.col('nowhere') if digits == 9 else pl.when"), encoding="utf-8"
    )
    failed = program("preview", "clients", cwd=drafted)
    assert failed.status == 2 and "own step chip failed" in failed.err
    # what is wrong elsewhere is not laid at their door
    (drafted / "steps.py").write_text(OWN, encoding="utf-8")
    edit(
        drafted / "plans/clients.toml",
        "-> chip digits=9 or blank",
        '-> chip digits=9 -> lookup nums "To" none="blank" or blank',
    )
    with (drafted / "plans/clients.toml").open("a", encoding="utf-8") as file:
        file.write('[lookup.nums]\nfile = "incoming/nums.csv"\nkey = "No"\n')
    (drafted / "incoming/nums.csv").write_text("No,To,By\n1,a,x\n2,b,x\n3,c,x,y\n", encoding="utf-8")
    failed = program("preview", "clients", cwd=drafted, status=2).err
    assert "is damaged" in failed and "nums.csv, line 4" in failed and "own step" not in failed


def test_a_mapping_sheet_is_signed_and_comes_back(drafted: Path) -> None:
    plan = drafted / "plans/clients.toml"
    lent = program("lend", "clients", "--mapping", "--to", "map.xlsx", "--json", cwd=drafted, status=0).json
    assert (lent["kind"], lent["rows"]) == ("mapping", 10)
    book = openpyxl.load_workbook(drafted / "map.xlsx")
    sheet = book["clients"]
    place = {cell.value: cell.column for cell in sheet[2]}
    row_of = {sheet.cell(row, 1).value: row for row in range(3, sheet.max_row + 1)}
    assert sheet.cell(row_of["born"], place["What happens"]).value == 'Geb.-Dat., read as a date "dd.MM.yyyy"'
    assert "01.02.1975 -> 1975-02-01" in sheet.cell(row_of["born"], place["Examples"]).value
    remark = 'Who has decided?\n"Maria" \\ Rui'
    for field, title, value in [
        ("code", "Status", "agreed"),
        ("phone", "Status", "question"),
        ("phone", "Remark", remark),
        ("street", "Flow", "{Strasse} -> upper"),
        ("balance", "Flow", "{Saldo} -> trim"),
        ("vet", "Source", "Fax"),
        ("born", "Source", "Gebdat"),
    ]:
        sheet.cell(row_of[field], place[title]).value = value
    sheet.insert_rows(1)
    book.save(drafted / "back under another name.xlsx")
    before = plan.read_text("utf-8")
    back = program("receive", "back under another name.xlsx", "--json", cwd=drafted, status=1).json
    assert plan.read_text("utf-8") == before
    assert back["statuses"] == [["code", "open", "agreed"], ["phone", "open", "question"]] and back["remarks"] == [
        ["phone", "", remark]
    ]
    problems = {f["field"]: f["problem"] for f in back["flows"]}
    assert (
        problems["street"] is None
        and problems["vet"] is None
        and "a text comes out" in problems["balance"]
        and "Geb.-Dat." in problems["born"]
    )
    program("receive", "back under another name.xlsx", "--accept", cwd=drafted, status=1)
    text = plan.read_text("utf-8")
    for piece in (
        "# the vets have numbers there",
        "# status: question\n# remark: Who has decided?\\n",
        "street = '{Strasse} -> upper'",
        "vet = '{Fax} -> lookup vets",
        "balance = '{Saldo} -> number",
    ):
        assert piece in text
    program("lend", "clients", "--mapping", "--to", "again.xlsx", cwd=drafted, status=0)
    assert "Nothing came back changed" in program("receive", "again.xlsx", cwd=drafted, status=0).out
    again = openpyxl.load_workbook(drafted / "again.xlsx")
    edit(plan, "'{Strasse} -> upper'", "'{Strasse} -> lower'")
    again["clients"].cell(row_of["street"], place["Flow"]).value = "{Strasse}"
    again["clients"].cell(row_of["code"], place["Status"]).value = "perhaps"
    again.save(drafted / "again.xlsx")
    again["clients"].cell(row_of["phone"], place["Remark"]).value = "Maria has"
    again.save(drafted / "again.xlsx")
    told = program("receive", "again.xlsx", "--accept", cwd=drafted, status=1).out
    assert 'clients!H3  "perhaps"  it is one of open, agreed, question, to change' in told
    assert "changed too since" in told and "The loan stays out" in told
    text = plan.read_text("utf-8")
    assert "'{Strasse} -> lower'" in text and "remark: Maria has" in text and "perhaps" not in text
    # it is back once all of it could be taken, and then cannot be accepted again
    again["clients"].cell(row_of["code"], place["Status"]).value = None
    again["clients"].cell(row_of["street"], place["Flow"]).value = "{Strasse} -> lower"
    again.save(drafted / "again.xlsx")
    program("receive", "again.xlsx", "--accept", cwd=drafted, status=0)
    assert "is back already" in program("receive", "again.xlsx", "--accept", cwd=drafted, status=2).err


def test_those_who_sign_see_the_old_headings_and_filled_examples(drafted: Path) -> None:
    plan = drafted / "plans/clients.toml"
    edit(plan, "[fields]", 'rename = { "Fax" = "Old fax" }\n[fields]')
    text = plan.read_text("utf-8")
    vet = next(line for line in text.splitlines() if line.startswith("vet ="))
    plan.write_text(text.replace(vet, "vet = '{Old fax} -> blank-if \"x\"'"), encoding="utf-8")
    program("lend", "clients", "--mapping", "--to", "map.xlsx", cwd=drafted, status=0)
    sheet = openpyxl.load_workbook(drafted / "map.xlsx")["clients"]
    rows = {row[0]: row for row in sheet.iter_rows(min_row=3, values_only=True)}
    heads = [cell.value for cell in sheet[2]]
    assert rows["vet"][heads.index("Old headings")] == "old: Fax"
    assert rows["vet"][heads.index("Source")] == "Old fax"
    for row in rows.values():
        examples = (row[heads.index("Examples")] or "").split("\n")
        assert examples == sorted(examples, key=lambda line: line.endswith("(blank)")), row


def test_flows_come_back_checked_though_nobody_gave_the_values(drafted: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """What a flow does with values given at run time is known from their kinds; a plan and the ledger change together."""
    plan = drafted / "plans/clients.toml"
    with (drafted / "mudanza.toml").open("a", encoding="utf-8") as settings:
        settings.write('[parameters.cutoff]\nkind = "date"\n')
    program("lend", "clients", "--mapping", "--to", "map.xlsx", cwd=drafted, status=0)
    book = openpyxl.load_workbook(drafted / "map.xlsx")
    sheet = book["clients"]
    place = {cell.value: cell.column for cell in sheet[2]}
    row_of = {sheet.cell(row, 1).value: row for row in range(3, sheet.max_row + 1)}
    for field, flow in [
        ("born", '{Geb.-Dat.} -> date "dd.MM.yyyy" when :cutoff > :since; :cutoff otherwise'),
        ("street", "{Strasse} -> uper when {Saldo} = :due; blank otherwise"),
        ("balance", "{Saldo} -> number, :cutoff -> sum"),
    ]:
        sheet.cell(row_of[field], place["Flow"]).value = flow
    book.save(drafted / "map.xlsx")
    back = program("receive", "map.xlsx", "--json", cwd=drafted, status=1).json
    problems = {one["field"]: one["problem"] for one in back["flows"]}
    assert problems["born"] is None and "uper" in problems["street"] and problems["balance"]
    given = program("receive", "map.xlsx", "--set", "since=soon", "--json", cwd=drafted, status=1).json
    assert "no date" in {one["field"]: one["problem"] for one in given["flows"]}["born"]
    before = plan.read_bytes()

    def fails(*_: object) -> None:
        raise OutsideError("the disk is full.")

    with monkeypatch.context() as patched:
        patched.chdir(drafted)
        patched.setattr("mudanza.core.state.running.Running.commit", fails)
        assert main(["receive", "map.xlsx", "--accept"]) == 3
    assert plan.read_bytes() == before
    program("receive", "map.xlsx", "--accept", cwd=drafted, status=1)
    assert ":cutoff > :since" in plan.read_text("utf-8") and "uper" not in plan.read_text("utf-8")


def test_crosswalks_are_lent_and_come_back(drafted: Path) -> None:
    program("lend", "clients", "--crosswalks", "--to", "codes.xlsx", cwd=drafted, status=0)
    book = openpyxl.load_workbook(drafted / "codes.xlsx")
    sheet = book["standing"]
    rows = {sheet.cell(row, 1).value: row for row in range(3, sheet.max_row + 1)}
    assert set(rows) == {"A", "D", "S", "Z"} and sheet.cell(rows["Z"], 4).value == "open"
    sheet.cell(rows["Z"], 3).value, sheet.cell(rows["Z"], 6).value = "sleeping", "asked Maria"
    sheet.cell(rows["S"], 3).value = "asleep"
    book.save(drafted / "codes.xlsx")
    shown = program("receive", "codes.xlsx", cwd=drafted, status=1)
    assert "the target has no code 'asleep'" in shown.out and "--accept" in shown.out
    program("receive", "codes.xlsx", "--accept", cwd=drafted, status=1)
    assert "Z,sleeping,confirmed,asked Maria" in (drafted / "crosswalks/standing.csv").read_text("utf-8")
    sheet.cell(rows["S"], 3).value = "=A1"
    book.save(drafted / "codes.xlsx")
    assert "standing!C" in (told := program("receive", "codes.xlsx", cwd=drafted, status=1).out) and "formula" in told
    del book["standing"]
    book.create_sheet("standing 2")
    book.save(drafted / "codes.xlsx")
    assert "renamed to 'standing 2'" in program("receive", "codes.xlsx", cwd=drafted, status=2).err


NEVER = [
    ('{Status} = "Activ"', "flow.never", "it has: A, D, S, Z"),
    ('{#source} = "odl"', None, 'Did you mean "old"?'),
    ('{Status} == "A"', None, "Write '='."),
    ('{status } = "A"', None, "Did you mean {Status}?"),
    ('({Geb.-Dat.} -> date "dd.MM.yyyy") > "1980"', None, "yyyy-MM-dd"),
    ('{Status} = "A', None, "quote"),
]


@pytest.mark.parametrize(("keep", "code", "words"), NEVER, ids=[case[0] for case in NEVER])
def test_mistakes_in_conditions_are_answered(drafted: Path, keep: str, code: str | None, words: str) -> None:
    edit(drafted / "plans/clients.toml", "[fields]", f"[rows]\nkeep = '{keep}'\n\n[fields]")
    ended = program("build", "clients", "--rehearse", "--json", cwd=drafted, status=2 if code is None else 0)
    if code is None:
        assert words in ended.err
    else:
        found = next(f for f in ended.json["lists"][0]["findings"] if f["code"] == code)
        assert words in found["example"]["rule"]
