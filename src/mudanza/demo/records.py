"""The demo's other exports: a price list of tagged records, animals, a web form's answers, printed visits, and a database."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Sequence
from datetime import date, timedelta
from pathlib import Path
from random import Random

SEED = 20261124
_LAST_DAY = date(2026, 10, 30)

ITEMS = [
    ("C01", "Consultation", "35,00", "N"), ("C02", "Follow-up", "20,00", "N"), ("V01", "Vaccine, dog", "28,50", "R"),
    ("V02", "Vaccine, cat", "26,00", "R"), ("X01", "X-ray", "60,00", "N"), ("L01", "Blood count", "42,75", "N"),
    ("S01", "Spay, cat", "120,00", "N"), ("S02", "Spay, dog", "190,00", "N"), ("D01", "Dental  cleaning", "85,00", "N"),
    ("F01", "Food, renal 2 kg", "19,90", "R"), ("F02", "Food, puppy 5 kg", "31,40", "R"), ("P01", "Flea drops", "12,00", "?"),
]  # fmt: skip
#: Harbour's own numbers for the same things
_HARBOUR_ITEMS = {"10": 35.0, "11": 20.0, "20": 27.0, "21": 25.0, "30": 58.5, "40": 40.0, "99": 5.0}
_NAMES = [
    "Rex", "Bolinha", "Nina", "Tobias", "Luna", "Miau", "Pipoca", "Faísca", "Zé", "Violeta", "Trovão", "Canela", "Pingo", "Mel",
    "Farrusco", "Íris", "Kiko", "Amora",
]  # fmt: skip
_SPECIES = ["C", "C", "C", "F", "F", "F", "L", "A"]
_WORDS = ["dog", "dog", "cat", "cat", "rabbit", "bird"]


def write_prices(path: Path, later: bool = False) -> None:
    """North's price list: each line begins with a tag, and those with # give the columns. Packs have parts below them."""
    lines = ["#ITEM|Code|Text|Price|VAT", "#PACK|Code|Text|Price", "#PART|Item|Quantity"]
    lines += ["|".join(("ITEM", *item)) for item in ITEMS]
    if later:
        lines = [line.replace("|35,00|", "|37,50|") for line in lines]
    lines += ["PACK|K01|Puppy's first year|95,00", "PART|C01|2", "PART|V01|1", "PART|F02|1"]
    lines += ["PACK|K02|Kitten's first year|88,00", "PART|C01|2", "PART|V02|1", "NOTE|prices of October"]
    path.write_text("\r\n".join(lines) + "\r\n", encoding="cp1252", newline="")


def write_north_animals(path: Path, count: int, clients: int, later: bool = False) -> None:
    """North's animals: semicolons, Windows encoding, day first, weights with commas, zero dates and question marks."""
    random = Random(SEED)
    pick, chance = random.choice, random.random
    lines = ["Animal No;Client No;Name;Species;Sex;Born;Weight;Chip;Notes;"]
    for number in range(1, count + 1):
        born = _LAST_DAY - timedelta(days=random.randint(60, 5000))
        client = f"{1000 + random.randint(1, clients):05d}"
        chip = f"6200960{random.randint(10**7, 10**8 - 1)}" if chance() < 0.7 else ""
        row = [
            f"A{number:04d}",
            client,
            pick(_NAMES),
            pick(_SPECIES),
            pick("MFMF?"),
            f"{born:%d/%m/%Y}",
            f"{random.randint(8, 420) / 10:.1f}".replace(".", ","),
            chip,
            pick(["", "", "", "bites", "allergic to penicillin"]),
        ]
        if number == 7:
            row[1] = "09999"  # a client who is not in the client list
        if number == 15:
            row[5] = "00/00/0000"
        if number == 23:
            row[3] = "?"
        if later and number == 18:  # struck off
            continue
        # every line of the old program ends with a delimiter
        lines.append(";".join(row) + ";")
    lines.append(f"Total;{len(lines) - 1} animals;;;;;;;;")
    path.write_text("\r\n".join(lines) + "\r\n", encoding="cp1252", newline="")


