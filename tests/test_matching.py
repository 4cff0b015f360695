"""The parts of drafting on their own: what headings mean, what values need, which targets codes may have; and how decisions are kept in texts."""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
from datetime import date
from decimal import Decimal
from pathlib import Path

import pytest
import tomlkit
from hypothesis import example, given, settings
from hypothesis import strategies as st

from conftest import program, stories
from mudanza.core.language.saying import in_words
from mudanza.core.language.steps import STEPS
from mudanza.core.language.trying import try_flow, without_tables
from mudanza.core.language.value import Surroundings
from mudanza.core.layouts.layout import Field
from mudanza.core.layouts.types.bounds import Bound, Bounds
from mudanza.core.layouts.types.moment import DateType
from mudanza.core.layouts.types.number import NumberType
from mudanza.core.layouts.types.text import TextType
from mudanza.core.layouts.types.yesno import YesNoType
from mudanza.core.plans.remarks import Remark, read_remarks, write_remarks
from mudanza.core.tables.crosswalk import Crosswalk, Entry, Listed
from mudanza.core.values.kinds import Kind
from mudanza.core.values.number_format import NumberFormat
from mudanza.core.work.crosswalks.proposing import TargetCode, Targets, propose
from mudanza.core.work.matching.answers import Answer, answers_text, read_answers, with_answers
from mudanza.core.work.matching.conversions import conversion
from mudanza.core.work.matching.drafted_plan import flow_text
from mudanza.core.work.matching.looks.contents import contents
from mudanza.core.work.matching.meaning.headings import Headings
from mudanza.core.work.matching.meaning.lexicon import ideas, lexicon, tables
from mudanza.core.work.matching.meaning.likeness import likeness
from mudanza.core.work.matching.meaning.tokens import shortens, shortens_phrase, words_of
from mudanza.core.work.matching.views import View

# headings: two of them, and whether they mean the same (at least so much), or not (at most so much)
ALIKE = [
    ("birth_date", "Geb.-Dat.", 0.9),
    ("Date of birth", "F. Nacimiento", 0.8),
    ("last_name", "Nachname", 0.9),
    ("last_name", "LAST_NM", 0.6),
    ("customer_id", "KundenNr", 0.9),
    ("postcode", "PLZ", 0.9),
    ("phone2", "Telefon 2", 0.6),
    ("unit_price", "UNTPRC", 0.5),
    ("vat_rate", "MwSt-Satz", 0.9),
    ("quantity", "Qtd.", 0.9),
    ("order_no", "ORDNO", 0.5),
    ("e_mail", "E-Mail-Adresse", 0.9),
    ("street", "Straße", 0.9),
    ("emergency_phone", "Notfall-Telefon", 0.9),
    ("description", "Artikelbezeichnung", 0.6),
    ("hired_on", "Date d'embauche", 0.8),
    ("weight", "WGT", 0.8),
    ("zipcode", "zip_code", 0.9),
    ("item_code", "Anyagkód", 0.8),
    ("ticket_no", "Billetnr.", 0.8),
    ("sex", "GNDR", 0.7),
    ("surname", "SNAME", 0.6),
    ("postcode", "PCODE", 0.6),
    ("account_holder", "KTO_INH", 0.6),
    ("remarks", "BEM", 0.6),
    ("remarks", "Opm.", 0.7),
    ("fax", "Télécopie", 0.8),
    ("phone", "Tlf.", 0.8),
    ("employee_no", "EE#", 0.3),
    ("postcode", "ΤΑΧ. ΚΩΔΙΚΑΣ", 0.8),
    ("birth_date", "Дата на раждане", 0.9),
    ("national_id", "D.N.I.", 0.6),
    ("vat_rate", "BTW %", 0.8),
    ("service_charge", "BETRKOST", 0.3),
    ("cost_centre", "Str. mesto", 0.6),
]
UNLIKE = [
    ("phone", "Notfall-Telefon", 0.85),
    ("phone2", "Telefon 3", 1.0),
    ("birth_date", "Date of death", 0.5),
    ("first_name", "Nachname", 0.5),
    ("cost_price", "Verkaufspreis", 0.6),
    ("created", "Geändert am", 0.5),
    ("leave_date", "Befristet bis", 0.6),
    ("town", "Title", 0.4),
    ("net", "gross", 0.4),
    ("iban", "Chip", 0.3),
    ("sold_by", "By", 0.5),
    ("tenant_no", "Flat no.", 0.7),
]


def like(one: str, other: str, *together: str) -> float:
    """How alike two headings are, the second among others of its source."""
    mine = Headings(lexicon(), [one]).meaning(one)
    return likeness(mine, Headings(lexicon(), [other, *together], [mine.ideas]).meaning(other)).score


@pytest.mark.parametrize(("one", "other", "least"), ALIKE, ids=[f"{a}~{b}" for a, b, _ in ALIKE])
def test_headings_that_mean_the_same(one: str, other: str, least: float) -> None:
    assert like(one, other) >= least


@pytest.mark.parametrize(("one", "other", "most"), UNLIKE, ids=[f"{a}!{b}" for a, b, _ in UNLIKE])
def test_headings_that_do_not(one: str, other: str, most: float) -> None:
    assert like(one, other) <= most


def test_what_a_heading_means_depends_on_those_beside_it() -> None:
    """`By` is a town where the other headings are Danish, and `Art` a species where they are Swedish."""
    assert (
        like("town", "By", "Fornavn", "Efternavn", "Postnr", "Gade")
        > 0.8
        > like("town", "By", "Name", "Street", "Made")
    )
    assert like("species", "Art", "Djurets namn", "Ägare", "Födelsedatum") > 0.7


@stories(25)
@given(st.text(max_size=20), st.text(max_size=20))
def test_any_heading_is_as_like_another_as_a_share_can_be(one: str, other: str) -> None:
    assert 0 <= like(one, other) <= 1.1
    assert words_of(one) == words_of(one.upper()) or not one.isascii() or one != one.lower()


