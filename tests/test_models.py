"""The engine against plain Python models of what it should do, on whatever comes."""

from __future__ import annotations

import csv
import datetime
import io
import itertools
import pickle
import re
import subprocess
import sys
from decimal import Decimal
from pathlib import Path

import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import PEOPLE, ROWS, edit, layout_json, make_move, program, stories
from mudanza.core.engine.early import run_early
from mudanza.core.engine.late import run_late
from mudanza.core.engine.repeats import SeenKeys
from mudanza.core.layouts.csvw import read_layout
from mudanza.core.layouts.layout import Dialect
from mudanza.core.plans.move_settings import read_move
from mudanza.core.sinks.csv_text import RowWriter
from mudanza.core.sources import delimited
from mudanza.core.state.key_pages import open_book, save_book
from mudanza.core.state.ledger import Ledger
from mudanza.core.state.running import running
from mudanza.core.tables.key_book import KEYS
from mudanza.core.tables.key_pattern import KeyPattern
from mudanza.core.work.build import build
from mudanza.core.work.check import check
from mudanza.core.work.prepared import prepare

_QUICK = stories(20)

_ids = st.sampled_from(["1", "2", "3", " 4 ", "", "a,b", "K", "k"])
_names = st.sampled_from(["Ana", "  Rui   Sá ", "", "   ", "a name too long", 'x"y', "Zé\nLima", "é" * 12])
_born = st.sampled_from(["1980-01-31", "1980-1-3", "", "31/01/1980", "2023-02-29", " 2024-02-29 "])
_paid = st.sampled_from(["1234.5", "0", "-3.25", "1.005", "1e3", "", "abc", "  7 ", "00012", "+2"])
_yes = st.sampled_from(["y", "N", "", "perhaps", "TRUE", " x "])
_kinds = st.sampled_from(["D", "C", " D ", "Q", "", "d"])
_states = st.sampled_from(["", "x", "y", "X"])
_rows = st.lists(st.tuples(_ids, _names, _born, _paid, _yes, _kinds, _states), max_size=30)


def model_row(row: tuple[str, ...]) -> tuple[str, list[str | None] | None]:
    """What the small plan makes of one row: its end, and the texts but for the identifier."""
    id_, name, born, paid, yes, kind, state = row
    if not any(row):
        return "skipped", None
    if state == "x":
        return "skipped", None
    out: list[str | None] = [id_]
    if not id_.strip():
        return "held", None
    name = re.sub(r"\s+", " ", name).strip()
    if not name or len(name) > 12:
        return "held", None
    out.append(name)
    born = born.strip()
    if born:
        match = re.fullmatch(r"(\d{4})-(\d{1,2})-(\d{1,2})", born)
        try:
            day = datetime.date(*map(int, match.groups())) if match else None
        except ValueError:
            day = None
        if day is None:
            return "held", None
        out.append(f"{day:%d/%m/%Y}")
    else:
        out.append(None)
    paid = paid.strip()
    if paid:
        if not re.fullmatch(r"[+-]?\d+(\.\d{1,12})?", paid):
            return "held", None
        amount = Decimal(paid)
        if amount != amount.quantize(Decimal("0.01")):
            return "held", None
        out.append(f"{amount:.2f}".replace(".", ","))
    else:
        out.append(None)
    word = yes.strip().lower()
    if word and word not in ("y", "n", "true", "x"):
        return "held", None
    out.append({"": None, "n": "N"}.get(word, "J"))
    code = kind.strip()
    if code and code not in ("D", "C"):
        return "held", None
    out.append({"D": "dog", "C": "cat"}.get(code))
    return "made", out