def write_harbour_animals(path: Path, count: int, clients: int) -> None:
    """Harbour's animals: tabs, UTF-16, month first, a group heading over two columns."""
    random = Random(SEED + 1)
    pick, chance = random.choice, random.random
    lines = ["\t".join(["", "", "Animal", "", "Owner", ""]), "\t".join(["Ref", "Born", "Name", "Kind", "Id", "Name"])]
    for number in range(1, count + 1):
        born = _LAST_DAY - timedelta(days=random.randint(60, 5000))
        client = f"{1000 + random.randint(1, clients):05d}"
        lines.append(
            "\t".join(
                [
                    f"H{number:03d}",
                    f"{born:%m/%d/%Y}",
                    pick(_NAMES),
                    pick(_WORDS),
                    client,
                    "on file" if chance() < 0.9 else "-",
                ]
            )
        )
    path.write_text("\n".join(lines) + "\n", encoding="utf-16")


def write_form(path: Path) -> None:
    """The answers of Harbour's web form: JSON, each client with the pets that were entered."""
    answers = [
        {
            "client": "01003",
            "sent": "2026-10-28T09:12:00",
            "consent": True,
            "pets": [
                {"ref": "W1", "name": "Biscoito", "kind": "dog", "born": "2026-03-01", "weight": 6.50},
                {"ref": "W2", "name": "Sardinha", "kind": "cat", "born": "2025-11-20", "weight": 3.10},
            ],
        },
        {
            "client": "01017",
            "sent": "2026-10-28T18:40:00",
            "consent": True,
            "pets": [{"ref": "W3", "name": "Nuvem", "kind": "rabbit", "born": None, "weight": 1.80}],
        },
        {
            "client": "01044",
            "sent": "2026-10-29T11:05:00",
            "consent": False,
            "pets": [{"ref": "W4", "name": "Zorro", "kind": "ferret", "born": "2024-06-30", "weight": 0.95}],
        },
    ]
    document = {"form": "new animals", "registrations": answers}
    path.write_text(json.dumps(document, indent=1, ensure_ascii=False) + "\n", encoding="utf-8")


def write_visits(path: Path, clients: Sequence[tuple[str, str]]) -> None:
    """North's visits as they are printed: pages with titles, a group for each client, subtotals, a total; one subtotal is wrong."""
    random = Random(SEED + 2)
    pick = random.choice
    lines: list[str] = []
    on_page, page, total = 0, 0, 0

    def put(line: str) -> None:
        nonlocal on_page, page
        if on_page % 24 == 0:
            page += 1
            lines.extend(
                [
                    f"North clinic;;;;;Page {page}",
                    "Visits by client;;;;;30/10/2026",
                    ";;;;;",
                    "Date;Animal;Code;Vet;;Amount",
                ]
            )
        lines.append(line)
        on_page += 1

    for number, (client, name) in enumerate(clients, start=1):
        put(f"Client: {client} {name};;;;;")
        subtotal = 0
        day = _LAST_DAY - timedelta(days=random.randint(200, 900))
        for _ in range(random.randint(1, 4)):
            code, _, price, _ = pick(ITEMS)
            cents = int(price.replace(",", ""))
            day += timedelta(days=random.randint(1, 60))
            put(f"{day:%d/%m/%Y};{pick(_NAMES)};{code};{pick(['MA', 'JP'])};;{_amount(cents)}")
            subtotal += cents
        total += subtotal
        put(f"  Subtotal;;;;;{_amount(subtotal + (1000 if number == 9 else 0))}")
        put(";;;;;")
    put(f"Total;;;;;{_amount(total)}")
    path.write_text("\r\n".join(lines) + "\r\n", encoding="cp1252", newline="")


def _amount(cents: int) -> str:
    return f"{cents // 100:,}".replace(",", ".") + f",{cents % 100:02d}"


def write_database(path: Path, count: int, clients: int) -> None:
    """Harbour's visits in the database of its old program."""
    random = Random(SEED + 3)
    pick = random.choice
    database = sqlite3.connect(path)
    database.execute(
        "CREATE TABLE visits (visit_id INTEGER PRIMARY KEY, client TEXT, animal TEXT, seen TEXT, item TEXT, amount NUMERIC, paid INTEGER, scan BLOB)"
    )
    for number in range(1, count + 1):
        day = _LAST_DAY - timedelta(days=random.randint(0, 900))
        item = pick(list(_HARBOUR_ITEMS))
        row = (
            number,
            f"{1000 + random.randint(1, clients):05d}",
            pick(_NAMES),
            day.isoformat() if number != 20 else "0000-00-00",
            item,
            _HARBOUR_ITEMS[item],
            random.randint(0, 1),
            b"\x89PNG" if number % 10 == 0 else None,
        )
        database.execute("INSERT INTO visits VALUES (?,?,?,?,?,?,?,?)", row)
    database.commit()
    database.close()
