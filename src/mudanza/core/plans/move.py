"""The move folder as plain data: its settings, and where everything in it stands."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

from mudanza.core.disk.project_files import ProjectFiles
from mudanza.core.documents.errors import MoveError, Place, unknown
from mudanza.core.documents.names import checked_name
from mudanza.core.language.parameters import Declared
from mudanza.core.sources.address import Database
from mudanza.core.tables.key_pattern import KeyPattern

SETTINGS = "mudanza.toml"


@dataclass(frozen=True)
class Move:
    """A move folder. All paths that plans give are relative to `folder`."""

    folder: Path
    name: str
    key_patterns: Mapping[str, KeyPattern] = field(default_factory=dict)
    parameters: Mapping[str, Declared] = field(default_factory=dict)
    databases: Mapping[str, Database] = field(default_factory=dict)
    #: how many seconds a command waits for another run to finish
    wait: float = 30
    #: whether the flows may use the steps of the move's own steps.py
    own_steps: bool = False
    #: where the target's codes of a crosswalk stand: targets (a file), code and meaning (its columns), or field ("list.field")
    crosswalks: Mapping[str, Mapping[str, str]] = field(default_factory=dict)
    #: what is to be saved before anything is imported, in words, and the files of it that are put into an archive
    before_import: str | None = None
    archived: tuple[str, ...] = ()
    #: the language of those who are lent records
    language: str = "en"
    #: who may read what holds people's records: the ledger, loans, what is built (of `ACCESS`)
    access: str = "owner"
    #: whether files that a user names may take the place of others, and those of which they never do
    overwrite: bool = False
    protected: tuple[Path, ...] = ()

    @property
    def files(self) -> ProjectFiles:
        """Its files as those who write them see them."""
        return ProjectFiles(self.folder, self.access, self.wait, self.overwrite, self.protected)

    @property
    def out(self) -> Path:
        return self.folder / "out"

    @property
    def ledger_path(self) -> Path:
        return self.folder / ".mudanza" / "ledger.sqlite"

    def path(self, relative: str) -> Path:
        """A path that a plan or a person gave, seen from the move folder."""
        return self.folder / relative

    def shown(self, path: Path) -> str:
        """A path as people of this move know it."""
        try:
            return str(path.relative_to(self.folder))
        except ValueError:
            return str(path)

    def names(self, folder: str, suffix: str) -> list[str]:
        """The names of the plans, layouts or crosswalks."""
        return sorted(p.stem for p in (self.folder / folder).glob(f"*{suffix}"))

    def plan_path(self, name: str) -> Path:
        """Where the plan of a list stands. Raises MoveError with the nearest name if there is none."""
        return self._named(name, "plans", ".toml", "plan")

    def layout_path(self, name: str) -> Path:
        """Where a layout stands, by its name. Raises MoveError with the nearest name if there is none."""
        return self._named(name, "layouts", ".json", "layout")

    def crosswalk_path(self, name: str) -> Path:
        """Where a crosswalk stands, by its name."""
        return self._named(name, "crosswalks", ".csv", "crosswalk")

    def new_path(self, folder: str, name: str, suffix: str) -> Path:
        """Where something of a name stands, or is to stand, in a folder of its kind. Raises MoveError for what is no
        name."""
        return self.folder / folder / f"{checked_name(name, folder.removesuffix('s'))}{suffix}"

    def _named(self, name: str, folder: str, suffix: str, kind: str) -> Path:
        path = self.new_path(folder, name, suffix)
        if not path.is_file():
            known = self.names(folder, suffix)
            listed = f"There are: {', '.join(known)}." if known else f"The folder {folder}/ has none."
            raise MoveError(unknown(kind, name, known), place=Place(str(self.folder / folder)), hint=listed)
        return path

    def database(self, name: str) -> Database:
        """A database of the settings. Raises MoveError with the nearest name if there is none."""
        if name not in self.databases:
            known = list(self.databases)
            listed = f"There are: {', '.join(known)}." if known else f"Add [databases.{name}] to {SETTINGS}."
            raise MoveError(unknown("database", name, known), hint=listed)
        return self.databases[name]

    def key_pattern(self, book: str) -> KeyPattern:
        """The pattern of a key book. Raises MoveError if the settings have none of that name."""
        if book not in self.key_patterns:
            raise MoveError(
                unknown("key book", book, list(self.key_patterns)),
                hint=f'Add [keys.{book}] with pattern = "OW-{{000000}}" to {SETTINGS}.',
            )
        return self.key_patterns[book]
