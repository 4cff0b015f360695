"""Every way to mishandle a lent workbook that we could think of, with real edits beside: what a program did is never taken for an edit, and no edit is lost."""

from __future__ import annotations

import csv
import itertools
import random
import shutil
import unicodedata
from collections.abc import Callable
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from openpyxl import load_workbook
from openpyxl.comments import Comment

from conftest import alone, layout_json, make_move, needs_office, office, program, some
from mishandling import COLUMNS, DIALECTS, ROWS, TITLES, Sheet, lines, plain

#: edits that a person made beside: row, field, what was typed, and what it is in the layout's texts
EDITS: dict[tuple[int, str], tuple[Any, str | None]] = {
    (3, "Name"): ("Jane Doe", "Jane Doe"),
    (8, "Town"): ("Lisboa", "Lisboa"),
    (12, "Balance"): (77.5, "77,50"),
    (15, "Born"): (datetime(2001, 2, 13), "13/02/2001"),
    (20, "Visits"): (401.0, "401"),
    (22, "Notes"): (None, None),
}


@pytest.fixture(scope="session")
def lent(tmp_path_factory: pytest.TempPathFactory) -> Path:
    move = make_move(tmp_path_factory.mktemp("mishandled") / "move")
    (move / "l.json").write_text(layout_json(COLUMNS, primaryKey="code"), encoding="utf-8")
    with (move / "people.csv").open("w", encoding="utf-8", newline="") as file:
        csv.writer(file).writerows([TITLES, *lines()])
    program("lend", "people.csv", "--layout", "l.json", "--to", "lent.xlsx", cwd=move, status=0)
    return move


def edited(lent: Path, without: tuple[str, ...] = ()) -> tuple[Sheet, dict[tuple[str, str], str | None]]:
    """The sheet with the edits in it, and what they are, by key and field."""
    sheet = Sheet.of(lent / "lent.xlsx")
    expected = {}
    for (row, title), (value, text) in EDITS.items():
        if title not in without:
            sheet.rows[row][sheet.at(title)] = value
            expected[sheet.rows[row][0], title] = text
    return sheet, expected


def came_back(lent: Path, path: Path, *said: str) -> dict[str, Any]:
    document: dict[str, Any] = program("receive", path, "--json", *said, cwd=lent).json
    return document


def changes(document: dict[str, Any]) -> dict[tuple[str, str], str | None]:
    return {(one["key"], one["field"]): one["after"] for one in document["changes"]}


def check(document: dict[str, Any], expected: dict[tuple[str, str], str | None]) -> None:
    assert document["blocked"] is None
    assert changes(document) == expected, (document["undone"], document["questions"])
    assert (document["additions"], document["removals"], document["conflicts"]) == ([], [], [])


# values: the field, and what becomes of each of its cells


def _exponent(text: str) -> str:
    return f"{float(text):.5E}"


def _swapped(value: datetime) -> Any:
    return value.replace(day=value.month, month=value.day) if value.day <= 12 else value.strftime("%d/%m/%Y")


def _code_as_date(text: str) -> Any:
    dates = {"1-2": (2, 1), "3-4": (4, 3), "10-12": (12, 10), "MAR1": (3, 1), "SEP7": (9, 7), "5/6": (6, 5)}
    return datetime(2026, *dates[text]) if text in dates else 700.0 if text == "7E2" else text