@pytest.mark.parametrize(
    ("short", "word", "does"),
    [
        ("qty", "quantity", True),
        ("wgt", "weight", True),
        ("itm", "item", True),
        ("dsc", "date", False),
        ("gty", "quantity", False),
        ("itm", "international", False),
        ("untprc", "unit price", True),
        ("doa", "date of arrival", True),
        ("bdate", "date birth", False),
    ],
)
def test_abbreviations(short: str, word: str, does: bool) -> None:
    assert (shortens_phrase(short, word.split()) if " " in word else shortens(short, word)) is does


def test_the_tables_of_words_hold() -> None:
    """Each language has joining words and words for what most lists hold, no word twice in a line, and no idea that there is not."""
    assert len(ideas()) >= 200 and len(tables()) >= 25
    common = {
        "given name",
        "family name",
        "birth date",
        "post id",
        "town",
        "street",
        "email",
        "phone",
        "price",
        "note",
        "paid",
    }
    for language, lines in tables().items():
        meant = [frozenset() if one is None else one for _, one, _ in lines]
        assert frozenset() in meant, language
        assert {frozenset(c.split()) for c in common} <= set(meant), language
        for number, one, words in lines:
            assert not (one or frozenset()) - set(ideas()), (language, number)
            assert len({w.lower() for w in words}) == len(words), (language, number)
            assert not any(all(map(str.isdigit, words_of(w))) for w in words), (language, number)
        assert len(set(meant)) == len(meant), (language, [m for m in meant if meant.count(m) > 1])
    for idea in ideas().values():
        assert idea.kin <= set(ideas()), idea


# what values look like, by themselves
CONTENTS = [
    ("email", ["ana@example.org", "rui.reis@example.com"]),
    ("iban", ["DE89370400440532013000", "FR1420041010050500013M02606"]),
    ("barcode", ["4006381333931", "9780306406157"]),
    ("tax", ["501442600", "123456789"]),
    ("phone", ["+351 912 345 678", "069 1234567"]),
    ("gender", ["m", "f"]),
    ("country", ["Portugal", "Spanien", "France"]),
    ("currency", ["EUR", "GBP", "CHF"]),
    ("post", ["4560-062", "3870-787"]),
    ("date", ["31.12.2024", "1.2.2023"]),
    ("given", ["Maria", "Jens", "Giulia", "Katarzyna", "Olivier"]),
    ("family", ["Kowalczyk", "Johansson", "Papadopoulos", "Fernández", "Müller"]),
    ("town", ["Lisboa", "Göteborg", "Kraków", "Toulouse", "Graz"]),
    ("street", ["Rua das Flores 12", "Hauptstraße 4", "ul. Długa 7", "12 Rue Pasteur", "Storgatan 3"]),
    ("company", ["Becker GmbH", "Silva & Filhos, Lda", "Dupont SARL", "Nordic Foods AB"]),
]


@pytest.mark.parametrize(("what", "values"), CONTENTS, ids=[c[0] for c in CONTENTS])
def test_values_are_known_by_themselves(what: str, values: list[str]) -> None:
    found = contents(values)
    assert found[what] > 0.6 or (what == "tax" and found[what] >= 0.5)
    assert contents([]) == {}


# values


def view(*values: str) -> View:
    distinct = dict.fromkeys(values)
    return View(
        "old",
        "A",
        Headings(lexicon(), ["A"]).meaning("A"),
        len(values),
        len([v for v in values if v.strip()]),
        len(distinct),
        tuple(v for v in distinct if v.strip()),
    )


def text(**more: object) -> Field:
    return Field("f", "F", TextType(**more))  # type: ignore[arg-type]


NUMBER = Field("f", "F", NumberType(format=NumberFormat.by("0.00")))
DATE = Field("f", "F", DateType())
TIME = Field("f", "F", DateType(kind=Kind.DATETIME))
YESNO = Field("f", "F", YesNoType())

