"""Creating the demo move."""

from __future__ import annotations

import shutil
from pathlib import Path

from mudanza.core.errors import MoveError, Place
from mudanza.core.starting import copy_tree
from mudanza.demo.generate import write_colleague, write_harbour, write_north

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
    return [
        *names,
        "incoming/north/clients.csv",
        "incoming/harbour/people.xlsx",
        "incoming/from-a-colleague.csv",
    ]
