"""The language: each step does what its examples say, kinds are checked, and mistakes are pointed at."""

from __future__ import annotations

from datetime import date

import polars as pl
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from mudanza.core.documents.errors import LanguageError, MoveError
from mudanza.core.language.parameters import Declared, Parameters
from mudanza.core.language.steps import STEPS
from mudanza.core.language.trying import Tried, try_flow
from mudanza.core.language.value import Surroundings
from mudanza.core.tables.crosswalk import Crosswalk, Entry
from mudanza.core.tables.lookup import Lookup
from mudanza.core.values.kinds import Kind
from mudanza.core.values.row_columns import INNER

_CROSSWALKS = {
    "demo": Crosswalk("demo", ("from",), (Entry(2, "K", (), "dog"), Entry(3, "Q", (), ""))),
    "two": Crosswalk("two", ("from", "clinic"), (Entry(2, "D", ("north",), "debtor"), Entry(3, "D", ("south",), "dead"))),
    "wide": Crosswalk(
        "wide", ("from", "clinic"),
        (Entry(2, "A", ("(any)",), "a"), Entry(3, "A", ("north",), "north a"), Entry(4, "10", ("(any)",), "ten", "19.5"),
         Entry(5, "12", ("(any)",), "dozen"), Entry(6, "(any)", ("south",), "southern"), Entry(7, "(any)", ("(any)",), "other")),
    ),
}  # fmt: skip
_KEYS = pl.DataFrame({"identity": [f"north{INNER}1001"], "key": ["OW-000001"]})
_VETS = pl.DataFrame({"No": ["7", "7", "9"], "Name": ["Dr. Sá", "Dr. Sá ", "Ana"], "Phone": ["21", "22", None]})


def _crosswalk(name: str) -> Crosswalk:
    if name not in _CROSSWALKS:
        raise MoveError(f"there is no crosswalk {name!r}; did you mean 'demo'?")
    return _CROSSWALKS[name]


def _lookup(name: str) -> Lookup:
    if name != "vets":
        raise MoveError(f"there is no lookup {name!r}; did you mean 'vets'?")
    return Lookup("vets", ("No",), False, tuple(_VETS.columns), lambda: iter([_VETS]))


_DECLARED = {"day": Declared("day", Kind.DATE), "rate": Declared("rate", Kind.NUMBER, "1.5")}


def run(text: str, rows: list[tuple[str | None, ...]], what: str = "flow", **parameters: str) -> Tried:
    """What comes out of a flow (or condition) as plain text, and the codes of findings, for each row of A, B."""
    given = Parameters(parameters, _DECLARED)
    target = pl.DataFrame({"key": ["OW-000001"], "there": ["90017"]})
    around = Surroundings(_crosswalk, lambda _: _KEYS, given, date(2026, 3, 31), _lookup, target_ids=lambda _: target)
    return try_flow(text, rows, columns=("A", "B", "Client No"), around=around, keys=_KEYS, fields=["since"], what=what)


@pytest.mark.parametrize("name", STEPS)
def test_each_step_does_what_its_examples_say(name: str) -> None:
    assert STEPS[name].examples and STEPS[name].summary.endswith((".", ")"))
    for example in STEPS[name].examples:
        assert run(example.flow, [example.given])[0][0] == example.gives, example.flow


