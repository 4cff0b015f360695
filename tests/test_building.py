"""Building: every row has its end, identifiers last, and nothing half-done is ever seen."""

from __future__ import annotations

import csv
import itertools
import json
import os
import shutil
import signal
import sqlite3
import subprocess
import sys
import time
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from stdnum import luhn

from conftest import ROWS, alone, edit, installed, program, stories
from mudanza.core.disk import files
from mudanza.core.disk.files import StreamFile
from mudanza.core.disk.processes import this_process
from mudanza.core.documents.errors import LedgerError, MudanzaError
from mudanza.core.plans.move_settings import find_move, read_move
from mudanza.core.state.evidence import ledger_of
from mudanza.core.tables.key_pattern import KeyPattern
from mudanza.core.work.build import build
from test_reading import book

OUT = ["people.csv", "people.held-back.csv", "people.findings.csv", "people.csv-metadata.json", "run.json"]


def table(path: Path, delimiter: str = ",", encoding: str = "utf-8") -> list[dict[str, str]]:
    with path.open(encoding=encoding, newline="") as file:
        return list(csv.DictReader(file, delimiter=delimiter))


def snapshot(folder: Path) -> dict[str, bytes]:
    return {p.name: p.read_bytes() for p in folder.iterdir()} if folder.exists() else {}


def test_a_build_accounts_for_every_row(move: Path) -> None:
    ended = program("build", "people", "--json", cwd=move, status=1)
    one = ended.json["lists"][0]
    ends = {k: one[k] for k in ("read", "skipped", "merged", "held_back", "written")}
    assert ends == {"read": 7, "skipped": 1, "merged": 1, "held_back": 2, "written": 3}
    assert one["skipped_by"] == {"keep": 1}
    assert sorted(p.name for p in (move / "out").iterdir()) == sorted(OUT)
    assert (move / "out/people.csv").read_text("utf-8") == (
        "Code;Full name;Born;Paid;Active;Kind\n"
        "P001;Ana;31/01/1980;1234,50;J;dog\n"
        "P002;Rui Sá;;;N;cat\n"
        "P003;Iva Reis;;0,00;;cat\n"
    )
    held = table(move / "out/people.held-back.csv")
    assert [(r["#line"], r["Id"], r["Born"]) for r in held] == [("4", "3", "1970-02-30"), ("9", "6", "")]
    assert 'Kind "Q"' in held[1]["#why"]
    found = {(g["code"], g["field"]): g["example"]["line"] for g in one["findings"]}
    assert found == {("flow.not-a-date", "Born"): 4, ("flow.not-in-crosswalk", "Kind"): 9, ("row.merged", "Code"): 6}
    run = json.loads((move / "out/run.json").read_text("utf-8"))
    assert run["lists"][0]["files"] == one["files"]


def test_the_printed_inventory_holds_its_balance(move: Path) -> None:
    shown = program("build", "people", cwd=move, status=1).out
    assert "7 = 1 + 1 + 2 + 3" in shown
    assert "3 new identifiers given out" in shown
    assert all(len(line) <= 100 for line in shown.splitlines())


def test_same_inputs_give_the_same_bytes_and_keys_last(move: Path) -> None:
    program("build", "people", cwd=move, status=1)
    first = snapshot(move / "out")
    program("build", "people", cwd=move, status=1)
    second = snapshot(move / "out")
    assert {k: v for k, v in first.items() if k != "run.json"} == {k: v for k, v in second.items() if k != "run.json"}
    # a mended row is written with a new identifier; everybody else keeps theirs, whatever the order
    lines = ROWS.replace("1970-02-30", "1970-02-28").splitlines()
    (move / "incoming/a.csv").write_text(
        "\n".join([lines[0], *reversed(lines[1:7])]).replace('Reis",,0,,C,\n5,"Iva', "") + "\n"
    )
    (move / "incoming/a.csv").write_text(
        "Id,Name,Born,Paid,Active,Kind,State\n9,New,,,,C,\n3,Eva,1970-02-28,1,y,D,\n2,Rui  Sá,,,n,C,\n"
    )
    program("build", "people", cwd=move, status=0)
    assert [r["Code"] for r in table(move / "out/people.csv", ";")] == ["P004", "P005", "P002"]
    keys = program("keys", "people", "--export", cwd=move, status=0).out
    assert keys.split() == ["old", "1,new", "1,P001", "2,P002", "5,P003", "9,P004", "3,P005"]


