"""Plans and settings: lookups, values given at run time, expectations, groups of numbers; what is wrong with them is told with its place."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator
from datetime import date
from decimal import Decimal
from pathlib import Path

import openpyxl
import polars as pl
import pytest

from conftest import edit, layout_json, program
from mudanza.core.documents.document import Document
from mudanza.core.documents.errors import MoveError, MudanzaError
from mudanza.core.language.parameters import Declared
from mudanza.core.layouts.csvw import read_layout
from mudanza.core.plans.move import Move
from mudanza.core.plans.move_settings import find_move, read_move
from mudanza.core.plans.plan import Plan
from mudanza.core.plans.plan_reading import load_plan
from mudanza.core.state import sent
from mudanza.core.state.ledger import Ledger
from mudanza.core.state.running import running
from mudanza.core.state.sent import note_sent, sent_by, went_out
from mudanza.core.tables.key_pattern import KeyPattern
from mudanza.core.tables.lookup import Lookup
from mudanza.core.values.kinds import Kind
from mudanza.core.work.coverage import coverage
from mudanza.core.work.crosswalks.codes import find_codes
from mudanza.core.work.crosswalks.decisions import Decision, decide, propose_entries
from mudanza.core.work.difference import compare_builds
from mudanza.core.work.loans.decision_sheets import Sheet, SheetColumn, read_sheet, sheets_bytes

# each edit of the small move: file, what is written in place of what, words of the error, and the line it points at
WRONG = [
    ("plans/people.toml", "[rows]", "[lookup.vets]\nfile = 'x.csv'\n[rows]", "which column is its key", 5),
    ("plans/people.toml", "[rows]", "[lookup.vets]\nkey = 'No'\n[rows]", "one of file, database and list", 5),
    ("plans/people.toml", "[rows]", "[lookup.vets]\nkey = 'No'\nlist = 'pople'\n[rows]", "did you mean 'people'", None),
    ("plans/people.toml", "[rows]", "[lookup.vets]\nkey = 'No'\nfile = 'x.csv'\nfold = 'yes'\n[rows]", "fold must be true or false", 8),
    ("plans/people.toml", "[rows]", "[lookup.vets]\nkey = 'No'\nfiel = 'x.csv'\n[rows]", "Did you mean 'file'", 7),
    ("plans/people.toml", "[rows]", "[lookup]\nvets = 'x.csv'\n[rows]", "is a table", None),
    ("plans/people.toml", 'name = "a"', 'name = "a"\nadds = "x"', "adds must be a table", 4),
    ("plans/people.toml", 'name = "a"', 'name = "a"\nadds = { B = 1 }', "adds holds texts", 4),
    ("plans/people.toml", "[rows]", "[[expect]]\nrow = { Id = '1' }\nkey = 'P001'\n[rows]", "by row or by key", 5),
    ("plans/people.toml", "[rows]", "[[expect]]\nfields = { nam = 'x' }\nrow = { Id = '1' }\n[rows]", "did you mean 'name'", 6),
    ("plans/people.toml", "[rows]", "[[expect]]\nrow = { Id = 1 }\n[rows]", "row holds texts", 6),
    ("plans/people.toml", "[rows]", "[[expect]]\nrow = { Id = '1' }\nends = 'lost'\n[rows]", "'lost' is not expected", 7),
    ("plans/people.toml", "[rows]", "[[expect]]\nkey = 'P001'\nends = 'skipped'\n[rows]", "only what is written has a key", 6),
    ("plans/people.toml", "[rows]", "[[expect]]\nrow = { Idd = '1' }\n[rows]", "Did you mean 'Id'", 5),
    ("plans/people.toml", "[rows]", "[[expect]]\nrows = { Id = '1' }\n[rows]", "Did you mean 'row'", 6),
    ("plans/people.toml", "crosswalk kinds", 'lookup kindes "x"', "no lookup 'kindes'", 13),
    ("plans/people.toml", "code = '{Id} -> mint people'\n", "", "`mudanza match people` propose it", 7),
    ("mudanza.toml", 'pattern = "P{000}"', 'pattern = "P{group}{000}"', "groups is not said", 3),
    ("mudanza.toml", 'pattern = "P{000}"', 'pattern = "P{000}"\ngroups = -1', "groups says how many", 3),
    ("mudanza.toml", 'name = "Test"', 'name = "Test"\nown_steps = "yes"', "own_steps must be true or false", 2),
    ("mudanza.toml", "[keys", '[parameters.day]\nkind = "dat"\n[keys', "no kind of value", 3),
    ("mudanza.toml", "[keys", '[parameters.day]\nkind = "date"\ndefault = "soon"\n[keys', "'soon' is no date", 4),
    ("mudanza.toml", "[keys", '[parameters.day]\nkinde = "date"\n[keys', "means nothing for a parameter", 3),
    ("mudanza.toml", "[keys", '[crosswalks]\nkinds = "x.csv"\n[keys', "are texts in a table", None),
    ("mudanza.toml", "[keys", '[crosswalks.kinds]\ntarget = "x.csv"\n[keys', "Did you mean 'targets'", 3),
]  # fmt: skip


@pytest.mark.parametrize(("file", "old", "new", "words", "line"), WRONG, ids=[f"{w[3]}" for w in WRONG])
def test_what_is_wrong_is_told_with_its_place(
    move: Path, file: str, old: str, new: str, words: str, line: int | None
) -> None:
    edit(move / file, old, new)
    ended = program("build", "people", "--rehearse", cwd=move, status=2)
    assert words in ended.err
    if line is not None:
        assert f"line {line}" in ended.err


PARAMETERS = [
    (Kind.TEXT, "a b", "a b"),
    (Kind.NUMBER, " 12.50 ", Decimal("12.50")),
    (Kind.NUMBER, "1e3", Decimal("1e3")),
    (Kind.NUMBER, "NaN", None),
    (Kind.NUMBER, "1e30", None),
    (Kind.NUMBER, "12,5", None),
    (Kind.DATE, "2026-01-31", date(2026, 1, 31)),
    (Kind.DATE, "31/01/2026", None),
    (Kind.YESNO, "Yes", True),
    (Kind.YESNO, "no", False),
    (Kind.YESNO, "1", None),
]


@pytest.mark.parametrize(("kind", "text", "value"), PARAMETERS, ids=[f"{k} {t}" for k, t, _ in PARAMETERS])
def test_values_given_at_run_time_have_kinds(kind: Kind, text: str, value: object) -> None:
    declared = Declared("x", kind)
    if value is None:
        with pytest.raises(MoveError, match=":x"):
            declared.value(text)
    else:
        assert declared.value(text) == value


def test_plain_parameters_have_the_kind_of_their_value(move: Path) -> None:
    with (move / "mudanza.toml").open("a", encoding="utf-8") as file:
        file.write("[parameters]\nday = 2026-01-31\nrate = 1.5\nflag = true\nword = 'x'\n")
    kinds = {name: (one.kind, one.default) for name, one in read_move(move).parameters.items()}
    assert kinds == {
        "day": (Kind.DATE, "2026-01-31"),
        "rate": (Kind.NUMBER, "1.5"),
        "flag": (Kind.YESNO, "yes"),
        "word": (Kind.TEXT, "x"),
    }
    edit(move / "plans/people.toml", "{Paid} -> number'", "({Paid} -> number), :rate -> product'")
    edit(
        move / "plans/people.toml",
        '{State} != "x"',
        '{State} != :word and :flag = yes and ({Born} is blank or ({Born} -> date "yyyy-MM-dd" or blank) < :day)',
    )
    shown = program("preview", "people", "--fields", "paid", "-n", "1", "--json", "--set", "rate=2", cwd=move, status=0)
    assert shown.json["rows"][0]["fields"][0]["after"] == "2469,00"


def test_values_are_kept_for_those_who_look(move: Path) -> None:
    edit(move / "plans/people.toml", "{Paid} -> number'", "({Paid} -> number), :rate -> product'")
    edit(move / "plans/people.toml", '{State} != "x"', '{Id} = "1" and {Name} != :mark')
    with (move / "mudanza.toml").open("a", encoding="utf-8") as file:
        file.write("[parameters]\nrate = 3\n")

    def paid() -> tuple[str, str]:
        shown = program("preview", "people", "--fields", "paid", "-n", "1", "--json", cwd=move, status=0)
        return shown.json["rows"][0]["fields"][0]["after"], shown.err

    assert program("preview", "people", cwd=move, status=2).err
    told = program("preview", "people", "--set", "rate=2", "--set", "mark=x", "--keep-values", cwd=move, status=0).err
    assert "kept for eight hours: rate=2, mark=x" in told
    value, told = paid()
    assert value == "2469,00" and "rate=2, mark=x" in told and "kept until" in told
    assert ":mark" in program("build", "people", cwd=move, status=2).err, "a build does not use them by itself"
    assert "rate=2" in program("build", "people", "--kept", "--rehearse", cwd=move).err
    kept = move / ".mudanza/values.json"
    kept.write_text(kept.read_text("utf-8").replace('"until": "2', '"until": "1'), encoding="utf-8")
    assert ":mark" in program("preview", "people", cwd=move, status=2).err, "they are out of date"
    program("trace", "1", "--set", "mark=y", "--keep-values", cwd=move, status=0)
    assert paid()[0] == "3703,50"
    assert "no values are kept" in program("crosswalk", "people", "--keep-values", cwd=move).err
    assert ":mark" in program("preview", "people", cwd=move, status=2).err


# lookups

LOOKUPS = [
    ('{Kind} -> lookup t "To"', "Kind,To\nD,dog\nC,cat\n", 'key = "Kind"', {"1": "dog", "5": "cat"}, None),
    ('{Kind} -> lookup t "To"', "Kind,To\nd,dog\nc,cat\n", 'key = "Kind"\nfold = true', {"1": "dog", "5": "cat"}, None),
    ('{Kind}, {Active} -> lookup t "To"', "Kind,Active,To\nD,y,dog\nC,,cat\n", 'key = ["Kind", "Active"]', {"1": "dog", "5": "cat"}, None),
    ('{Kind} -> lookup t "To" none="blank"', "Kind,To\nC,cat\n", 'key = "Kind"', {"1": "", "5": "cat"}, None),
    ('{Kind} -> lookup t "To" or "cat"', "Kind,To\nD,dog\nD,cat\n", 'key = "Kind"', {"1": "cat", "5": "cat"}, None),
    ('{Kind} -> lookup t "To"', "Art,To\nD,dog\n", 'key = "Kind"', None, "has no column 'Kind'"),
    ('{Kind} -> lookup t "Too"', "Kind,To\nD,dog\n", 'key = "Kind"', None, "Did you mean 'To'"),
    ('{Kind} -> lookup t "To"', 'Kind,To,By\nD,dog,\nE,dog,\nC,cat,x,y\nG,cat,\n', 'key = "Kind"', None, "is damaged"),
    ('{Kind} -> lookup t "To"', "Kind;To\nD;dog\nC;cat\n", 'key = "K"\nrename = { "Kind" = "K" }', {"1": "dog", "5": "cat"}, None),
    ("{Kind} -> lookup t \"To\" several=\"first\"", "Kind,To\nD,dog\nD,\nC,cat\nC,dog\n", 'key = "Kind"', {"1": "dog", "5": "cat"}, None),
]  # fmt: skip


@pytest.mark.parametrize(("flow", "table", "settings", "kinds", "words"), LOOKUPS, ids=range(len(LOOKUPS)))
def test_lookups(
    move: Path, flow: str, table: str, settings: str, kinds: dict[str, str] | None, words: str | None
) -> None:
    edit(move / "plans/people.toml", "{Kind} -> crosswalk kinds", flow)
    edit(move / "plans/people.toml", "[rows]", f'[lookup.t]\nfile = "incoming/t.csv"\n{settings}\n[rows]')
    edit(move / "plans/people.toml", "'{State} != \"x\"'", '\'{Id} in ("1", "5")\'')
    (move / "incoming/t.csv").write_text(table, encoding="utf-8")
    if words is not None:
        assert words in program("build", "people", cwd=move, status=2).err
        return
    built = program("build", "people", "--json", cwd=move, status=0).json["lists"][0]
    assert "incoming/t.csv" in [one["path"] for one in built["sources_read"]]
    # few rows are looked up without holding the table
    shown = program("preview", "people", "--fields", "kind", "--json", cwd=move, status=0).json["rows"]
    wrote = [row["fields"][0]["after"] or "" for row in shown if row["end"] == "written"]
    assert wrote == list((kinds or {}).values())
    with (move / "out/people.csv").open(encoding="utf-8") as file:
        made = [row["Kind"] for row in csv.DictReader(file, delimiter=";")]
    assert kinds is not None and made == list(kinds.values())


def test_a_lookup_for_few_rows_holds_only_theirs_and_reads_none_twice() -> None:
    read = []

    def parts() -> Iterator[pl.DataFrame]:
        read.append(1)
        for start in range(0, 5000, 1000):
            numbers = pl.int_range(start, start + 1000, eager=True).cast(pl.String)
            yield pl.DataFrame({"No": numbers, "To": "t" + numbers})

    few = Lookup("t", ("No",), False, ("No", "To"), parts, for_few=True)
    whole = Lookup("t", ("No",), False, ("No", "To"), parts).values("To")
    for texts, times in ((["7", "4999", "x"], 1), (["8"], 2), (["x", "8", None, "7"], 2)):
        asked = pl.Series(texts, dtype=pl.String)
        keys = asked.drop_nulls().implode()
        found = few.values_for("To", asked)
        wanted = pl.col("key").is_in(keys)
        assert found.filter(wanted).sort("key").equals(whole.filter(wanted).sort("key"))
        assert found.height <= 3 and len(read) == 1 + times
    # of many it is no use to look for each
    assert few.values_for("To", whole["key"]).height == 5000


def test_another_list_can_be_looked_up_in(move: Path) -> None:
    program("build", "people", cwd=move, status=1)
    (move / "layouts/notes.json").write_text(layout_json([{"name": n, "titles": n} for n in ("who", "born")]))
    (move / "plans/notes.toml").write_text(
        'layout = "layouts/notes.json"\n[[source]]\nname = "n"\nfile = "incoming/n.csv"\n[lookup.people]\nlist = "people"\nkey = "code"\n'
        '[fields]\nwho = \'{P} -> lookup people "name"\'\nborn = \'{P} -> lookup people "born" or "never"\'\n'
    )
    (move / "incoming/n.csv").write_text("P\nP001\nP003\nP009\n")
    built = program("build", "notes", "--json", cwd=move, status=1).json["lists"][0]
    assert [(f["code"], f["example"]["value"]) for f in built["findings"]] == [("flow.not-found", "P009")]
    rows = list(csv.reader(io.StringIO((move / "out/notes.csv").read_text("utf-8"))))
    assert rows[1] == ["Ana", "31/01/1980"] and rows[2][1] == ""
    # touched, and then changed since it was built: its source, its plan
    for name in ("incoming/a.csv", "plans/people.toml"):
        text = (move / name).read_text(encoding="utf-8")
        (move / name).write_text(text, encoding="utf-8")
        for others, changed in ((("notes",), False), (("notes",), True), (("people", "notes"), True)):
            (move / name).write_text(text + ("\n" if changed else ""), encoding="utf-8")
            told = program("build", *others, "--rehearse", "--json", cwd=move, status=1).json["lists"][-1]["findings"]
            rules = [f["example"]["rule"] for f in told if f["code"] == "list.outdated"]
            assert rules == (
                [f"as it was built in run 1; since then other: {name}"] if changed and others == ("notes",) else []
            )
        (move / name).write_text(text, encoding="utf-8")


# running numbers


def test_numbers_by_group() -> None:
    pattern = KeyPattern.of("{group}-{00}", 5, 2)
    frame = pl.DataFrame({"i": ["a\x1fb\x1f1", "a\x1fc\x1f2"], "n": [7, 123]})
    assert frame.select(pattern.keys(pl.col("n"), pl.col("i"))).to_series().to_list() == ["a-b-07", "a-c-123"]
    plain = KeyPattern.of("X{000}/y")
    assert frame.select(plain.keys(pl.col("n"), pl.col("i"))).to_series().to_list() == ["X007/y", "X123/y"]


# what went out


def test_records_that_went_out_are_remembered_as_changes(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    ledger = Ledger(tmp_path / ".mudanza/ledger.sqlite")

    def built(records: dict[str, int]) -> None:
        frame = pl.DataFrame(
            {"key": list(records), "record": pl.Series(list(records.values()), dtype=pl.UInt64)},
            schema_overrides={"key": pl.String},
        )
        with running(ledger, "build", "people") as run:
            note_sent(ledger, run.id, "people", "out/people.csv", sent_by(ledger, "people"), frame)
            run.commit()

    built({"A": 1, "B": 2})
    built({"A": 1, "B": 3})
    built({"A": 1})
    assert [w.how for w in went_out(ledger, "people", "B")] == ["new", "changed", "gone"]
    assert [w.how for w in went_out(ledger, "people", "A")] == ["new", "same", "same"]
    # earlier versions made other hashes: nothing is called changed for that
    monkeypatch.setattr(sent, "_HASHED_BY", "another")
    built({"A": 77, "B": 2})
    built({"A": 78})
    assert [w.how for w in went_out(ledger, "people", "A")] == ["new", "same", "same", "same", "changed"]
    assert [w.how for w in went_out(ledger, "people", "B")] == ["new", "changed", "gone", "new", "gone"]
    assert went_out(ledger, "people", "Z") == [] and went_out(ledger, "others", "A") == []


# comparing

PEOPLE = [{"name": "id", "titles": "Id"}, {"name": "town", "titles": "Town"}]
COMPARED = [
    ("id", "Id,Town\r\n1,a\r\n2,b\r\n3,\r\n", [("1", "a"), ("2", "B"), ("4", "d")], (1, 1, 1, 1)),
    ("id", "Id,Town\r\n1,a\r\n", [("1", "a")], (1, 0, 0, 0)),
    ("id", "Id,Town\r\n1,\r\n", [("1", None)], (1, 0, 0, 0)),
    ("id", "Id,Town\r\n", [("1", "a")], (0, 0, 1, 0)),
    (None, "Id,Town\r\n1,a\r\n1,a\r\n2,b\r\n", [("1", "a"), ("2", "B")], (1, 0, 1, 2)),
]


@pytest.mark.parametrize(("key", "before", "now", "counts"), COMPARED, ids=range(len(COMPARED)))
def test_builds_are_compared(tmp_path: Path, key: str | None, before: str, now: list, counts: tuple) -> None:
    (tmp_path / "l.json").write_text(layout_json(PEOPLE, **({"primaryKey": key} if key else {})))
    move = Move(tmp_path, "M")
    plan = Plan("old", Document(tmp_path / "old.toml", "", {}), read_layout(tmp_path / "l.json"), ())
    frame = pl.DataFrame(now, schema={"Id": pl.String, "Town": pl.String}, orient="row")
    assert compare_builds(move, plan, frame) is None
    move.out.mkdir()
    (move.out / "old.csv").write_text(before, newline="")
    found = compare_builds(move, plan, frame)
    assert found is not None and (found.same, found.changed, found.added, found.removed) == counts
    (move.out / "old.csv").write_text("Id,City\r\n1,a\r\n")
    with pytest.raises(MudanzaError, match="lacks the layout's column 'Town'"):
        compare_builds(move, plan, frame)


# coverage


def test_every_field_and_column_is_accounted_for(move: Path) -> None:
    (move / "layouts/people.json").write_text(
        layout_json(
            [
                {"name": "code", "titles": "Code", "required": True},
                {"name": "name", "titles": "Name", "required": True},
                {"name": "town", "titles": "Town"},
                {"name": "land", "titles": "Land", "required": True, "default": "PT"},
                {"name": "kind", "titles": "Kind"},
            ]
        )
    )
    (move / "plans/people.toml").write_text(
        'layout = "layouts/people.json"\n[[source]]\nname = "a"\nfile = "incoming/a.csv"\n[rows]\nkeep = \'{State} != "x"\'\nsort = ["Born"]\n'
        "[fields]\ncode = '{Id}'\nkind = '\"dog\"'\n[left_behind]\nPaid = 'no'\n"
    )
    cover = coverage(find_move(move), "people")
    assert [f.how for f in cover.fields] == [
        "mapped",
        "missing",
        "not mapped",
        "default",
        "constant",
    ] and not cover.whole
    columns = {c.name: (c.how, c.fields, c.values) for c in cover.columns}
    assert (
        columns["Id"] == ("used", ("code",), 0)
        and columns["State"] == ("used", ("keep",), 0)
        and columns["Born"] == ("used", ("sort",), 0)
    )
    assert columns["Paid"] == ("left behind", (), 6) and columns["Name"] == ("not accounted for", (), 7)
    shown = program("preview", "people", "--coverage", cwd=move, status=1).out
    assert "2 of 5 have a flow" in shown and "not accounted for" in shown
    assert "has no flow" in program("build", "people", cwd=move, status=2).err


# crosswalks kept


def test_a_crosswalk_keeps_what_people_wrote(move: Path) -> None:
    path = move / "crosswalks/kinds.csv"
    path.write_text('note;from;to;of\n"a dog; big";D;dog;\nold;X;cat;\n', encoding="utf-8")
    edit(move / "plans/people.toml", "{Kind} -> crosswalk kinds", "{Kind}, {State} -> crosswalk kinds")
    (one,) = find_codes(find_move(move), "people")
    assert (
        one.columns == ("from", "of")
        and {c.values for c in one.open} == {("C", ""), ("Q", "")}
        and [e.code for e in one.unused] == ["X"]
    )
    assert propose_entries(find_move(move), one) == 2 and propose_entries(find_move(move), one) == 0
    (one,) = find_codes(find_move(move), "people")
    decide(find_move(move), one, {("C", ""): Decision("cat", "seen"), ("D", ""): Decision("dog", "big")})
    with pytest.raises(MoveError, match="no code 'cow'"):
        decide(find_move(move), one, {("Q", ""): Decision("cow")})
    rows = list(csv.reader(path.open(encoding="utf-8"), delimiter=";"))
    assert rows[0] == ["note", "from", "to", "of", "state"]
    assert rows[1:3] == [["big", "D", "dog", "", "confirmed"], ["old", "X", "cat", "", ""]]
    assert ["seen", "C", "cat", "", "confirmed"] in rows and ["", "Q", "", "", "proposed"] in rows
    assert [c.values for c in find_codes(find_move(move), "people")[0].open] == [("Q", "")]


def test_an_expectation_by_its_end(move: Path) -> None:
    with (move / "plans/people.toml").open("a", encoding="utf-8") as file:
        for value, end in (("3", "held back"), ("4", "skipped"), ("6", "written")):
            file.write(f'[[expect]]\nrow = {{ Id = "{value}" }}\nends = "{end}"\n')
        file.write('[[expect]]\nkey = "P001"\nfields = { born = "31/01/1980", paid = "1234,50" }\n')
    assert len(load_plan(find_move(move), "people").expectations) == 4
    found = program("build", "people", "--rehearse", "--json", cwd=move, status=1).json["lists"][0]["findings"]
    assert [(f["code"], f["example"]["value"]) for f in found if f["code"].startswith("record.")] == [
        ("record.ended", "held back")
    ]


# sheets


def test_sheets_of_decisions_come_back_as_they_went(tmp_path: Path) -> None:
    columns = [
        SheetColumn("Code", 8),
        SheetColumn("Becomes", 12, open=True, choices=tuple(f"choice {i}" for i in range(60))),
        SheetColumn("Note", 30, open=True),
    ]
    rows = [
        ["00012", "choice 1", "=not a formula"],
        ["1e5", "", "several\nlines"],
        ["http://example.org", "choice 59", ""],
    ]
    path = tmp_path / "s.xlsx"
    path.write_bytes(sheets_bytes([Sheet("codes [1]", "a note", columns, rows)], {"loan": "x-1"}))
    back = read_sheet(path, "codes [1]", ["Code", "Becomes", "Note"], "s.xlsx")
    assert [list(row.texts.values()) for row in back] == rows and not any(row.wrong for row in back)
    book = openpyxl.load_workbook(path)
    book.worksheets[0]["C4"] = '=CONCATENATE("a", "<b>")'
    book.save(tmp_path / "f.xlsx")
    back = read_sheet(tmp_path / "f.xlsx", "codes [1]", ["Code", "Becomes", "Note"], "f.xlsx")
    assert [(one.cell, one.value) for row in back for one in row.wrong] == [("codes 1!C4", '=CONCATENATE("a", "<b>")')]
    with pytest.raises(MudanzaError, match="'Status' is not in the sheet"):
        read_sheet(path, "codes [1]", ["Code", "Status"], "s.xlsx")


def test_columns_are_left_behind_by_patterns(move: Path) -> None:
    plan = move / "plans/people.toml"
    text = plan.read_text("utf-8")
    (move / "incoming/a.csv").write_text(
        "Id,Name,Born,Paid,Active,Kind,State,Note,Old 1,Old 2\n1,Ana,,1,y,D,,a,b,c\n", encoding="utf-8"
    )

    def unused(lines: str) -> list[str]:
        plan.write_text(f"{text}[left_behind]\n{lines}\n", encoding="utf-8")
        one = program("build", "people", "--rehearse", "--json", cwd=move, status=0).json["lists"][0]
        return [group["field"] for group in one["findings"] if group["code"] == "column.unused"]

    assert unused('"Old *" = "of the archive"') == ["Note"]
    assert unused('"*" = "all else stays"\n"Old 1" = "empty"') == []
    covered = program("preview", "people", "--coverage", "--json", cwd=move, status=0).json["columns"]
    reasons = {one["name"]: one["reason"] for one in covered if one["how"] == "left behind"}
    assert reasons == {"Note": "all else stays", "Old 1": "empty", "Old 2": "all else stays"}
    assert unused('"*" = "a column of that very name is none of all"\n"Note" = "no"') == []
    plan.write_text(f'{text}[left_behind]\n"New *" = "none"\n', encoding="utf-8")
    assert "no source has a column like 'New *'" in program("build", "people", cwd=move, status=2).err


def test_a_lookup_that_nobody_asks_is_told(move: Path) -> None:
    with (move / "plans/people.toml").open("a", encoding="utf-8") as plan:
        plan.write('[lookup.towns]\nfile = "incoming/a.csv"\nkey = "Id"\n')
    one = program("build", "people", "--rehearse", "--json", cwd=move, status=1).json["lists"][0]
    assert [g["example"]["value"] for g in one["findings"] if g["code"] == "lookup.unused"] == ["towns"]