FLOWS = [
    ('"{A} x {B}" -> squeeze', ("a", None), "a x", []),
    ('"braces \\{A} and \\"quotes\\""', ("a",), 'braces {A} and "quotes"', []),
    ('"big" when ({A} -> number) > 10; "small" when {A} is not blank; "none" otherwise', ("11",), "big", []),
    ('"big" when ({A} -> number or blank) > 10; "none" otherwise', ("x",), "none", []),
    ('"big" when ({A} -> number) > 10; "none" otherwise', ("x",), "none", ["flow.not-a-number"]),
    ("({A} -> number) when {B} is blank; blank otherwise", ("x", "b"), None, []),
    ('"a" when {B} = "b"; "big" when ({A} -> number) > 10; "none" otherwise', ("x", "b"), "a", []),
    ('"a" when {B} = "b" or ({A} -> number) > 10; "none" otherwise', ("x", "b"), "a", []),
    ('"a" when {B} = "c" and ({A} -> number) > 10; "none" otherwise', ("x", "b"), "none", []),
    ('"a" when {B} = "b" and ({A} -> number) > 10; "none" otherwise', ("x", "b"), "none", ["flow.not-a-number"]),
    ('{A} -> date "dd/MM/yyyy" or blank', ("31/02/2024",), None, []),
    ('{A} -> crosswalk demo or "other"', ("Z",), "other", []),
    ("{A} -> crosswalk demo or keep", ("Z",), "Z", []),
    ("{A} -> crosswalk demo", ("Q",), None, []),
    ("{A} -> crosswalk demo", (" K ",), "dog", []),
    ("{A} -> crosswalk demo", (None,), None, []),
    ('{A}, "south" -> crosswalk two', ("D",), "dead", []),
    ('{A}, "east" -> crosswalk two', ("D",), None, ["flow.not-in-crosswalk"]),
    ("{A}, {B} -> crosswalk wide", ("A", "north"), "north a", []),
    ("{A}, {B} -> crosswalk wide", ("A", "east"), "a", []),
    ("{A}, {B} -> crosswalk wide", ("12", "north"), "dozen", []),
    ("{A}, {B} -> crosswalk wide", ("19.50", "south"), "ten", []),
    ("{A}, {B} -> crosswalk wide", ("20", "south"), "southern", []),
    ("{A}, {B} -> crosswalk wide", ("20", None), "other", []),
    ("{A}, {B} -> crosswalk wide", (" ", "south"), None, []),
    ("{#source}, {A} -> key owners", ("1002",), None, ["flow.no-key"]),
    ("{#source}, {A} -> key owners", (None,), None, []),
    ('{A} -> number group=","', ("1,234,567.5",), "1234567.5", []),
    ('{A} -> number group=","', ("12,34",), None, ["flow.not-a-number"]),
    ("{A} -> number", ("1e5",), None, ["flow.not-a-number"]),
    ("{A} -> number", ("  7 ",), "7", []),
    ("{A} -> number", ("   ",), None, []),
    ("{A} -> number", ("99999999999999999999999999999",), None, ["flow.not-a-number"]),
    ('{A} -> date "dd/MM/yyyy"', ("1/2/24",), None, ["flow.not-a-date"]),
    ('{A} -> date "dd/MM/yyyy"', ("29/02/2023",), None, ["flow.not-a-date"]),
    ('{A} -> date "dd/MM/yyyy"', ("01/01/0000",), None, ["flow.not-a-date"]),
    ('{A} -> date "MMddyyyy"', ("112001",), None, ["flow.not-a-date"]),
    ('{A} -> date "d/M/yyyy"', ("1/2/2001",), "2001-02-01", []),
    ('{A} -> fit 3', ("abcdef",), "abc", ["flow.cut"]),
    ('({A}, {B} -> join "-"), "x" -> join "/"', ("a", "b"), "a-b/x", []),
    ('{A} -> replace "$" "$1"', ("a$",), "a$1", []),
    (":day", (None,), "2026-01-01", []),
    ("({A} -> number), :rate -> product", ("3",), "4.5", []),
    ("({A} -> number), :rate -> product", (None,), None, []),
    ("({A} -> number), ({A} -> number) -> product", ("9999999999999",), None, ["flow.too-large"]),
    ("({A} -> number), ({B} -> number) -> sum", ("x", "1"), "1", ["flow.not-a-number"]),
    ('{A} -> number signs=yes unit="€" decimal="," group="."', ("(1.234,50 €)",), "-1234.5", []),
    ('{A} -> number group=" "', ("1\u202f234",), "1234", []),
    ("{A} -> number -> round 2 mode=\"up\"", ("-1.001",), "-1.01", []),
    ("{A} -> number -> round 2 mode=\"half down\"", ("2.345",), "2.34", []),
    ("{A} -> number -> round 0 mode=\"ceiling\"", ("-2.5",), "-2", []),
    ('{A} -> date "dd/MM/yy" pivot=30', ("29/02/00",), "2000-02-29", []),
    ('{A} -> date "dd/MM/yyyy" "MM/dd/yyyy"', ("03/04/2021",), "2021-04-03", ["flow.date-order"]),
    ('{A} -> date "dd/MM/yyyy" "MM/dd/yyyy" any-order=yes', ("03/04/2021",), "2021-04-03", []),
    ('{A} -> date "dd/MM/yyyy" "MM/dd/yyyy"', ("04/04/2021",), "2021-04-04", []),
    ('{A} -> date "d MMM yyyy" language="de"', ("3 Mär 2021",), "2021-03-03", []),
    ("{A} -> serial", ("60",), None, ["flow.not-a-date"]),
    ("{A} -> serial", ("59",), "1900-02-28", []),
    ("{A} -> serial", ("45000.5",), None, ["flow.not-a-date"]),
    ('{A} -> date "yyyy-MM-dd HH:mm" -> zone "Europe/Lisbon" "UTC"', ("2024-10-27 01:30",), None, ["flow.no-such-time"]),
    ('{A} -> date "dd/MM/yyyy" -> shift months=1', ("31/01/2023",), "2023-02-28", []),
    ('({A} -> date "yyyy-MM-dd"), ({B} -> date "yyyy-MM-dd") -> period "years"', ("2024-03-01", "2020-03-02"), "-3", []),
    ('{A} -> number -> expect it is blank or it > 0 "positive" severity="warn"', ("-1",), "-1", ["expect.warn"]),
    ('{A} -> number -> expect it > 0 "positive" or blank', ("-1",), None, []),
    ('{A} -> number -> expect it > 0 "positive"', ("x",), None, ["flow.not-a-number"]),
    ('{A} -> lookup vets "Name"', ("9",), "Ana", []),
    ('{A} -> lookup vets "Phone" several="blank"', ("7",), None, []),
    ('{A} -> lookup vets "Phone" several="last"', ("7",), "22", []),
    ('{A} -> lookup vets "Name" or "nobody"', ("5",), "nobody", []),
    ("{A} -> name", ("ANA DA COSTA E SILVA",), "Ana da Costa e Silva", []),
    ("{A} -> name", ("the cat's home",), "The Cat's Home", []),
    ('{A} -> extract "[0-9]+" or keep', ("none",), "none", []),
    ("{A}, {B} -> one-filled", ("a", "b"), "a", ["flow.several-filled"]),
    ("{A}, {B} -> one-filled required=no", (None, " "), None, []),
    ("{#row}", (None,), "2", []),
    ("{#day}", (None,), "2026-03-31", []),
    ('("vip" when {A} = "yes"), ("course" when {B} = "1") -> gather -> join "+"', ("yes", "1"), "vip+course", []),
    ('("vip" when {A} = "yes"), ("course" when {B} = "1") -> gather -> join "+"', ("no", "1"), "course", []),
    ('("north" when {A} starts with "1"; {B} -> upper otherwise), "x" -> join "/"', ("12", "b"), "north/x", []),
    ('("north" when {A} starts with "1"; {B} -> upper otherwise;), "x" -> join "/"', ("2", "b"), "B/x", []),
    ('(({A} -> number or blank) when {B} = "n"; ({A}, "0" -> join "" -> number) otherwise) -> round 0', ("x", "n"), None, []),
    ('"yes" when ("a" when {A} = "b") is blank; "no" otherwise', ("b",), "no", []),
    ('{A} -> split ";" -> crosswalk demo -> join "+"', (" K;K ;;Q",), "dog+dog", []),
    ('{A} -> split ";" -> crosswalk demo -> join "+"', ("K;Z;Y",), "dog", ["flow.not-in-crosswalk"]),
    ('{A} -> split ";" -> crosswalk demo or blank', ("K;Z",), None, []),
    ('{A} -> split ";" -> lookup vets "Phone" several="first" -> join "+"', ("9;7",), "21", []),
    ('{A} -> split ";" -> lookup vets "Phone" several="first" -> join "+"', ("7;5",), "21", ["flow.not-found"]),
    ('{A} -> split ";" -> lookup vets "Phone" -> join "+"', ("7",), "21", ["flow.several-found"]),
    ('{A} -> date "dd/MM/yyyy HH:mm" "dd/MM/yyyy"', ("05/03/2021",), "2021-03-05T00:00:00", []),
    ('{A} -> split ";" -> pick 2', ("a",), None, ["flow.no-part"]),
]  # fmt: skip


