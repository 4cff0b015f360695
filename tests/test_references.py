"""References of layouts: a build looks whether the records they are of are there."""

from __future__ import annotations

import json
import random
import shutil
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import edit, layout_json, make_move, program, stories
from mudanza.core.plans.move_settings import read_move
from mudanza.core.work.again.against import HANDED_OVER
from mudanza.core.work.again.handing_over import hand_over
from mudanza.core.work.build import build

SETTINGS = '[keys.customers]\npattern = "C{000}"\n[keys.meters]\npattern = "M{000}"\n'


def _layout(move: Path, name: str, columns: list[str], references: dict[str, tuple[str, str]], **more: Any) -> None:
    keys = [
        {"columnReference": field, "reference": {"resource": resource, "columnReference": column}}
        for field, (resource, column) in references.items()
    ]
    fields = [{"name": n.lower(), "titles": n, "required": n == columns[0]} for n in columns]
    text = layout_json(fields, url=f"{name}.csv", primaryKey=[columns[0].lower()], foreignKeys=keys, **more)
    (move / f"layouts/{name}.json").write_text(text, encoding="utf-8")


def _list(move: Path, name: str, flows: dict[str, str], rows: str) -> None:
    fields = "\n".join(f"{field} = '{flow}'" for field, flow in flows.items())
    plan = (
        f'layout = "layouts/{name}.json"\n[[source]]\nname = "old"\nfile = "incoming/{name}.csv"\n[fields]\n{fields}\n'
    )
    (move / f"plans/{name}.toml").write_text(plan, encoding="utf-8")
    (move / f"incoming/{name}.csv").write_text(rows, encoding="utf-8")


@pytest.fixture
def move(tmp_path: Path) -> Path:
    return fill(tmp_path)


def fill(tmp_path: Path) -> Path:
    """Customers who have been recommended by each other, and their meters; customer 9 never came over."""
    for folder in ("plans", "layouts", "incoming"):
        (tmp_path / folder).mkdir()
    (tmp_path / "mudanza.toml").write_text(SETTINGS, encoding="utf-8")
    _layout(tmp_path, "customers", ["Code", "Name", "By"], {"by": ("customers.csv", "code")})
    _layout(tmp_path, "meters", ["No", "Customer"], {"customer": ("customers.csv", "code")})
    flows = {"code": "{Id} -> mint customers", "name": "{Name}", "by": "{By} -> mint customers"}
    _list(tmp_path, "customers", flows, "Id,Name,By\n1,Ana,\n2,Bo,1\n3,Ci,2\n4,Di,3\n")
    _list(
        tmp_path,
        "meters",
        {"no": "{Nr} -> mint meters", "customer": "{Of} -> key customers"},
        "Nr,Of\na,1\nb,3\nc,\nd,4\n",
    )
    return tmp_path


def _built(move: Path, *names: str, status: int = 1) -> dict[str, tuple[list[str], dict[str, int]]]:
    """The lines of each list as built, and how many findings of each code it has."""
    ended = program("build", *names, "--json", cwd=move, status=status).json
    return {
        one["list"]: (
            (move / f"out/{one['list']}.csv").read_text("utf-8").splitlines()[1:],
            {group["code"]: group["count"] for group in one["findings"]},
        )
        for one in ended["lists"]
    }


def test_a_record_that_is_gone_is_not_referred_to(move: Path) -> None:
    """The key book still knows the customer who is gone a month later; the list does not."""
    first = _built(move, status=0)
    assert first["meters"] == (["M001,C001", "M002,C003", "M003,", "M004,C004"], {})
    edit(move / "incoming/customers.csv", "3,Ci,2\n4,Di,3", "4,Di,")
    held = {"reference.missing": 1}
    both = ["M001,C001", "M003,", "M004,C004"]
    assert _built(move, "meters", "customers")["meters"] == (both, held), "looked up in what the same run makes"
    assert _built(move, "meters")["meters"] == (both, held), "and in what was built last"
    edit(move / "incoming/customers.csv", "4,Di,", "4,Di,\n3,Ci,2")
    assert _built(move, "meters", "--rehearse")["meters"][1] == {**held, "list.outdated": 1}
    assert _built(move, "meters", "customers", "--rehearse", status=0)["meters"][1] == {}
    row = program("preview", "meters", "--where", '{Nr} = "b"', "--json", cwd=move, status=0).json["rows"][0]
    assert row["end"] == "held back"
    assert [f["rule"] for f in row["fields"][1]["findings"]] == ["among code of customers.csv"]
    told = program("trace", "b", "--list", "meters", cwd=move).out
    assert "reference.missing" in told