def test_a_rehearsal_writes_nothing_at_all(move: Path) -> None:
    before = sorted(p for p in move.rglob("*"))
    shown = program("build", "people", "--rehearse", cwd=move, status=1).out
    assert "7 = 1 + 1 + 2 + 3" in shown and "would be given out" in shown
    assert sorted(p for p in move.rglob("*")) == before


def _with_corrections(move: Path, text: str, name: str = "mended") -> None:
    """The plan with one more source, a file of held-back rows."""
    (move / f"incoming/{name}.csv").write_text(text, encoding="utf-8")
    edit(move / "plans/people.toml", "[rows]", f'[[source]]\nname = "{name}"\nfile = "incoming/{name}.csv"\n[rows]')


def test_rows_held_back_are_corrected_and_read_again(move: Path) -> None:
    edit(move / "plans/people.toml", "{Id}", "{#source}, {Id}")
    edit(move / "plans/people.toml", 'file = "incoming/a.csv"', 'file = "incoming/a.csv"\nblanks = ["n/a"]')
    edit(move / "incoming/a.csv", "6,Ivo,,5,y,Q,\n", '6,Ivo,n/a,5,y,Q,\n7,"Ana" B,,1,y,D,\n')
    program("build", "people", cwd=move, status=1)
    held = (move / "out/people.held-back.csv").read_text("utf-8")
    assert held.startswith("\ufeff#source"), "a spreadsheet program is to know the encoding"
    assert program("survey", "out/people.held-back.csv", "--json", cwd=move, status=0).json["rows"] == 3
    # two are corrected, and one comes back as it was
    mended = held.replace("3,Eva,1970-02-30", "3,Eva,1970-02-28").replace(',,,,,,,"7', ',7,Ana B,,1,y,D,"7')
    assert mended.count("\n") == held.count("\n") == 4
    _with_corrections(move, mended)
    one = program("build", "people", "--json", cwd=move, status=1).json["lists"][0]
    assert one["skipped_by"] == {"corrected": 3, "keep": 1}
    assert one["sources"]["mended"] == {"read": 3, "skipped": 0, "merged": 0, "held_back": 1, "written": 2}
    # the rows are known by the source they first came from
    keys = program("keys", "people", "--export", cwd=move, status=0).out
    assert "a,3,P" in keys and "mended" not in keys
    # what is held back now is the correction, which can be corrected in its turn; then nothing is left
    again = table(move / "out/people.held-back.csv", encoding="utf-8-sig")
    assert [(r["#source"], r["#file"], r["#line"], r["Id"]) for r in again] == [("a", "incoming/mended.csv", "3", "6")]
    _with_corrections(
        move, (move / "out/people.held-back.csv").read_text("utf-8-sig").replace("5,y,Q", "5,y,D"), "more"
    )
    one = program("build", "people", "--json", cwd=move, status=0).json["lists"][0]
    assert (one["held_back"], one["skipped_by"]) == (0, {"corrected": 4, "keep": 1})
    preview = program("preview", "people", "--where", '{Id} = "3"', "--source", "a", "--json", cwd=move, status=0)
    assert [row["end"] for row in preview.json["rows"]] == ["skipped"]
    traced = program("trace", "3", "--list", "people", cwd=move, status=0).out
    assert "source a; skipped: corrected" in traced and "not kept" not in traced
    # one that is damaged while it is mended is held back again with its values in their columns
    (move / "incoming/more.csv").write_text(
        (move / "incoming/more.csv").read_text("utf-8") + "a,x,9,r1,,7,Rita,,,y\n", encoding="utf-8"
    )
    program("build", "people", cwd=move, status=1)
    (row,) = table(move / "out/people.held-back.csv", encoding="utf-8-sig")
    assert (row["#source"], row["#line"], row["Id"], row["Name"], row["Active"]) == ("a", "3", "7", "Rita", "y")


def test_a_correction_is_of_the_row_that_stood_there(move: Path) -> None:
    """If another record stands on that line by now, it is not taken for corrected."""
    program("build", "people", cwd=move, status=1)
    held = (move / "out/people.held-back.csv").read_text("utf-8-sig")
    _with_corrections(move, held.replace("1970-02-30", "1970-02-28").replace("y,Q", "y,D"))
    edit(move / "incoming/a.csv", "3,Eva,1970-02-30,1,y,D,", "8,Eda,1970-02-20,1,y,D,")
    one = program("build", "people", "--json", cwd=move, status=0).json["lists"][0]
    assert one["skipped_by"] == {"corrected": 1, "keep": 1}
    (stale,) = [group for group in one["findings"] if group["code"] == "read.stale-correction"]
    assert stale["example"]["value"] == "1 of 2 rows"
    assert {"Eda", "Eva"} <= {row["Full name"] for row in table(move / "out/people.csv", ";")}