@_QUICK
@given(rows=_rows, block=st.sampled_from([256, 8 << 20]))
def test_a_build_does_what_a_plain_loop_would(
    tmp_path_factory: pytest.TempPathFactory, rows: list[tuple], block: int
) -> None:
    move = make_move(tmp_path_factory.mktemp("model") / "move")
    with (move / "incoming/a.csv").open("w", encoding="utf-8", newline="") as file:
        writer = csv.writer(file)
        writer.writerow(["Id", "Name", "Born", "Paid", "Active", "Kind", "State"])
        writer.writerows(rows)
    with (move / "plans/people.toml").open("a") as plan:
        plan.write('[[totals]]\nfield = "paid"\n')
    codes: dict[str, str] = {}
    records: dict[str, list[str | None]] = {}
    sums = dict.fromkeys(("read", "skipped", "held", "merged", "made"), Decimal(0))
    ends = {"skipped": 0, "held": 0, "merged": 0}
    expected = []
    for row in rows:
        end, made = model_row(row)
        if made is not None:
            if made[0] in codes:
                end = "merged" if records[str(made[0])] == made[1:] else "held"
            else:
                code = codes[str(made[0])] = f"P{len(codes) + 1:03d}"
                records[str(made[0])] = made[1:]
                expected.append([code, *(text or "" for text in made[1:])])
        if end in ends:
            ends[end] += 1
        number = Decimal(row[3].strip()) if re.fullmatch(r"[+-]?\d+(\.\d{1,12})?", row[3].strip()) else 0
        for counted in ("read", end):
            sums[counted] += number
    whole = delimited.BLOCK
    try:
        # small blocks make several batches, so that what is remembered across them is asked too
        delimited.BLOCK = block
        one = build(read_move(move), ["people"]).lists[0]
    finally:
        delimited.BLOCK = whole
    with (move / "out/people.csv").open(encoding="utf-8", newline="") as file:
        assert list(csv.reader(file, delimiter=";"))[1:] == expected
    balance, total = one.balance, one.totals[0].total if rows else {}
    names = {"held_back": "held", "written": "made"}
    assert {end: amount.sum for end, amount in total.items()} == ({end: sums[names.get(end, end)] for end in total})
    assert (balance.skipped_total, balance.held_back, balance.merged) == (ends["skipped"], ends["held"], ends["merged"])


def model_findings(cells: list[str], line: int, seen: dict[str, int]) -> set[tuple[str, int, str]]:
    """What the small layout finds on one row."""
    code, name, born, paid, active, kind = cells
    found = set()

    def wrong(what: str, column: str) -> None:
        found.add((what, line, column))

    if not code.strip():
        wrong("value.required", "Code")
    elif not re.fullmatch("P[0-9]{3}", code):
        wrong("value.pattern", "Code")
    if not name.strip():
        wrong("value.required", "Full name")
    elif len(name) > 12:
        wrong("value.too-long", "Full name")
    if born.strip():
        try:
            assert re.fullmatch(r"\d\d/\d\d/\d{4}", born.strip())
            datetime.datetime.strptime(born.strip(), "%d/%m/%Y")
        except (ValueError, AssertionError):
            wrong("value.kind", "Born")
    if paid.strip() and not re.fullmatch(r"[+-]?\d+,\d\d", paid.strip()):
        wrong("value.kind", "Paid")
    if active.strip() and active.strip() not in ("J", "N"):
        wrong("value.kind", "Active")
    if kind.strip() and kind not in ("cat", "dog"):
        wrong("value.not-permitted", "Kind")
    if code.strip():
        if code in seen:
            wrong("key.repeated", "Code")
        seen.setdefault(code, line)
    return found


@_QUICK
@given(
    rows=st.lists(
        st.tuples(
            st.sampled_from(["P001", "P002", "P003", "p001", "", " ", "P01"]),
            st.sampled_from(["Ana", "", " ", "é" * 12, "é" * 13, "a\nb"]),
            st.sampled_from(["31/01/1980", "31/02/1980", "1/1/1980", "", " 01/01/2000"]),
            st.sampled_from(["1,50", "1,5", "1.50", "", "-0,00", "1234,56"]),
            st.sampled_from(["J", "N", "j", "", "J "]),
            st.sampled_from(["cat", "dog", "Dog", "", " "]),
        ),
        max_size=30,
    )
)
def test_a_check_finds_what_a_plain_loop_would(tmp_path: Path, rows: list[tuple[str, ...]]) -> None:
    (tmp_path / "l.json").write_text(PEOPLE)
    buffer = io.StringIO()
    writer = csv.writer(buffer, delimiter=";", lineterminator="\n")
    writer.writerow(["Code", "Full name", "Born", "Paid", "Active", "Kind"])
    seen: dict[str, int] = {}
    expected: set[tuple[str, int, str]] = set()
    for row in rows:
        expected |= model_findings(list(row), buffer.getvalue().count("\n") + 1, seen)
        writer.writerow(row)
    (tmp_path / "f.csv").write_text(buffer.getvalue(), encoding="utf-8", newline="")
    result = check(tmp_path / "f.csv", read_layout(tmp_path / "l.json"))
    found = list(result.findings.select("code", "line", "field").iter_rows())
    assert set(found) == expected and len(found) == len(expected)
    assert result.rows == len(rows)