VALUES: dict[str, tuple[str, Callable[[Any], Any]]] = {
    "zeros gone": ("Post", lambda v: float(v)),
    "zeros gone, as text": ("Post", lambda v: v.lstrip("0")),
    "a prefix for all": ("Phone", lambda v: f"00{v.lstrip('+')}"),
    "the same behind all": ("Town", lambda v: f"{v} (PT)"),
    "other signs between": ("Phone", lambda v: v.replace(" ", "-")),
    "days lost": ("Born", lambda v: v.replace(day=1)),
    "one word for all": ("Active", lambda _: "J"),
    "an apostrophe in front": ("Post", lambda v: f"'{v}"),
    "a formula of a text": ("Post", lambda v: f'="{v}"'),
    "a space behind": ("Post", lambda v: f"{v} "),
    "groups in codes": ("Account", lambda v: f"{int(v):,}"),
    "long numbers as numbers": ("Account", lambda v: float(v)),
    "long numbers rounded": ("Account", lambda v: v[:15] + "0000"),
    "long numbers in exponent form": ("Account", _exponent),
    "long numbers with a comma": ("Account", lambda v: _exponent(v).replace(".", ",")),
    "plus signs gone": ("Phone", lambda v: v.lstrip("+")),
    "spaces gone": ("Phone", lambda v: v.replace(" ", "")),
    "links": ("Phone", lambda v: f"tel:{v}"),
    "codes to dates": ("Tariff", _code_as_date),
    "codes to short dates": ("Tariff", lambda v: {"1-2": "01. Feb", "3-4": "03. Apr", "MAR1": "01. Mrz", "5/6": "05. Jun"}.get(v, v)),
    "codes to days since 1900": ("Tariff", lambda v: {"1-2": 46054.0, "3-4": 46115.0}.get(v, v)),
    "decimal signs in codes": ("Tariff", lambda v: v.replace(".", ",")),
    "UTF-8 read as cp1252": ("Name", lambda v: v.encode().decode("cp1252", "replace")),
    "UTF-8 read as Latin-1": ("Name", lambda v: v.encode().decode("latin-1")),
    "UTF-8 read as Mac Roman": ("Name", lambda v: v.encode().decode("mac_roman")),
    "UTF-8 read as a DOS code page": ("Name", lambda v: v.encode().decode("cp850")),
    "read wrongly twice": ("Name", lambda v: v.encode().decode("latin-1").encode().decode("latin-1")),
    "Latin-1 read as UTF-8": ("Name", lambda v: v.encode("latin-1").decode("utf-8", "replace")),
    "Latin-1 read as DOS": ("Name", lambda v: v.encode("latin-1").decode("cp850")),
    "question marks": ("Name", lambda v: v.encode("ascii", "replace").decode()),
    "two question marks": ("Name", lambda v: "".join(c if c.isascii() else "??" for c in v)),
    "letters left out": ("Name", lambda v: v.encode("ascii", "ignore").decode()),
    "accents off": ("Name", plain),
    "umlauts spelt out": ("Name", lambda v: plain(v.replace("ü", "ue").replace("ß", "ss"))),
    "accents apart": ("Name", lambda v: unicodedata.normalize("NFD", v)),
    "capitals": ("Name", str.upper),
    "small letters": ("Name", str.lower),
    "capitals at the start": ("Name", str.title),
    "HTML": ("Name", lambda v: v.replace("'", "&#39;")),
    "no-break spaces": ("Name", lambda v: v.replace(" ", "\u00a0")),
    "two spaces": ("Name", lambda v: v.replace(" ", "  ")),
    "padded": ("Town", lambda v: v.ljust(20)),
    "a space in front": ("Town", lambda v: f" {v}"),
    "zero-width spaces": ("Town", lambda v: f"{v}\u200b"),
    "spaces collapsed": ("Notes", lambda v: " ".join(v.split())),
    "line breaks to spaces": ("Notes", lambda v: v.replace("\n", " ")),
    "line breaks of Windows": ("Notes", lambda v: v.replace("\n", "\r\n")),
    "line breaks written out": ("Notes", lambda v: v.replace("\n", "\\n")),
    "curly quotes": ("Notes", lambda v: v.replace("'", "\u2019").replace(' "', " \u201c").replace('" ', "\u201d ")),
    "long dashes": ("Notes", lambda v: v.replace(" - ", " \u2013 ")),
    "cut at 255": ("Notes", lambda v: v[:255]),
    "cut at 50": ("Notes", lambda v: v[:50]),
    "cut with dots": ("Notes", lambda v: v if len(v) < 40 else f"{v[:37]}..."),
    "day and month exchanged": ("Born", _swapped),
    "dates as American text": ("Born", lambda v: f"{v:%m/%d/%Y}"),
    "dates as German text": ("Born", lambda v: f"{v:%d.%m.%Y}"),
    "dates with short years": ("Born", lambda v: f"{v:%d/%m/%y}"),
    "dates with named months": ("Born", lambda v: f"{v:%d-%b-%Y}"),
    "dates in words": ("Born", lambda v: f"{v:%d %B %Y}"),
    "dates with their weekday": ("Born", lambda v: f"{v:%A, %d %B %Y}"),
    "dates as ISO with a zone": ("Born", lambda v: f"{v:%Y-%m-%dT00:00:00Z}"),
    "dates as digits": ("Born", lambda v: f"{v:%Y%m%d}"),
    "dates as days since 1900": ("Born", lambda v: float((v - datetime(1899, 12, 30)).days)),
    "dates as days since 1904": ("Born", lambda v: float((v - datetime(1904, 1, 1)).days)),
    "four years and a day later": ("Born", lambda v: v + timedelta(days=1462)),
    "a day earlier": ("Born", lambda v: v - timedelta(days=1)),
    "a day earlier by evening": ("Born", lambda v: v - timedelta(hours=1)),
    "a century later": ("Born", lambda v: v.replace(year=v.year + 100)),
    "years lost": ("Born", lambda v: v.replace(year=2026) if (v.month, v.day) != (2, 29) else v),
    "times gone": ("Seen", lambda v: v.replace(hour=0, minute=0, second=0)),
    "seconds gone": ("Seen", lambda v: v.replace(second=0)),
    "an hour later": ("Seen", lambda v: v + timedelta(hours=1)),
    "five hours earlier": ("Seen", lambda v: v - timedelta(hours=5)),
    "summer time": ("Seen", lambda v: v + timedelta(hours=2 if 3 < v.month < 11 else 1)),
    "moments as ISO": ("Seen", lambda v: f"{v:%Y-%m-%dT%H:%M:%S.000Z}"),
    "moments of twelve hours": ("Seen", lambda v: f"{v:%m/%d/%Y %I:%M:%S %p}"),
    "moments without seconds": ("Seen", lambda v: f"{v:%d/%m/%Y %H:%M}"),
    "decimal commas": ("Balance", lambda v: f"{v:.2f}".replace(".", ",")),
    "decimal points": ("Balance", lambda v: f"{v:.2f}"),
    "groups of digits": ("Balance", lambda v: f"{v:,.2f}"),
    "German groups": ("Balance", lambda v: f"{v:,.2f}".translate({44: 46, 46: 44})),
    "Swiss groups": ("Balance", lambda v: f"{v:,.2f}".replace(",", "\u2019")),
    "French groups": ("Balance", lambda v: f"{v:,.2f}".replace(",", "\u202f").replace(".", ",")),
    "currencies": ("Balance", lambda v: f"{v:,.2f} €"),
    "currencies in front": ("Balance", lambda v: f"R$ {v:,.2f}".translate({44: 46, 46: 44})),
    "a hundred times as much": ("Balance", lambda v: round(v * 100)),
    "a hundredth": ("Balance", lambda v: v / 100),
    "decimal signs lost": ("Balance", lambda v: f"{v:.2f}".replace(".", "")),
    "whole numbers": ("Balance", lambda v: float(round(v))),
    "cut to whole numbers": ("Balance", lambda v: float(int(v))),
    "one decimal": ("Balance", lambda v: round(v, 1)),
    "binary dust": ("Balance", lambda v: v + 1e-11),
    "signs turned": ("Balance", lambda v: -v),
    "numbers as dates": ("Visits", lambda v: datetime(1899, 12, 30) + timedelta(days=v)),
    "numbers as texts": ("Visits", lambda v: str(int(v))),
    "numbers with a fraction": ("Visits", lambda v: f"{v:.2f}"),
    "yes as true": ("Active", lambda v: v == "J"),
    "yes as 1": ("Active", lambda v: 1.0 if v == "J" else 0.0),
    "yes in English": ("Active", lambda v: "Yes" if v == "J" else "No"),
    "yes in Portuguese": ("Active", lambda v: "Sim" if v == "J" else "Não"),
    "yes in French": ("Active", lambda v: "VRAI" if v == "J" else "FAUX"),
    "yes in German": ("Active", lambda v: "WAHR" if v == "J" else "FALSCH"),
    "yes in small letters": ("Active", str.lower),
    "permitted values in capitals": ("Kind", str.upper),
    "permitted values at the start": ("Kind", str.capitalize),
    "permitted values translated": ("Kind", lambda v: {"cat": "gato", "dog": "cão", "bird": "ave"}[v]),
    "permitted values with spaces": ("Kind", lambda v: f"{v} "),
    "other separators": ("Tags", lambda v: v.replace("|", ", ")),
}  # fmt: skip
#: what stands in cells where nothing was
BLANKS: dict[str, tuple[str, Any]] = {
    f"{word!r} in {title}": (title, word)
    for title, word in (("Balance", 0.0), ("Balance", "-"), ("Seen", "NULL"), ("Seen", datetime(1900, 1, 1)), ("Phone", "NULL"), ("Phone", "nan"), ("Phone", "None"), ("Phone", "#N/A"), ("Phone", "-"), ("Phone", "n/a"), ("Phone", 0.0), ("Active", "N"), ("Notes", "(blank)"), ("Tags", "null"))
}  # fmt: skip
#: what any reading of a sheet gives back as it was lent
AS_LENT = (
    "yes as true",
    "a formula of a text",
    "decimal points",
    "binary dust",
    "numbers as texts",
    "numbers with a fraction",
    "decimal commas",
    "line breaks of Windows",
)