@pytest.mark.parametrize(("flow", "given", "gives", "codes"), FLOWS, ids=[case[0][:40] for case in FLOWS])
def test_flows(flow: str, given: tuple, gives: str | None, codes: list[str]) -> None:
    assert run(flow, [given], day="2026-01-01") == [(gives, codes)]


CONDITIONS = [
    ('{A} = "x"', [("x", True), ("y", False), (None, False)]),
    ('{A} != "x"', [("x", False), ("y", True), (None, True)]),
    ("{A} is blank", [("  ", True), (None, True), ("x", False)]),
    ('{A} in ("a", "b") or not ({A} contains "c")', [("a", True), ("cc", False), ("d", True)]),
    ('{A} starts with "ab" and {A} ends with "z"', [("abz", True), ("ab", False), (None, False)]),
    ("({A} -> number or blank) between 1 and 3", [("3", True), ("3.01", False), ("x", False), (None, False)]),
    (
        '({A} -> date "yyyy-MM-dd" or blank) within 10 days',
        [("2026-03-21", True), ("2026-04-10", True), ("2026-03-20", False)],
    ),
    ('{A} matches "^[A-Z]\\d+$"', [("A1", True), ("a1", False)]),
    ('{A} not in ("x")', [("x", False), (None, True)]),
]