@_QUICK
@given(st.lists(st.lists(st.integers(0, 30), max_size=20), max_size=8))
def test_seen_keys_are_a_dictionary(batches: list[list[int]]) -> None:
    seen, known, where = SeenKeys(), {}, 0
    for batch in batches:
        rows = pl.DataFrame({"key": [str(k) for k in batch], "rest": [str(k % 3) for k in range(len(batch))]})
        hashed = SeenKeys.prepare(rows, [pl.col("key")], [pl.col("key"), pl.col("rest")])
        hashed = hashed.with_columns(pl.Series("where", range(where, where + len(batch)), dtype=pl.Int64))
        first = seen.first_seen(hashed)
        expected: list[tuple[int | None, bool]] = []
        for key, rest, place in zip(rows["key"], rows["rest"], hashed["where"], strict=True):
            if key in known:
                expected.append((known[key][0], known[key][1] == rest))
            else:
                known[key] = (place, rest)
                expected.append((None, True))
        if first is None:
            assert all(place is None for place, _ in expected)
        else:
            got = list(zip(first["first"], first["same"], strict=True))
            assert [(p, s) for p, s in got if p is not None] == [(p, s) for p, s in expected if p is not None]
            assert [p for p, _ in got] == [p for p, _ in expected]
            hashed = hashed.filter(first["first"].is_null())
        seen.add(hashed)
        where += len(batch)


@_QUICK
@given(
    st.lists(st.lists(st.lists(st.sampled_from("abcdefghij"), max_size=8), max_size=4), max_size=4), st.integers(0, 5)
)
def test_a_key_book_is_a_dictionary_that_lasts(
    tmp_path_factory: pytest.TempPathFactory, runs: list[list[list[str]]], start: int
) -> None:
    ledger = Ledger(tmp_path_factory.mktemp("keys") / ".mudanza/ledger.sqlite")
    pattern = KeyPattern.of("K{00}", start)
    known: dict[str, str] = {}
    for batches in runs:
        with running(ledger, "test", "keys") as run:
            book = open_book(ledger, "b", pattern)
            assert list(book.all().iter_rows()) == list(known.items())
            for batch in batches:
                found = book.find(pl.Series("identity", batch, dtype=pl.String))
                assert dict(found.iter_rows()) == {k: known[k] for k in batch if k in known}
                fresh = {
                    k: f"K{start + len(known) + i:02d}"
                    for i, k in enumerate(dict.fromkeys(k for k in batch if k not in known))
                }
                book.give(pl.DataFrame({"identity": list(fresh), "key": list(fresh.values())}, schema=KEYS))
                known |= fresh
            assert book.next == start + len(known)
            save_book(ledger, run.id, book)
            run.commit()
    assert ledger.books().get("b", 0) == len(known)
    assert list(open_book(ledger, "b", pattern).all().iter_rows()) == list(known.items())


NUMBERED = """layout = "layouts/n.json"
[[source]]
name = "s"
file = "n.csv"
[fields]
one = '{A} -> mint k'
two = '{B} -> mint k'
id = '{Id}'
"""
_identities = st.sampled_from(["", "a", "b", "c", "d", "e", "f", "g"])


