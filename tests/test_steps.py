"""Steps against Python's own arithmetic, calendars and texts: whatever the values."""

from __future__ import annotations

import calendar
import unicodedata
import uuid
from collections.abc import Callable
from datetime import date, datetime, timedelta
from decimal import (
    ROUND_CEILING,
    ROUND_DOWN,
    ROUND_FLOOR,
    ROUND_HALF_DOWN,
    ROUND_HALF_EVEN,
    ROUND_HALF_UP,
    ROUND_UP,
    Decimal,
    localcontext,
)

import polars as pl
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from stdnum import ean, luhn, verhoeff
from stdnum.iso7064 import mod_11_2, mod_11_10, mod_37_2, mod_37_36, mod_97_10

from mudanza.core.language.trying import try_flow
from mudanza.core.values.case_safe import pairs, pairs_back
from mudanza.core.values.check_digits import check_characters, check_is_right

ALNUM = "0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZ"

decimals = st.decimals(min_value=-(10**9), max_value=10**9, places=4)
days = st.dates(date(1900, 3, 1), date(2200, 12, 31))
names = st.lists(
    st.sampled_from(["ana", "DE", "sousa", "o'neil", "mcgregor", "van", "Lima", "é", "sá-reis", "e"]),
    min_size=1,
    max_size=5,
)
some = settings(max_examples=25, deadline=None)

MODES = {
    "half up": ROUND_HALF_UP, "half even": ROUND_HALF_EVEN, "half down": ROUND_HALF_DOWN, "up": ROUND_UP, "down": ROUND_DOWN,
    "ceiling": ROUND_CEILING, "floor": ROUND_FLOOR,
}  # fmt: skip


def made(flow: str, *rows: tuple[str | None, ...]) -> list[str | None]:
    """What comes out for each row, which must be without findings."""
    found = try_flow(flow, rows)
    assert not any(codes for _, codes in found), found
    return [value for value, _ in found]


def plain(number: Decimal) -> str:
    """A number as flows give it as text."""
    text = f"{number:f}"
    text = text.rstrip("0").rstrip(".") if "." in text else text
    return "0" if text in ("-0", "") else text


@pytest.mark.parametrize("mode", MODES)
@some
@given(
    values=st.lists(
        decimals
        | st.sampled_from([Decimal(t) for t in ("0.5", "-0.5", "2.25", "-2.25", "1.005", "0.0000", "-0.0001")]),
        min_size=1,
        max_size=20,
    ),
    places=st.integers(0, 3),
)
def test_rounding_is_that_of_decimal_arithmetic(mode: str, values: list[Decimal], places: int) -> None:
    expected = [plain(v.quantize(Decimal(1).scaleb(-places), rounding=MODES[mode])) for v in values]
    assert made(f'{{A}} -> number -> round {places} mode="{mode}"', *((str(v),) for v in values)) == expected


@some
@given(st.lists(st.tuples(decimals, decimals), min_size=1, max_size=20))
def test_calculations_are_exact(pairs: list[tuple[Decimal, Decimal]]) -> None:
    rows = [(str(a), str(b)) for a, b in pairs]
    both = "({A} -> number), ({B} -> number)"
    with localcontext() as exact:
        exact.prec = 50
        assert made(f"{both} -> sum", *rows) == [plain(a + b) for a, b in pairs]
        assert made(f"{both} -> difference", *rows) == [plain(a - b) for a, b in pairs]
        assert made(f"{both} -> product", *rows) == [plain(a * b) for a, b in pairs]
        assert made(f"{both} -> largest", *rows) == [plain(max(a, b)) for a, b in pairs]
        assert made("{A} -> number -> times -2.5", *rows) == [plain(a * Decimal("-2.5")) for a, _ in pairs]
        halves = [(str(a * 7), "7") for a, _ in pairs]
        assert made(f"{both} -> quotient", *halves) == [plain(a) for a, _ in pairs]


@some
@given(
    st.lists(decimals, min_size=1, max_size=20),
    st.sampled_from([(",", "."), (".", ","), (",", " "), (".", "'")]),
    st.sampled_from(["", " €", "EUR "]),
)
def test_numbers_are_read_in_any_dress(values: list[Decimal], signs: tuple[str, str], unit: str) -> None:
    decimal, group = signs
    texts = []
    for number, value in enumerate(values):
        text = f"{abs(value):,.4f}".replace(",", "_").replace(".", decimal).replace("_", group)
        text = text + unit if unit.startswith(" ") else unit + text
        if value < 0:
            text = (f"({text})", f"{text}-", f"-{text}", f"\u2212{text}")[number % 4]
        texts.append((text,))
    flow = f'{{A}} -> number decimal="{decimal}" group="{group}" signs=yes' + (
        f' unit="{unit.strip()}"' if unit else ""
    )
    assert made(flow, *texts) == [plain(v) for v in values]