def _of_themselves(move: Path, by: list[int | None], wrong: set[int]) -> tuple[list[str], list[str]]:
    """The names written of customers who have been recommended by others (their numbers from 0), and those that a plain loop would write."""
    rows = [f"{i},{'X' if i in wrong else 'N'}{i},{'' if b is None else b}" for i, b in enumerate(by)]
    (move / "incoming/customers.csv").write_text("Id,Name,By\n" + "".join(f"{row}\n" for row in rows), encoding="utf-8")
    lines, _ = _built(move, "customers", "--fewer", "--new-identities", status=1)["customers"]
    codes = dict(line.split(",")[1::-1] for line in lines)
    there = {i for i in range(len(by)) if i not in wrong}
    while gone := {i for i in there if by[i] is not None and by[i] not in there}:
        there -= gone
    # each refers to the code of the very one who recommended it, and codes run on without a gap
    for line in lines:
        _, name, other = line.split(",")
        number = by[int(name[1:])]
        assert other == ("" if number is None else codes[f"N{number}"]), line
    assert sorted(codes.values()) == [f"C{n:03d}" for n in range(1, len(codes) + 1)]
    return [line.split(",")[1] for line in lines], [f"N{i}" for i in sorted(there)]


def test_a_list_that_refers_to_itself_holds_back_what_a_plain_loop_would(move: Path) -> None:
    """Also where held rows change the numbers of others, and in chains as long as there are rows."""
    edit(move / "plans/customers.toml", "'{Name}'", """'{Name} -> expect it matches "N[0-9]+" "a name"'""")
    chance = random.Random(5)
    cases: list[tuple[list[int | None], set[int]]] = [([None, *range(399)], {0}), ([*range(1, 400), None], {399, 200})]
    for _ in range(4):
        by = [chance.choice([None, chance.randint(0, 33)]) for _ in range(30)]
        cases.append((by, {i for i in range(30) if chance.random() < 0.15} or {0}))
    for by, wrong in cases:
        shutil.rmtree(move / ".mudanza", ignore_errors=True)
        shutil.rmtree(move / "out", ignore_errors=True)
        made, expected = _of_themselves(move, by, wrong)
        assert made == expected


@pytest.mark.parametrize(
    ("says", "lines", "code"),
    [
        ("hold back", ["M001,C001", "M003,", "M004,C004"], "reference.missing"),
        ("blank", ["M001,C001", "M002,", "M003,", "M004,C004"], "reference.blanked"),
        ("write", ["M001,C001", "M002,C003", "M003,", "M004,C004"], "reference.written"),
    ],
)
def test_the_plan_says_what_becomes_of_it(move: Path, says: str, lines: list[str], code: str) -> None:
    _built(move, status=0)
    edit(move / "incoming/customers.csv", "3,Ci,2\n4,Di,3", "4,Di,")
    with (move / "plans/meters.toml").open("a", encoding="utf-8") as plan:
        plan.write(f'[references]\ncustomer = "{says}"\n')
    assert _built(move, status=1 if says == "hold back" else 0)["meters"] == (lines, {code: 1})


