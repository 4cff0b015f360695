"""Doing it again: hand-overs, what is new, changed and gone since, leavers, and what somebody said of rows."""

from __future__ import annotations

import csv
import re
from dataclasses import dataclass, field
from datetime import date
from pathlib import Path

import openpyxl
import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import edit, layout_json, make_move, program, stories
from mudanza.core.plans.move_settings import read_move
from mudanza.core.state.evidence import ledger_of
from mudanza.core.state.key_pages import open_book
from mudanza.core.values.key_rule import CASE, SPACES, ZEROS, KeyRule
from mudanza.core.values.periods import PERIODS, Period
from mudanza.core.values.row_columns import INNER, key_text
from mudanza.core.work.again.against import HANDED_OVER
from mudanza.core.work.again.handing_over import Telling, hand_over, take_back_hand_over
from mudanza.core.work.again.outcomes import ResultsFile
from mudanza.core.work.build import build

HEADING = ["Id", "Name", "Born", "Paid", "Active", "Kind", "State"]
Records = dict[str, tuple[str, ...]]


def source(move: Path, people: dict[str, tuple[str, str]], twice: set[str] | None = None) -> None:
    """People by their ids: a name, and a state; some of them stand there twice."""
    with (move / "incoming/a.csv").open("w", encoding="utf-8", newline="") as file:
        writer = csv.writer(file)
        writer.writerow(HEADING)
        rows = {id_: [id_, name, "", "", "y", "D", state] for id_, (name, state) in people.items()}
        writer.writerows([*rows.values(), *(row for id_, row in rows.items() if id_ in (twice or ()))])


def records(path: Path) -> Records:
    """A file's records by their key, which comes first."""
    with path.open(encoding="utf-8", newline="") as file:
        _, *rows = csv.reader(file, delimiter=";")
    found = {row[0]: tuple(row) for row in rows}
    assert len(found) == len(rows)
    return found


def applied(target: Records, out: Path, undo: str = "", but: frozenset[str] = frozenset()) -> Records:
    """What a target holds that takes in what is new, changed and gone; or, with `undo`, the way back. It rejects some."""
    added, changed, removed = (
        records(out / f"people.{undo}{name}.csv") for name in ("additions", "changes", "removals")
    )
    if undo:
        added, removed = removed, added
    assert not added.keys() & target.keys() and changed.keys() | removed.keys() <= target.keys()
    held = target | {key: row for key, row in (added | changed).items() if key not in but}
    return {key: row for key, row in held.items() if key not in removed.keys() - but}


LONG = "far too long a name"
_LEAVERS = st.fixed_dictionaries(
    {
        "gone": st.sampled_from(["", '"remove"', '{ mark = { name = "gone" } }', '{ leave = "so it is" }']),
        "unselected": st.sampled_from(
            ["", '"remove"', '"last change"', '"last change"', '{ mark = { name = "left" } }']
        ),
        "excluded": st.sampled_from(["", '"remove"', '"last change"']),
    }
)
_person = st.sampled_from(
    [
        None,
        None,
        ("Ana", ""),
        ("Ana", ""),
        ("Rui", ""),
        ("Ana", "x"),
        ("Ana", "x"),
        ("Rui", "x"),
        (LONG, ""),
        (LONG, "x"),
    ]
)
_step = st.tuples(
    st.fixed_dictionaries(dict.fromkeys("1234", _person)),
    st.sampled_from(
        ["sets"] * 4 + ["whole", "anew", "rehearse", "not handed over", "taken back", "rejected", "rejected"]
    ),
    st.sets(st.sampled_from("1234"), min_size=1, max_size=2),
    st.sets(st.sampled_from("1234"), max_size=1),
    st.sets(st.sampled_from("1234"), max_size=1),
)


@dataclass
class Model:
    """A target kept by hand: its records, which of them it was told of for the last time, and the identifiers given out."""

    leavers: dict[str, str]
    target: Records = field(default_factory=dict)
    told: set[str] = field(default_factory=set)
    book: dict[str, str] = field(default_factory=dict)

    def list_of(
        self, people: dict[str, tuple[str, str]], excluded: set[str]
    ) -> tuple[Records, dict[str, tuple[str, str]]]:
        """The list of some people, and the leavers: why, and what becomes of them."""
        full: Records = {}
        why = dict.fromkeys(self.target, "gone")
        last = set()
        for id_, (name, state) in people.items():
            key = self.book.get(id_, "")
            out = ["excluded"] * (id_ in excluded) + ["unselected"] * (state == "x")
            if out and (
                key not in self.target or key in self.told or "last change" not in "".join(map(self.says, out))
            ):
                why[key] = out[0]
                continue
            # the first that lets it go on lets it go on
            if out and "last change" not in self.says(out[0]):
                why[key] = out[0]
                continue
            if name == LONG:
                why[key] = "held back"
                continue
            key = key or f"P{len(self.book) + 1:03d}"
            record = (key, name, "", "", "J", "dog")
            if out:
                why[key] = out[0]
                if record == self.target[key]:
                    continue
                last.add(key)
            self.book[id_] = key
            full[key] = record
        gone = {key: why[key] for key in self.target if key not in full or key in last}
        return full, {key: (sort, self.what(key, sort, last)) for key, sort in gone.items()}

    def says(self, sort: str) -> str:
        return self.leavers.get(sort, "")

    def what(self, key: str, sort: str, last: set[str]) -> str:
        says = self.says(sort)
        if key in self.told:
            return "told before"
        if not says:
            return "the plan does not say what becomes of them"
        if "last change" in says:
            return "last change" if key in last else "nothing: the target has them as they are now"
        return (
            "remove" if "remove" in says else f"mark name = {self.mark(sort)}" if "mark" in says else "leave: so it is"
        )

    def mark(self, sort: str) -> str:
        return "gone" if sort == "gone" else "left"

    def after(self, full: Records, leavers: dict[str, tuple[str, str]]) -> Records:
        """The target once it took in what is new, changed and gone."""
        held = self.target | full
        for key, (sort, what) in leavers.items():
            if what == "remove":
                del held[key]
            elif what.startswith("mark"):
                held[key] = (key, self.mark(sort), *held[key][2:])
        return held