@stories(3)
@given(
    st.lists(
        st.tuples(
            st.sampled_from(["1", "2", "3", "", "x,y"]),
            st.sampled_from(["Ana", "", "a name too long for it", '"q"']),
            st.sampled_from(["1980-01-31", "bad", ""]),
            st.sampled_from(["1", "x", ""]),
            st.sampled_from(["D", "Q", ""]),
            st.sampled_from(["", "x"]),
        ),
        max_size=25,
    ),
    st.sets(st.integers(0, 24), max_size=3),
)
def test_the_balance_holds_whatever_comes_in(move: Path, rows: list[tuple], ragged: set[int]) -> None:
    source = move / "incoming/a.csv"
    with source.open("w", encoding="utf-8", newline="") as file:
        writer = csv.writer(file, lineterminator="\n")
        writer.writerow(["Id", "Name", "Born", "Paid", "Active", "Kind", "State"])
        for i, (id_, name, born, paid, kind, state) in enumerate(rows):
            writer.writerow([id_, name, born, paid, "y", kind, state] + (["more"] if i in ragged else []))
    settings_file = move / "mudanza.toml"
    for folder in (".mudanza", "out"):
        shutil.rmtree(move / folder, ignore_errors=True)
    settings_file.touch()
    result = build(read_move(move), ["people"]).lists[0]
    assert result.balance.holds and result.balance.read == len(rows)
    written, held = table(move / "out/people.csv", ";"), table(move / "out/people.held-back.csv")
    assert (len(written), len(held)) == (result.balance.written, result.balance.held_back)
    # identifiers were given to written rows only, without a gap
    assert sorted({r["Code"] for r in written}) == [
        f"P{n:03d}" for n in range(1, len({r["Code"] for r in written}) + 1)
    ]
    assert len({r["Code"] for r in written}) == len(written)
    assert result.keys_given.get("people", 0) == len(written)
    assert all(row["#why"] for row in held)


WRONG_PLANS = [
    ("{Name} -> squeeze", "{Nmae} -> squeeze", 2, ["{Name}", "line 9", "^^^^^^"]),
    ("{Paid} -> number", "{Paid}", 2, ["is a number", "-> number"]),
    ("born = ", "borne = ", 2, ["'borne'", "'born'"]),
    ("{Name} -> squeeze'", "{Name} -> squeeze", 2, ["line 9", "quote"]),
    ("crosswalk kinds", "crosswalk kind", 2, ["'kinds'", "^^^^"]),
    ("mint people", "mint persons", 2, ["persons", "mudanza.toml"]),
    ("incoming/a.csv", "incoming/b.csv", 3, ["incoming/b.csv", "does not exist", "a.csv"]),
    ("[rows]", "[[source]]\nname = 'a'\nfile = 'incoming/a.csv'\n[rows]", 2, ["two sources"]),
    ('file = "incoming/a.csv"', 'file = "incoming/a.csv"\nrename = { "Nmae" = "N" }', 3, ["'Nmae'", "'Name'"]),
    ('layout = "layouts/people.json"', 'layout = "layouts/poeple.json"', 2, ["layouts/people.json"]),
    ("code = '{Id} -> mint people'\n", "", 2, ["required field 'code'"]),
    ("kind = '{Kind} -> crosswalk kinds'", "kind = '{@name}'\nfoo = 1", 2, ["'foo'"]),
    ("name = '{Name} -> squeeze'", "name = '{@kind}'\n", 2, []),
    ("[rows]", "[rows]\nsort = ['Nam']", 2, ["'Name'"]),
    ("[fields]", "[left_behind]\n'Faks' = 'gone'\n[fields]", 2, ["'Faks'"]),
    ("keep = '{State} != \"x\"'", "keep = '{State} == \"x\"'", 2, ["'='", "line 6", "^^"]),
]


@pytest.mark.parametrize(
    ("old", "new", "status", "words"), WRONG_PLANS, ids=[f"{i} {c[1][:20]!r}" for i, c in enumerate(WRONG_PLANS)]
)
def test_a_wrong_plan_is_told_before_anything_is_written(
    move: Path, old: str, new: str, status: int, words: list[str]
) -> None:
    edit(move / "plans/people.toml", old, new)
    if new.startswith("name = '{@kind}'"):
        edit(move / "plans/people.toml", "kind = '{Kind} -> crosswalk kinds'", "kind = '{@name}'")
        words = ["circle"]
    ended = program("build", "people", cwd=move, status=status)
    for word in words:
        assert word in ended.err
    assert not (move / "out").exists() and not (move / ".mudanza").exists()
    error = program("build", "people", "--json", cwd=move, status=status).json["error"]
    assert (
        error["status"] == status
        and error["what"].split() == ended.err.removeprefix("error: ").split()[: len(error["what"].split())]
    )