def test_a_record_held_back_takes_those_with_it_that_refer_to_it(move: Path) -> None:
    edit(move / "incoming/customers.csv", "2,Bo,1", "2,Bo,9")
    built = _built(move, "customers")["customers"]
    assert built == (["C001,Ana,"], {"reference.missing": 3})
    edit(move / "incoming/customers.csv", "2,Bo,9\n3,Ci,2\n4,Di,3", "3,Ci,4\n4,Di,3\n5,Ed,5\n6,Fi,2")
    written = ["C001,Ana,", "C002,Ci,C003", "C003,Di,C002", "C004,Ed,C004"]
    assert _built(move, "customers")["customers"] == (written, {"reference.missing": 1})
    with (move / "plans/customers.toml").open("a", encoding="utf-8") as plan:
        plan.write('[references]\nby = "blank"\n')
    assert _built(move, "customers", status=0)["customers"] == ([*written, "C005,Fi,"], {"reference.blanked": 1})


def test_what_cannot_be_looked_at_is_told(move: Path) -> None:
    flows = {"no": "{Nr} -> mint meters", "customer": "{Of}"}
    _layout(
        move,
        "meters",
        ["No", "Customer", "Town"],
        {"customer": ("customers.csv", "code"), "town": ("towns.csv", "town")},
    )
    _list(move, "meters", flows, "Nr,Of\na,1\n")
    rules = [
        group["example"]["rule"]
        for group in program("build", "meters", "--json", cwd=move, status=0).json["lists"][0]["findings"]
    ]
    assert rules == [
        "among code of customers.csv; the list customers is not built yet",
        "among town of towns.csv; no list of this move makes it",
    ]


def test_references_of_several_fields_and_keys_that_ignore_case(move: Path) -> None:
    _layout(move, "customers", ["Code", "Name"], {}, **{"urn:mudanza:keyIgnoresCase": True})
    edit(move / "plans/customers.toml", "by = '{By} -> mint customers'\n", "")
    edit(move / "plans/customers.toml", "{Id} -> mint customers", '"K{Id}"')
    edit(move / "plans/customers.toml", "[fields]", '[left_behind]\nBy = "no"\n[fields]')
    edit(move / "plans/meters.toml", "{Of} -> key customers", '"k{Of}"')
    assert _built(move, "customers", "meters")["meters"][1] == {"reference.missing": 1}
    path = move / "layouts/customers.json"
    path.write_text(path.read_text("utf-8").replace('"code"\n  ]', '"code", "name"]'), encoding="utf-8")
    two = {
        "columnReference": ["no", "customer"],
        "reference": {"resource": "customers.csv", "columnReference": ["name", "code"]},
    }
    layout = move / "layouts/meters.json"
    layout.write_text(
        layout_json([{"name": "no", "titles": "No"}, {"name": "customer", "titles": "Customer"}], foreignKeys=[two]),
        encoding="utf-8",
    )
    edit(move / "plans/meters.toml", "{Nr} -> mint meters", '"Bo" when {Nr} = "a"; "ana" otherwise')
    edit(move / "incoming/meters.csv", "Nr,Of\na,1\nb,3\nc,\nd,4\n", "Nr,Of\nb,1\na,2\na,1\n")
    assert _built(move, "customers", "meters")["meters"] == (["ana,k1", "Bo,k2"], {"reference.missing": 1})


@pytest.mark.parametrize(
    ("lines", "words"),
    [
        ('custmer = "blank"', "the layout has no reference by 'custmer'"),
        ('customer = "hold"', "hold back, blank, write"),
        ('no = "blank"', "no reference by 'no'"),
    ],
)
def test_what_a_plan_says_of_references_is_checked(move: Path, lines: str, words: str) -> None:
    with (move / "plans/meters.toml").open("a", encoding="utf-8") as plan:
        plan.write(f"[references]\n{lines}\n")
    told = program("build", "meters", cwd=move, status=2).err
    assert words in told and "plans/meters.toml, line 9" in told


def test_what_leads_nowhere_is_told_as_it_stands_in_the_source(move: Path) -> None:
    """Not as an identifier that nobody was given."""
    edit(move / "incoming/customers.csv", "2,Bo,1", "2,Bo,old 9")
    told = program("build", "customers", "--json", cwd=move, status=1).json["lists"][0]["findings"][0]["example"]
    assert told["value"] == "old 9"