@stories(6)
@given(leavers=_LEAVERS, steps=st.lists(_step, min_size=3, max_size=6))
def test_a_target_that_takes_in_what_is_new_changed_and_gone_holds_what_the_list_says(
    tmp_path_factory: pytest.TempPathFactory, leavers: dict[str, str], steps: list
) -> None:
    """Records come, change, leave, return and are excluded; runs are rehearsed, handed over, rejected in part, taken back. A target kept by hand is the oracle."""
    folder = make_move(tmp_path_factory.mktemp("story") / "move")
    out, exclusions = folder / "out", folder / "exclusions/people.csv"
    exclusions.parent.mkdir()
    with (folder / "plans/people.toml").open("a") as plan:
        plan.write("[leavers]\n" + "".join(f"{sort} = {says}\n" for sort, says in leavers.items() if says))
    model = Model(leavers)
    for everybody, how, chosen, excluded, twice in steps:
        people = {id_: person for id_, person in everybody.items() if person is not None}
        source(folder, people, twice)
        exclusions.write_text("Id,reason\n" + "".join(f"{id_},no\n" for id_ in sorted(excluded)))
        move = read_move(folder)
        was = dict(model.book)
        full, gone = model.list_of(people, excluded)
        expected = model.after(full, gone)
        result = build(move, ["people"], since=HANDED_OVER, rehearse=how == "rehearse", fewer=True)
        one = result.lists[0]
        about = one.to_target
        assert about is not None and one.balance.holds
        assert one.balance.merged == len({model.book.get(id_) for id_ in twice & people.keys()} & full.keys())
        assert one.balance.written == len(full) == about.same + about.added + about.changed + about.last
        assert about.added == len(full.keys() - model.target.keys())
        assert about.same == sum(model.target.get(key) == row for key, row in full.items())
        assert sum(leaver.count for leaver in about.leavers) == about.last + about.marked + about.removed + about.left
        if how == "rehearse":
            model.book = was
            continue
        assert records(out / "people.csv") == full
        assert dict(open_book(ledger_of(move), "people", move.key_pattern("people")).all().iter_rows()) == model.book
        with (out / "people.leavers.csv").open(encoding="utf-8", newline="") as file:
            assert {row["key"]: (row["why"], row["what"]) for row in csv.DictReader(file)} == gone
        after = applied(model.target, out)
        assert after == expected and applied(after, out, "undo-") == model.target
        if how == "not handed over":
            continue
        assert result.run is not None
        telling, but = Telling(), frozenset[str]()
        if how == "rejected":
            but = frozenset({model.book[id_] for id_ in chosen if id_ in model.book} & (full.keys() | gone.keys()))
            lines = [f"{key},{'no' if key in but else 'ok'}" for key in sorted(but)]
            (folder / "log.csv").write_text("\n".join(["Code,Said", *lines]) + "\n")
            telling = Telling(results=ResultsFile(folder / "log.csv", outcome="Said", rejected=["no"]))
            after = applied(model.target, out, but=but)
        elif how in ("whole", "anew"):
            telling = Telling(whole=True, anew=how == "anew")
            after = full if how == "anew" else model.target | full
        hand_over(move, result.run, telling=telling)
        if how == "taken back":
            take_back_hand_over(move, result.run)
            continue
        whole = how in ("whole", "anew")
        now = {
            key for key, (_, what) in gone.items() if what == "last change" or (not whole and what.startswith("mark"))
        }
        back = full.keys() - gone.keys() - but
        model.told = (((set() if how == "anew" else model.told) - back) | (now - but)) & after.keys()
        model.target = after


def built(move: Path, *more: str, status: int = 0) -> dict:
    """The list as a build tells of it."""
    one: dict = program("build", "people", "--json", *more, cwd=move, status=status).json["lists"][0]
    return one


def test_what_the_target_said_of_records_counts(move: Path) -> None:
    """Results of another shape, with the target's own identifiers: what it rejected it does not have."""
    source(move, {"1": ("Ana", ""), "2": ("Rui", ""), "3": ("Eva", "")})
    built(move)
    log = "# import of 2 November\nRef;Internal;Result\nP001;77;created\nP002;;Error: name is not known\nP999;78;created\n"
    (move / "log.csv").write_text(log)
    arguments = ["handed-over", "1", "people", "--results", "log.csv", "--key", "Ref", "--gave", "Internal"]
    wrong = program(*arguments, "--outcome", "Resul", cwd=move, status=3).err
    assert "Did you mean 'Result'?" in wrong
    done = program(
        *arguments, "--outcome", "Result", "--by", "Inês", "--on", "2026-11-02", "--json", cwd=move, status=0
    )
    (one,) = done.json["lists"]
    assert (one["taken"], one["rejected"], one["unmentioned"], one["in_target"]) == (2, 1, 1, 2)
    assert one["examples"] == [{"key": "P002", "outcome": "Error: name is not known"}] and one["unknown"] == ["P999"]
    assert "add --again" in program("handed-over", "1", cwd=move, status=2).err.replace("\n", " ").lower()
    told = built(move, "--since")["in_target"]
    assert (told["same"], told["added"], told["changed"]) == (2, 1, 0)
    assert [*records(move / "out/people.additions.csv")] == ["P002"]
    # what refers to records by the target's own identifiers waits for them
    (move / "layouts/notes.json").write_text(layout_json([{"name": "person"}, {"name": "text"}]))
    plan = 'layout = "layouts/notes.json"\n[[source]]\nname = "n"\nfile = "incoming/a.csv"\n[fields]\nperson = \'{Id} -> key people -> target-id people\'\ntext = \'{Name}\'\n'
    (move / "plans/notes.toml").write_text(plan)
    waiting = program("build", "notes", "--rehearse", "--json", cwd=move, status=1).json["lists"][0]
    assert waiting["written"] == 1
    assert [(g["code"], g["count"], g["example"]["value"]) for g in waiting["findings"] if g["severity"] == "stop"] == [
        ("flow.no-target-id", 2, "P002")
    ]
    (move / "plans/notes.toml").unlink()
    story = program("trace", "P001", "--json", cwd=move, status=0).json["found"][0]["handed_over"]
    assert [(one["became"], one["there"], one["by"], one["moment"]) for one in story] == [
        ("taken", "77", "Inês", "2026-11-02")
    ]
    shown = program("handed-over", cwd=move, status=0).out
    assert "2 taken, 1 rejected" in shown and "run 3 is not handed over" in shown
    # what the target called a record it goes on calling it; the last hand-over is the first to be taken back
    program("handed-over", "3", cwd=move, status=0)
    edit(move / "incoming/a.csv", "Ana", "Ana Sá")
    built(move, "--since")
    program("handed-over", "last", cwd=move, status=0)
    held = program("trace", "P001", "--json", cwd=move, status=0).json["found"][0]["handed_over"]
    assert [one["there"] for one in held] == ["77", "77"]
    assert "Take that back first" in program("handed-over", "1", "--take-back", cwd=move, status=2).err
    # a build that was handed over is not taken back beneath it
    assert "came after" in program("ledger", "1", "--take-back", cwd=move, status=2).err


