"""Cases for matching.py out of texts: `matching_data/*.txt` say which columns a source has and where they belong; values are invented by language.

The form of a case is told in `matching_data/sealed.txt`. Kinds of value: id [prefix], ref [prefix], given, family, full, comma, firm, street, streetname,
house, line2, post, town, country, phone, mobile, email, web, day FORM, born FORM, byear, year, money [decimal sign], whole LOW-HIGH, rate A/B, of A/B/C,
thing, job, note, iban, bic, ean, isbn, tax, vat, plate, vin, serial, chip, time, lat, lon, grade; with ? they are often blank.
"""

from __future__ import annotations

import re
import tomllib
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import date, timedelta
from functools import cache
from pathlib import Path
from random import Random
from typing import Any

from matching_cases import Case, coded, text

DATA = Path(__file__).parent / "matching_data"
COUNTRIES = {"cs": "CZ", "da": "DK", "el": "GR", "en": "GB", "et": "EE", "sv": "SE", "no": "NO"}
FORMS = {
    "iso": "%Y-%m-%d",
    "dmy": "%d/%m/%Y",
    "dot": "%d.%m.%Y",
    "mdy": "%m/%d/%Y",
    "dash": "%d-%m-%Y",
    "ymdot": "%Y.%m.%d.",
}
TYPES = {
    "k": "string",
    "t": "string",
    "n": "decimal",
    "w": "integer",
    "d": {"base": "date", "format": "yyyy-MM-dd"},
    "b": "boolean",
}
NOTES = [
    "calls on Mondays",
    "see the old card",
    "pays late, ask first",
    "moved in spring",
    "prefers letters",
    "two keys given",
]
THINGS = [
    "Kettle 2 l",
    "Lamp, desk",
    "Screw M4 x 20",
    "Rope 8 mm",
    "Brush small",
    "Paint white 5 l",
    "Garden hose 20 m",
    "Shelf oak",
]


@cache
def locales() -> dict[str, dict[str, list[str]]]:
    """The invented people and places of each language."""
    raw = tomllib.loads((DATA / "locales.toml").read_text("utf-8"))
    return {
        language: {
            name: [value]
            if name in ("phone", "post")
            else [v.strip() for v in value.split("," if "," in value else " ")]
            for name, value in local.items()
        }
        for language, local in raw.items()
    }


@dataclass(frozen=True)
class Made:
    """A case, with its domain and languages (of the source, of the layout) and how its values are invented."""

    case: Case
    domain: str
    language: str
    target: str
    value_of: Callable[[str, int], str]


def made(name: str) -> Iterator[Made]:
    """The cases of one text (`tuned` or `sealed`)."""
    content = (DATA / f"{name}.txt").read_text("utf-8")
    for block in re.split(r"\n(?=== )", content)[1:]:
        head, fields, columns = block.strip().split("\n")[:3]
        domain, language, *target = head[3:].split()
        yield Made(
            _case(f"{domain}, {language} to {target[0] if target else 'en'}", fields, columns),
            domain,
            language,
            target[0] if target else "en",
            lambda kind, number, language=language: value(kind, number, language),  # type: ignore[misc]
        )


def _case(name: str, fields: str, columns: str) -> Case:
    asked: list[tuple[str, str, Any]] = []
    key = None
    for one in fields.removeprefix("fields:").split(";"):
        named, kind = one.rsplit(" : ", 1)
        field, title = (part.strip() for part in named.split("=", 1))
        kind = kind.strip()
        key = field if kind == "k" else key
        if kind.startswith("c("):
            asked.append((field, title, coded(*kind[2:-1].split("|"))))
        else:
            asked.append((field, title, text(int(kind[1:])) if kind[1:].isdigit() else TYPES[kind]))
    given: list[tuple[str, str, str | None]] = []
    for one in columns.removeprefix("columns:").split(";"):
        heading, rest = one.split(" > ", 1)
        field, kind = (part.strip() for part in rest.split(" : ", 1))
        given.append((heading.strip(), kind, None if field == "-" else field))
    return Case(name, given, asked, key)