@pytest.mark.parametrize("name", some([*VALUES, *BLANKS], 5))
def test_spoilt_values_are_no_edits(lent: Path, tmp_path: Path, name: str) -> None:
    """Whether they are put right or asked for: no spoilt cell is a change, and the edits of all other fields are."""
    title, made = VALUES[name] if name in VALUES else (BLANKS[name][0], None)
    sheet, expected = edited(lent, () if name in BLANKS else ("Notes",) if title == "Notes" else ())
    if made is not None:
        sheet.each(title, made)
        if isinstance(EDITS.get((15, title), (0,))[0], datetime) or title in ("Balance", "Visits", "Name", "Town"):
            # the edited cell was spoilt with the others; what it held can be told or not, but never is a wrong value taken
            expected = {one: text for one, text in expected.items() if one[1] != title}
    else:
        sheet.put(title, [BLANKS[name][1] if one is None else one for one in sheet.column(title)])
        expected = {one: text for one, text in expected.items() if one[1] != title}
    document = came_back(lent, sheet.save(tmp_path / "back.xlsx"))
    own = {one: text for one, text in changes(document).items() if one[1] == title}
    right = {(sheet.rows[row][0], field): text for (row, field), (_, text) in EDITS.items() if field == title}
    assert own.items() <= right.items(), (own, document["undone"], document["questions"])
    document["changes"] = [one for one in document["changes"] if one["field"] != title]
    check(document, expected)
    told = (
        document["undone"]
        or document["questions"]
        or [f for f in document["findings"] if f["code"] == "loan.error-value"]
    )
    assert told or name in AS_LENT, document["findings"]