@pytest.mark.parametrize(
    ("log", "more", "words"),
    [
        ("Code,Said\nP001,maybe\n", ["--outcome", "Said"], "it cannot be told whether these say"),
        ("Code,Said\nP001\n", ["--outcome", "Said"], "the row is damaged"),
        ("Number,Said\nP001,ok\n", ["--outcome", "Said"], "no column 'Code'"),
        ("Code,Said\nP001,ok\n", ["--key", "Code", "--key", "Said", "--outcome", "Said"], "2 columns are named"),
        ("Code,Said\nP001,ok\n", [], "--outcome COLUMN"),
        (
            "Code,Said\nP001,a\nP002,b\nP003,c\n",
            ["--outcome", "Said", "--taken", "a", "--rejected", "b"],
            "was taken: c",
        ),
    ],
)
def test_results_that_cannot_be_read_change_nothing(move: Path, log: str, more: list[str], words: str) -> None:
    source(move, {"1": ("Ana", "")})
    built(move)
    (move / "log.csv").write_text(log)
    ended = program("handed-over", "1", "--results", "log.csv", *more, cwd=move)
    assert ended.status in (2, 3) and words in " ".join(ended.err.split())
    assert program("handed-over", "--json", cwd=move, status=0).json["lists"][0]["records"] == 0


def test_since_a_run_and_only_what_changed(move: Path) -> None:
    """Against a run that nobody handed over; the file of changes has the key and what changed, if the layout says so; a plain build takes these files away."""
    edit(move / "layouts/people.json", '"primaryKey"', '"urn:mudanza:changedFieldsOnly": true, "primaryKey"')
    edit(move / "layouts/people.json", '"name": "kind"', '"urn:mudanza:leftOutOfAdditions": true, "name": "kind"')
    source(move, {"1": ("Ana", ""), "2": ("Rui", ""), "3": ("Eva", "")})
    assert "in_target" not in built(move)
    source(move, {"1": ("Ana", ""), "2": ("Ria", ""), "4": ("Zé", "")})
    told = built(move, "--since", "1")["in_target"]
    assert (told["against"], told["same"], told["added"], told["changed"], told["left"]) == ("run 1", 1, 1, 1, 1)
    assert (move / "out/people.changes.csv").read_text() == "Code;Full name\nP002;Ria\n"
    assert (move / "out/people.undo-changes.csv").read_text() == "Code;Full name\nP002;Rui\n"
    assert (move / "out/people.additions.csv").read_text() == "Code;Full name;Born;Paid;Active\nP004;Zé;;;J\n"
    assert [leaver["examples"] for leaver in told["leavers"]] == [[{"key": "P003", "changed": None}]]
    changed = {"field": "Full name", "count": 1, "examples": [{"key": "P002", "before": "Rui", "after": "Ria"}]}
    assert (told["fields"], told["added_keys"]) == ([changed], ["P004"])
    codes = {
        group["code"]: group["example"]["value"] for group in built(move, "--since", "1", "--rehearse")["findings"]
    }
    assert (codes["leaver.unsaid"], codes["keep.unsteady"]) == ("1 gone", "State")
    assert "there is no run 7" in program("build", "--since", "7", cwd=move, status=2).err
    # what follows is a list, if it is no run
    rehearsed = program("build", "--since", "people", "--rehearse", "--json", cwd=move, status=0).json["lists"][0]
    assert rehearsed["in_target"]["against"].startswith("nothing")
    assert "did you mean 'people'" in program("build", "--since", "peple", cwd=move, status=2).err
    built(move)
    assert not [path.name for path in (move / "out").iterdir() if "changes" in path.name or "leavers" in path.name]


def test_a_record_that_came_back_leaves_anew_and_an_emptied_target_holds_what_was_handed_over(move: Path) -> None:
    """Written for the last time as Rui, it comes back as Rui; what it is then told of is told again."""
    with (move / "plans/people.toml").open("a") as plan:
        plan.write('[leavers]\nunselected = "last change"\n')
    for person, same, what in (
        (("Ana", ""), 0, []),
        (("Rui", "x"), 0, ["last change"]),
        (("Rui", ""), 1, []),
        (("Ana", "x"), 0, ["last change"]),
        (("Ana", ""), 1, []),
    ):
        source(move, {"1": person, "2": ("Eva", "")})
        told = built(move, "--since")["in_target"]
        assert [leaver["what"] for leaver in told["leavers"]] == what
        assert told["same"] == same + (told["added"] == 0)
        program("handed-over", "last", cwd=move, status=0)
    built(move)
    program("handed-over", "last", "--anew", cwd=move, status=0)
    assert built(move, "--since")["in_target"]["same"] == 2