# a field, the values of a column, the steps that are found, and words of the doubt (None if there is none)
CONVERSIONS = [
    (NUMBER, ["1.50", "22"], " -> number", None),
    (NUMBER, ["1,50", "22,00"], ' -> number decimal=","', None),
    (NUMBER, ["1.234,50", "2,00"], ' -> number decimal="," group="."', None),
    (NUMBER, ["1,234.50", "2.00"], ' -> number group=","', None),
    (NUMBER, ["1 234,50", "2,00"], ' -> number decimal="," group=" "', None),
    (NUMBER, ["12,50 €", "3,00 €"], ' -> number decimal="," unit="€"', None),
    (NUMBER, ["EUR 12.50", "EUR 3.00"], ' -> number unit="EUR"', None),
    (NUMBER, ["(12.50)", "3.00"], " -> number signs=yes", None),
    (NUMBER, ["12.50-", "3.00"], " -> number signs=yes", None),
    (NUMBER, ["12 %", "3 %"], " -> number percent=yes", None),
    (NUMBER, ["1.505", "22.251", "3.1"], " -> number -> round 2", None),
    (NUMBER, ["1.500", "22.250"], " -> number", "decimals or of thousands"),
    (NUMBER, ["n/a", "1.50", "2.00"], ' -> blank-if "n/a" -> number', None),
    (NUMBER, ["", " "], " -> number", "blank in the sample"),
    (DATE, ["2024-01-31"], ' -> date "yyyy-MM-dd"', None),
    (DATE, ["31/01/2024", "01/02/2024"], ' -> date "dd/MM/yyyy"', None),
    (DATE, ["01/31/2024", "02/01/2024"], ' -> date "MM/dd/yyyy"', None),
    (DATE, ["01/02/2024", "03/04/2024"], ' -> date "dd/MM/yyyy"', "not told apart"),
    (DATE, ["31.01.2024"], ' -> date "dd.MM.yyyy"', None),
    (DATE, ["20240131", "20231201"], ' -> date "yyyyMMdd"', None),
    (DATE, ["31 Jan 2024"], ' -> date "d MMM yyyy"', None),
    (DATE, ["3 de março de 2024"], " -> date \"d 'de' MMMM 'de' yyyy\" language=\"pt\"", None),
    (DATE, ["00/00/0000", "31/01/2024"], ' -> blank-if "00/00/0000" -> date "dd/MM/yyyy"', None),
    (DATE, ["45000", "45100"], " -> serial", None),
    (DATE, ["31/01/2024 10:30"], ' -> date "dd/MM/yyyy HH:mm" -> day', None),
    (TIME, ["2024-01-31T10:30:00"], " -> date \"yyyy-MM-dd'T'HH:mm:ss\"", None),
    (TIME, ["2024-01-31T10:30:00+01:00"], " -> date \"yyyy-MM-dd'T'HH:mm:ssXXX\"", None),
    (YESNO, ["Y", "N"], ' -> yesno yes="y" no="n"', None),
    (YESNO, ["sim", "não"], ' -> yesno yes="sim" no="não"', None),
    (YESNO, ["sí"], ' -> yesno yes="sí" no="no"', None),
    (YESNO, ["nein"], ' -> yesno yes="ja" no="nein"', None),
    (YESNO, ["faux"], ' -> yesno yes="vrai" no="faux"', None),
    (YESNO, ["J"], ' -> yesno yes="j" no="n"', None),
    (YESNO, ["1", "0"], ' -> yesno yes="1" no="0"', None),
    (YESNO, ["ja", "nej"], ' -> yesno yes="ja" no="nej"', None),
    (YESNO, ["ja"], ' -> yesno yes="ja" no="nein|nee|nej|nei"', None),
    (YESNO, ["E", "H"], ' -> yesno yes="e" no="h"', None),
    (YESNO, ["K", "E"], ' -> yesno yes="k" no="e"', None),
    (YESNO, ["x", ""], ' -> default "-" -> yesno yes="x" no="-"', None),
    (YESNO, ["Y", "perhaps"], ' -> yesno yes="y" no="n"', "perhaps"),
    (text(), ["Ana", "Rui "], " -> trim", None),
    (text(), ["Ana  Sá", "Rui"], " -> squeeze", None),
    (text(), ["Ana", "Rui"], "", None),
    (text(max_length=5), ["Ana", "Maria Sá"], " -> fit 5 words=yes", None),
    (text(permitted=("cat", "dog")), ["cat", "dog"], "", None),
    (text(permitted=("cat", "dog")), ["CAT", "DOG"], " -> lower", None),
    (text(permitted=("Cat", "Dog")), ["CAT", "DOG"], " -> sentence", None),
    (text(pattern="[0-9]{9}"), ["+351 912345678", "912345678"], " -> digits -> last 9", None),
    (text(pattern="[A-Z]{2}[0-9]+"), ["ab12", "cd3"], " -> upper", None),
    (text(pattern="[0-9]{5}"), ["123", "45"], " -> digits -> pad 5", None),
    (text(pattern="X[0-9]"), ["ab", "cd"], "", "only 0% of the values"),
]


@pytest.mark.parametrize(
    ("field", "values", "steps", "doubt"), CONVERSIONS, ids=[f"{c[0].kind} {c[1][0]}" for c in CONVERSIONS]
)
def test_the_steps_that_values_need(field: Field, values: list[str], steps: str, doubt: str | None) -> None:
    found = conversion(field, view(*values))
    assert found.steps == steps
    assert (doubt is None) == (found.doubt is None) and (doubt or "") in (found.doubt or "")
    if doubt is None:
        made = try_flow("{A}" + found.steps, [(v,) for v in values])
        assert not any(codes for _, codes in made if codes != ["flow.cut"])


def test_what_is_padded_or_cut_is_no_fit() -> None:
    assert conversion(text(pattern="[0-9]{5}"), view("123", "45")).fit == 0
    assert conversion(text(pattern="[0-9]{5}"), view("123-45", "23456")).fit == 1
    assert conversion(text(max_length=4), view("41", "12345678901")).fit == 0.5


def test_what_lies_out_of_bounds_is_no_fit() -> None:
    bounded = Field(
        "f", "F", NumberType(format=NumberFormat.by("0.00"), bounds=Bounds(most=Bound(Decimal(500), "500")))
    )
    assert conversion(bounded, view("12,50", "1800000000")).fit == 0.5
    assert conversion(bounded, view("500", "499.99")).fit == 1
    born = Field("f", "F", DateType(bounds=Bounds(Bound(date(1995, 1, 1), "1995-01-01"))))
    assert conversion(born, view("31.12.1994", "01.01.1995", "02.01.1995", "1.1.1900")).fit == 0.5


def test_codes_need_a_crosswalk() -> None:
    found = conversion(text(permitted=("cat", "dog")), view("K", "H"))
    assert found.codes and found.share >= 0.5


def test_the_benchmark_of_matching_holds() -> None:
    """On the cases that nothing was learned from."""
    bench = Path(__file__).parent.parent / "bench"
    command = [sys.executable, str(bench / "matching.py"), "--part", "sealed"]
    ended = subprocess.run(command, cwd=bench, capture_output=True, text=True, check=True)
    every = next(line for line in ended.stdout.splitlines() if line.startswith("| all |"))
    precision, recall, wrong = (float(cell) for cell in every.split("|")[3:6])
    assert precision >= 0.95 and recall >= 0.9 and wrong <= 0.01


def put(folder: Path, texts: dict[str, str]) -> None:
    """Write files."""
    for name, content in texts.items():
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / name).write_text(content, encoding="utf-8")