# one cell alone

SINGLE: dict[str, tuple[str, Callable[[Any], Any]]] = {
    name: VALUES[name]
    for name in ("zeros gone", "long numbers as numbers", "long numbers in exponent form", "codes to dates", "UTF-8 read as cp1252", "question marks", "accents apart", "a space behind", "no-break spaces", "dates as days since 1900", "permitted values in capitals", "yes in English", "dates as American text", "groups of digits", "an apostrophe in front", "dates with named months")
}  # fmt: skip


@pytest.mark.parametrize("name", some(SINGLE, 3))
def test_one_spoilt_cell_is_no_edit(lent: Path, tmp_path: Path, name: str) -> None:
    """What nobody does by hand is known in one cell among forty."""
    title, made = SINGLE[name]
    sheet, expected = edited(lent)
    row = next(
        n for n, value in enumerate(sheet.column(title)) if n > 25 and value is not None and made(value) != value
    )
    sheet.rows[row][sheet.at(title)] = made(sheet.rows[row][sheet.at(title)])
    check(came_back(lent, sheet.save(tmp_path / "back.xlsx")), expected)


COLUMNS_OF: dict[str, Callable[[list[Any]], list[Any]]] = {
    "sorted alone": lambda v: sorted(v, key=str),
    "sorted alone the other way": lambda v: sorted(v, key=str, reverse=True),
    "slid up": lambda v: [*v[:5], *v[6:], None],
    "slid down": lambda v: [*v[:5], None, *v[5:-1]],
    "slid up by two": lambda v: [*v[2:], None, None],
    "filled down": lambda v: [*v[:10], *[v[9]] * 20, *v[30:]],
    "filled down to the end": lambda v: [*v[:10], *[v[9]] * 30],
    "blanked": lambda v: [None] * len(v),
    "one value for all": lambda v: ["?"] * len(v),
    "shuffled": lambda v: v[20:] + v[:20],
    "turned round": lambda v: v[::-1],
}  # fmt: skip


@pytest.mark.parametrize("title", some(["Town", "Balance", "Post", "Born"], 2))
@pytest.mark.parametrize("name", some(COLUMNS_OF, 4))
def test_columns_moved_without_the_others_are_no_edits(lent: Path, tmp_path: Path, name: str, title: str) -> None:
    sheet, expected = edited(lent, (title,))
    sheet.put(title, COLUMNS_OF[name](sheet.column(title)))
    document = came_back(lent, sheet.save(tmp_path / "back.xlsx"))
    check(document, expected)
    assert document["undone"] or document["questions"] or document["held_cells"]


@pytest.mark.parametrize("dialect", some(DIALECTS, 3))
def test_text_files_of_any_program_are_read(lent: Path, tmp_path: Path, dialect: str) -> None:
    """Delimiters, encodings, dates and numbers of other countries, with the marks and without."""
    sheet, expected = edited(lent)
    check(came_back(lent, DIALECTS[dialect].save(sheet, tmp_path / "back")), expected)
    bare = DIALECTS[dialect].save(sheet.without_mark(), tmp_path / "bare")
    check(came_back(lent, bare, "--loan", "people-1"), expected)


# what becomes of the sheet


def _capitals(sheet: Sheet) -> None:
    sheet.heading = [one.upper() for one in sheet.heading]