def value(kind: str, number: int, language: str) -> str:
    """A value of a kind in a row, the same in every run."""
    name, _, more = kind.partition(" ")
    random = Random(f"{kind} {number} {language}")
    if name.endswith("?"):
        name = name[:-1]
        if random.random() < 0.6:
            return ""
    pick, local = random.choice, locales()[language]
    digits = lambda size: str(random.randint(10 ** (size - 1), 10**size - 1))  # noqa: E731
    day = date(2010, 1, 1) + timedelta(days=random.randint(0, 5400))
    born = date(1938, 1, 1) + timedelta(days=random.randint(0, 24000))
    country = COUNTRIES.get(language, language.upper())
    match name:
        case "id":
            return f"{more}{1000 + number}"
        case "ref":
            return f"{more}{1000 + random.randint(0, 20)}"
        case "given" | "family" | "job":
            return pick(local[name + "s" * (name == "job")])
        case "full":
            return f"{pick(local['given'])} {pick(local['family'])}"
        case "comma":
            return f"{pick(local['family'])}, {pick(local['given'])}"
        case "firm":
            return f"{pick(local['family'])} {pick(local['firms'])}"
        case "street":
            return f"{pick(local['streets'])} {random.randint(1, 120)}"
        case "streetname":
            return pick(local["streets"])
        case "house":
            return f"{random.randint(1, 120)}{pick(['', '', '', 'a', 'B'])}"
        case "line2":
            return pick(["", "", "2 B", "c/o Holm", "3. OG"])
        case "post":
            form = local["post"][0]
            return "".join(digits(1) if c == "#" else pick("ABCDEHK") if c == "A" else c for c in form)
        case "town":
            return pick(local["towns"])
        case "country":
            return pick([country, country, "DE", "FR"])
        case "phone" | "mobile":
            return f"{local['phone'][0]}{digits(3)} {digits(3)}{digits(1) if name == 'mobile' else ''}"
        case "email":
            return f"{pick('abcdefghkm')}{number}@example.{pick(['org', 'net', 'com'])}"
        case "web":
            return f"www.example{number}.com"
        case "day":
            return f"{day:{FORMS[more]}}"
        case "born":
            return f"{born:{FORMS[more]}}"
        case "byear":
            return str(born.year)
        case "year":
            return str(day.year)
        case "money":
            return f"{random.randint(100, 99999) / 100:.2f}".replace(".", more or ".")
        case "whole":
            low, high = (int(n) for n in (more or "0-500").split("-"))
            return str(random.randint(low, high))
        case "rate" | "of":
            return pick(more.split("/"))
        case "thing":
            return pick(THINGS)
        case "note":
            return pick([*NOTES, "", ""])
        case "iban":
            bare = digits(18)
            code = "".join(str(int(c, 36)) for c in f"{bare}{country}00")
            return f"{country}{98 - int(code) % 97:02d}{bare}" if country == "DE" else _iban(country, random)
        case "bic":
            return f"{pick('ABDKNS')}{pick('ABEIO')}NK{country}{pick('2H')}{pick('A2X')}"
        case "ean":
            return _with_check(digits(12))
        case "isbn":
            return _with_check(f"978{digits(9)}")
        case "tax":
            return digits(10)
        case "vat":
            return f"{country}{digits(8)}"
        case "coordinate":
            return f"{more}.{digits(5)}"
        case "plate":
            return f"{pick('ABCDE')}{pick('KLMNX')} {digits(3)}{pick('ABC')}"
        case "vin":
            return "".join(pick("ABCDEFGHJKLMNPRSTUVWXYZ0123456789") for _ in range(17))
        case "serial":
            return f"{pick('ABC')}{digits(7)}"
        case "chip":
            return f"9{digits(14)}"
        case "time":
            return f"{random.randint(7, 21):02d}:{pick(['00', '15', '30'])}"
        case "lat":
            return f"{random.uniform(36, 68):.5f}"
        case "lon":
            return f"{random.uniform(-9, 28):.5f}"
        case "grade":
            return f"{random.uniform(4, 10):.2f}"
    raise ValueError(kind)


def _with_check(digits: str) -> str:
    """A number with the check digit of GS1."""
    return digits + str(-sum(int(d) * (3 if at % 2 else 1) for at, d in enumerate(digits)) % 10)


def _iban(country: str, random: Random) -> str:
    """An IBAN of the country's length with its check digits; a number within it may not be one of the country."""
    sizes = {
        "SE": 20,
        "DK": 14,
        "NO": 11,
        "FI": 14,
        "CZ": 20,
        "SK": 20,
        "HU": 24,
        "TR": 22,
        "RO": 20,
        "GR": 23,
        "PL": 24,
        "GB": 18,
        "NL": 14,
        "FR": 23,
        "ES": 20,
        "PT": 21,
        "IT": 23,
        "HR": 17,
        "EE": 16,
    }
    bare = "".join(str(random.randint(0, 9)) for _ in range(sizes.get(country, 18)))
    code = "".join(str(int(c, 36)) for c in f"{bare}{country}00")
    return f"{country}{98 - int(code) % 97:02d}{bare}"