def test_several_sources_become_cases(tmp_path: Path) -> None:
    texts = {
        "mudanza.toml": 'name = "T"\n[keys.people]\npattern = "P{000}"\n',
        "layouts/people.json": """{"@context": "http://www.w3.org/ns/csvw", "tableSchema": {"primaryKey": "code", "columns": [
            {"name": "code", "titles": "Code", "required": true, "datatype": {"base": "string", "format": "P[0-9]{3}"}},
            {"name": "full_name", "titles": "Name", "required": true},
            {"name": "street", "titles": "Street", "datatype": {"base": "string", "maxLength": 60}},
            {"name": "born", "titles": "Born", "datatype": {"base": "date", "format": "yyyy-MM-dd"}},
            {"name": "sex", "titles": "Sex", "datatype": {"base": "string", "format": "m|f"}},
            {"name": "clinic", "titles": "Clinic"}]}}""",
        "plans/people.toml": 'layout = "layouts/people.json"\n[[source]]\nname = "pt"\nfile = "incoming/pt.csv"\n[[source]]\nname = "de"\nfile = "incoming/de.csv"\n',
        "incoming/pt.csv": "N.º,Nome próprio,Apelido,Morada 1,Morada 2,Nasc.,Sexo\n1,Ana,Sá,Rua A,2.º,31/12/1990,Fem\n2,Rui,Reis,Rua B,,01/02/1991,Masc\n",
        "incoming/de.csv": "Nr;Name;Straße;Geb. am;Geschlecht\n1;Becker, Tom;Weg 1;31.12.1990;M\n2;Vogel, Eva;Weg 2;13.11.1980;W\n",
    }
    put(tmp_path, texts)
    made = program("match", "people", "--json", cwd=tmp_path, status=0).json
    flows = {p["field"]: " ".join(p["flow"].split()) for p in made["proposals"]}
    assert (
        flows["code"]
        == '{#source}, {N.º} -> mint people when {#source} = "pt"; {#source}, {Nr} -> mint people otherwise'
    )
    assert flows["full_name"] == '{Nome próprio}, {Apelido} -> join " " when {#source} = "pt"; {Name} otherwise'
    assert flows["street"] == '{Morada 1}, {Morada 2} -> join ", " when {#source} = "pt"; {Straße} otherwise'
    assert (
        flows["born"] == '{Nasc.} -> date "dd/MM/yyyy" when {#source} = "pt"; {Geb. am} -> date "dd.MM.yyyy" otherwise'
    )
    assert (
        "crosswalk sex" in flows["sex"]
        and (tmp_path / "crosswalks/sex.csv").read_text() == "from,to,source,state,note\n"
    )
    assert made["without"] == ["clinic"]
    found = program("crosswalk", "people", "--json", cwd=tmp_path, status=1).json["crosswalks"][0]
    assert {tuple(c["code"]): c["proposal"] for c in found["codes"]} == {
        ("Fem", "pt"): "f",
        ("Masc", "pt"): "m",
        ("M", "de"): "m",
        ("W", "de"): "f",
    }
    (tmp_path / "crosswalks/sex.csv").write_text(
        (tmp_path / "crosswalks/sex.csv").read_text().replace(",proposed,", ",,")
    )
    program("build", "people", cwd=tmp_path, status=0)
    assert (tmp_path / "out/people.csv").read_text("utf-8").splitlines()[1:3] == [
        'P001,Ana Sá,"Rua A, 2.º",1990-12-31,f,',
        "P002,Rui Reis,Rua B,1991-02-01,m,",
    ]


def a_move(
    folder: Path, fields: dict[str, str], sources: dict[str, str], key: str = "", types: dict[str, object] | None = None
) -> Path:
    """A move with a list of fields (names with titles; texts, or of other `types`), and sources as CSV texts."""
    columns = [
        {"name": name, "titles": title, "required": name == key, "datatype": (types or {}).get(name, "string")}
        for name, title in fields.items()
    ]
    layout = {
        "@context": "http://www.w3.org/ns/csvw",
        "tableSchema": {"columns": columns, **({"primaryKey": key} if key else {})},
    }
    plan = "".join(f'[[source]]\nname = "{name}"\nfile = "incoming/{name}.csv"\n' for name in sources)
    texts = {
        "mudanza.toml": 'name = "T"\n',
        "layouts/people.json": json.dumps(layout),
        "plans/people.toml": f'layout = "layouts/people.json"\n{plan}',
        **{f"incoming/{name}.csv": content for name, content in sources.items()},
    }
    put(folder, texts)
    return folder


# what completes a column: the fields, the headings with a row's values, and the flows that are drafted
COMPLETED = [
    (
        {"street": "Street", "town": "Town"},
        {"Straße": "Lindenweg|Bachgasse", "Hausnummer": "4|17a", "Ort": "Mainz|Trier"},
        {"street": '{Straße}, {Hausnummer} -> join " "', "town": "{Ort}"},
    ),
    (
        {"street": "Street", "house_no": "House no."},
        {"Straße": "Lindenweg|Bachgasse", "Hausnummer": "4|17a"},
        {"street": "{Straße}", "house_no": "{Hausnummer}"},
    ),
    (
        {"street": "Street"},
        {"Straße": "Lindenweg 4|Bachgasse 9", "Hausnummer": "4|9"},
        {"street": "{Straße}"},
    ),
    (
        {"item": "Item", "description": "Description"},
        {"ITEM": "77|78", "DESC1": "Chain oil, mineral|Saw", "DESC2": "1 litre can|steel, bent"},
        {"item": "{ITEM}", "description": '{DESC1}, {DESC2} -> join " "'},
    ),
    (
        {"phone": "Phone", "town": "Town"},
        {"Phone 1": "030 12345|040 98765", "Phone 2": "030 777|040 888", "Town": "York|Leeds"},
        {"phone": "{Phone 1}", "town": "{Town}"},
    ),
    (
        {"address1": "Address 1", "address2": "Address 2", "town": "Town"},
        {"Address 1": "12 Mill Lane|3 High St", "Address 2": "Flat 2|", "City": "York|Leeds"},
        {"address1": "{Address 1}", "address2": "{Address 2}", "town": "{City}"},
    ),
    (
        {"surname": "Surname", "first_name": "First name"},
        {"Voornaam": "Piet|Anna", "Tussenv.": "van der|de", "Achternaam": "Berg|Vries"},
        {"surname": '{Tussenv.}, {Achternaam} -> join " "', "first_name": "{Voornaam}"},
    ),
    (
        {"family_name": "Family name", "given_name": "Given name"},
        {"Nombre": "Ana|Luis", "Primer apellido": "Gil|Mora", "Segundo apellido": "Vega|Sanz"},
        {"family_name": '{Primer apellido}, {Segundo apellido} -> join " "', "given_name": "{Nombre}"},
    ),
    (
        {"family_name": "Family name", "given_name": "Given name"},
        {"Name": "Becker, Tom|Vogel, Eva", "Ort": "Mainz|Trier"},
        {"family_name": '{Name} -> before "," -> squeeze', "given_name": '{Name} -> after "," -> squeeze'},
    ),
]  # fmt: skip


