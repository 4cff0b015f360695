"""Lists that refer to each other: one is imported first without that, and what it says of the other comes behind."""

from __future__ import annotations

import csv
import shutil
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from conftest import edit, layout_json, program, stories
from mudanza.core.plans.move_settings import read_move
from mudanza.core.work.again.against import HANDED_OVER
from mudanza.core.work.again.handing_over import hand_over
from mudanza.core.work.build import build

Branch = tuple[str, str]
Person = tuple[str, str]


def make(move: Path, *, manager: str = "") -> Path:
    """Branches with their managers, and people with their branches."""
    for folder in ("plans", "layouts", "incoming"):
        (move / folder).mkdir(parents=True)
    (move / "mudanza.toml").write_text('[keys.branches]\npattern = "B{00}"\n[keys.people]\npattern = "P{00}"\n')
    name = '\'{Name} -> expect it matches "[a-z]+" "a name"\''
    refers = {"branches": ("manager", "people"), "people": ("branch", "branches")}
    for one, (field, other) in refers.items():
        required = {"required": True} if one == "people" or manager else {}
        columns = [{"name": "code", "required": True}, {"name": "name"}, {"name": field, **required}]
        key = {"columnReference": field, "reference": {"resource": f"{other}.csv", "columnReference": "code"}}
        layout = layout_json(columns, url=f"{one}.csv", primaryKey="code", foreignKeys=[key])
        (move / f"layouts/{one}.json").write_text(layout)
        fields = f"code = '{{No}} -> mint {one}'\nname = {name}\n{field} = '{{Other}} -> key {other}'\n"
        source = f'layout = "layouts/{one}.json"\n[[source]]\nname = "old"\nfile = "incoming/{one}.csv"\n[fields]\n'
        (move / f"plans/{one}.toml").write_text(source + fields)
    return move


def write(move: Path, branches: list[Branch], people: list[Person]) -> None:
    for name, rows in (("branches", branches), ("people", people)):
        with (move / f"incoming/{name}.csv").open("w", newline="") as file:
            csv.writer(file).writerows([("No", "Name", "Other"), *((n, *row) for n, row in enumerate(rows))])


def read(path: Path) -> list[dict[str, str]]:
    with path.open(newline="") as file:
        return list(csv.DictReader(file))


def plain_loop(branches: list[Branch], people: list[Person]) -> tuple[list[int], list[int]]:
    """The numbers of branches and people that can all go together."""
    there = ({n for n, one in enumerate(branches) if one[0].isalpha()}, {n for n, one in enumerate(people) if one[0].isalpha()})  # fmt: skip
    while True:
        mine = {n for n in there[0] if not branches[n][1] or int(branches[n][1]) in there[1]}
        theirs = {n for n in there[1] if people[n][1] and int(people[n][1]) in mine}
        if (mine, theirs) == there:
            return sorted(mine), sorted(theirs)
        there = mine, theirs


_names, _other = st.sampled_from(["a", "b", "c", "?"]), st.sampled_from(["", "0", "1", "2", "3"])
_rows = st.lists(st.tuples(_names, _other), max_size=4)


@stories(8)
@given(branches=_rows, people=_rows)
def test_a_circle_is_imported_in_two_passes_as_a_plain_loop_would_have_it(
    tmp_path: Path, branches: list[Branch], people: list[Person]
) -> None:
    shutil.rmtree(tmp_path / "move", ignore_errors=True)
    move = make(tmp_path / "move")
    write(move, branches, people)
    mine, theirs = plain_loop(branches, people)
    result = build(read_move(move), [])
    assert all(one.balance.holds for one in result.lists)
    made, persons = read(move / "out/branches.csv"), read(move / "out/people.csv")
    assert [(row["code"], row["name"]) for row in made] == [
        (f"B{at:02d}", branches[n][0]) for at, n in enumerate(mine, 1)
    ]
    assert [row["code"] for row in persons] == [f"P{at:02d}" for at in range(1, len(theirs) + 1)]
    codes = {n: row["code"] for n, row in zip(theirs, persons, strict=True)}
    assert [row["manager"] for row in made] == [codes[int(branches[n][1])] if branches[n][1] else "" for n in mine]
    keys = {n: row["code"] for n, row in zip(mine, made, strict=True)}
    assert [row["branch"] for row in persons] == [keys[int(people[n][1])] for n in theirs]
    # the first file and the second say together what the whole one does
    assert read(move / "out/branches.first.csv") == [{**row, "manager": ""} for row in made]
    assert read(move / "out/branches.second.csv") == [
        {"code": row["code"], "manager": row["manager"]} for row in made if row["manager"]
    ]