@pytest.mark.parametrize(("text", "cases"), CONDITIONS, ids=[case[0] for case in CONDITIONS])
def test_conditions(text: str, cases: list[tuple[str | None, bool]]) -> None:
    result = run(text, [(given,) for given, _ in cases], "condition")
    assert [out == "yes" for out, _ in result] == [expected for _, expected in cases]


# each mistake: what is written, what the caret marks, and words of the message or hint
MISTAKES = [
    ("{Client no} -> trim", "{Client no}", "{Client No}"),
    ("{A} -> tirm", "tirm", "'trim'"),
    ("{A} -> date", "date", "lacks its pattern"),
    ('{A} -> date "DD/MM/YYYY"', 'date "DD/MM/YYYY"', "'dd'"),
    ("{A} -> first five", "five", "a whole number"),
    ('{A} -> fit 10 word=yes', "word=yes", "'words'"),
    ("{A}, {B} -> trim", "trim", "join"),
    ("{A}, {B}", "{A}, {B}", "one is needed"),
    ("{A} -> number -> upper", "upper", "-> write"),
    ("{A} -> split \";\" -> upper", "upper", "pick 1"),
    ('"a" when ({A} -> number) = "x"; "b" otherwise', '"x"', "-> number"),
    ('"a" when {A}; "b" otherwise', "{A}", "a condition"),
    ('"a" when {A} = blank; "b" otherwise', "blank", "is blank"),
    ('"a" otherwise; "b" when {A} = "x"', '"a" otherwise', "always applies"),
    ('"a" when {A} = "x"; ({A} -> number) otherwise', "({A} -> number", "number"),
    ("{A} -> trim or blank", "or blank", "can fail"),
    ("{A} -> number or \"x\"", '"x"', "or blank"),
    ("{A} -> crosswalk dmo", "dmo", "'demo'"),
    (":missing", ":missing", "--set missing=VALUE"),
    ("{@sinse}", "{@sinse}", "{@since}"),
    ('{A} == "x"', "==", "'='"),
    ('"a" when {A} <> "x"; "b" otherwise', "<>", "'!='"),
    ('{A} -> replace "x', '"', "never closed"),
    ("{A -> trim", "{", "never closed"),
    ("({A} -> trim", "(", "never closed"),
    ("{A} -> trim)", ")", "closes nothing"),
    ("{A} ->", ">", "after the arrow"),
    ("{A} -> number decimal=comma", "comma", 'Write "comma"'),
    ("{A} -> date dd/MM/yyyy", "/", "double quotes"),
    ('{A} -> date "dd/mm/yyyy"', "date", "the month is MM"),
    ('{A} -> date "dd/MM/yy"', "date", "pivot=30"),
    ('{A} -> date "dd/MM/yyyy" -> start-of month', "month", '"month"'),
    ('{A} -> date "dd/MM/yyyy" -> end-of "monthly"', '"monthly"', '"month"?'),
    ('{A} -> date "dd/MM/yyyy" -> zone "Europe/Lisbon" "UTC"', "zone", "HH:mm"),
    ('{A} -> date "dd/MM/yyyy HH:mm" -> zone "Lisbon" "UTC"', "zone", "Europe/Lisbon"),
    ('"a" when ({A} -> date "dd/MM/yyyy") > "2024"; "b" otherwise', '"2024"', "yyyy-MM-dd"),
    ("({A} -> number) + 1", "+", "-> sum"),
    ("{A} -> number -> times 1000000000000000000000000000", "1000", "26 digits"),
    ("0.0000000000001, 1 -> sum", "0.0", "twelve after"),
    ("{A} -> number -> round 2,5", ",", "2.5"),
    ("{A} -> number -> round 2 mode=\"up\" half", "half", "does not take"),
    ('{A} -> expect > 0 "x"', ">", "`it`"),
    ("{A} -> number -> expect it > 0", "expect", "lacks its message"),
    ("it -> trim", "it", "stands for nothing"),
    ("{A} => upper", "=>", "-> upper"),
    ("{A}.upper", ".", "-> upper"),
    ("upper({A})", "upper", "{A} -> upper"),
    ('"a" if {A} = "x"; "b" otherwise', "if", "when condition"),
    ('"a" when {A} = "x", "b" otherwise', ",", "semicolon"),
    ('"a" when {A} is not "x"; "b" otherwise', '"x"', '!= "x"'),
    ('"a" when {A} is empty; "b" otherwise', "empty", "is blank"),
    ('"a" when {A} is filled; "b" otherwise', "filled", "is not blank"),
    ("{A} or {B}", "or", "{B} -> first-filled"),
    ('"a" when {A} in "x", "y"; "b" otherwise', '"', 'in ("A", "B")'),
    ("A -> trim", "A", "{A}"),
    ("{#line}", "{#line}", "{#row}"),
    ("{A} -> lookup vets Name", "Name", '"Name"'),
    ('{A} -> lookup vets "Nme"', "vets", "'Name'"),
    ('{A} -> lookup vts "Name"', "vts", "'vets'"),
    ('{A} -> extract "("', "extract", "regular expression"),
    ('{A} -> only "z-a"', "only", "a-z"),
    ("{A} -> number -> default \"0\"", "default", "a number for a number"),
    ("{A} | trim", "|", "->"),
    ("'x'", "'", "double quotes"),
    ('"a" when {A} matches "("; "b" otherwise', '"("', "regular expression"),
    ('"a" when {A} within 3 days; "b" otherwise', "{A}", "Read it first"),
    ('"a" when {A} > 5; "b" otherwise', "5", "({A} -> number)"),
    ('"a" when ({A} -> number) > "5"; "b" otherwise', '"5"', "no quotes: 5"),
    ('"a" when ({A} -> date "d/M/yyyy") > "2020-01-31"; "b" otherwise', '"2020-01-31"', '("2020-01-31" -> date'),
    ('"a" when ({A} -> yesno) = "Y"; "b" otherwise', '"Y"', "a condition by itself"),
]  # fmt: skip