def test_what_a_build_writes_passes_its_own_check(move: Path) -> None:
    """Keys that ignore case are compared alike in both."""
    _layout(move, "customers", ["Code", "Name"], {}, **{"urn:mudanza:keyIgnoresCase": True})
    _list(move, "customers", {"code": '"K{Id}"', "name": "{Name}"}, "Id,Name\n1,Ana\n")
    _list(move, "meters", {"no": "{Nr} -> mint meters", "customer": '"k{Of}"'}, "Nr,Of\na,1\n")
    program("build", "customers", "meters", cwd=move, status=0)
    for command in (["--with", "out/customers.csv"], []):
        program("check", "out/meters.csv", "--layout", "meters", *command, cwd=move, status=0)


def test_a_record_that_stays_in_the_target_may_be_referred_to_by_its_own_list(move: Path) -> None:
    """Customer 2 is held back a month later, and customer 3 is gone: both stay, until the plan takes them out."""
    _built(move, "customers", status=0)
    program("handed-over", "1", cwd=move, status=0)
    edit(move / "plans/customers.toml", "'{Name}'", """'{Name} -> expect it matches "[A-Z][a-z]+" "a name"'""")
    (move / "incoming/customers.csv").write_text("Id,Name,By\n1,Ana,\n2,?,1\n4,Di,3\n5,Ed,2\n", encoding="utf-8")
    since = ["customers", "--since", "--fewer"]
    codes = {"leaver.unsaid": 1, "expect.stop": 1}
    assert _built(move, *since)["customers"] == (["C001,Ana,", "C004,Di,C003", "C005,Ed,C002"], codes)
    with (move / "plans/customers.toml").open("a", encoding="utf-8") as plan:
        plan.write('[leavers]\ngone = "remove"\n')
    lines, codes = _built(move, *since)["customers"]
    assert (lines, codes["reference.missing"]) == (["C001,Ana,", "C005,Ed,C002"], 1)


_people = st.dictionaries(st.sampled_from("123"), st.sampled_from(["Ana", "Bo", "?"]), max_size=3)
_meters = st.dictionaries(st.sampled_from("abc"), st.sampled_from("123"), max_size=3)
_sorts = st.fixed_dictionaries(dict.fromkeys(("gone", "held_back"), st.sampled_from(["", '"remove"'])))


@stories(5)
@given(steps=st.lists(st.tuples(_people, _meters), min_size=2, max_size=4), leavers=st.tuples(_sorts, _sorts))
def test_every_child_in_the_target_has_its_parent_or_it_is_told(
    tmp_path_factory: pytest.TempPathFactory, steps: list, leavers: tuple[dict[str, str], dict[str, str]]
) -> None:
    """Customers and their meters come, change, leave and are held back; what is new, changed and gone is taken in, list by list."""
    folder = tmp_path_factory.mktemp("two") / "move"
    folder.mkdir()
    fill(folder)
    edit(folder / "plans/customers.toml", "'{Name}'", """'{Name} -> expect it matches "[A-Z][a-z]+" "a name"'""")
    for name, says in zip(("customers", "meters"), leavers, strict=True):
        with (folder / f"plans/{name}.toml").open("a") as plan:
            plan.write("[leavers]\n" + "".join(f"{sort} = {what}\n" for sort, what in says.items() if what))
    held: dict[str, dict[str, str]] = {"customers": {}, "meters": {}}
    for people, meters in steps:
        rows = {"customers": "Id,Name,By\n", "meters": "Nr,Of\n"}
        rows["customers"] += "".join(f"{id_},{name},\n" for id_, name in people.items())
        rows["meters"] += "".join(f"{id_},{of}\n" for id_, of in meters.items())
        for name, text in rows.items():
            (folder / f"incoming/{name}.csv").write_text(text)
        result = build(read_move(folder), ["meters", "customers"], since=HANDED_OVER, fewer=True, new_identities=True)
        for one in result.lists:
            sets = {}
            for which in ("additions", "changes", "removals"):
                lines = (folder / f"out/{one.name}.{which}.csv").read_text().splitlines()[1:]
                sets[which] = {line.split(",")[0]: line.split(",")[-1] for line in lines}
            mine = held[one.name] | sets["additions"] | sets["changes"]
            held[one.name] = {key: of for key, of in mine.items() if key not in sets["removals"]}
        told = {group.code for one in result.lists for group in one.findings}
        lost = {key for key, of in held["meters"].items() if of and of not in held["customers"]}
        assert bool(lost) == ("leaver.orphaned" in told)
        if lost:
            break
        hand_over(read_move(folder), result.run)


