"""What somebody said of single rows, as files: `exclusions/LIST.csv` and `inclusions/LIST.csv`."""

from __future__ import annotations

from pathlib import Path

from mudanza.core.documents.errors import MoveError, Place
from mudanza.core.plans.move import Move
from mudanza.core.plans.own_tables import own_entries, own_headings
from mudanza.core.tables.by_hand import ByHand, Said

#: the columns beside those that find rows
REASON, WHO = "reason", "who"


def by_hand_path(move: Move, list_name: str, *, goes: bool = False) -> Path:
    """The file that says which rows of a list do not go or, if it `goes`, which do although the plan says no."""
    return move.folder / ("inclusions" if goes else "exclusions") / f"{list_name}.csv"


def read_by_hand(move: Move, list_name: str) -> ByHand:
    """All that was said of rows of a list. Raises MoveError with the line of what is wrong."""
    said = []
    for goes in (False, True):
        path = by_hand_path(move, list_name, goes=goes)
        if path.is_file():
            said += _said(path, move.shown(path), goes)
    first: dict[tuple[tuple[str, str], ...], Said] = {}
    for one in said:
        if (other := first.setdefault(one.by, one)) is not one:
            raise MoveError(
                f"{one.shown} is meant twice: also in {other.file} line {other.line}.",
                place=Place(one.file, one.line),
                hint="Take one of the lines out.",
            )
    return ByHand(tuple(said))


def _said(path: Path, shown: str, goes: bool) -> list[Said]:
    headings = own_headings(path, (REASON,))
    finding = [heading for heading in headings if heading not in (REASON, WHO)]
    if not finding:
        hint = "Its first line is: key,reason,who; or columns of the source in the place of key."
        raise MoveError("the table does not say which rows are meant.", place=Place(shown, 1), hint=hint)
    found = []
    for line, texts in own_entries(path):
        by = tuple((heading, texts[heading]) for heading in finding if texts[heading])
        if not by:
            raise MoveError(
                "the line does not say which row is meant.",
                place=Place(shown, line),
                hint=f"Fill one of {', '.join(finding)}.",
            )
        if not texts[REASON]:
            raise MoveError(
                "the line gives no reason.", place=Place(shown, line), hint="Say why, in the column reason."
            )
        found.append(Said(shown, line, by, goes, texts[REASON], texts.get(WHO) or None))
    return found