@pytest.mark.parametrize(("text", "marked", "words"), MISTAKES, ids=[case[0][:30] for case in MISTAKES])
def test_mistakes_are_pointed_at(text: str, marked: str, words: str) -> None:
    with pytest.raises(LanguageError) as raised:
        run(text, [("1",)])
    place = raised.value.place
    assert place is not None and place.text is not None
    assert place.text[place.start : place.end].startswith(marked)
    assert words in f"{raised.value.what} {raised.value.hint}"


_words = st.sampled_from(
    [
        "{A}",
        "{B}",
        "{#row}",
        "{@x}",
        '"t"',
        '"{A}"',
        "->",
        ",",
        ";",
        "when",
        "otherwise",
        "or",
        "and",
        "not",
        "is",
        "blank",
        "in",
        "(",
        ")",
        "=",
        "<",
        "12",
        "-3.5",
        "yes",
        "trim",
        "number",
        "date",
        '"dd/MM/yyyy"',
        "fit",
        "join",
        "mint",
        "keys",
        ":p",
        "between",
        "within",
        "days",
        "decimal=",
        "keep",
        "'",
        '"',
        "{",
        "\\",
        "é",
        "crosswalk",
        "demo",
        "split",
        "pick",
    ]
)


@settings(max_examples=600, deadline=None)
@given(st.lists(_words, max_size=14).map(" ".join) | st.text(max_size=25))
def test_no_text_makes_the_language_fall_over(text: str) -> None:
    for what in ("flow", "condition"):
        try:
            run(text, [("1", "2"), (None, "x")], what, p="1")
        except LanguageError as error:
            assert error.place is not None and error.place.text == text
            assert 0 <= error.place.start <= max(len(text), 1)


