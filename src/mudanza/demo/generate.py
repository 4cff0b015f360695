"""The demo's old exports, invented from a fixed seed: as many rows as wanted, as messy as life."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import date, datetime, time, timedelta
from pathlib import Path
from random import Random

NORTH_HEADINGS = [
    "Client No", "Title", "First name", "Surname", "Address 1", "Address 2", "Postcode", "Town", "Phone",
    "E-mail", "Since", "Last seen", "Status", "Balance", "Mailing",
]  # fmt: skip
HARBOUR_HEADINGS = [
    "Id", "Name", "Street", "Zip", "City", "Tel.", "Mail", "Registered", "Last visit", "State", "Owed", "Letters", "Fax",
]  # fmt: skip

_FIRST = [
    "Ana", "Rui", "Inês", "João", "Marta", "Tomé", "Beatriz", "Nuno", "Clara", "Duarte", "Elsa", "Gonçalo", "Helena",
    "Íris", "Jorge", "Lídia", "Mateus", "Olga", "Paulo", "Rita", "Simão", "Teresa", "Vasco", "Zélia",
]  # fmt: skip
_LAST = [
    "Almeida", "Brandão", "Castro", "Dinis", "Esteves", "Faria", "Guimarães", "Henriques", "Leitão", "Magalhães",
    "Neves", "Oliveira", "Pacheco", "Queirós", "Ramalho", "Seabra", "Tavares", "Valente", "Xavier", "Zagalo",
    "de Sá", "Sousa-Lima", "da Cunha", "O'Neil",
]  # fmt: skip
_STREETS = [
    "Rua das Flores", "Avenida do Mar", "Travessa da Lapa", "Largo do Moinho", "Rua Nova do Cais", "Beco das Amoras",
    "Estrada do Pinhal", "Praça da Alegria", "Rua Comendador Bento Azevedo de Vasconcelos e Meneses", "Caminho Velho",
]  # fmt: skip
_TOWNS = [
    ("4710", "Braga"), ("4900", "Viana"), ("4490", "Póvoa"), ("4480", "Vila do Conde"), ("4740", "Esposende"),
    ("4750", "Barcelos"), ("3870", "Murtosa"), ("4560", "Penafiel"),
]  # fmt: skip
_LAST_DAY = date(2026, 10, 30)
SEED = 20261123


def north_rows(count: int, seed: int = SEED) -> Iterator[list[str]]:
    """Rows of North's client export: dates day first, decimal commas, status codes A, I, D, V."""
    random = Random(seed)
    pick, chance = random.choice, random.random
    for number in range(1, count + 1):
        first, last = pick(_FIRST), pick(_LAST)
        street = f"{pick(_STREETS)} {random.randint(1, 240)}"
        code, town = pick(_TOWNS)
        since = _LAST_DAY - timedelta(days=random.randint(30, 7000))
        seen = min(_LAST_DAY, since + timedelta(days=random.randint(0, 7000)))
        owed = random.randint(0, 40000) / 100 if chance() < 0.25 else 0.0
        row = [
            f"{1000 + number:05d}",
            pick(["", "Sr.", "Sra.", "Dra."]),
            first.upper() if chance() < 0.2 else first,
            last.upper() if chance() < 0.2 else f" {last} " if chance() < 0.1 else last,
            street,
            pick(["", "", "", "2.º Esq.", "r/c", "Apt. 12"]),
            f"{code}-{random.randint(1, 999):03d}",
            town,
            pick(
                [
                    "",
                    "n/a",
                    f"+351 9{random.randint(10**7, 10**8 - 1)}",
                    f"2{random.randint(10**7, 10**8 - 1)}",
                ]
            ),
            _mail(first, last, number) if chance() < 0.6 else "",
            f"{since:%d/%m/%Y}",
            f"{seen:%d/%m/%Y}" if chance() < 0.97 else "00/00/0000" if chance() < 0.1 else "",
            pick(["A", "A", "A", "A", "I", "D"]),
            f"{owed:,.2f}".replace(",", "_").replace(".", ",").replace("_", "."),
            pick(["S", "S", "N", ""]),
        ]
        yield row


def write_north(path: Path, count: int, seed: int = SEED, mess: bool = True, later: bool = False) -> None:
    """North's export: semicolons, Windows encoding, CRLF. With `mess`, a few rows are what exports also hold; `later`, it is the one of a month after."""
    with path.open("w", encoding="cp1252", newline="") as file:
        file.write(";".join(NORTH_HEADINGS) + "\r\n")
        for number, row in enumerate(north_rows(count, seed), start=1):
            if later and not _a_month_later(number, row):
                continue
            line = ";".join(_quoted(value) for value in row)
            if mess:
                line = _mess(number, row, line)
            file.write(line + "\r\n")


def _a_month_later(number: int, row: list[str]) -> bool:
    """What happened to a client in a month; gives whether the old program still has it."""
    match number:
        case 6:  # moved
            row[4:8] = ["Travessa do Sol 3", "", "4900-101", "Viana"]
        case 9:  # paid, and gave the account up
            row[12:15] = ["I", "0,00", "N"]
        case 14:  # the telephone was typed anew, a digit short
            row[8] = "91234"
        case 20:  # came by
            row[11], row[13] = "12/11/2026", "45,00"
    # the old program forgot one client
    return number != 11


def _quoted(value: str) -> str:
    return '"' + value.replace('"', '""') + '"' if ";" in value or '"' in value or "\n" in value else value