@pytest.mark.parametrize(("fields", "columns", "flows"), COMPLETED, ids=[" ".join(c[1]) for c in COMPLETED])
def test_what_completes_a_column_is_joined(
    tmp_path: Path, fields: dict[str, str], columns: dict[str, str], flows: dict[str, str]
) -> None:
    rows = [[v.split("|")[at] for v in columns.values()] for at in (0, 1)]
    content = "\n".join(";".join(line) for line in [list(columns), *rows])
    move = a_move(tmp_path, fields, {"old": content + "\n"})
    made = program("match", "people", "--json", cwd=move, status=0).json
    assert {p["field"]: p["flow"] for p in made["proposals"]} == flows
    program("build", "people", cwd=move, status=0)


def test_a_draft_always_compiles(tmp_path: Path) -> None:
    """A heading that flows cannot name makes a comment, and the plan can be read."""
    move = a_move(
        tmp_path, {"phone": "Phone", "town": "Town"}, {"old": "Phone {new},Town\n030 12345,Mainz\n040 9876,Trier\n"}
    )
    made = program("match", "people", "--json", cwd=move, status=0).json
    by_field = {p["field"]: p["broken"] for p in made["proposals"]}
    assert by_field["town"] is None and by_field["phone"]
    text = (move / "plans/people.toml").read_text()
    assert "# phone = {Phone {new}}" in text
    program("preview", "people", cwd=move, status=0)
    # once more says nothing twice
    program("match", "people", cwd=move, status=0)
    assert (move / "plans/people.toml").read_text() == text


MEMBERS = "Mitgl.;Vorname;Nachname;Draht;Beitritt;Merkm.\n" + "".join(
    f"{n};{given};{family};0{n}1 55{n}3;{n}.03.2019;q{n % 3}\n"
    for n, (given, family) in enumerate(zip(["Tom", "Eva", "Jan", "Ida", "Max", "Lea"], ["Roth", "Vogel", "Lang", "Beck", "Klein", "Wolf"], strict=True), start=1)
)  # fmt: skip


def test_what_is_unsure_is_asked_and_remembered(tmp_path: Path) -> None:
    fields = {
        "card": "Card",
        "given_name": "Given name",
        "family_name": "Family name",
        "call_sign": "Call sign",
        "joined": "Joined",
    }
    move = a_move(tmp_path, fields, {"old": MEMBERS}, key="card")
    program("match", "people", cwd=move, status=0)
    plan = move / "plans/people.toml"
    head = plan.read_text().split("[fields]")[0]
    assert "call_sign" not in plan.read_text()
    plan.write_text(head)
    # a letter that is none, a heading that is none, the beginning of one; then nobody is there any more
    shown = program("match", "people", "--ask", cwd=move, status=0, given="zz\no\nNobody\no\nmit\n").out
    assert "'zz' is none of the letters." in shown and "no column is called 'Nobody'." in shown
    assert "question 1 of" in shown and "people: card" in shown.split("question 1 of")[0]
    assert read_answers(move) == [Answer("people", "old", "card", "Mitgl.", "right")]
    assert "# 1.00, confirmed" in plan.read_text()
    (move / "answers.csv").write_text(
        "list;source;field;column;answer\npeople;;call_sign;Merkm.;right\npeople;old;joined;;none\npeople;new;given_name;;none\n"
    )
    plan.write_text(head)
    made = program("match", "people", "--json", cwd=move, status=0).json
    by_field = {p["field"]: p for p in made["proposals"]}
    assert by_field["call_sign"]["flow"] == "{Merkm.}" and by_field["call_sign"]["evidence"][0] == "confirmed"
    assert "joined" in made["without"] and "given_name" in by_field
    reasons = program("match", "people", "--why", "call_sign", "--json", cwd=move, status=0).json["columns"]
    assert reasons[0]["column"] == "Merkm." and reasons[0]["answer"] == "right" and reasons[0]["score"] == 1.0
    # another list of the move knows what was answered
    plan.write_text(head)
    (move / "plans/others.toml").write_text(head)
    others = program("match", "others", "--rehearse", "--json", cwd=move, status=0).json["proposals"]
    told = next(p["evidence"] for p in others if p["field"] == "call_sign")
    assert "so it was answered for people" in told
    (move / "answers.csv").write_text("list,source,field,column,answer\npeople,,joined,Beitritt,perhaps\n")
    assert "answers.csv, line 2" in program("match", "people", cwd=move, status=2).err