@pytest.mark.parametrize(
    ("text", "given", "told"),
    [
        ('({A} -> date "yyyy-MM-dd") >= :from', "2024-05-01", [True, False]),
        (':from <= ({A} -> date "yyyy-MM-dd")', "2024-05-01", [True, False]),
        ('({A} -> date "yyyy-MM-dd") between :from and :from', "2024-01-31", [False, True]),
        ("({A} -> digits -> number) > :from", "20240400", [True, False]),
    ],
)
def test_a_value_that_nobody_declared_is_of_the_kind_that_it_is_compared_with(
    text: str, given: str, told: list[bool]
) -> None:
    rows = run(text, [("2024-06-01",), ("2024-01-31",)], "condition", **{"from": given})
    assert [value for value, _ in rows] == ["yes" if one else "no" for one in told]
    with pytest.raises(LanguageError) as error:
        run(text, [("2024-06-01",)], "condition", **{"from": "May 1st"})
    assert "is no" in error.value.what and "It is compared with a" in (error.value.hint or "")


def test_a_declared_text_is_a_text() -> None:
    declared = {"from": Declared("from", Kind.TEXT)}
    around = Surroundings(
        _crosswalk,
        lambda _: _KEYS,
        Parameters({"from": "2024-01-01"}, declared),
        date(2026, 3, 31),
        _lookup,
    )
    with pytest.raises(LanguageError, match="a date is compared with a text"):
        try_flow(
            '({A} -> date "yyyy-MM-dd") > :from', [("2024-06-01",)], columns=("A",), around=around, what="condition"
        )