def test_what_is_new_of_a_circle_comes_in_the_same_order(tmp_path: Path) -> None:
    """A new branch comes without its manager, who comes behind it, among the changes; each file leads back."""
    move = make(tmp_path / "move")
    write(move, [("a", "0")], [("x", "0")])
    first = program("build", "--json", cwd=move, status=0).json
    (circle,) = [g for one in first["lists"] for g in one["findings"] if g["code"] == "reference.circle"]
    assert circle["example"]["value"] == "branches -> people -> branches"
    assert "branches.first, then people, then branches.second" in circle["example"]["rule"]
    assert [(one["list"], one["keys_given"]) for one in first["lists"]] == [("people", {"people": 1}), ("branches", {"branches": 1})]  # fmt: skip
    hand_over(read_move(move), 1)
    write(move, [("a", "1"), ("b", "1"), ("c", "")], [("x", "0"), ("y", "1")])
    build(read_move(move), [], since=HANDED_OVER)
    out = move / "out"
    assert read(out / "branches.additions.csv") == [
        {"code": "B02", "name": "b", "manager": ""},
        {"code": "B03", "name": "c", "manager": ""},
    ]
    changes = read(out / "branches.changes.csv")
    assert {row["code"]: row["manager"] for row in changes} == {"B01": "P02", "B02": "P02"}
    assert {row["code"]: row["manager"] for row in read(out / "branches.undo-changes.csv")} == {"B01": "P01", "B02": ""}
    # all files of a list are in its order
    edit(move / "plans/branches.toml", "[fields]", '[rows]\nsort = ["Name"]\n[fields]')
    write(move, [("c", ""), ("b", "1"), ("a", "1")], [("x", "0"), ("y", "1")])
    program("build", "--fewer", cwd=move, status=0)
    assert [row["name"] for row in read(out / "branches.csv")] == ["a", "b", "c"]
    assert [row["name"] for row in read(out / "branches.first.csv")] == ["a", "b", "c"]
    # without the circle nothing is left of it
    edit(move / "plans/branches.toml", "manager = '{Other} -> key people'", "# manager comes later")
    program("build", "--fewer", cwd=move, status=0)
    assert not [path.name for path in out.iterdir() if "first" in path.name or "second" in path.name]


def test_a_circle_that_nothing_can_break_is_told(tmp_path: Path) -> None:
    """Both fields are required: what the last build left is all that is known."""
    move = make(tmp_path / "move", manager="required")
    write(move, [("a", "0")], [("x", "0")])
    lists = program("build", "--rehearse", "--json", cwd=move, status=1).json["lists"]
    told = [g["example"] for one in lists for g in one["findings"] if g["code"] == "reference.circle"]
    assert len(told) == 1 and "may be blank at first" in told[0]["rule"]


def test_who_looks_up_a_list_of_a_circle_finds_it_whole(tmp_path: Path) -> None:
    """Calls look up the manager of a branch; they come first by name, and last in the order of need."""
    move = make(tmp_path / "move")
    write(move, [("a", "0"), ("b", "")], [("x", "0")])
    (move / "layouts/a_calls.json").write_text(layout_json([{"name": "no"}, {"name": "who"}], primaryKey="no"))
    (move / "plans/a_calls.toml").write_text(
        'layout = "layouts/a_calls.json"\n[[source]]\nname = "old"\nfile = "incoming/calls.csv"\n[lookup.manager]\nlist = "branches"\n'
        "key = \"code\"\n[fields]\nno = '{No}'\nwho = '{Branch} -> key branches -> lookup manager \"manager\"'\n"
    )
    (move / "incoming/calls.csv").write_text("No,Branch\n1,0\n")
    lists = program("build", "--json", cwd=move, status=0).json["lists"]
    assert [one["list"] for one in lists] == ["people", "branches", "a_calls"]
    assert read(move / "out/a_calls.csv") == [{"no": "1", "who": "P01"}]