def test_sources_are_answered_apart(tmp_path: Path) -> None:
    """What is said of a column of one source is not said of the other's, though it has the same heading."""
    fields = {"given_name": "Given name", "call_sign": "Call sign"}
    move = a_move(tmp_path, fields, {"north": MEMBERS, "south": MEMBERS.replace("Draht", "Ruf")})
    (move / "answers.csv").write_text(
        "list,source,field,column,answer\npeople,north,call_sign,Merkm.,right\npeople,south,call_sign,,none\n"
    )
    made = program("match", "people", "--json", cwd=move, status=0).json["proposals"]
    (flow,) = (p["flow"] for p in made if p["field"] == "call_sign")
    assert flow == '{Merkm.} when {#source} = "north"'


def test_where_none_is_right_none_is_composed(tmp_path: Path) -> None:
    move = a_move(tmp_path, {"full_name": "Full name", "phone": "Phone"}, {"old": MEMBERS})
    assert {
        p["field"] for p in program("match", "people", "--rehearse", "--json", cwd=move, status=0).json["proposals"]
    } >= {"full_name"}
    (move / "answers.csv").write_text("list,source,field,column,answer\npeople,old,full_name,,none\n")
    assert "full_name" in program("match", "people", "--rehearse", "--json", cwd=move, status=0).json["without"]


def test_a_column_of_numbers_is_no_name(tmp_path: Path) -> None:
    """Whatever its heading says; the same heading above names is found."""
    rows = [("Ana Sá", 101), ("Rui Reis", 102), ("Eva Vaz", 103)]
    for at, found in ((0, True), (1, False)):
        text = "Nr,Full name\n" + "".join(f"{n},{row[at]}\n" for n, row in enumerate(rows))
        move = a_move(tmp_path / str(at), {"nr": "Nr", "full_name": "Full name"}, {"old": text})
        made = program("match", "people", "--rehearse", "--json", cwd=move, status=0).json
        assert ("full_name" in {p["field"] for p in made["proposals"]}) is found


def test_of_two_columns_that_could_be_meant_none_is_sure(tmp_path: Path) -> None:
    """It is asked which one is; a heading that is known already teaches no word."""
    rows = "".join(f"{n},21 45{n} 33 00,91 22{n} 44 55\n" for n in range(1, 9))
    fields = {"nr": "Nr", "phone": "Phone"}
    move = a_move(tmp_path / "two", fields, {"old": "Nr,Phone,Telephone\n" + rows})
    shown = program("match", "people", "--ask", cwd=move, status=0, given="a\n").out
    assert "people: phone" in shown and "words.csv" not in shown
    assert [one.field for one in read_answers(move)] == ["phone"]
    alone = a_move(tmp_path / "one", fields, {"old": "Nr,Phone,Colour\n" + rows})
    assert "people: phone" not in program("match", "people", "--ask", cwd=alone, status=0, given="").out


def test_a_new_flow_of_codes_brings_its_crosswalk(tmp_path: Path) -> None:
    """Also where it takes the place of one that stood there unsure; and words are kept as somebody's spreadsheet left them."""
    types = {"kind": {"base": "string", "format": "north|south|east"}}
    move = a_move(tmp_path, {"name": "Name", "kind": "Kind of sign"}, {"old": MEMBERS}, types=types)
    plan = move / "plans/people.toml"
    plan.write_text(plan.read_text() + "[fields]\nname = '{Vorname}'\n# unsure (0.40, x): y\nkind = '{Draht}'\n")
    (move / "words.csv").write_bytes("meaning;words\r\nphone;Dräht|Fernspr.\r\n".encode("cp1252"))
    program("match", "people", "--ask", cwd=move, status=0, given="o\nMerk\ny\n")
    assert "kind = '{Merkm.} -> crosswalk kind'" in plan.read_text() and (move / "crosswalks/kind.csv").is_file()
    assert (move / "words.csv").read_text("utf-8").startswith("meaning,words\nphone,Dräht|Fernspr.\n")
    program("preview", "people", cwd=move, status=0)


def test_an_answer_takes_the_place_of_what_was_unsure(tmp_path: Path) -> None:
    """The flow that a draft wrote unsure is replaced, with its comment; a remark and what a person wrote stay."""
    move = a_move(tmp_path, {"given_name": "Given name", "call_sign": "Call sign"}, {"old": MEMBERS})
    plan = move / "plans/people.toml"
    head = plan.read_text()
    plan.write_text(
        head
        + "[fields]\n# unsure (0.55, by its neighbours): another column, or none, may be meant\n# status: question\ncall_sign = '{Draht}'\n# mine\ngiven_name = '{Vorname} -> upper'\n"
    )
    ended = program("match", "people", "--ask", cwd=move, status=0, given="o\nMerk\ny\n")
    text = plan.read_text()
    assert "question 1 of 1" in ended.out and "in the plan now" in ended.out
    assert "# 1.00, confirmed" in text and "call_sign = '{Merkm.}'" in text and "unsure" not in text
    assert "# status: question\n" in text and "# mine\ngiven_name = '{Vorname} -> upper'" in text
    assert read_answers(move) == [Answer("people", "old", "call_sign", "Merkm.", "right")]
    assert (move / "words.csv").read_text() == "meaning,words\ncall sign,Merkm.\n"
    again = program("match", "people", "--ask", cwd=move, status=0, given="")
    assert "question" not in again.out
    # none is right: the flow goes
    plan.write_text(head + "[fields]\n# unsure (0.55, x): y\ncall_sign = '{Draht}'\n")
    (move / "answers.csv").unlink()
    program("match", "people", "--ask", cwd=move, status=0, given="s\nn\n")
    assert "call_sign" not in plan.read_text() and read_answers(move)[0].answer == "none"


_answer = st.builds(
    Answer,
    st.just("people"),
    st.sampled_from(["", "old"]),
    st.sampled_from("ab"),
    st.sampled_from(["X", 'Y, "Z"']),
    st.sampled_from(["right", "wrong"]),
)