def _mess(number: int, row: list[str], line: str) -> str:
    """What goes wrong in old programs, at fixed rows."""
    changed = list(row)
    match number:
        case 12:  # a semicolon in an address that the old program did not quote
            changed[4] += "; Bloco B"
            return ";".join(changed)
        case 25:  # a day that never was
            changed[10] = "31/02/2019"
        case 31:  # a status nobody mapped
            changed[12] = "V"
        case 40:  # a line break inside a value, quoted as it should be
            changed[4] = f'"{row[4]}\r\n(portão verde)"'
            return ";".join(changed)
        case 44:  # a nickname in quotes that are not doubled
            changed[2] = f'{row[2]} "Nani"'
            return ";".join(changed)
        case 52:  # no surname, no first name
            changed[2] = changed[3] = ""
        case 58:  # a letter O for a zero
            changed[13] = "1O,50"
        case 63:  # the same client exported twice
            return f"{line}\r\n{line}"
        case 70:  # numbers that differ only by capitals
            lower = list(row)
            changed[0], lower[0], lower[2] = "K17", "k17", "Eva"
            return f"{';'.join(changed)}\r\n{';'.join(lower)}"
        case _:
            return line
    return ";".join(_quoted(value) for value in changed)


def harbour_rows(count: int, seed: int = SEED + 1) -> Iterator[list[object]]:
    """Rows of Harbour's people sheet: month first, names the other way round, states in words."""
    random = Random(seed)
    pick, chance = random.choice, random.random
    for number in range(1, count + 1):
        first, last = pick(_FIRST), pick(_LAST)
        code, town = pick(_TOWNS)
        since = _LAST_DAY - timedelta(days=random.randint(30, 5000))
        seen = min(_LAST_DAY, since + timedelta(days=random.randint(0, 5000)))
        yield [
            f"{1000 + number:05d}",  # the same numbers as North's, for other people
            f"{last}, {first}",
            f"{pick(_STREETS)} {random.randint(1, 240)}",
            f"{code}-{random.randint(1, 999):03d}" if chance() < 0.9 else code,
            town,
            f"9{random.randint(10**7, 10**8 - 1)}" if chance() < 0.8 else "-",
            _mail(first, last, number) if chance() < 0.7 else "",
            f"{since:%m/%d/%Y}",
            f"{seen:%m/%d/%Y}",
            pick(["active", "active", "active", "asleep", "debtor"]),
            random.randint(0, 20000) / 100 if chance() < 0.3 else 0,
            pick(["yes", "no"]),
            f"25{random.randint(10**6, 10**7 - 1)}" if chance() < 0.05 else "",
        ]


def write_harbour(path: Path, count: int, seed: int = SEED + 1) -> None:
    """Harbour's workbook: a notice sheet in front, two title lines, and a sheet of people."""
    import xlsxwriter

    book = xlsxwriter.Workbook(str(path), {"strings_to_numbers": False})
    # the file's own dates would differ from run to run
    book.set_properties({"created": datetime.combine(_LAST_DAY, time())})
    notice = book.add_worksheet("Please read")
    for row, text in enumerate(
        [
            "Export of the Harbour clinic",
            "",
            "Questions: front desk.",
            "Sheet 'People' has the records. Do not sort it.",
        ]
    ):
        notice.write_string(row, 0, text)
    people = book.add_worksheet("People")
    people.write_string(0, 0, "Harbour clinic - people on file")
    people.write_string(1, 0, "Printed 30 October 2026")
    people.write_row(3, 0, HARBOUR_HEADINGS)
    for row, values in enumerate(harbour_rows(count, seed), start=4):
        for column, value in enumerate(values):
            if isinstance(value, str):
                if value:
                    people.write_string(row, column, value)
            else:
                people.write_number(row, column, float(str(value)))
    people.set_column(0, len(HARBOUR_HEADINGS), 16)
    book.close()


def _mail(first: str, last: str, number: int) -> str:
    import unicodedata

    def plain(text: str) -> str:
        letters = unicodedata.normalize("NFKD", text).encode("ascii", "ignore").decode().lower()
        return "".join(c for c in letters if c.isalpha())

    return f"{plain(first)}.{plain(last)}{number}@example.org"


def write_colleague(path: Path) -> None:
    """An import file that a colleague made by hand, with the mistakes that hands make."""
    lines = [
        "Owner code,Name,Street,Post code,Town,Phone,E-mail,Client since,Last visit,Balance,Branch,Standing,Sends letters",
        "OW-000901,Irene Falcão,Rua do Sol 1,4710-001,Braga,912000001,irene@example.org,2021-05-03,,0.00,NOR,clear,Y",
        "OW-000902,,Rua do Sol 2,4710-002,Braga,912000002,,2021-05-04,,0.00,NOR,clear,Y",
        'OW-000903,"Abel Lima\n(son)",Rua do Sol 3,4710-003,Braga,912000003,,04/05/2021,,12.5,NOR,Clear,Y',
        "OW-000901,Otília Reis,Rua do Sol 4,4710-04,Braga,+351912000004,,2021-05-06,,-3.00,HAR,clear,J",
        "OW-000905,Ivo Matos,Rua do Sol 5, lado B,4710-005,Braga,912000005,,2021-05-07,,0.00,HAR,clear,N",
    ]
    path.write_text("\n".join(lines) + "\n", encoding="utf-8", newline="")
