"""Which layout a file was made for: told by the description beside it, or by its headings."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from mudanza.core.documents.errors import SourceError
from mudanza.core.layouts.csvw import BESIDE, DESCRIPTION, read_layouts
from mudanza.core.layouts.form import OF_THEIR_OWN
from mudanza.core.layouts.layout import Layout
from mudanza.core.sources.opening import open_source
from mudanza.core.sources.reader import ReadOptions
from mudanza.core.work.checking.headings import share_of_headings
from mudanza.core.work.checking.opened import in_its_form

#: so much of the headings must be those of a layout
_LEAST = 0.5


@dataclass(frozen=True)
class Recognised:
    """The layout that a file was made for, and by what that is known: the description of a file, its name, or its share of headings, 0 to 1."""

    layout: Layout
    described_in: Path | None = None
    share: float = 1.0
    by_name: bool = False


def described(path: Path) -> Recognised | None:
    """The layout in the description that lies beside a file, its own or that of the whole folder. Raises LayoutError where it is wrong."""
    own = path.with_name(path.name + BESIDE)
    # that of all files has the references between them
    for description in (path.with_name(DESCRIPTION), own):
        if not description.is_file():
            continue
        for layout in read_layouts(description):
            if description == own or Path(layout.url or "").name == path.name:
                return Recognised(layout, description)
    return None


def recognised(path: Path, layouts: Mapping[str, Layout], sheet: str | None = None) -> Recognised | None:
    """The layout that a file was made for; None if it is like none. Raises as reading the file does, and LayoutError where its description is wrong."""
    known = described(path)
    if known is not None:
        return known
    for one in layouts.values():
        # there may be nothing else to go by: no headings, or one record alone, which no reader takes for a list
        called_so = path.suffix == one.form.ending and path.name.startswith(f"{one.name}.")
        if one.form.format in OF_THEIR_OWN and called_so and in_its_form(path, one) is not None:
            return Recognised(one, by_name=True)
    found: list[Recognised] = []
    # as it stands, and with the heading further down, below a title
    for exact in (True, False):
        reader = open_source(path, ReadOptions(exact=exact, sheet=sheet))
        found += [Recognised(one, None, share_of_headings(one, reader.raw_headings)) for one in layouts.values()]
        if any(one.share == 1 for one in found):
            break
    # of several that fit alike, the one that the file is called like: owners.additions.csv is of owners
    best = max(found, key=lambda one: (one.share, path.name.startswith(f"{one.layout.name}.")), default=None)
    return best if best is not None and best.share >= _LEAST else None


def is_description(path: Path) -> bool:
    """Whether a file only describes others."""
    return path.name.endswith(BESIDE) or path.name == DESCRIPTION


def recognised_or_none(path: Path, layouts: Mapping[str, Layout]) -> Recognised | None:
    """As `recognised`, but None too where the file cannot be read as a table."""
    try:
        return recognised(path, layouts)
    except SourceError:
        return None