@settings(max_examples=60, deadline=None)
@given(st.lists(_answer, max_size=6))
def test_answers_are_kept_and_contradict_each_other_never(answers: list[Answer]) -> None:
    kept: list[Answer] = []
    for one in answers:
        kept = with_answers(kept, [one])
        assert kept[-1] == one
    assert len({(a.source, a.field, a.column) for a in kept}) == len(kept)
    right = [(a.source, a.field) for a in kept if a.answer == "right"]
    assert len(set(right)) == len(right)
    with tempfile.TemporaryDirectory() as folder:
        (Path(folder) / "answers.csv").write_text(answers_text(kept), encoding="utf-8")
        assert read_answers(Path(folder)) == kept


@pytest.mark.parametrize("kind", ["svg", "png"])
def test_a_chart_tells_sure_from_unsure_without_colour(tmp_path: Path, kind: str) -> None:
    """Each unsure line is dashed, beside the one that explains them; and the bytes are the same again."""
    fields = {"card": "Card", "given_name": "Given name", "family_name": "Family name", "joined": "Joined"}
    move = a_move(tmp_path, fields, {"old": MEMBERS}, key="card")
    drafted = [
        program("match", "people", "--rehearse", "--json", "--chart", f"{name}.{kind}", cwd=move, status=0).json
        for name in ("one", "two")
    ]
    drawn = (move / f"one.{kind}").read_bytes()
    assert drawn == (move / f"two.{kind}").read_bytes()
    unsure = sum(len(p["columns"]) for p in drafted[0]["proposals"] if p["doubt"])
    assert 0 < unsure < len(drafted[0]["proposals"])
    if kind == "svg":
        assert drawn.count(b"stroke-dasharray") == 1 + unsure
    program("match", "people", "--rehearse", "--chart", "one.bmp", cwd=move, status=3)


# codes

PERMITTED = Targets([TargetCode(c, "") for c in ("clear", "debtor", "sleeping")], closed=True)
SEXES = Targets([TargetCode("male", ""), TargetCode("female", "")], closed=True)
NUMBERED = Targets([TargetCode("10", "Active"), TargetCode("20", "Deceased"), TargetCode("30", "Asleep")], closed=True)
PROPOSALS = [
    ("Clear", PERMITTED, "clear", "written alike"),
    ("D", PERMITTED, "debtor", "begins alike"),
    ("dbetor", PERMITTED, "debtor", "spelt alike"),
    ("asleep", PERMITTED, "sleeping", "by meaning"),
    ("Q", PERMITTED, None, None),
    ("M", SEXES, "male", "by meaning"),
    ("masc.", SEXES, "male", "by meaning"),
    ("w", SEXES, "female", "by meaning"),
    ("fêmea", SEXES, "female", "by meaning"),
    ("active", NUMBERED, "10", "means the same in the target"),
    ("falecido", NUMBERED, "20", "by meaning"),
    ("30", NUMBERED, "30", "written alike"),
    ("x", Targets([], closed=False), None, None),
]


@pytest.mark.parametrize(("code", "targets", "to", "because"), PROPOSALS, ids=[f"{c[0]} {c[2]}" for c in PROPOSALS])
def test_proposed_targets(code: str, targets: Targets, to: str | None, because: str | None) -> None:
    assert propose((code,), targets, []) == (to, because)


TITLES = Targets([TargetCode("Mr", ""), TargetCode("Ms", ""), TargetCode("Dr", "")], closed=True)
STATES = Targets([TargetCode(c, "") for c in ("married", "single", "divorced", "widowed")], closed=True)
SHORT = Targets([TargetCode("M", ""), TargetCode("F", "")], closed=True)
COLUMNS = [
    (["M", "F", "X"], SHORT, ["M", "F", None]),
    (["H", "M"], SHORT, ["M", "F"]),
    (["F", "N"], SHORT, ["M", "F"]),
    (["H", "D"], SEXES, ["male", "female"]),
    (["Herr", "Frau", "Dr."], TITLES, ["Mr", "Ms", "Dr"]),
    (["Hr.", "Fru"], TITLES, ["Mr", "Ms"]),
    (["casado", "viúva", "solteiro"], STATES, ["married", "widowed", "single"]),
    (["ločena", "ovdovělý"], STATES, ["divorced", None]),
    (["żonaty", "panna", "rozwiedziona"], STATES, ["married", "single", "divorced"]),
    (["M", "K"], SEXES, ["male", "female"]),
    (["H", "M"], SEXES, ["male", "female"]),
    (["F", "N"], SEXES, ["male", "female"]),
    (["E", "K", "?"], SEXES, ["male", "female", None]),
    (["Ж", "М"], SEXES, ["female", "male"]),
    (["M", "V"], SEXES, [None, None]),
    (["M", "F", "U"], SEXES, ["male", "female", None]),
    (["1", "2"], SEXES, [None, None]),
    (["1", "2"], NUMBERED, [None, None]),
]


@pytest.mark.parametrize(("codes", "targets", "found"), COLUMNS, ids=["/".join(c[0]) for c in COLUMNS])
def test_codes_of_a_column_are_proposed_together(codes: list[str], targets: Targets, found: list[str | None]) -> None:
    """By meaning across languages; what one letter means by the letters beside it; numbers never, and letters not that mean one thing here and another there."""
    assert [propose((code,), targets, [], codes)[0] for code in codes] == found


def test_a_code_may_be_as_it_is_elsewhere() -> None:
    assert propose(("V", "south"), PERMITTED, [Entry(2, "v", ("north",), "sleeping")]) == (
        "sleeping",
        "so it is elsewhere in this crosswalk",
    )


_code = st.sampled_from(["A", "B", "5", "12", "(any)"])
_when = st.sampled_from(["north", "south", "(any)"])