@some
@given(st.lists(st.tuples(days, days), min_size=1, max_size=20))
def test_periods_are_whole(pairs: list[tuple[date, date]]) -> None:
    def months(first: date, second: date) -> int:
        if first > second:
            return -months(second, first)
        return (second.year - first.year) * 12 + second.month - first.month - (second.day < first.day)

    rows = [(f"{a}", f"{b}") for a, b in pairs]
    both = '({A} -> date "yyyy-MM-dd"), ({B} -> date "yyyy-MM-dd")'
    assert made(f'{both} -> period "days"', *rows) == [str((b - a).days) for a, b in pairs]
    assert made(f'{both} -> period "weeks"', *rows) == [str(int((b - a).days / 7)) for a, b in pairs]
    assert made(f'{both} -> period "months"', *rows) == [str(months(a, b)) for a, b in pairs]
    assert made(f'{both} -> period "years"', *rows) == [str(int(months(a, b) / 12)) for a, b in pairs]


@some
@given(st.lists(days, min_size=1, max_size=20), st.integers(-40, 40), st.integers(-500, 500))
def test_dates_move_as_calendars_do(given_days: list[date], months: int, more: int) -> None:
    def later(day: date) -> date:
        year, month = divmod(day.year * 12 + day.month - 1 + months, 12)
        last = calendar.monthrange(year, month + 1)[1]
        return date(year, month + 1, min(day.day, last)) + timedelta(days=more)

    rows = [(f"{d:%d/%m/%Y}",) for d in given_days]
    read = '{A} -> date "dd/MM/yyyy"'
    assert made(f"{read} -> shift months={months} days={more}", *rows) == [f"{later(d)}" for d in given_days]
    assert made(f'{read} -> start-of "month"', *rows) == [f"{d.replace(day=1)}" for d in given_days]
    assert made(f'{read} -> end-of "year"', *rows) == [f"{d.year}-12-31" for d in given_days]
    assert made(f'{read} -> start-of "week"', *rows) == [f"{d - timedelta(days=d.weekday())}" for d in given_days]


@some
@given(st.lists(days, min_size=1, max_size=20), st.integers(0, 100))
def test_serials_and_short_years_are_dates(given_days: list[date], pivot: int) -> None:
    serials = [(str((d - date(1899, 12, 30)).days),) for d in given_days]
    assert made("{A} -> serial", *serials) == [f"{d}" for d in given_days]
    of_1904 = [(str((d - date(1904, 1, 1)).days),) for d in given_days if d >= date(1904, 1, 1)]
    assert made("{A} -> serial base=1904", *of_1904) == [f"{d}" for d in given_days if d >= date(1904, 1, 1)]
    short = [d.replace(day=min(d.day, 28)) for d in given_days]
    expected = [d.replace(year=(2000 if d.year % 100 < pivot else 1900) + d.year % 100) for d in short]
    assert made(f'{{A}} -> date "dd.MM.yy" pivot={pivot}', *((f"{d:%d.%m.%y}",) for d in short)) == [
        f"{d}" for d in expected
    ]


@some
@given(
    st.lists(st.datetimes(datetime(1990, 1, 1), datetime(2030, 1, 1)), min_size=1, max_size=10), st.integers(-12, 14)
)
def test_zones_are_moved_to_utc(moments: list[datetime], hours: int) -> None:
    rows = [(f"{m:%Y-%m-%dT%H:%M:%S}{hours:+03d}:00",) for m in moments]
    expected = [f"{(m - timedelta(hours=hours)):%Y-%m-%dT%H:%M:%S}" for m in moments]
    assert made("{A} -> date \"yyyy-MM-dd'T'HH:mm:ssXXX\"", *rows) == expected


@some
@given(st.lists(names, min_size=1, max_size=10))
def test_names_keep_their_letters(parts: list[list[str]]) -> None:
    rows = [(" ".join(p),) for p in parts]
    found = made("{A} -> name", *rows)
    assert [f.lower() for f in found if f] == [" ".join(p).lower() for p in parts]
    again = made("{A} -> name", *((f,) for f in found))
    assert again == found
    for words, name in zip(parts, found, strict=True):
        assert name is not None and name[0] == name[0].upper()
        inner = name.split(" ")[1:-1]
        assert all(w == w.lower() for w in inner if w.lower() in ("de", "van", "e"))
        assert len(words) == len(name.split(" "))