def test_a_record_can_be_chosen_as_long_as_the_target_holds_it(move: Path) -> None:
    edit(move / "plans/people.toml", """'{State} != "x"'""", """'{State} != "x" or {#in_target}'""")
    source(move, {"1": ("Ana", ""), "2": ("Rui", "x")})
    assert built(move)["written"] == 1
    program("handed-over", "1", cwd=move, status=0)
    source(move, {"1": ("Ana Sá", "x"), "2": ("Rui", "x")})
    one = built(move, "--since")
    assert (one["written"], one["in_target"]["changed"], one["in_target"]["leavers"]) == (1, 1, [])
    assert "keep.unsteady" not in {group["code"] for group in one["findings"]}
    assert "Ana Sá" in program("preview", "people", "--key", "P001", cwd=move, status=0).out
    edit(
        move / "plans/people.toml",
        "'{Id} -> mint people'",
        """'{Id} -> mint people when {#in_target}; {Id} otherwise'""",
    )
    assert "the key cannot hang on" in program("build", cwd=move, status=2).err


def test_capitals_make_no_other_record_where_the_target_does_not_tell_them_apart(move: Path) -> None:
    edit(move / "layouts/people.json", '"primaryKey"', '"urn:mudanza:keyIgnoresCase": true, "primaryKey"')
    edit(move / "layouts/people.json", "P[0-9]{3}", "[A-Za-z][0-9]")
    edit(move / "plans/people.toml", "'{Id} -> mint people'", "'{Id}'")
    source(move, {"k1": ("Ana", ""), "k2": ("Rui", "")})
    built(move)
    program("handed-over", "1", cwd=move, status=0)
    source(move, {"K1": ("Ana", ""), "k2": ("Rui", "")})
    told = built(move, "--since")["in_target"]
    assert (told["same"], told["added"], told["changed"], told["leavers"]) == (1, 0, 1, [])
    assert [*records(move / "out/people.undo-changes.csv")] == ["k1"]
    program("handed-over", "3", cwd=move, status=0)
    assert program("handed-over", "--json", cwd=move, status=0).json["lists"][0]["records"] == 2
    assert built(move, "--since")["in_target"]["same"] == 2


def test_rows_go_or_stay_because_somebody_said_so(move: Path) -> None:
    source(move, {"1": ("Ana", ""), "2": ("Rui", "x"), "3": ("Eva", ""), "4": ("Zé", "")})
    built(move)
    program("handed-over", "1", cwd=move, status=0)
    program("preview", "people", "--exclude", "P002", "test, not a person", "--who", "Inês", cwd=move, status=0)
    program("preview", "people", "--include", "2", "asked for", cwd=move, status=0)
    assert (move / "exclusions/people.csv").read_text() == 'Id,reason,who\n3,"test, not a person",Inês\n'
    assert "said before" in program("preview", "people", "--exclude", "3", "again", cwd=move, status=2).err
    (move / "exclusions/people.csv").write_text("key,Name,reason\nP003,,gone\n,Eva,test\n,Nobody,old\n")
    one = built(move)
    assert one["skipped_by"] == {"excluded by hand": 2} and one["written"] == 2
    found = {group["code"]: group["example"] for group in one["findings"]}
    assert (found["by-hand.stale"]["value"], found["by-hand.stale"]["line"]) == ("Name Nobody", 4)
    assert found["row.included"]["value"] == "included by hand: asked for"
    reasons = {(one["why"], one["rule"]) for one in one["in_target"]["leavers"]}
    assert reasons == {("excluded", "excluded by hand: gone"), ("excluded", "excluded by hand: test")}
    assert "excluded by hand: test" in program("trace", "3", cwd=move, status=0).out
    (move / "exclusions/people.csv").write_text("Nmae,reason\nEva,test\n")
    assert "Did you mean 'Name'?" in program("build", cwd=move, status=2).err


@pytest.mark.parametrize(
    ("lines", "words"),
    [
        ('gon = "remove"', "did you mean 'gone'?"),
        ('gone = "last change"', "only a record whose row is still there"),
        ('gone = "drop"', "what becomes of the record"),
        ('gone = { leave = " " }', "needs a reason"),
        ('gone = { mark = { kind = "bird" } }', "the layout does not take 'bird'"),
        ('gone = { mark = { code = "P001" } }', "it cannot be a mark"),
        ('gone = { mark = { nme = "x" } }', "did you mean 'name'?"),
        ("gone = { mark = {} }", "marks nothing"),
    ],
)
def test_what_a_plan_says_of_leavers_is_checked(move: Path, lines: str, words: str) -> None:
    with (move / "plans/people.toml").open("a") as plan:
        plan.write(f"[leavers]\n{lines}\n")
    ended = program("build", "people", "--rehearse", cwd=move, status=2)
    assert words in " ".join(ended.err.split()) and "people.toml" in ended.err


def test_totals_are_compared_with_what_the_old_program_printed(move: Path) -> None:
    with (move / "plans/people.toml").open("a") as plan:
        plan.write(
            '[[totals]]\nfield = "paid"\nread = "1244.5"\nwritten = 1234.5\nrows = 7\n[[totals]]\nsource = "a"\nrows = 8\n'
        )
    one = built(move, status=1)
    differ = [group["example"] for group in one["findings"] if group["code"] == "totals.differ"]
    assert [group["count"] for group in one["findings"] if group["code"] == "totals.differ"] == [1, 1]
    assert {(d["value"], d["rule"]) for d in differ} == {
        ("7 rows read of a", "8 rows"),
        ("2,477 read", "1,244.50, which is 1,232.50 less; 1 row without a number"),
    }
    total = one["totals"][0]
    parts = [total[end]["sum"] for end in ("skipped", "merged", "held_back", "written")]
    assert sum(map(float, parts)) == float(total["read"]["sum"]) == 2477.0
    edit(move / "plans/people.toml", 'read = "1244.5"', 'read = "12,4"')
    assert "is no number" in program("build", cwd=move, status=2).err
    edit(move / "plans/people.toml", 'field = "paid"', 'field = "name"')
    assert "only numbers have sums" in program("build", cwd=move, status=2).err


_CLOSED = "Id,Name,Born,Paid,Active,Kind,State\n1,Ana,,1200.50,y,D,\n2,Rui,,-0.50,y,D,x\n3,Eva,,10,y,D,\n"
_REPORT = """Payments by branch

Id;Name;Born;Paid;Active;Kind;State
Branch: North
1;Ana;;1200.50;y;D;
2;Rui;;-0.50;y;D;
Total North;;;1200.00;;;
Branch: South
3;Eva;;10;y;D;
4;Zé;;5;y;D;
Total South;;;15.00;;;
"""


