"""One rule for every file that a user names to be written: never over what people or old programs made, over others
only what the same command wrote, or if that is meant."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from mudanza.core.disk.project_files import ProjectFiles
from mudanza.core.documents.errors import MoveError, OutsideError, Place
from mudanza.core.values.digest import digest_of

#: what was written into files that users named, and by what command
_NOTED = "outputs.json"


def may_be_written(
    path: Path, command: str, project: ProjectFiles | None, *, overwrite: bool = False, protected: Sequence[Path] = ()
) -> None:
    """Raise MoveError where a file that a user named for a command may not be written, OutsideError where it is a
    folder.

    What is `protected`, as it is read, is never written over, nor what of a project belongs to people; other files
    that are there only if this command wrote them as they are, or to `overwrite` them is meant.
    """
    place = Place(str(path))
    if path.is_dir():
        raise OutsideError("this is a folder.", place=place, hint="Name a file in it.")
    folder = project.of_people(path) if project is not None else None
    if folder is not None:
        raise MoveError(
            f"{folder} is not a place for this file: what is there was made by people, by old programs or by the "
            "ledger.",
            place=place,
            hint="Name a file elsewhere, in out/ or in the project folder itself.",
        )
    if project is not None:
        overwrite, protected = overwrite or project.overwrite, (*protected, *project.protected)
    if any(path.resolve() == one.resolve() for one in protected):
        raise MoveError(
            "the file would take the place of one that is read.",
            place=place,
            hint="Give it another name; what came in is never changed.",
        )
    if path.exists() and not overwrite and not (project is not None and _wrote(project, command, path)):
        raise MoveError(
            f"the file exists, and `mudanza {command}` did not write it as it is now.",
            place=place,
            hint="Choose another name, or add --overwrite to replace it.",
        )


def noted_with(project: ProjectFiles, command: str, digests: Mapping[Path, str]) -> tuple[Path, str]:
    """The file that notes what commands have written into files that users named, so that they may write them again.

    Gives its text with what a command has written now (SHA-256 by path). The project must be locked.
    """
    known = {key: one for key, one in _noted(project).items() if (project.folder / key).exists()}
    known |= {_key(project, path): {"command": command, "sha256": sha256} for path, sha256 in digests.items()}
    return project.own / _NOTED, json.dumps(known, ensure_ascii=False, indent=1) + "\n"


def _wrote(project: ProjectFiles, command: str, path: Path) -> bool:
    noted = _noted(project).get(_key(project, path))
    return isinstance(noted, dict) and noted.get("command") == command and noted.get("sha256") == digest_of(path).sha256


def _noted(project: ProjectFiles) -> dict[str, Any]:
    try:
        noted = json.loads((project.own / _NOTED).read_text("utf-8"))
    except (OSError, ValueError, RecursionError):
        return {}
    return noted if isinstance(noted, dict) else {}


def _key(project: ProjectFiles, path: Path) -> str:
    path = path.resolve()
    return str(path.relative_to(project.folder.resolve()) if project.contains(path) else path)