def test_columns_nobody_accounted_for_are_told(move: Path) -> None:
    edit(move / "incoming/a.csv", "Id,Name", "Fax,Id,Name")
    text = (move / "incoming/a.csv").read_text("utf-8")
    lines = [line if n == 0 or line.startswith("Reis") else f"f{n},{line}" for n, line in enumerate(text.splitlines())]
    (move / "incoming/a.csv").write_text("\n".join(lines) + "\n")
    found = program("build", "people", "--json", cwd=move, status=1).json["lists"][0]["findings"]
    assert [(g["code"], g["field"], g["example"]["value"]) for g in found if g["code"].startswith("column")] == [
        ("column.unused", "Fax", "7 values")
    ]
    edit(move / "plans/people.toml", "[fields]", "[left_behind]\nFax = 'gone'\n[fields]")
    found = program("build", "people", "--json", cwd=move, status=1).json["lists"][0]["findings"]
    assert not [g for g in found if g["code"].startswith("column")]


def test_rows_are_sorted_as_said_and_fields_refer_to_each_other(move: Path) -> None:
    edit(move / "plans/people.toml", "[rows]", "[rows]\nsort = ['@paid', 'Name']")
    edit(move / "plans/people.toml", "'{Kind} -> crosswalk kinds'", '\'"dog" when {@paid} > 1000; "cat" otherwise\'')
    program("build", "people", cwd=move, status=1)
    rows = table(move / "out/people.csv", ";")
    assert [(r["Full name"], r["Paid"], r["Kind"]) for r in rows] == [
        ("Iva Reis", "0,00", "cat"),
        ("Ivo", "5,00", "cat"),
        ("Ana", "1234,50", "dog"),
        ("Rui Sá", "", "cat"),
    ]


def test_a_field_that_depends_on_its_identifier_wastes_none(move: Path) -> None:
    """Rows found wrong only after their identifier was made leave no gap."""
    edit(move / "mudanza.toml", "P{000}", "P{000}")
    edit(move / "plans/people.toml", "name = '{Name} -> squeeze'", "name = '\"{@code} {Name}\" -> squeeze'")
    one = program("build", "people", "--json", cwd=move, status=1).json["lists"][0]
    assert [g["field"] for g in one["findings"] if g["code"] == "value.too-long"] == ["Full name"]
    assert [r["Full name"] for r in table(move / "out/people.csv", ";")] == ["P001 Ana", "P002 Rui Sá"]
    assert one["keys_given"] == {"people": 2}


def test_two_fields_share_one_key_book_and_a_row_made_again_is_told_once(move: Path) -> None:
    """Identities cross; one row fails only after its identifiers are made, so the others are made again."""
    edit(move / "plans/people.toml", "name = '{Name} -> squeeze'", "name = '{Name} -> mint people'")
    edit(
        move / "plans/people.toml",
        "kind = '{Kind} -> crosswalk kinds'",
        'kind = \'("cat-{@name}" -> fit 3) when {Id} != "9"; "bird {@code}" otherwise\'',
    )
    (move / "incoming/a.csv").write_text("Id,Name,Born,Paid,Active,Kind,State\n1,4,,,,,\n9,9,,,,,\n4,1,,,,,\n")
    one = program("build", "people", "--json", cwd=move, status=1).json["lists"][0]
    rows = [(r["Code"], r["Full name"]) for r in table(move / "out/people.csv", ";")]
    keys = dict(line.split(",") for line in program("keys", "people", "--export", cwd=move, status=0).out.split()[2:])
    assert [(keys[a], keys[b]) for a, b in (("1", "4"), ("4", "1"))] == rows
    assert keys == {"1": "P001", "4": "P002"}
    counts = {g["code"]: g["count"] for g in one["findings"] if g["code"] in ("flow.cut", "value.not-permitted")}
    assert counts == {"flow.cut": 2, "value.not-permitted": 1}