def numbered_by_hand(rows: list[tuple[str, str, str]], grouped: bool, bad: str) -> list[tuple[str, str, str]]:
    """One row after the other: a number is taken by a row that is written, and by no other."""
    given: dict[str, str] = {}
    counts: dict[str, int] = {}
    keys: set[str] = set()
    written = []
    for a, b, id_ in rows:
        mine, own = {}, dict(counts)
        for identity in filter(None, (a, b)):
            if identity not in given and identity not in mine:
                group = ("x" if identity < "d" else "y") if grouped else ""
                own[group] = own.get(group, 0) + 1
                mine[identity] = f"{group}{own[group]:02d}"
        one, two = ((given | mine).get(identity, "") for identity in (a, b))
        if any(key and key[-1] in bad for key in (one, two)) or id_ in keys:
            continue
        keys.add(id_)
        given, counts = given | mine, own
        written.append((one, two, id_))
    return written


@stories(40)
@given(
    rows=st.lists(st.tuples(_identities, _identities, st.integers(0, 9).map(str)), min_size=1, max_size=14),
    cuts=st.sets(st.integers(1, 13)),
    grouped=st.booleans(),
    bad=st.sampled_from(["", "3", "25", "1", "468"]),
)
def test_numbers_are_those_of_going_row_by_row(
    move: Path, rows: list[tuple[str, str, str]], cuts: set[int], grouped: bool, bad: str
) -> None:
    """Whatever batches the rows come in: two fields of one key book, rows that fail by their very number, repeated keys, groups."""
    good = "".join(sorted(set("0123456789") - set(bad)))
    columns = [{"name": n, "datatype": {"base": "string", "format": f"[xy0-9]*[{good}]"}} for n in ("one", "two")]
    (move / "layouts/n.json").write_text(layout_json([*columns, {"name": "id"}], primaryKey="id"))
    pattern = 'pattern = "{group}{00}"\ngroups = 1' if grouped else 'pattern = "{00}"'
    (move / "mudanza.toml").write_text(f"[keys.k]\n{pattern}\n")
    plan = NUMBERED.replace("{A}", "{GA}, {A}").replace("{B}", "{GB}, {B}") if grouped else NUMBERED
    (move / "plans/n.toml").write_text(plan)
    lines = [f"{a},{'xy'[a > 'c']},{b},{'xy'[b > 'c']},{i}" for a, b, i in rows]
    (move / "n.csv").write_text("\n".join(["A,GA,B,GB,Id", *lines]) + "\n")
    ready = prepare(read_move(move), "n")
    memory = ready.memory()
    ((opened, batch),) = ready.intake.batches()
    every = opened.rows(batch, ready.intake.columns)
    written = []
    edges = sorted({0, len(rows), *(c for c in cuts if c < len(rows))})
    for start, end in itertools.pairwise(edges):
        early = run_early(ready.recipe, every.slice(start, end - start), ready.intake.columns)
        written += run_late(ready.recipe, early, memory, ["n.csv"]).written.fill_null("").rows()
    assert written == numbered_by_hand(rows, grouped, bad)


OWN_STEP = '''
import polars as pl
from mudanza.steps import TEXT, own_step
@own_step("loud", TEXT, TEXT, [("{A} -> loud", ("a",), "A")])
def loud(text: pl.Expr) -> pl.Expr:
    """Makes all letters capitals."""
    return text.str.to_uppercase()
'''
#: everything that a recipe may hold, in one plan
ALL_KINDS = '''layout = "layouts/people.json"
[[source]]
name = "a"
file = "incoming/a.csv"
[lookup.kinds]
file = "crosswalks/kinds.csv"
key = "from"
[lookup.last]
list = "people"
key = "code"
[rows]
keep = '{State} != "x" or {#in_target}'
sort = ["@name"]
[[totals]]
field = "paid"
[fields]
code = '{Id} -> mint people'
name = '{Name} -> squeeze -> loud'
born = '{Born} -> date "yyyy-MM-dd"'
paid = '{Paid} -> number'
active = '{Active} -> yesno'
kind = """
{Id} -> key people -> lookup last "kind" none="blank" when {Name} = "Ana";
{Kind} -> lookup kinds "to" none="blank" otherwise
"""
'''
KINDS = """layout = "layouts/kinds.json"
[[source]]
name = "k"
file = "crosswalks/kinds.csv"
[fields]
name = "{to}"
"""
ELSEWHERE = """import pickle, sys
from mudanza.core.engine.early import run_early
from mudanza.core.engine.late import run_late
recipe, rows, columns, memory = pickle.load(sys.stdin.buffer)
ends = run_late(recipe, run_early(recipe, rows, columns), memory, ["a.csv"])
sys.stdout.buffer.write(pickle.dumps(ends))
"""