@pytest.mark.parametrize(
    ("text", "printed"),
    [
        (_CLOSED, None),
        (_CLOSED + "Total,,,1210.00,,,\n", "1210"),
        (_CLOSED + "Total,,,1211.00,,,\nprinted on Monday,,,,,,\n", "1211"),
        (_REPORT, "1215"),
        (_REPORT + "Total;;;1216.00;;;\n", "1216"),
    ],
)
@pytest.mark.parametrize("form", ["csv", "xlsx"])
def test_totals_are_compared_with_what_is_printed_with_the_rows(
    move: Path, text: str, printed: str | None, form: str
) -> None:
    (move / "incoming/a.csv").write_text(text)
    if form == "xlsx":
        book = openpyxl.Workbook()
        for row in csv.reader(text.splitlines(), delimiter=";" if text.startswith(_REPORT) else ","):
            book.active.append([float(cell) if re.fullmatch(r"-?[0-9.]+", cell) else cell or None for cell in row])
        book.save(move / "incoming/a.xlsx")
        edit(move / "plans/people.toml", "incoming/a.csv", "incoming/a.xlsx")
    if text.startswith(_REPORT):
        edit(move / "plans/people.toml", "[rows]", 'format = "report"\n[rows]')
    with (move / "plans/people.toml").open("a") as plan:
        plan.write('[[totals]]\nfield = "paid"\nread = "printed"\n')
    one = program("build", "people", "--json", cwd=move).json["lists"][0]
    read = next(total["read"]["sum"] for total in one["totals"])
    found = {group["code"]: group["example"] for group in one["findings"] if group["code"].startswith("totals.")}
    if printed is None:
        assert [(code, example["value"]) for code, example in found.items()] == [("totals.not-printed", "a")]
    elif float(read) == float(printed):
        assert found == {} and [total["agreed"] for total in one["totals"]] == [
            [{"source": None, "end": "read", "printed": True}]
        ]
    else:
        assert f"{int(printed):,}" in found["totals.differ"]["rule"] and "printed" in found["totals.differ"]["rule"]
    assert float(read) == (1210 if text.startswith(_CLOSED) else 1215)


def test_key_books_know_what_people_enter(move: Path) -> None:
    """Imported, corrected and joined identifiers go before those given out; no number that stands there is given to anybody else; it is logged."""
    source(move, {"1": ("Ana", ""), "2": ("Rui", ""), "3": ("Ana Sá", "")})
    (move / "given.csv").write_text("Old;New\n9;P007\n8;\n1;P020\n")
    arguments = ["keys", "people", "--import", "given.csv", "--old", "Old", "--new", "New"]
    assert program(*arguments, "--json", cwd=move, status=0).json["count"] == 2
    built(move)
    assert [*records(move / "out/people.csv")] == ["P020", "P021", "P022"]
    program("handed-over", "last", cwd=move, status=0)
    said = ["--because", "one person", "--who", "Inês"]
    for wrong, words in (
        (["--correct", "2", "P022"], "it is, or was, that of 3"),
        (["--join", "1", "77"], "does not know '77'"),
        (["--join", "1", "P020"], "1 has P020 already"),
    ):
        assert words in " ".join(program("keys", "people", *wrong, *said, cwd=move, status=2).err.split())
    (move / "given.csv").write_text("Old;New\n2;P050\n")
    assert "1 old identifier would get another new one" in " ".join(program(*arguments, cwd=move, status=2).err.split())
    program("keys", "people", "--correct", "P021", "P040", *said, cwd=move, status=0)
    program("keys", "people", "--correct", "P040", "P031", *said, cwd=move, status=0)
    program("keys", "people", "--join", "1", "P022", *said, cwd=move, status=0)
    (found,) = program("keys", "people", "--find", "3", "--json", cwd=move, status=0).json["found"]
    assert (found["new"], found["entries"][0]["before"], found["entries"][0]["who"]) == ("P020", "P022", "Inês")
    one = built(move, "--since")
    assert (one["merged"], [*records(move / "out/people.csv")]) == (1, ["P020", "P031"])
    leavers = {(leaver["why"], leaver["rule"], leaver["examples"][0]["key"]) for leaver in one["in_target"]["leavers"]}
    assert leavers == {("merged", "one record with P020", "P022"), ("gone", "it is P031 now", "P021")}
    source(move, {"4": ("Eva", "")})
    built(move, "--fewer")
    # nor one that was corrected since
    assert [*records(move / "out/people.csv")] == ["P041"]
    assert "it is, or was, that of 2" in " ".join(
        program("keys", "people", "--correct", "4", "P040", *said, cwd=move, status=2).err.split()
    )
    program("keys", "people", "--correct", "2", "P021", *said, cwd=move, status=0)
    told = program("keys", cwd=move, status=0).out
    assert "2 imported, 3 corrected, 1 joined" in told


def test_numbers_of_a_group_that_were_entered_are_given_to_nobody_else(move: Path) -> None:
    edit(move / "mudanza.toml", '"P{000}"', '"{group}{00}"\ngroups = 1')
    edit(move / "plans/people.toml", "{Id} -> mint", '"P7", {Id} -> mint')
    source(move, {"1": ("Ana", ""), "2": ("Rui", "")})
    (move / "given.csv").write_text("Group,Old,New\nP7,9,P704\n")
    entered = ["--old", "Group", "--old", "Old", "--new", "New"]
    program("keys", "people", "--import", "given.csv", *entered, cwd=move, status=0)
    built(move)
    assert [*records(move / "out/people.csv")] == ["P705", "P706"]