def test_the_bytes_are_the_same_for_every_block_size_and_number_of_threads(move: Path) -> None:
    """Two mints of one key book, and a look into it meanwhile; rows that fail only with their identifiers, damaged, blank and repeated rows, findings of every part."""
    both = """name = '({Name} -> key people or blank), ({Name} -> mint people) -> join ""'"""
    edit(move / "plans/people.toml", "name = '{Name} -> squeeze'", both)
    edit(move / "plans/people.toml", "[rows]", "[rows]\nsort = ['Kind', '@paid']")
    edit(move / "plans/people.toml", "'{Kind} -> crosswalk kinds'", "'\"cat-{@name}\" -> fit 3'")
    edit(move / "layouts/people.json", '"cat|dog"', '"cat"')
    edit(move / "layouts/people.json", "P[0-9]{3}", "P[0-9]{2}[0-8]")
    rows = "Id,Name,Born,Paid,Active,Kind,State\n"
    for n in range(90):
        born = "1970-02-30" if n % 11 == 5 else "1980-01-31"
        rows += f'{n % 41},"{(n * 7) % 37}{"" if n % 13 else chr(10)}",{born},{n % 5},y,{"DC"[n % 2]},{"x" if n % 17 == 3 else ""}\n'
        rows += {20: "\n", 30: ",,,,,,\n", 40: "a,b\n", 50: '9,5" nail,,,y,D,\n', 60: "1,2,,,y,D,,,\n"}.get(n, "")
    (move / "incoming/a.csv").write_text(rows + '77,"never closed,,,y,D,\n', newline="")
    made = {}
    for block, threads in itertools.product((64, 4096, 8 << 20), ("1", "4")):
        folder = move.with_name(f"{block}-{threads}")
        shutil.copytree(move, folder)
        code = (
            "import sys; from mudanza.core.sources import delimited; delimited.BLOCK = int(sys.argv[1])\n"
            "from mudanza.cli.main import main; sys.exit(main(['build', 'people', '--as-of', '2026-01-31']))"
        )
        command = [sys.executable, "-c", code, str(block)]
        ended = subprocess.run(
            command, cwd=folder, capture_output=True, env={**os.environ, "POLARS_MAX_THREADS": threads}, check=False
        )
        assert ended.returncode == 1, ended.stderr
        keys = program("keys", "people", "--export", cwd=folder, status=0).out
        made[block, threads] = (snapshot(folder / "out"), ended.stdout, keys)
    first = made[64, "1"]
    assert all(one == first for one in made.values())
    codes = {row["code"] for row in table(move.with_name("64-1") / "out/people.findings.csv")}
    assert {
        "read.ragged",
        "read.stray-quote",
        "read.unclosed-quote",
        "value.pattern",
        "flow.cut",
        "flow.not-a-date",
    } <= codes


def test_key_patterns() -> None:
    assert KeyPattern.of("OW-{000}x", 7) == KeyPattern("OW-", 3, "x", 7)
    for wrong in ("OW", "{}", "{0}{0}", "OW-{12}"):
        with pytest.raises(MudanzaError):
            KeyPattern.of(wrong)


# two runs, killed runs, full disks


def start(move: Path, *arguments: str, env: dict[str, str] | None = None) -> subprocess.Popen[bytes]:
    command = [installed(), *arguments]
    return subprocess.Popen(
        command, cwd=move, stdout=subprocess.PIPE, stderr=subprocess.PIPE, env={**os.environ, **(env or {})}
    )


def parts_of(run: subprocess.Popen[bytes], move: Path) -> list[Path]:
    """The files that a command has not finished yet."""
    return list((move / "out").glob(f".mudanza-*-{run.pid}-*.part"))


def many(move: Path, count: int, first: int = 0) -> None:
    rows = "".join(f"{n},N{n},,{n},y,D,\n" for n in range(first, first + count))
    (move / "incoming/a.csv").write_text("Id,Name,Born,Paid,Active,Kind,State\n" + rows)
    edit(move / "layouts/people.json", "P[0-9]{3}", "P[0-9]+")


@alone
def test_two_runs_at_once_never_give_one_number_twice(move: Path) -> None:
    many(move, 20_000)
    other = (move / "plans/people.toml").read_text("utf-8").replace("a.csv", "b.csv").replace("{Id} ->", '"b{Id}" ->')
    (move / "plans/others.toml").write_text(other)
    (move / "incoming/b.csv").write_bytes((move / "incoming/a.csv").read_bytes())
    runs = [start(move, "build", "people"), start(move, "build", "others")]
    for run in runs:
        run.communicate(timeout=100)
    assert [run.returncode for run in runs] == [0, 0]
    codes = [r["Code"] for name in ("people", "others") for r in table(move / f"out/{name}.csv", ";")]
    assert len(codes) == len(set(codes)) == 40_000
    assert {r["state"] for r in program("ledger", "--json", cwd=move, status=0).json["runs"]} == {"done"}


