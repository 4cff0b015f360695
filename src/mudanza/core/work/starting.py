"""Starting a move folder from the template that ships with Mudanza."""

from __future__ import annotations

from importlib.resources import as_file, files
from pathlib import Path

from mudanza.core.disk.files import Outputs
from mudanza.core.documents.errors import MoveError, Place


def start_move(folder: Path) -> list[str]:
    """Copy the template into a folder; gives the files. Raises MoveError if one of them is there already."""
    return copy_tree("mudanza.core.work", "template", folder)


def copy_tree(package: str, name: str, folder: Path) -> list[str]:
    """Copy a folder that ships with a package; all of its files or none."""
    with as_file(files(package).joinpath(name)) as root, Outputs() as outputs:
        sources = sorted(p for p in root.rglob("*") if p.is_file() and "__pycache__" not in p.parts)
        names = [str(p.relative_to(root)) for p in sources]
        for source, relative in zip(sources, names, strict=True):
            target = folder / relative
            if target.exists():
                raise MoveError(f"{relative} is there already.", place=Place(str(folder)), hint="Choose a new folder.")
            outputs.create(target).write(source.read_bytes())
        outputs.publish()
    return names