def _translated(sheet: Sheet) -> None:
    words = {
        "Name": "Nome",
        "Post": "Código postal",
        "Town": "Localidade",
        "Notes": "Observações",
        "Born": "Nascido",
        "Remove?": "Remover?",
    }
    sheet.heading = [words.get(one, one) for one in sheet.heading]


def _moved_columns(sheet: Sheet) -> None:
    order = sorted(range(len(sheet.heading)), key=lambda n: sheet.heading[n])
    sheet.heading = [sheet.heading[n] for n in order]
    sheet.rows = [[row[n] for n in order] for row in sheet.rows]


def _insert(sheet: Sheet, at: int, heading: Any, value: Any) -> None:
    sheet.heading.insert(at, heading)
    for row in sheet.rows:
        row.insert(at, value)


def _copied_column(sheet: Sheet) -> None:
    at = sheet.at("Town")
    sheet.heading.append("Town")
    for row in sheet.rows:
        row.append(row[at])


def _printed(sheet: Sheet) -> None:
    sheet.rows = [*sheet.rows[:20], list(sheet.heading), *sheet.rows[20:]]


def _gaps(sheet: Sheet) -> None:
    width = len(sheet.heading)
    sheet.rows = [one for row in sheet.rows for one in (row, [None] * width)]


def _titles(sheet: Sheet) -> None:
    sheet.above = [["Our clients"], [], ["printed", datetime(2026, 11, 1)]]


def _key_column(sheet: Sheet, made: Callable[[Any], Any]) -> None:
    sheet.each("Code", made)


def _swapped_marks(sheet: Sheet) -> None:
    """Sorted by name in a program that leaves hidden columns where they are."""
    at = sheet.at("(loan)")
    marks = [row[at] for row in sheet.rows]
    sheet.rows.sort(key=lambda row: str(row[1]))
    for row, mark in zip(sheet.rows, marks, strict=True):
        row[at] = mark


SHEETS: dict[str, tuple[Callable[[Sheet], Any], str | None]] = {
    "nothing": (lambda _: None, None),
    "sorted": (lambda s: s.rows.sort(key=lambda row: str(row[1])), None),
    "turned round": (lambda s: s.rows.reverse(), None),
    "sorted without the marks": (_swapped_marks, None),
    "headings in capitals": (_capitals, "loan.heading-renamed"),
    "headings in small letters": (lambda s: setattr(s, "heading", [one.lower() for one in s.heading]), "loan.heading-renamed"),
    "headings translated": (_translated, "loan.heading-renamed"),
    "headings with spaces and line breaks": (lambda s: setattr(s, "heading", [f" {one}\n" for one in s.heading]), None),
    "the key renamed": (lambda s: s.heading.__setitem__(0, "No."), "loan.heading-renamed"),
    "a heading cleared": (lambda s: s.heading.__setitem__(s.at("Town"), ""), "loan.heading-renamed"),
    "columns moved": (_moved_columns, "loan.order"),
    "a column put in": (lambda s: _insert(s, 2, "My remarks", "x"), "loan.heading-extra"),
    "a blank column put in": (lambda s: _insert(s, 2, None, None), None),
    "a column copied": (_copied_column, "loan.heading-extra"),
    "headings printed again": (_printed, "loan.heading-again"),
    "gaps between rows": (_gaps, None),
    "title lines": (_titles, None),
    "values beside": (lambda s: s.rows[4].extend([None, None, "ask Maria"]), "loan.outside"),
    "keys without their zeros": (lambda s: _key_column(s, lambda v: v.lstrip("0")), "loan.undone"),
    "keys as numbers": (lambda s: _key_column(s, float), "loan.undone"),
    "keys with spaces": (lambda s: _key_column(s, lambda v: f"{v} "), None),
    "keys with apostrophes": (lambda s: _key_column(s, lambda v: f"'{v}"), "loan.undone"),
    "a key cleared": (lambda s: s.rows[30].__setitem__(0, None), "loan.undone"),
    "all keys cleared": (lambda s: _key_column(s, lambda _: None), "loan.undone"),
    "a key changed": (lambda s: s.rows[30].__setitem__(0, "99999"), "loan.key-changed"),
    "keys sorted alone": (lambda s: s.put("Code", sorted(s.column("Code"), reverse=True)), "loan.undone"),
    "a row twice": (lambda s: s.rows.append(list(s.rows[30])), "loan.key-repeated"),
    "a key doubled": (lambda s: s.rows[30].__setitem__(0, s.rows[31][0]), "loan.key-changed"),
}  # fmt: skip