@some
@given(
    st.lists(
        st.text(st.characters(blacklist_categories=["Cs", "Cc"]), min_size=1, max_size=20), min_size=1, max_size=10
    ),
    st.text("abcxyz019.-/", min_size=1, max_size=6),
)
def test_texts_lose_only_what_is_said(texts: list[str], signs: str) -> None:
    rows = [(t,) for t in texts]
    kept = "".join(dict.fromkeys(signs.replace("-", "")))
    if kept:
        assert made(f'{{A}} -> only "{kept}"', *rows) == ["".join(c for c in t if c in kept) for t in texts]
        assert made(f'{{A}} -> without "{kept}"', *rows) == ["".join(c for c in t if c not in kept) for t in texts]
    assert made('{A} -> unicode "NFD" -> unicode "NFC"', *rows) == [unicodedata.normalize("NFC", t) for t in texts]
    coded = made('{A} -> code fill="-"', *rows)
    assert all(
        c is not None and set(c) <= set("ABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-") and not c.startswith("-")
        for c in coded
    )
    assert made("{A} -> length", *rows) == [str(len(t)) for t in texts]
    assert made("{A} -> middle 2 3", *rows) == [t[1:4] or None for t in texts]


@some
@given(st.lists(st.lists(st.text("abc ", max_size=3), max_size=6), min_size=1, max_size=10))
def test_several_texts_are_lists(rows: list[list[str]]) -> None:
    given_rows = [(";".join(parts),) for parts in rows]
    split = [[p.strip() for p in text.split(";")] if text.strip() else None for (text,) in given_rows]
    read = '{A} -> split ";"'
    filled = [None if parts is None else sum(bool(p) for p in parts) for parts in split]
    assert made(f"{read} -> count", *given_rows) == [None if n is None else str(n) for n in filled]
    ordered = made(f'{read} -> distinct -> gather -> sort -> join "+"', *given_rows)
    assert ordered == ["+".join(sorted({p for p in parts or [] if p})) for parts in split]


@pytest.mark.parametrize(
    ("scheme", "takes", "oracle"),
    [
        ("luhn", "0123456789", luhn.calc_check_digit),
        ("verhoeff", "0123456789", verhoeff.calc_check_digit),
        ("gtin", "0123456789", ean.calc_check_digit),
        ("mod 11-2", "0123456789", mod_11_2.calc_check_digit),
        ("mod 11,10", "0123456789", mod_11_10.calc_check_digit),
        ("mod 37-2", ALNUM, mod_37_2.calc_check_digit),
        ("mod 37,36", ALNUM, mod_37_36.calc_check_digit),
        ("mod 97-10", ALNUM, mod_97_10.calc_check_digits),
    ],
)
@given(data=st.data())
def test_check_digits_are_those_of_the_standards(
    scheme: str, takes: str, oracle: Callable, data: st.DataObject
) -> None:
    texts = data.draw(st.lists(st.text(takes, min_size=1, max_size=20), min_size=1, max_size=8))
    made = check_characters(pl.Series(texts), scheme).to_list()
    assert made == [oracle(text) for text in texts]
    whole = pl.DataFrame({"a": [text + check for text, check in zip(texts, made, strict=True)]})
    assert whole.select(check_is_right(pl.col("a"), scheme)).to_series().all()


def test_check_digits_of_letters_alone_and_of_ibans() -> None:
    """The examples of the standards where no other library has them; and what has none."""
    assert check_characters(pl.Series(["ISO79", "iso-79", None, "", "ISO 79!"]), "mod 1271-36").to_list() == [
        "3W",
        "3W",
        None,
        None,
        None,
    ]
    ibans = pl.DataFrame(
        {"a": ["GB82 WEST 1234 5698 7654 32", "PT50000201231234567890154", "PT51000201231234567890154", "X", None]}
    )
    assert ibans.select(check_is_right(pl.col("a"), "iban")).to_series().to_list() == [True, True, False, False, False]
    for scheme in ("mod 661-26", "mod 27,26"):
        (made,) = check_characters(pl.Series(["BAISDLAFK"]), scheme)
        wrong = pl.DataFrame({"a": ["BAISDLAFK" + made, "BAISDLAKF" + made, "BAISDMAFK" + made]})
        assert wrong.select(check_is_right(pl.col("a"), scheme)).to_series().to_list() == [True, False, False]


@given(st.text(max_size=8), st.text(max_size=8))
def test_case_safe_texts_differ_without_their_capitals_and_come_back(one: str, other: str) -> None:
    written = pl.Series([one, other]).str.replace_many(pairs())
    assert written.str.replace_many(pairs_back()).to_list() == [one, other]
    without_small = any(unicodedata.category(sign) in ("Lu", "Lt") for sign in written[0] + written[1])
    assert one == other or without_small or written[0].lower() != written[1].lower()


@given(st.lists(st.text(st.characters(exclude_categories=["Cs", "Zs", "Cc"]), min_size=1), min_size=1, max_size=4))
def test_uuids_are_those_of_the_standard(names: list[str]) -> None:
    space = uuid.uuid5(uuid.NAMESPACE_DNS, "practice.example")
    made = [text for text, _ in try_flow('{A} -> uuid "practice.example"', [(name, None) for name in names])]
    assert made == [str(uuid.uuid5(space, name.strip())) if name.strip() else None for name in names]