@settings(max_examples=60, deadline=None)
@given(st.dictionaries(st.tuples(_code, _when, _when), st.sampled_from(["x", "y", "z"]), max_size=9), st.booleans())
@example({("A", "(any)", "south"): "x", ("A", "north", "(any)"): "y"}, False)
def test_what_is_listed_is_what_flows_get(table: dict[tuple[str, str, str], str], ranges: bool) -> None:
    """The command that lists codes and the step that translates them agree on every code."""
    entries = [Entry(i, code, tuple(when), to) for i, ((code, *when), to) in enumerate(table.items(), start=2)]
    if ranges:
        entries.append(Entry(99, "4", ("(any)", "south"), "range", "12"))
    codes, places = ("A", "B", "5", "+7", "1e1", "12", "12.5", "Q"), ("north", "south", "east")
    asked = [(code, one, other) for code in codes for one in places for other in places]
    expected = [Listed(entries).entry_for(one) for one in asked]
    crosswalk = Crosswalk("c", ("from", "clinic", "kind"), tuple(entries))
    base = without_tables(date(2026, 1, 1))
    around = Surroundings(lambda _: crosswalk, base.keys, base.parameters, base.as_of, base.lookup)
    made = try_flow("{A}, {B}, {C} -> crosswalk c", asked, columns=("A", "B", "C"), around=around)
    assert [value for value, _ in made] == [e.to if e else None for e in expected]


# what flows say

SAID = [
    (None, "stays blank"),
    ('{A} -> trim -> upper', "A, without spaces at the ends, in capitals"),
    ('{A}, {B} -> join ", " -> fit 40', 'A and B, joined with ", ", cut to a length of 40'),
    ('"debtor" when {@balance} > 0; "clear" otherwise', '"debtor", where the field balance is above 0; otherwise "clear"'),
    ('{A} -> date "dd/MM/yyyy" "yyyy-MM-dd" or blank', 'A, read as a date "dd/MM/yyyy" or "yyyy-MM-dd" (if that cannot be done: blank)'),
    ('"x" when {A} in ("a", "b") and not ({B} is blank); blank otherwise', '"x", where A is "a" or "b" and not (B is blank); otherwise blank'),
    ('{#source}, {A} -> mint owners', "the source's name and A, given a new identifier from owners"),
    ('({A} -> number decimal=","), 1.23 -> product', '(A, read as a number (decimal=",")) and 1.23, multiplied'),
    ('{A} -> number -> expect it > 0 "weighs"', "A, read as a number, expecting it is above 0"),
    ('"{A} of {B}"', '"[A] of [B]"'),
    ('({A} -> date "yyyy") within 3 days', ""),
    ("{A} -> nonsense", "A, nonsense"),
    ("{A", ""),
]  # fmt: skip


@pytest.mark.parametrize(("flow", "words"), SAID, ids=[str(c[0])[:40] for c in SAID])
def test_flows_in_words(flow: str | None, words: str) -> None:
    assert in_words(flow, STEPS) == words


def test_every_step_can_be_said() -> None:
    for step in STEPS.values():
        for shown in step.examples:
            assert in_words(shown.flow, STEPS) and "{0}" not in in_words(shown.flow, STEPS)


# remarks

TOML = """layout = "x"
# about the fields
[fields]
# 0.93, both mean name
name = '{A}'
long = '''
"a" when {A} = "status: b";
# status: no comment, but part of the text
"c" otherwise
'''

# a remark of nobody
[left_behind]
name = "not a field"
"""


def test_remarks_stand_above_their_fields() -> None:
    said = {"name": Remark("agreed", "see\nMaria"), "long": Remark("question"), "fax": Remark("", "nobody \\ has one")}
    text = write_remarks(TOML, said)
    assert read_remarks(text) == said
    assert "# 0.93, both mean name\n# status: agreed\n# remark: see\\nMaria\nname = '{A}'" in text
    assert "# status: question\nlong = '''" in text
    assert text.index("# remark of fax: nobody \\\\ has one") < text.index("[left_behind]")
    assert write_remarks(text, said) == text
    assert write_remarks(text, {name: Remark() for name in said}) == TOML


_texts = st.text(st.characters(blacklist_categories=["Cs", "Cc"]) | st.just("\n"), max_size=30).map(str.strip)


@settings(max_examples=200, deadline=None)
@given(
    st.dictionaries(
        st.sampled_from(["name", "long", "fax", "other-field"]),
        st.builds(Remark, st.sampled_from(["", "agreed", "open"]), _texts),
    )
)
@example({"name": Remark("", "'''"), "fax": Remark("open", '"""')})
def test_remarks_come_back_as_they_went(said: dict[str, Remark]) -> None:
    text = write_remarks(TOML, said)
    assert read_remarks(text) == {name: one for name, one in said.items() if one != Remark()}
    assert write_remarks(text, {name: Remark() for name in said}) == TOML


@pytest.mark.parametrize(
    "values", [["Jo", "Ei", "Jo"], ["Q"], ["n/a"], ["ja|x", "b"], ['"a"', "b"], ["ja", "Xx"], ["a", "b", "c"]]
)
def test_words_that_nobody_knows_make_a_draft_that_holds(values: list[str]) -> None:
    found = conversion(YESNO, view(*values))
    made = try_flow("{A}" + found.steps, [(value,) for value in values])
    assert len(made) == len(values) and found.share < 1


def test_what_stands_behind_a_flow_of_several_lines_has_a_line_of_its_own() -> None:
    fields = tomlkit.table()
    for name in ("a", "b"):
        fields.add(tomlkit.comment("0.90, by the values"))
        fields.add(name, flow_text('{A} -> split "\'" -> join " "\n-> trim'))
    text = tomlkit.dumps({"fields": fields})
    assert text.count("\n# 0.90") == 2 and tomlkit.parse(text)["fields"]["b"].count("\n") == 2  # type: ignore[index,union-attr]