def test_a_recipe_can_be_sent_elsewhere(move: Path) -> None:
    """It is data, whatever it holds: pickled, and run in another process, it does the same to the same rows."""
    (move / "incoming/a.csv").write_text(ROWS.replace("6,Ivo", "7,Ada,,1,y,D,\n6,Ivo"))
    (move / "plans/kinds.toml").write_text(KINDS)
    (move / "layouts/kinds.json").write_text(layout_json([{"name": "name"}], primaryKey="name"))
    program("build", cwd=move)
    program("handed-over", "1", cwd=move, status=0)
    edit(move / "mudanza.toml", 'name = "Test"', 'name = "Test"\nown_steps = true')
    edit(move / "layouts/people.json", '"primaryKey"', '"foreignKeys": [{"columnReference": "kind", "reference": '
         '{"resource": "kinds.csv", "columnReference": "name"}}], "primaryKey"')  # fmt: skip
    for name, text in {
        "steps.py": OWN_STEP,
        "plans/people.toml": ALL_KINDS,
        "corrections/people.csv": 'key,field,was,is,who\nP001,Paid,1,"2,00",Ana\n',
        "exclusions/people.csv": "Id,reason,who\n7,asked,Ana\n",
    }.items():
        (move / name).parent.mkdir(exist_ok=True)
        (move / name).write_text(text, encoding="utf-8")
    ready = prepare(read_move(move), "people", refer=True)
    ((opened, batch),) = ready.intake.batches()
    rows, columns = opened.rows(batch, ready.intake.columns), ready.intake.columns
    here = run_late(ready.recipe, run_early(ready.recipe, rows, columns), ready.trial(), ["a.csv"])
    sent = pickle.dumps((ready.recipe, rows, columns, ready.trial()))
    there = subprocess.run([sys.executable, "-c", ELSEWHERE], input=sent, capture_output=True, check=True)
    assert here.written["Code"].to_list() == ["P001", "P002", "P003", "P005"]
    assert "correction.source-changed" in {*here.findings["code"]}
    returned = pickle.loads(there.stdout)
    for name in ("written", "lines", "records", "held", "findings", "missed"):
        assert getattr(here, name).equals(getattr(returned, name)), name


_texts = (
    st.none()
    | st.text(st.characters(exclude_categories=["Cs"], exclude_characters="\r\0"), max_size=8)
    | st.sampled_from(['"', ";", "a;b", "x\ny", " ", "=1+1"])
)


@_QUICK
@given(
    st.integers(1, 3).flatmap(lambda n: st.lists(st.lists(_texts, min_size=n, max_size=n), min_size=1, max_size=8)),
    st.sampled_from([("utf-8", False), ("utf-8", True), ("utf-16", False)]),
    st.sampled_from(["\n", "\r\n"]),
)
def test_written_rows_are_read_back_by_others(
    table: list[list[str | None]], encoding: tuple[str, bool], end: str
) -> None:
    heads = [f"h {i}" for i in range(len(table[0]))]
    writer = RowWriter(heads, Dialect(delimiter=";", encoding=encoding[0], bom=encoding[1], line_ends=(end,)))
    frame = pl.DataFrame(table, schema=dict.fromkeys(heads, pl.String), orient="row")
    data = writer.head() + writer.rows(frame.head(1)) + writer.rows(frame.slice(1))
    text = data.decode("utf-8-sig" if encoding[1] else encoding[0])
    rows = list(csv.reader(io.StringIO(text, newline=""), delimiter=";"))
    assert rows == [heads, *[[cell or "" for cell in row] for row in table]]