@pytest.mark.parametrize(("name", "how"), some(itertools.product(SHEETS, ["XLSX", "CSV", "XLSX without marks"]), 5))
def test_what_becomes_of_the_sheet_is_seen(lent: Path, tmp_path: Path, name: str, how: str) -> None:
    work, code = SHEETS[name]
    sheet, expected = edited(lent)
    work(sheet)
    if how == "XLSX without marks":
        if name in (
            "all keys cleared",
            "keys sorted alone",
            "a key doubled",
            "a key changed",
            "sorted without the marks",
        ):
            pytest.skip("without its keys and its marks nothing says which record a row is")
        at = next(n for n, one in enumerate(sheet.heading) if one and "(loan)" in one.lower())
        sheet.heading[at] = ""
        for row in sheet.rows:
            row[at] = None
        sheet.slip = []
    path = DIALECTS["CSV"].save(sheet, tmp_path / "back") if how == "CSV" else sheet.save(tmp_path / "back.xlsx")
    document = came_back(lent, path, "--loan", "people-1")
    check(document, expected)
    assert code is None or code in {one["code"] for one in document["findings"]}, document["findings"]


def test_a_row_that_is_gone_is_asked_for(lent: Path, tmp_path: Path) -> None:
    sheet, expected = edited(lent)
    del sheet.rows[30]
    path = sheet.save(tmp_path / "back.xlsx")
    document = came_back(lent, path)
    assert "1 lent row did not come back" in document["blocked"]
    check(came_back(lent, path, "--missing", "keep"), expected)


# cells that hold no value, and what people note


def _cells(book: Any) -> None:
    page = book["people"]
    page["M28"] = "=CONCATENATE(A28,1)"
    page["N29"] = "=1/0"
    page["N30"] = "#REF!"
    page.merge_cells("J31:K31")
    page["B31"].comment = Comment("moved away?", "Maria")


def test_one_cell_that_holds_no_value_holds_back_nothing_else(lent: Path, tmp_path: Path) -> None:
    sheet, expected = edited(lent)
    sheet.rows[26][sheet.at("Town")] = "Faro"
    expected[sheet.rows[26][0], "Name"] = "Beside"
    sheet.rows[26][1] = "Beside"
    sheet.last = _cells
    document = came_back(lent, sheet.save(tmp_path / "back.xlsx"))
    check(document, expected)
    assert {(one["field"], one["why"]) for one in document["held_cells"]} == {
        ("Town", "loan.formula"), ("Notes", "loan.formula"), ("Notes", "loan.error-value"), ("Kind", "loan.covered")
    }  # fmt: skip
    assert [(one["by"], one["cell"], one["note"]) for one in document["notes"]] == [("Maria", "B31", "moved away?")]


# files


def test_of_two_sheets_the_edited_one_is_taken(lent: Path, tmp_path: Path) -> None:
    def copy(book: Any) -> None:
        page = book.copy_worksheet(book["people"])
        page.title = "people (2)"
        for row, value in ((5, "Jane Doe"), (9, None)):
            if value:
                page.cell(row, 2).value = value

    sheet = Sheet.of(lent / "lent.xlsx")
    sheet.last = copy
    document = came_back(lent, sheet.save(tmp_path / "back.xlsx"))
    check(document, {(sheet.rows[3][0], "Name"): "Jane Doe"})
    assert "loan.copies" in {one["code"] for one in document["findings"]}
    sheet.rows[7][1] = "Another"
    sheet.last = lambda book: (copy(book), book["people (2)"].cell(9, 2, "A third"))
    document = came_back(lent, sheet.save(tmp_path / "both.xlsx"))
    assert "several sheets of the loan were edited" in document["blocked"]


