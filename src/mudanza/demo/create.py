"""Creating the demo move."""

from __future__ import annotations

import shutil
from pathlib import Path

from mudanza.core.documents.errors import MoveError, Place
from mudanza.core.work.starting import copy_tree
from mudanza.demo.generate import north_rows, write_colleague, write_harbour, write_north
from mudanza.demo.records import (
    write_database,
    write_form,
    write_harbour_animals,
    write_north_animals,
    write_prices,
    write_visits,
)
from mudanza.demo.target import write_template

_MARK = "Two clinics, one practice"


def create_demo(folder: Path, again: bool = False) -> list[str]:
    """Make the demo move in a folder; gives its files. With `again`, an earlier demo there is thrown away.

    Raises MoveError if the folder holds something else.
    """
    settings = folder / "mudanza.toml"
    if again and settings.is_file() and _MARK in settings.read_text("utf-8"):
        shutil.rmtree(folder)
    if folder.exists() and any(folder.iterdir()):
        raise MoveError(
            "the folder is not empty.",
            place=Place(str(folder)),
            hint="Name a new folder, or add --again to throw an earlier demo away.",
        )
    names = copy_tree("mudanza.demo", "move", folder)
    for clinic in ("north", "harbour"):
        (folder / "incoming" / clinic).mkdir(parents=True)
    write_north(folder / "incoming/north/clients.csv", 80)
    write_harbour(folder / "incoming/harbour/people.xlsx", 40)
    write_colleague(folder / "incoming/from-a-colleague.csv")
    north, harbour = folder / "incoming/north", folder / "incoming/harbour"
    write_prices(north / "prices.txt")
    write_north_animals(north / "animals.csv", 60, 80)
    write_visits(north / "visits.csv", [(row[0], f"{row[2]} {row[3].strip()}") for row in north_rows(24)])
    write_harbour_animals(harbour / "animals.txt", 30, 40)
    write_form(harbour / "registrations.json")
    write_database(harbour / "clinic.sqlite", 45, 40)
    write_template(folder / "target/animals-import.xlsx")
    _a_month_later(folder / "a month later")
    exports = sorted(
        path
        for path in folder.rglob("*/*")
        if path.is_file() and path.parts[len(folder.parts)] in ("incoming", "target", "a month later")
    )
    return [*names, *(path.relative_to(folder).as_posix() for path in exports)]


def _a_month_later(folder: Path) -> None:
    """The exports of a month after, of what has changed: they take the place of those in incoming/."""
    north, harbour = folder / "north", folder / "harbour"
    north.mkdir(parents=True)
    harbour.mkdir()
    write_north(north / "clients.csv", 82, later=True)
    write_prices(north / "prices.txt", later=True)
    write_north_animals(north / "animals.csv", 62, 80, later=True)
    write_database(harbour / "clinic.sqlite", 48, 40)