def test_a_reference_tells_what_became_of_the_record_that_it_means(move: Path) -> None:
    """Left out, held back, or in no row at all: each is its own finding, which names the row; also where the reference is no identifier that was given out."""
    source(move, {"1": ("Ana", ""), "2": ("Rui", "x"), "3": ("far too long a name", ""), "4": ("Eva", "")})
    (move / "exclusions").mkdir()
    (move / "exclusions/people.csv").write_text("Id,reason\n4,a test\n")
    columns = [{"name": "no"}, {"name": "person", "required": True}]
    reference = {"columnReference": "person", "reference": {"resource": "people.csv", "columnReference": "code"}}
    (move / "layouts/visits.json").write_text(layout_json(columns, primaryKey="no", foreignKeys=[reference]))
    plan = 'layout = "layouts/visits.json"\n[[source]]\nname = "v"\nfile = "incoming/v.csv"\n[fields]\nno = \'{No}\'\nperson = \'{Who} -> key people\'\n'
    (move / "plans/visits.toml").write_text(plan)
    (move / "incoming/v.csv").write_text("No,Who\n1,1\n2,2\n3,3\n4,4\n5,9\n")

    def told() -> tuple[dict, list]:
        told = program("build", "--rehearse", "--json", cwd=move, status=1).json
        people, visits = told["lists"]
        cost = {(one["list"], one["because_of"], one["held_back"]): one["rows"] for one in told["cascades"]}
        assert cost == {("visits", "people", True): 1, ("visits", "people", False): 2}
        assert (people["written"], visits["written"]) == (1, 1)
        return {g["example"]["value"]: (g["code"], g["example"]["rule"]) for g in visits["findings"]}, visits[
            "findings"
        ]

    expected = {
        "2": ("reference.skipped", "written; incoming/a.csv line 3 is unselected: keep"),
        "3": (
            "reference.held-back",
            'written; incoming/a.csv line 4 is held back: Full name "far too long a name" [value.too-long: at most 12 characters]',
        ),
    }
    found, groups = told()
    assert expected.items() <= found.items() and found["9"][0] == "flow.no-key"
    assert {group["code"]: group["count"] for group in groups} == {
        "reference.skipped": 2,
        "reference.held-back": 1,
        "flow.no-key": 1,
    }
    # the key as it stands in both
    edit(move / "plans/people.toml", "'{Id} -> mint people'", "'P00{Id}'".replace("'P", "'\"P").replace("}'", "}\"'"))
    edit(move / "plans/visits.toml", "'{Who} -> key people'", "'\"P00{Who}\"'")
    found, groups = told()
    assert {"P00" + key: rule for key, rule in expected.items()}.items() <= found.items()
    assert found["P009"] == ("reference.missing", "among code of people.csv")


def test_numbers_and_periods_follow_the_last_build(move: Path) -> None:
    """A number goes up with each build and not with a rehearsal; a period is proposed; with the values of a run come its bytes."""
    with (move / "mudanza.toml").open("a") as settings:
        settings.write(
            '[parameters.batch]\nfollows = "number"\ndefault = 7\n[parameters.month]\nfollows = "month"\ndefault = "2026-11"\n'
        )
    source(move, {"1": ("Ana", "")})
    edit(move / "plans/people.toml", "'{Name} -> squeeze'", '\'"{Name} ", (:batch -> write "0") -> join ""\'')
    first = program("build", "--json", cwd=move, status=0).json
    assert first["values"] == {"batch": "7"}
    before = (move / "out/people.csv").read_bytes()
    assert b"Ana 7" in before
    assert program("build", "--rehearse", "--json", cwd=move, status=0).json["values"] == {"batch": "8"}
    assert program("build", "--json", cwd=move, status=0).json["values"] == {"batch": "8"}
    program("build", "--set", "batch=7", cwd=move, status=0)
    assert (move / "out/people.csv").read_bytes() == before
    # that one was made again makes no later number free, a build that is taken back does
    assert program("build", "--rehearse", "--json", cwd=move, status=0).json["values"] == {"batch": "9"}
    program("ledger", "3", "--take-back", cwd=move, status=0)
    program("ledger", "2", "--take-back", cwd=move, status=0)
    assert program("build", "--json", cwd=move, status=0).json["values"] == {"batch": "8"}
    assert "Write a whole number." in program("build", "--set", "batch=7.5", cwd=move, status=2).err
    edit(move / "plans/people.toml", "'{Born} -> date \"yyyy-MM-dd\"'", "':to'")
    edit(move / "plans/people.toml", "'{State} != \"x\"'", "':from <= :to'")
    assert "The first is 2026-11: --set month=2026-11." in program("build", cwd=move, status=2).err
    told = program("build", "--set", "month=2026-12", "--json", cwd=move, status=0).json["values"]
    assert told == {"batch": "9", "month": "2026-12"} and b"31/12/2026" in (move / "out/people.csv").read_bytes()
    assert "which run 7 built, is 2027-01" in " ".join(program("build", cwd=move, status=2).err.split())
    assert "2026-12" in program("ledger", "7", cwd=move, status=0).out
    assert "Write it as 2026-11." in program("build", "--set", "month=12/2026", cwd=move, status=2).err
    edit(move / "mudanza.toml", 'follows = "month"', 'follows = "moon"')
    assert "nothing that follows" in program("build", cwd=move, status=2).err


@pytest.mark.parametrize("length", list(PERIODS))
@given(day=st.dates(date(1900, 1, 1), date(2200, 1, 1)))
def test_periods_follow_each_other_without_a_gap(length: str, day: date) -> None:
    written = {
        "day": f"{day:%Y-%m-%d}", "week": "{}-W{:02d}".format(*day.isocalendar()), "month": f"{day:%Y-%m}",
        "quarter": f"{day.year}-Q{(day.month + 2) // 3}", "year": f"{day.year}",
    }  # fmt: skip
    period = Period.of(length, written[length])
    assert period.first <= day <= period.last and str(period) == written[length]
    assert (period.next.first - period.last).days == 1 and Period.of(length, str(period.next)) == period.next