def test_files_of_others_are_refused(lent: Path, tmp_path: Path) -> None:
    """Another move's loan, another loan of that name, a file that is none, one under a password."""
    sheet, _ = edited(lent)
    at = sheet.at("(loan)")
    for row in sheet.rows:
        row[at] = row[at].replace("people-1", "cats-9")
    sheet.slip = [one.replace("people-1", "cats-9") for one in sheet.slip]
    told = program("receive", sheet.save(tmp_path / "other.xlsx"), cwd=lent, status=2).err
    assert "'cats-9'" in told and "does not know" in told
    sheet, _ = edited(lent)
    for row in sheet.rows:
        row[at] = f"{row[at][:-6]}abcdef"
    told = program("receive", sheet.save(tmp_path / "again.xlsx"), cwd=lent, status=2).err
    assert "another loan of the name 'people-1'" in told
    (tmp_path / "letter.csv").write_text("Dear all,\nplease find enclosed\n", encoding="utf-8")
    assert "headings of no loan" in program("receive", tmp_path / "letter.csv", cwd=lent, status=2).err
    (tmp_path / "nothing.xlsx").write_bytes(b"")
    assert "empty" in program("receive", tmp_path / "nothing.xlsx", cwd=lent, status=3).err
    whole = (lent / "lent.xlsx").read_bytes()
    (tmp_path / "cut.xlsx").write_bytes(whole[: len(whole) // 2])
    assert "no workbook" in program("receive", tmp_path / "cut.xlsx", cwd=lent, status=3).err


def test_a_wrong_ending_says_nothing(lent: Path, tmp_path: Path) -> None:
    sheet, expected = edited(lent)
    for ending in (".csv", ".xls", ".ods", ".txt", ""):
        shutil.copy(sheet.save(tmp_path / "back.xlsx"), tmp_path / f"workbook{ending}")
        check(came_back(lent, tmp_path / f"workbook{ending}"), expected)
    shutil.copy(DIALECTS["CSV"].save(sheet, tmp_path / "back"), tmp_path / "text.xlsx")
    check(came_back(lent, tmp_path / "text.xlsx"), expected)


OFFICE = {
    "XLSX": ("xlsx", "xlsx", "en-US"), "ODS": ("ods", "ods", "en-US"), "XLS": ("xls:MS Excel 97", "xls", "en-US"),
    "German CSV": ("csv:Text - txt - csv (StarCalc):59,34,76,1,,1031,false,true,false", "csv", "de-DE"),
    "Portuguese CSV": ("csv:Text - txt - csv (StarCalc):59,34,1,1,,2070,false,true,false", "csv", "pt-PT"),
    "US CSV": ("csv:Text - txt - csv (StarCalc):44,34,76,1,,1033,false,true,false", "csv", "en-US"),
}  # fmt: skip


@alone
@needs_office
@pytest.mark.parametrize("form", some(OFFICE, 3))
def test_an_office_suite_saves_it_in_any_form(lent: Path, tmp_path: Path, form: str) -> None:
    """The lent workbook itself, edited and saved by a spreadsheet program; and untouched, which changes nothing."""
    to, ending, _ = OFFICE[form]
    expected = {}
    book = load_workbook(lent / "lent.xlsx")
    page = book["people"]
    places = {cell.value: cell.column for cell in page[1]}
    for (row, title), (value, text) in EDITS.items():
        page.cell(row + 2, places[title]).value = value
        expected[str(page.cell(row + 2, 1).value), title] = text
    page["B31"].comment = Comment("moved away?", "Maria")
    page["B1"].comment = Comment(f"{page['B1'].comment.text}\nor hers?", "Mudanza")
    book.save(tmp_path / "edited.xlsx")
    shutil.copy(lent / "lent.xlsx", tmp_path / "untouched.xlsx")
    office(to, tmp_path / "saved", tmp_path / "edited.xlsx", tmp_path / "untouched.xlsx")
    came = came_back(lent, tmp_path / f"saved/edited.{ending}")
    check(came, expected)
    notes = [(one["cell"], one["note"]) for one in came["notes"]]
    assert notes == ([] if ending == "csv" else [("B1", "or hers?"), ("B31", "moved away?")])
    untouched = came_back(lent, tmp_path / f"saved/untouched.{ending}")
    check(untouched, {})
    assert untouched["notes"] == []


@alone
@needs_office
def test_formulas_are_told_from_texts_in_every_form_of_workbook(lent: Path, tmp_path: Path) -> None:
    book = load_workbook(lent / "lent.xlsx")
    page = book["people"]
    places = {cell.value: cell.column_letter for cell in page[1]}
    town, balance, notes = (places[title] for title in ("Town", "Balance", "Notes"))
    page[f"{balance}5"], page[f"{town}6"], page[f"{notes}7"] = f"={balance}6+1", f'=CONCATENATE({town}7,"x")', "=1/0"
    page[f"{notes}8"] = "=A1"
    page[f"{notes}8"].data_type = "s"
    page[f"{town}9"] = "Faro"
    expected = {(page["A8"].value, "Notes"): "=A1", (page["A9"].value, "Town"): "Faro"}
    book.save(tmp_path / "edited.xlsx")
    for to in ("xlsx", "xlsm", "ods", "xls"):
        office(to, tmp_path / to, tmp_path / "edited.xlsx")
        document = came_back(lent, tmp_path / f"{to}/edited.{to}")
        check(document, expected)
        held = [(one["line"], one["field"], one["why"]) for one in document["held_cells"]]
        assert sorted(held) == [
            (5, "Balance", "loan.formula"),
            (6, "Town", "loan.formula"),
            (7, "Notes", "loan.formula"),
        ]


def test_what_one_column_proves_swallows_no_edit_of_another(lent: Path, tmp_path: Path) -> None:
    """Capitals of permitted words, rounded amounts, exchanged days and a slid column say nothing of single cells elsewhere; lost accents do."""
    sheet = Sheet.of(lent / "lent.xlsx")
    sheet.each("Kind", str.upper)
    sheet.each("Balance", lambda v: float(round(v)))
    sheet.each("Name", plain)
    sheet.put("Post", [*sheet.column("Post")[:20], *sheet.column("Post")[21:], None])
    town, notes = sheet.at("Town"), sheet.at("Notes")
    sheet.rows[3][town] = str(sheet.rows[3][town]).upper()
    sheet.rows[5][sheet.at("Post")] = None
    sheet.rows[7][notes] = "à la carte"
    document = came_back(lent, sheet.save(tmp_path / "back.xlsx"))
    check(
        document,
        {
            (sheet.rows[3][0], "Town"): sheet.rows[3][town],
            (sheet.rows[5][0], "Post"): None,
            (sheet.rows[7][0], "Notes"): "à la carte",
        },
    )
    assert [one["field"] for one in document["undone"]] == ["Name", "Post", "Balance", "Kind"]


# the whole way, and back


def _applied(rows: dict[str, dict[str, str]], folder: Path, undo: str = "") -> None:
    """What a target does with import files: changes, additions, removals."""
    for name in ("removals", "changes", "additions"):
        path = folder / f"{undo}{name}.csv"
        # what undoes removals adds, and what undoes additions removes
        what = {"removals": "additions", "additions": "removals"}.get(name, name) if undo else name
        if not path.is_file():
            continue
        with path.open(encoding="utf-8", newline="") as file:
            for row in csv.DictReader(file):
                if what == "removals":
                    del rows[row["Code"]]
                elif what == "additions":
                    assert row["Code"] not in rows
                    rows[row["Code"]] = {title: row.get(title) or "" for title in TITLES}
                else:
                    rows[row["Code"]].update(row)


@pytest.mark.parametrize("seed", some(range(6), 3))
@pytest.mark.parametrize("form", ["XLSX", "CSV", "German CSV", "US CSV"])
def test_lent_edited_received_applied_and_undone(lent: Path, tmp_path: Path, form: str, seed: int) -> None:
    """Random edits, additions and removals through any form: applied they give exactly the edited records, undone exactly the old ones."""
    move = shutil.copytree(lent, tmp_path / "move")
    chance = random.Random(f"{form}{seed}")
    before = {row[0] or "": dict(zip(TITLES, (one or "" for one in row), strict=True)) for row in lines()}
    expected = {key: dict(row) for key, row in before.items()}
    sheet = Sheet.of(move / "lent.xlsx")
    new: dict[str, list[tuple[Any, str]]] = {
        "Name": [("Zé da Água", "Zé da Água"), ("O'Neill", "O'Neill")],
        "Post": [("00417", "00417"), (None, "")],
        "Born": [(datetime(1999, 12, 31), "31/12/1999"), (datetime(2003, 2, 1), "01/02/2003")],
        "Balance": [(1234567.5, "1234567,50"), (0.25, "0,25"), (None, "")],
        "Active": [("J", "J"), ("N", "N")],
        "Kind": [("bird", "bird"), ("cat", "cat")],
        "Notes": [('a "b"; c, d\ne', 'a "b"; c, d\ne'), (None, "")],
        "Visits": [(12.0, "12")],
    }
    for row in chance.sample(range(ROWS), 12):
        title = chance.choice(list(new))
        value, text = chance.choice(new[title])
        sheet.rows[row][sheet.at(title)] = value
        expected[sheet.rows[row][0]][title] = text
    for row in chance.sample(range(ROWS), 3):
        sheet.rows[row][sheet.at("Remove?")] = "remove"
        expected.pop(sheet.rows[row][0])
    added = {"Code": "90001", "Name": "Neu", "Kind": "dog", "Born": "05/06/2001"}
    cells: dict[str, Any] = {**added, "Born": datetime(2001, 6, 5)}
    sheet.rows.append([cells.get(title) for title in sheet.heading])
    expected["90001"] = {title: added.get(title, "") for title in TITLES}
    chance.shuffle(sheet.rows)
    path = sheet.save(tmp_path / "back.xlsx") if form == "XLSX" else DIALECTS[form].save(sheet, tmp_path / "back")
    document = program("receive", path, "--accept", "--json", cwd=move, status=0).json
    assert (document["questions"], document["held_cells"], document["conflicts"]) == ([], [], [])
    rows = {key: dict(row) for key, row in before.items()}
    _applied(rows, move / "loans/people-1")
    assert rows == expected
    _applied(rows, move / "loans/people-1", "undo-")
    assert rows == before