@alone
@pytest.mark.skipif(os.name != "posix", reason="signals of this kind are those of POSIX systems")
def test_a_killed_run_leaves_the_old_files_and_the_next_one_cleans_up(move: Path) -> None:
    program("build", "people", cwd=move, status=1)
    before = snapshot(move / "out")
    many(move, 100_000, first=10)
    for patience in (0.0, 0.05, 0.15):
        run = start(move, "build", "people")
        while not parts_of(run, move) and run.poll() is None:
            time.sleep(0.01)
        time.sleep(patience)
        run.send_signal(signal.SIGKILL)
        run.wait()
        assert run.returncode == -signal.SIGKILL
        assert {k: v for k, v in snapshot(move / "out").items() if not k.startswith(".")} == before
    program("build", "people", cwd=move, status=0)
    assert not list((move / "out").glob(".*")) and len(table(move / "out/people.csv", ";")) == 100_000
    states = [r["state"] for r in program("ledger", "--json", cwd=move, status=0).json["runs"]]
    assert states == ["done", "interrupted", "interrupted", "interrupted", "done"]


@alone
@pytest.mark.skipif(os.name != "posix", reason="signals of this kind are those of POSIX systems")
def test_an_interrupted_run_takes_its_parts_away(move: Path) -> None:
    program("build", "people", cwd=move, status=1)
    before = snapshot(move / "out")
    many(move, 100_000, first=10)
    run = start(move, "build", "people")
    while not parts_of(run, move) and run.poll() is None:
        time.sleep(0.01)
    run.send_signal(signal.SIGINT)
    _, told = run.communicate(timeout=60)
    assert run.returncode == 130 and b"interrupted" in told and b"Traceback" not in told
    assert snapshot(move / "out") == before
    assert [r.state for r in ledger_of(find_move(move)).runs()] == ["interrupted", "done"]
    assert ledger_of(find_move(move)).books() == {"people": 3}


def test_a_run_killed_between_commit_and_renaming_is_finished_by_the_next(move: Path) -> None:
    program("build", "people", cwd=move, status=1)
    good = (move / "out/people.csv").read_bytes()
    part = move / "out/.people.csv.part"
    part.write_bytes(good)
    (move / "out/people.csv").write_text("old")
    with sqlite3.connect(move / ".mudanza/ledger.sqlite") as db:
        db.execute("INSERT INTO pending VALUES (1, ?, ?)", (str(part), str(move / "out/people.csv")))
    edit(move / "plans/people.toml", "[rows]", "[rows]\nsort = ['Name']")
    gone = this_process().replace(f"-{os.getpid()}-", "-999999999-")
    left = [move / folder / f".mudanza-0-{gone}-9.part" for folder in ("loans/people-9", "out", "plans")]
    for one in left:
        one.parent.mkdir(parents=True, exist_ok=True)
        one.write_text("of a run that was killed")
    program("lend", "people", cwd=move, status=0)
    assert (move / "out/people.csv").read_bytes() == good and not part.exists()
    assert not any(one.exists() for one in left)


def test_a_file_where_a_folder_is_needed(move: Path) -> None:
    (move / "out").write_text("no folder")
    told = program("build", "people", cwd=move, status=3).err
    assert "a folder is needed where a file stands" in told and "Move that file away" in told


def test_a_ledger_that_another_run_holds_is_waited_for_and_then_told(move: Path) -> None:
    program("build", "people", cwd=move, status=1)
    before = snapshot(move / "out")
    held = sqlite3.connect(move / ".mudanza/ledger.sqlite", isolation_level=None)
    held.execute("BEGIN IMMEDIATE")
    ended = program("build", "people", "--wait", "0.3", cwd=move, status=3)
    assert "another run holds the ledger" in ended.err and "--wait" in ended.err
    assert snapshot(move / "out") == before
    # looking needs no lock
    assert program("ledger", cwd=move, status=0).out.count("build") == 1
    program("preview", "people", cwd=move, status=0)
    held.execute("ROLLBACK")
    program("build", "people", cwd=move, status=1)