@given(
    st.lists(st.lists(st.text(" 0aA1", max_size=4), min_size=2, max_size=2), max_size=6),
    st.frozensets(st.sampled_from([CASE, SPACES, ZEROS])),
    st.sampled_from([None, 2]),
)
def test_keys_are_compared_as_the_target_compares_them(
    rows: list[list[str]], ignores: frozenset[str], length: int | None
) -> None:
    def compared(text: str) -> str:
        text = text.replace(" ", "") if SPACES in ignores else text
        if ZEROS in ignores and re.match("0+[0-9]", text):
            text = re.sub("^0+(?=[0-9])", "", text)
        text = text[:length]
        return text.lower() if CASE in ignores else text

    rule = KeyRule(ignores, length)
    frame = pl.DataFrame(rows, schema={"a": pl.String, "b": pl.String}, orient="row")
    whole = frame.select(rule.whole(key_text([pl.col("a"), pl.col("b")]))).to_series().to_list()
    assert whole == frame.select(key_text([rule.part(pl.col("a")), rule.part(pl.col("b"))])).to_series().to_list()
    assert whole == [f"{compared(a)}{INNER}{compared(b)}" for a, b in rows]


def test_a_key_is_proved_to_be_one_as_the_target_compares_it(move: Path) -> None:
    edit(
        move / "layouts/people.json",
        '"primaryKey"',
        '"urn:mudanza:keyIgnores": ["leading zeros"], "urn:mudanza:keyLength": 3, "primaryKey"',
    )
    edit(move / "layouts/people.json", "P[0-9]{3}", "[0-9]+")
    edit(move / "layouts/people.json", '"name": "name"', '"urn:mudanza:forbidden": "?|", "name": "name"')
    edit(move / "plans/people.toml", "'{Id} -> mint people'", "'{Id}'")
    source(move, {"8": ("Ada?", ""), "9": ("Bo|", "")})
    assert {group["code"]: group["count"] for group in built(move, status=1)["findings"]} == {"value.forbidden": 2}
    source(move, {"7": ("Ana", ""), "007": ("Rui", ""), "1234": ("Eva", ""), "1239": ("Ivo", ""), "70": ("Zé", "")})
    one = built(move, status=1)
    assert (one["held_back"], [*records(move / "out/people.csv")]) == (2, ["7", "1234", "70"])
    for wrong, words in (
        ('["zeros"]', "nothing that a key can ignore"),
        ('["case"], "urn:mudanza:keyLength": 0', "tells nothing apart"),
    ):
        edit(move / "layouts/people.json", '["leading zeros"], "urn:mudanza:keyLength": 3', wrong)
        assert words in program("build", cwd=move, status=2).err
        edit(move / "layouts/people.json", wrong, '["leading zeros"], "urn:mudanza:keyLength": 3')


def test_keys_of_several_fields_go_the_whole_way(move: Path) -> None:
    """In whatever order the layout names them: added, changed, removed, excluded, rejected."""
    edit(move / "layouts/people.json", '"primaryKey": "code"', '"primaryKey": ["kind", "code"]')
    with (move / "plans/people.toml").open("a") as plan:
        plan.write('[leavers]\ngone = "remove"\n')
    source(move, {"1": ("Ana", ""), "2": ("Rui", ""), "3": ("Eva", ""), "4": ("Zé", "")})
    built(move)
    (move / "log.csv").write_text("Code,Kind,Said\nP004,dog,error\n,dog,ok\nP009,dog,ok\n")
    log = ["--results", "log.csv", "--key", "Code", "--key", "Kind", "--outcome", "Said"]
    (one,) = program("handed-over", "1", *log, "--json", cwd=move, status=0).json["lists"]
    assert (one["taken"], one["rejected"], one["nameless"], one["unknown"]) == (3, 1, 1, ["P009, dog"])
    (move / "exclusions").mkdir()
    (move / "exclusions/people.csv").write_text('key,reason\n"P003, dog",a test\n')
    source(move, {"1": ("Ana", ""), "2": ("Ria", ""), "3": ("Eva", ""), "4": ("Zé", "")})
    told = built(move, "--since")["in_target"]
    assert (told["same"], told["added"], told["changed"], [leaver["why"] for leaver in told["leavers"]]) == (
        1,
        1,
        1,
        ["excluded"],
    )
    source(move, {"1": ("Ana", ""), "3": ("Eva", ""), "4": ("Zé", "")})
    built(move, "--since")
    assert (move / "out/people.removals.csv").read_text() == "Code;Kind\nP002;dog\n"
    assert (move / "out/people.undo-removals.csv").read_text().splitlines()[1:] == ["P002;Rui;;;J;dog"]
    assert (move / "out/people.undo-additions.csv").read_text() == "Code;Kind\nP004;dog\n"


def test_a_list_without_a_key_stays_out_of_a_hand_over(move: Path) -> None:
    (move / "layouts/notes.json").write_text(layout_json([{"name": "text"}]))
    plan = (
        'layout = "layouts/notes.json"\n[[source]]\nname = "n"\nfile = "incoming/a.csv"\n[fields]\ntext = \'{Name}\'\n'
    )
    (move / "plans/notes.toml").write_text(plan)
    source(move, {"1": ("Ana", "")})
    program("build", cwd=move)
    assert "have no key" in program("handed-over", "1", "notes", cwd=move, status=2).err
    done = program("handed-over", "1", "--json", cwd=move, status=0).json
    assert ([one["list"] for one in done["lists"]], done["without_key"]) == (["people"], ["notes"])
    one = program("build", "notes", "--since", "--json", cwd=move, status=0).json["lists"][0]
    assert "since.no-key" in {group["code"] for group in one["findings"]} and "in_target" not in one
    # what could not be done is no run
    assert [run["id"] for run in program("ledger", "--json", cwd=move, status=0).json["runs"]] == [3, 2, 1]


def test_an_identifier_that_the_target_gave_says_that_it_took_the_record(move: Path) -> None:
    source(move, {"1": ("Ana", ""), "2": ("Rui", "")})
    built(move)
    (move / "log.csv").write_text("Code,Id\nP001,\nP001,71\nP002,\n")
    (one,) = program("handed-over", "1", "--results", "log.csv", "--gave", "Id", "--json", cwd=move, status=0).json[
        "lists"
    ]
    assert (one["taken"], one["rejected"], one["examples"]) == (1, 1, [{"key": "P002", "outcome": None}])