def test_a_reference_is_of_one_record(move: Path) -> None:
    """By a column that is no key, two customers may be meant."""
    _layout(move, "meters", ["No", "Customer"], {"customer": ("customers.csv", "name")})
    edit(move / "plans/meters.toml", "{Of} -> key customers", "{Of}")
    (move / "incoming/customers.csv").write_text("Id,Name,By\n1,Ana,\n2,Bo,\n3,Bo,\n", encoding="utf-8")
    (move / "incoming/meters.csv").write_text("Nr,Of\na,Ana\nb,Bo\nc,\nd,Cy\n", encoding="utf-8")
    codes = {"reference.several": 1, "reference.missing": 1}
    assert _built(move, "customers", "meters")["meters"] == (["M001,Ana", "M002,"], codes)
    rule = program("explain", "reference.several", cwd=move, status=0).out
    assert "more than one record" in rule
    with (move / "plans/meters.toml").open("a", encoding="utf-8") as plan:
        plan.write('[references]\ncustomer = "write"\n')
    assert _built(move, "customers", "meters", status=0)["meters"][1] == {"reference.written": 1}


def test_a_record_that_is_written_for_the_last_time_is_one_record(move: Path) -> None:
    with (move / "plans/customers.toml").open("a", encoding="utf-8") as plan:
        plan.write('[rows]\nkeep = \'{Name} != "Bo!"\'\n[leavers]\nunselected = "last change"\n')
    (move / "incoming/meters.csv").write_text("Nr,Of\na,2\n", encoding="utf-8")
    _built(move, "customers", "meters", status=0)
    program("handed-over", "1", cwd=move, status=0)
    edit(move / "incoming/customers.csv", "2,Bo,1", "2,Bo!,1")
    built = _built(move, "customers", "meters", "--since", status=0)
    assert ("C002,Bo!,C001" in built["customers"][0], built["meters"]) == (True, (["M001,C002"], {}))


def test_numbers_are_given_anew_where_the_target_is_known(tmp_path: Path) -> None:
    """A row of a list that was handed over is held back for what it refers to, and the next new one takes its number."""
    move = make_move(tmp_path / "move")
    reference = {"columnReference": "name", "reference": {"resource": "people.csv", "columnReference": "code"}}
    edit(move / "layouts/people.json", '"primaryKey"', f'"foreignKeys": [{json.dumps(reference)}], "primaryKey"')
    edit(move / "plans/people.toml", "'{Name} -> squeeze'", "'{Name} -> mint people'")
    rows = "Id,Name,Born,Paid,Active,Kind,State\n1,2,,1,y,D,\n2,1,,,n,C,\n"
    (move / "incoming/a.csv").write_text(rows)
    program("build", cwd=move, status=0)
    program("handed-over", "last", cwd=move, status=0)
    (move / "incoming/a.csv").write_text(rows + "3,99,,,n,C,\n4,1,,,n,C,\n")
    lines, found = _built(move, "--since")["people"]
    assert [line.split(";")[:2] for line in lines] == [["P001", "P002"], ["P002", "P001"], ["P003", "P001"]]
    assert found["reference.missing"] == 1
