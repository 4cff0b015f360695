"""The tour: the whole journey with the real commands, each printed before its output."""

from __future__ import annotations

import os
import shlex
import shutil
import sys
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from mudanza.loaded import Command, Loaded


@dataclass(frozen=True)
class Stop:
    """One stop of the tour: what it shows, what is done by hand before, the command, and its exit status."""

    words: str
    command: str = ""
    by_hand: Callable[[Path], None] | None = None
    status: int = 0


def correct(folder: Path) -> None:
    """What a colleague at the front desk does with the lent workbook: save it under another name, corrected."""
    from openpyxl import load_workbook

    book = load_workbook(next((folder / "loans").glob("owners-[0-9].xlsx")))
    sheet = book["owners"]
    phone = next(c.column for c in sheet[1] if c.value == "Phone")
    mail = next(c.column for c in sheet[1] if c.value == "E-mail")
    sheet.cell(2, phone).value = "912345678"
    sheet.cell(3, phone).value = "91234"
    sheet.cell(4, mail).value = "new.address@example.org"
    removal = next(c.column for c in sheet[1] if c.value == "Remove?")
    sheet.cell(5, removal).value = "remove"
    book.save(folder / "back from the front desk.xlsx")


def spoil(folder: Path) -> None:
    """What became of Harbour's loan: opened and saved as text by a program of another country, with one street corrected before."""
    import csv

    from openpyxl import load_workbook

    sheet = load_workbook(next((folder / "loans").glob("owners-*-har.xlsx")))["owners"]
    heads, *rows = [[cell.value for cell in row] for row in sheet.iter_rows()]
    at = {str(head): n for n, head in enumerate(heads)}
    rows[2][at["Street"]] = "Rua das Camélias 4"
    with (folder / "back from harbour.csv").open("w", encoding="utf-8", newline="") as file:
        writer = csv.writer(file, delimiter=";")
        writer.writerow(heads)
        for row in rows:
            since = row[at["Client since"]]
            row[at["Client since"]] = f"{since:%m/%d/%Y}" if since else None
            row[at["Name"]] = str(row[at["Name"]]).encode().decode("latin-1")
            writer.writerow(row)


def answer(folder: Path) -> None:
    """What North's branch sends back: a town corrected, and an address that the front desk has corrected otherwise meanwhile."""
    from openpyxl import load_workbook

    book = load_workbook(next((folder / "loans").glob("owners-*-nor.xlsx")))
    sheet = book["owners"]
    at = {cell.value: cell.column for cell in sheet[1]}
    for row in sheet.iter_rows(min_row=2):
        if row[0].value == "OW-000013":
            row[at["E-mail"] - 1].value = "joao.brandao@example.org"
        if row[0].value == "OW-000008":
            row[at["Town"] - 1].value = "Barcelos"
    book.save(folder / "back from north.xlsx")


def decide(folder: Path) -> None:
    """What the manager decides: all of it."""
    from openpyxl import load_workbook

    book = load_workbook(folder / "for the manager.xlsx")
    sheet = book["review"]
    at = {cell.value: cell.column for cell in sheet[2]}
    for row in sheet.iter_rows(min_row=3):
        if row[0].value:
            row[at["Decision"] - 1].value = "accept"
    book.save(folder / "for the manager.xlsx")


def _misspell(folder: Path) -> None:
    _edit(folder / "plans/owners.toml", "{Town} -> trim", "{Twon} -> trim")


def _mend(folder: Path) -> None:
    _edit(folder / "plans/owners.toml", "{Twon} -> trim", "{Town} -> trim")
    _edit(
        folder / "crosswalks/standings.csv",
        "V,,north,,proposed",
        "V,sleeping,north,moved away; asked at the front desk,confirmed",
    )


def _a_month_later(folder: Path) -> None:
    shutil.copytree(folder / "a month later", folder / "incoming", dirs_exist_ok=True)


def _edit(path: Path, old: str, new: str) -> None:
    path.write_text(path.read_text("utf-8").replace(old, new), encoding="utf-8")