def test_what_the_target_holds_can_be_asked_for_wherever_rows_are_looked_at(move: Path) -> None:
    def shown() -> list[str]:
        found = program(
            "preview", "people", "--where", "not {#in_target}", "-n", "9", "--json", cwd=move, status=0
        ).json
        return [next(field["after"] for field in row["fields"] if field["name"] == "name") for row in found["rows"]]

    source(move, {"1": ("Ana", ""), "2": ("Rui", "")})
    assert shown() == ["Ana", "Rui"]
    built(move)
    program("handed-over", "last", cwd=move, status=0)
    source(move, {"1": ("Ana", ""), "2": ("Rui", ""), "3": ("Eva", "")})
    assert shown() == ["Eva"]
    edit(move / "plans/people.toml", """'{State} != "x"'""", "'not {#in_target}'")
    (codes,) = program("crosswalk", "people", "--json", cwd=move, status=0).json["crosswalks"]
    assert [(code["code"], code["rows"]) for code in codes["codes"]] == [(["D"], 1)]


def test_a_row_that_is_excluded_is_written_once_more_whatever_keep_says(move: Path) -> None:
    with (move / "plans/people.toml").open("a") as plan:
        plan.write('[leavers]\nexcluded = "last change"\nunselected = "last change"\n')
    source(move, {"1": ("Ana", ""), "2": ("Rui", "")})
    built(move)
    program("handed-over", "last", cwd=move, status=0)
    source(move, {"1": ("Ana Sá", ""), "2": ("Rui Sá", "x")})
    (move / "exclusions").mkdir()
    (move / "exclusions/people.csv").write_text("Id,reason\n1,asked for\n")
    one = built(move, "--since")
    assert (one["written"], one["in_target"]["last"], one["skipped_by"]) == (2, 2, {})
    (move / "inclusions").mkdir()
    (move / "inclusions/people.csv").write_text("Id,reason\n1,no\n")
    assert "is meant twice: also in exclusions/people.csv line 2" in program("build", cwd=move, status=2).err.replace(
        "\n ", ""
    )


def test_a_reference_to_a_joined_record_joins_no_others(move: Path) -> None:
    """Of rows with one key those are merged that somebody joined, and not those that speak of somebody who was."""
    edit(move / "plans/people.toml", "'{Id} -> mint people'", "'{Id}'")
    edit(move / "plans/people.toml", "'{Name} -> squeeze'", "'{Name} -> mint people'")
    edit(move / "layouts/people.json", "P[0-9]{3}", "[0-9]+")
    source(move, {"1": ("Ana", ""), "2": ("Rui", "")})
    built(move)
    program("keys", "people", "--join", "Ana", "Rui", "--because", "one", cwd=move, status=0)
    with (move / "incoming/a.csv").open("a") as file:
        file.write("1,Rui,,,n,D,\n")
    one = built(move, status=1)
    assert (one["written"], one["merged"], one["held_back"]) == (2, 0, 1)


def test_what_came_of_a_loan_is_handed_over(move: Path) -> None:
    """Of the fields that its files do not have, the target holds what it held: here another name than the one that was lent."""
    source(move, {"1": ("Ana", ""), "2": ("Rui", ""), "3": ("Eva", "")})
    built(move)
    program("handed-over", "1", cwd=move, status=0)
    program("lend", "people", cwd=move, status=0)
    source(move, {"1": ("Ana Sá", ""), "2": ("Rui", ""), "3": ("Eva", "")})
    built(move, "--since")
    program("handed-over", "last", cwd=move, status=0)
    book = openpyxl.load_workbook(next((move / "loans").glob("*.xlsx")))
    sheet = book.worksheets[0]
    head = [cell.value for cell in sheet[1]]
    sheet.cell(2, head.index("Kind") + 1).value = "cat"
    sheet.cell(3, head.index("Remove?") + 1).value = "remove"
    sheet.cell(5, head.index("Code") + 1).value = "P900"
    sheet.cell(5, head.index("Full name") + 1).value = "Zé"
    sheet.cell(5, head.index("Active") + 1).value = "J"
    book.save(move / "back.xlsx")
    assert program("receive", "back.xlsx", "--accept", cwd=move).status == 0
    waiting = program("handed-over", "--json", cwd=move, status=0).json["lists"][0]["of_loans"]
    assert len(waiting) == 1
    run = str(waiting[0])
    assert "no whole list" in program("handed-over", run, "--whole", cwd=move, status=2).err
    (one,) = program("handed-over", run, "--json", cwd=move, status=0).json["lists"]
    assert (one["taken"], one["removed"], one["in_target"]) == (3, 1, 3)
    told = built(move, "--since")["in_target"]
    assert (told["same"], told["added"], told["changed"], told["leavers"][0]["count"]) == (1, 1, 1, 1)
    assert records(move / "out/people.undo-changes.csv")["P001"] == ("P001", "Ana Sá", "", "", "J", "cat")
    program("handed-over", run, "--take-back", cwd=move, status=0)
    assert built(move, "--since")["in_target"]["same"] == 3
    # a run that only lent makes nothing to import
    assert "no build" in program("handed-over", "2", cwd=move, status=2).err


def test_what_is_said_of_a_record_of_two_sources_says_of_which(move: Path) -> None:
    """Rows that are told by the same texts are one line."""
    source(move, {"1": ("Ana", ""), "2": ("Rui", "")})
    (move / "incoming/b.csv").write_text((move / "incoming/a.csv").read_text() + "2,Rui,,,y,D,\n")
    edit(move / "plans/people.toml", "[rows]", '[[source]]\nname = "b"\nfile = "incoming/b.csv"\n[rows]')
    wrong = program("preview", "people", "--exclude", "2", "no", cwd=move, status=2).err
    assert "a key of a and of b" in wrong and "--source a" in wrong
    program("preview", "people", "--exclude", "2", "no", "--source", "b", cwd=move, status=0)
    assert (move / "exclusions/people.csv").read_text("utf-8-sig").splitlines()[1:] == ["b,2,no,"]
    assert built(move)["skipped_by"] == {"excluded by hand": 2}