@pytest.mark.skipif(not Path("/dev/full").exists(), reason="needs /dev/full")
def test_a_full_disk_changes_nothing(move: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    program("build", "people", cwd=move, status=1)
    before = snapshot(move / "out")
    many(move, 1000, first=10)
    monkeypatch.setattr(files, "PartFile", lambda *_: StreamFile(Path("/dev/full")))
    with pytest.raises(MudanzaError, match="disk is full"):
        build(find_move(move), ["people"])
    monkeypatch.undo()
    assert snapshot(move / "out") == before
    runs = ledger_of(find_move(move)).runs()
    assert (runs[0].state, runs[1].state) == ("failed", "done")
    # what the failed run would have given out was not given
    assert ledger_of(find_move(move)).books() == {"people": 3}


def test_a_damaged_ledger_is_told(move: Path) -> None:
    program("build", "people", cwd=move, status=1)
    (move / ".mudanza/ledger.sqlite").write_bytes(b"not a database at all, by any means" * 100)
    for extra in ("-wal", "-shm"):
        (move / f".mudanza/ledger.sqlite{extra}").unlink(missing_ok=True)
    assert "damaged" in program("ledger", cwd=move, status=3).err
    with pytest.raises(LedgerError):
        build(find_move(move), ["people"])


def test_preview_shows_what_build_writes(move: Path) -> None:
    shown = program("preview", "people", "-n", "7", "--json", cwd=move, status=0).json["rows"]
    program("build", "people", cwd=move, status=1)
    written = table(move / "out/people.csv", ";")
    previewed = [{f["title"]: f["after"] or "" for f in row["fields"]} for row in shown if row["end"] == "written"]
    assert previewed == written
    assert [row["end"] for row in shown] == [
        "written",
        "written",
        "held back",
        "skipped",
        "merged",
        "written",
        "held back",
    ]
    text = program("preview", "people", "--findings", "--fields", "born", cwd=move, status=0).out
    assert "line 4" in text and "flow.not-a-date" in text and "line 2" not in text
    assert "did you mean 'born'" in program("preview", "people", "--fields", "bron", cwd=move, status=2).err


@pytest.mark.parametrize(
    "content", ["", "\n\n", "Id,Name,Born,Paid,Active,Kind,State\n"], ids=["empty", "blank", "heading only"]
)
def test_sources_without_rows(move: Path, content: str) -> None:
    (move / "incoming/a.csv").write_text(content)
    ended = program("build", "people", cwd=move)
    if content.startswith("Id"):
        assert ended.status == 0 and "0 = 0 + 0 + 0 + 0" in ended.out
    else:
        assert ended.status == 3 and "a.csv" in ended.err


def test_what_a_dialect_cannot_write_is_held_back(move: Path) -> None:
    edit(
        move / "layouts/people.json",
        '"delimiter": ";"',
        '"delimiter": "|", "quoteChar": null, "encoding": "iso-8859-1"',
    )
    (move / "incoming/a.csv").write_text(
        "Id,Name,Born,Paid,Active,Kind,State\n1,a|b,,,,C,\n2,10 €,,,,C,\n3,José,,,,C,\n", encoding="utf-8"
    )
    found = program("build", "people", "--json", cwd=move, status=1).json["lists"][0]["findings"]
    assert [(g["code"], g["example"]["value"]) for g in found] == [
        ("value.unencodable", "10 €"),
        ("value.unquotable", "a|b"),
    ]
    assert (move / "out/people.csv").read_bytes().splitlines()[1] == "P001|José||||cat".encode("latin-1")


def test_what_of_a_file_is_not_read_is_told(move: Path) -> None:
    rows = [["A title"], [], ["Id", "Name", "Born", "Paid", "Active", "Kind", "State"], ["1", "Ana", None, 2, "y", "D"]]
    book(move / "incoming/a.xlsx", {"Notes": [["for you"]], "People": rows})
    edit(move / "plans/people.toml", "incoming/a.csv", "incoming/a.xlsx")
    found = program("build", "people", "--json", cwd=move, status=0).json["lists"][0]["findings"]
    told = [(g["code"], g["example"]["value"]) for g in found]
    assert told == [("read.above-heading", "2 rows"), ("read.other-sheets", "Notes (1 row)")]
    edit(
        move / "plans/people.toml",
        'file = "incoming/a.xlsx"',
        'file = "incoming/a.xlsx"\nsheet = "People"\nheading = 3',
    )
    assert program("build", "people", "--json", cwd=move, status=0).json["lists"][0]["findings"] == []
    keys = program("keys", "people", "--export", "--json", cwd=move, status=0).json
    assert keys == [{"old 1": "1", "new": "P001"}]


def test_an_encoding_that_was_said_wrong_is_told(move: Path) -> None:
    text = ROWS.replace("Ana", "José").replace("Ivo", "São")
    (move / "incoming/a.csv").write_bytes(text.encode("cp1252"))
    edit(move / "plans/people.toml", 'file = "incoming/a.csv"', 'file = "incoming/a.csv"\nencoding = "utf-8"')
    found = program("build", "people", "--json", cwd=move, status=1).json["lists"][0]["findings"]
    codes = {g["code"]: (g["count"], g["example"]["value"]) for g in found}
    assert codes["file.encoding"] == (1, "cp1252") and codes["read.undecodable"][0] == 5
    edit(move / "plans/people.toml", '"utf-8"', '"utf-16"')
    (move / "incoming/a.csv").write_text(ROWS.replace("á", "a").replace("é", "e"))
    assert "one byte for each" in program("build", "people", cwd=move, status=3).err


def test_a_correction_is_of_one_source_though_two_read_the_file(move: Path) -> None:
    """The same file may be two sources, a language each; a row of the one that comes back corrected says nothing of the other."""
    plan = move / "plans/people.toml"
    (move / "incoming/a.csv").write_text(
        "Id,Pt,En,Born,Paid,Active,Kind,State\n1,Ana,Anne,,1,y,D,\n2,,Bob,,2,y,D,\n", encoding="utf-8"
    )
    edit(plan, 'file = "incoming/a.csv"', 'file = "incoming/a.csv"\nrename = { "Pt" = "Name" }')
    edit(
        plan,
        "[rows]",
        '[[source]]\nname = "en"\nfile = "incoming/a.csv"\nrename = { "En" = "Name" }\nlacks = []\n[rows]',
    )
    edit(plan, "{Id} -> mint", "{#source}, {Id} -> mint")
    program("build", "people", cwd=move, status=1)
    held = (move / "out/people.held-back.csv").read_text("utf-8-sig")
    assert held.count("\n") == 2 and held.splitlines()[1].startswith("a,incoming/a.csv,3,")
    head, row = held.splitlines()
    cells = dict(zip(head.split(","), row.split(","), strict=True))
    cells["Name"] = "Bento"
    _with_corrections(move, f"{head}\n{','.join(cells.values())}\n")
    program("build", "people", cwd=move, status=0)
    assert [r["Full name"] for r in table(move / "out/people.csv", ";")] == ["Ana", "Anne", "Bob", "Bento"]


def test_two_files_may_correct_the_same_row(move: Path) -> None:
    """Whoever corrects a copy of what was held back once more writes nothing twice, and loses nothing."""
    program("build", "people", cwd=move, status=1)
    held = (move / "out/people.held-back.csv").read_text("utf-8-sig")
    mended = held.replace("1970-02-30", "1970-02-28").replace("y,Q", "y,D")
    _with_corrections(move, mended, "first")
    _with_corrections(move, mended, "second")
    one = program("build", "people", "--json", cwd=move, status=0).json["lists"][0]
    assert (one["skipped_by"], one["merged"], one["written"]) == ({"corrected": 2, "keep": 1}, 3, 5)
    assert "read.stale-correction" not in [group["code"] for group in one["findings"]]


def test_identifiers_carry_check_digits_and_are_numbered_by_group(move: Path) -> None:
    edit(move / "layouts/people.json", "P[0-9]{3}", "P-[a-z]-[0-9]{4}/x")
    settings = 'pattern = "P-{group}-{000}{check}/x"\ncheck = "luhn"\ngroups = 1\nstart = 7'
    edit(move / "mudanza.toml", 'pattern = "P{000}"', settings)
    edit(move / "plans/people.toml", "'{Id} -> mint people'", "'{#source}, {Id} -> mint people'")
    program("build", "people", cwd=move, status=1)
    codes = [row["Code"] for row in table(move / "out/people.csv", ";")]
    assert codes == [f"P-a-{number}{luhn.calc_check_digit(number)}/x" for number in ("007", "008", "009")]
    for wrong, words in (("lunn", "did you mean 'luhn'?"), ("iban", "no standard of check digits 'iban'")):
        edit(move / "mudanza.toml", 'check = "luhn"', f'check = "{wrong}"')
        assert words in " ".join(program("build", cwd=move, status=2).err.split())
        edit(move / "mudanza.toml", f'check = "{wrong}"', 'check = "luhn"')
    edit(move / "mudanza.toml", "{check}", "")
    assert "the pattern has {check} once" in " ".join(program("build", cwd=move, status=2).err.split())
