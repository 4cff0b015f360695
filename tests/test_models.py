"""The engine against plain Python models of what it should do, on whatever comes."""

from __future__ import annotations

import csv
import datetime
import io
import re
from decimal import Decimal
from pathlib import Path

import polars as pl
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from conftest import PEOPLE, make_move
from mudanza.core.building.build import build
from mudanza.core.checking import check
from mudanza.core.keys import KeyBook, KeyPattern
from mudanza.core.layouts.model import Dialect
from mudanza.core.layouts.reading import read_layout
from mudanza.core.layouts.writing import RowWriter
from mudanza.core.ledger import Ledger
from mudanza.core.move import read_move
from mudanza.core.sources import delimited
from mudanza.core.unique import HashRuns, SeenKeys

_QUICK = settings(max_examples=40, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])

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
    codes: dict[str, str] = {}
    records: dict[str, list[str | None]] = {}
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
    whole = delimited.BLOCK
    try:
        # small blocks make several batches, so that what is remembered across them is asked too
        delimited.BLOCK = block
        balance = build(read_move(move), ["people"]).lists[0].balance
    finally:
        delimited.BLOCK = whole
    with (move / "out/people.csv").open(encoding="utf-8", newline="") as file:
        assert list(csv.reader(file, delimiter=";"))[1:] == expected
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
    found = list(result.findings.select("code", "line", "column").iter_rows())
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
@given(st.lists(st.lists(st.integers(0, 2**64 - 1), max_size=50), max_size=10))
def test_hash_runs_are_a_set(batches: list[list[int]]) -> None:
    runs, known = HashRuns(), set()
    for batch in batches:
        wanted = pl.Series(sorted(batch), dtype=pl.UInt64).to_numpy()
        assert set(runs.hits(wanted).tolist()) == known & set(batch)
        runs.add(wanted)
        known |= set(batch)


@_QUICK
@given(
    st.lists(st.lists(st.lists(st.sampled_from("abcdefghij"), max_size=8), max_size=4), max_size=4), st.integers(0, 5)
)
def test_a_key_book_is_a_dictionary_that_lasts(
    tmp_path_factory: pytest.TempPathFactory, runs: list[list[list[str]]], start: int
) -> None:
    ledger = Ledger(tmp_path_factory.mktemp("keys") / "ledger.sqlite")
    pattern = KeyPattern.of("K{00}", start)
    known: dict[str, str] = {}
    for batches in runs:
        run = ledger.begin("test", "keys")
        with ledger.held(run):
            book = KeyBook("b", pattern, ledger)
            assert dict(book.all().iter_rows()) == known
            for batch in batches:
                asked = pl.Series("identity", batch, dtype=pl.String)
                found = book.find(asked)
                assert dict(found.iter_rows()) == {k: known[k] for k in batch if k in known}
                book.give(book.propose(asked, found))
                for identity in batch:
                    known.setdefault(identity, f"K{start + len(known):02d}")
            book.save(ledger, run)
            from mudanza.core.files import Outputs

            ledger.commit(run, Outputs(str(run)), {}, [], [])
    assert ledger.books().get("b", 0) == len(known)
    assert dict(KeyBook("b", pattern, ledger).all().iter_rows()) == known


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
    writer = RowWriter(heads, Dialect(delimiter=";", encoding=encoding[0], bom=encoding[1], line_end=end))
    frame = pl.DataFrame(table, schema=dict.fromkeys(heads, pl.String), orient="row")
    data = writer.head() + writer.rows(frame.head(1)) + writer.rows(frame.slice(1))
    text = data.decode("utf-8-sig" if encoding[1] else encoding[0])
    rows = list(csv.reader(io.StringIO(text, newline=""), delimiter=";"))
    assert rows == [heads, *[[cell or "" for cell in row] for row in table]]