TOUR = [
    Stop(
        "Two clinics merge. First look at what their old programs gave: text, workbooks, a printed report, tagged records, JSON, a database.",
        "survey incoming",
        status=1,
    ),
    Stop(
        "One of them more closely. The old program shows 84 clients: is the export whole, and what is in each column?",
        "survey incoming/north/clients.csv --expect 84",
        status=1,
    ),
    Stop(
        "Harbour's is a workbook with a notice in front and a title above the heading.",
        "survey incoming/harbour/people.xlsx",
    ),
    Stop("What does the new system take?", "layout show owners"),
    Stop(
        "Its makers sent an import template for animals, with the list of its fields. It becomes a layout by itself:",
        "layout draft animals-as-sent target/animals-import.xlsx",
    ),
    Stop(
        "The layout that the plans use says more, by hand: which form codes have, and what refers to what. The two compared:",
        "layout compare animals-as-sent animals",
    ),
    Stop(
        "A plan begins with a draft: for each field a column, by its heading and its values, and the steps that it needs.",
        "match animals-again --layout animals --source incoming/north/animals.csv --rehearse",
    ),
    Stop("plans/owners.toml says how the one becomes the other. The first row of each clinic:", "preview owners -n 1"),
    Stop(
        "Is every field provided for, and every old column either used or left behind on purpose?",
        "preview owners --coverage",
    ),
    Stop(
        "Which codes does the plan translate? One is in no crosswalk; it is added as a proposal, which no build uses.",
        "crosswalk owners",
        status=1,
    ),
    Stop("Everything is tried before anything is written.", "build owners --rehearse", status=1),
    Stop(
        "Now in earnest. Rows that cannot be right are held back, with the reason, and the balance must hold.",
        "build owners",
        status=1,
    ),
    Stop("A file made by us must pass its own check:", "check out/owners.csv --layout owners"),
    Stop(
        "A file made by a colleague, by hand. For whom it was made is seen by its headings:",
        "check incoming/from-a-colleague.csv",
        status=1,
    ),
    Stop(
        "It goes back to her as a workbook, with what is wrong coloured and noted.",
        "check incoming/from-a-colleague.csv --limit 3 --annotated 'for the colleague.xlsx'",
        status=1,
    ),
    Stop("What does a finding mean?", "explain flow.not-in-crosswalk"),
    Stop(
        "A slip of the hand in the plan ({Twon} for {Town}) is caught before any row is read:",
        "build owners",
        _misspell,
        2,
    ),
    Stop(
        "Mended; and somebody says what the status V means, in crosswalks/standings.csv. The owner held back for it is written now, "
        "everybody else keeps the identifier of the first run, and what the edit changed is told:",
        "build owners --compare",
        _mend,
        1,
    ),
    Stop(
        "Visits were printed. The groups become columns, and each subtotal is compared with its records.",
        "survey incoming/north/visits.csv",
    ),
    Stop(
        "The other lists are read by the same rules, from text, JSON, a report and a database.",
        "build prices animals visits",
        status=1,
    ),
    Stop(
        "The front desk is to correct Braga's telephone numbers, in a workbook.",
        "lend owners --columns full_name,phone,email --where '{Town} = \"Braga\"'",
    ),
    Stop(
        "Each branch gets its own owners to correct, with telephone numbers masked: they stay here, and come back by themselves.",
        "lend owners --by branch --columns full_name,street,town,email,since --mask phone",
    ),
    Stop(
        "The front desk's workbook comes back under another name: one number corrected, one too short, one address changed, one record marked for removal.",
        "receive 'back from the front desk.xlsx'",
        correct,
        1,
    ),
    Stop(
        "What is right is accepted, as import files of exactly what changed (and as the way back).",
        "receive 'back from the front desk.xlsx' --accept",
        status=1,
    ),
    Stop(
        "Harbour's comes back as text from a program of another country: letters read in the wrong encoding, day and month exchanged, and one street corrected by a person.",
        "receive 'back from harbour.csv' --accept",
        spoil,
    ),
    Stop(
        "North's has an address that the front desk corrected otherwise meanwhile. The manager is to decide, in a workbook of her own.",
        "receive 'back from north.xlsx' --review --to 'for the manager.xlsx'",
        answer,
        1,
    ),
    Stop(
        "She accepts both; and later builds are to write it, whatever the old program still says.",
        "receive 'for the manager.xlsx' --accept --correct --from Inês",
        decide,
    ),
    Stop(
        "If the import turns out to have been premature, this puts back what was there:",
        "records loans/owners-5-nor/undo-changes.csv",
    ),
    Stop(
        "North goes on working in the old program for a while. What would it have to hold, in its own columns and codes?",
        "carry-back owners",
        status=1,
    ),
    Stop(
        "Why does this owner look as she does? One record's whole story:",
        "trace OW-000003 --fields full_name,phone,standing",
    ),
    Stop(
        "The plan is put before the practice's manager as a mapping sheet, and comes back signed, with remarks.",
        "lend owners --mapping",
    ),
    Stop("All four lists of both clinics in one command, as they are to be imported:", "build", status=1),
    Stop(
        "The whole package once more, as the new system will read it, with all that refers to something:", "check out"
    ),
    Stop(
        "The visits stand in files of at most 50 rows beside the whole, as many as the new system takes at once. Who of one town gets a letter? The question is kept in questions/:",
        "records --question of-town --set town=Braga",
    ),
    Stop(
        "The price list is wanted by others too, in other forms: as a workbook for the front desk,",
        "records prices --to 'prices for the front desk.xlsx'",
    ),
    Stop("as JSON for the web page,", "records prices --to prices.json"),
    Stop("as XML for the bookkeeper,", "records prices --to prices.xml"),
    Stop("and in columns of fixed width for the wall.", "records prices --to prices.txt"),
    Stop("They are imported. From here on it is known what the new system holds.", "handed-over last --by Inês"),
    Stop(
        "A month later both old programs export again: new owners, one who moved, one whose account was closed, one whom the old program forgot; an animal struck off. "
        "What is new, changed and gone, and who leaves, with the reason:",
        "build --since",
        _a_month_later,
        1,
    ),
    Stop("Why does the new system hear of this owner for the last time?", "trace OW-000009 --fields standing"),
    Stop("And this is what was done, with the digests of all that was read and written.", "ledger"),
]


def walk(folder: Path) -> int:
    """Walk through the tour in a demo move. Gives 0 if every command ended as it should."""
    environment = {**os.environ, "PYTHONIOENCODING": "utf-8", "COLUMNS": os.environ.get("COLUMNS", "100")}
    wrong = 0
    with Loaded() as program:
        for number, stop in enumerate(TOUR, start=1):
            _print(f"\n# {number}. {stop.words}")
            if stop.by_hand is not None:
                stop.by_hand(folder)
            _print(f"$ mudanza {stop.command}\n")
            status = program.run(Command(shlex.split(stop.command), folder, environment))
            if status != stop.status:
                wrong += 1
                _print(f"(this ended with status {status}, and {stop.status} was expected)")
    _print(f"\n# That was the tour. The move is in {folder}: change plans/owners.toml, and build again.")
    return 1 if wrong else 0


def _print(text: str) -> None:
    sys.stdout.write(text + "\n")
    sys.stdout.flush()
