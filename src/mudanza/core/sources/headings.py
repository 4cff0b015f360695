"""Where a table begins and ends among what stands around it: its heading, and totals below."""

from __future__ import annotations

import re
from collections.abc import Sequence

import polars as pl

from mudanza.core.values.row_columns import LINE
from mudanza.core.values.written import DATE_LIKE, NUMBER_LIKE

Cells = Sequence[str]
#: so many rows at least tell what a column holds
_FEW = 3

_TOTAL = re.compile(
    r"\W*((grand|sub|gesamt|zwischen)[- ]?)?(totals?|totais|totale|summe|soma|sum|somme|suma|gesamt)\b", re.I
)
_FOOT = re.compile(
    r"\W*(end of|end$|fim\b|ende\b|fin\b|printed|impresso)|[-=*_ ]{3,}$|\W*\d+\s+(records?|rows?|lines?|registos?|linhas?"
    r"|datensätze|zeilen|lignes|filas|registros?)\b|\W*(records?|rows?|registos|linhas|datensätze|zeilen|lignes|filas)\W+\d+",
    re.I,
)


def tell_apart(headings: Sequence[str]) -> list[str]:
    """Headings without leading and trailing spaces, blank ones named by position, repeated ones numbered.

    `#line` counts as taken.
    """
    seen: set[str] = {LINE}
    names: list[str] = []
    for position, heading in enumerate(headings, start=1):
        printable = "".join(c if c.isprintable() else " " for c in heading)
        plain = " ".join(printable.split()) or f"column {position}"
        name, again = plain, 2
        while name in seen:
            name, again = f"{plain} ({again})", again + 1
        seen.add(name)
        names.append(name)
    return names


def with_groups(groups: Cells, names: Cells, ends: Sequence[int] | None = None) -> list[str]:
    """Names with their group in front; a group reaches to the next one, or to its end (exclusive) if that is known."""
    joined, group, until = [], "", len(names)
    for i, name in enumerate(names):
        here = groups[i].strip() if i < len(groups) else ""
        if here:
            group, until = here, ends[i] if ends is not None else len(names)
        joined.append(f"{group} {name}".strip() if i < until else name)
    return joined


def filled(row: Cells) -> int:
    """How many cells have a value."""
    return sum(1 for cell in row if cell.strip())


def find_heading(rows: Sequence[Cells]) -> int | None:
    """Index of the row that is most likely the heading among the first rows of a file; None if they are all data.

    The heading is the first row about as wide as the widest, whose cells differ and are no numbers; title lines above
    it are narrower. A row whose cells are what stands below them, numbers over numbers and dates over dates, is data.
    """
    widest = max((filled(row) for row in rows), default=0)
    if widest == 0:
        return 0
    first = next(index for index, row in enumerate(rows) if filled(row))
    for index, row in enumerate(rows):
        cells = [cell.strip() for cell in row if cell.strip()]
        numbers = sum(1 for cell in cells if NUMBER_LIKE.fullmatch(cell))
        if len(cells) >= max(1, 0.7 * widest) and numbers <= len(cells) // 4 and len(set(cells)) >= 0.5 * len(cells):
            return None if _is_data(row, rows[index + 1 :]) else index
    wide = next((i for i, row in enumerate(rows) if filled(row) >= 0.7 * widest), first)
    return None if _is_data(rows[wide], rows[wide + 1 :]) else first


def heading_rows(rows: Sequence[Cells], index: int) -> int:
    """2 if the row above a heading has groups that tell its repeated names apart, else 1."""
    if index == 0:
        return 1
    names, groups = [c.strip() for c in rows[index]], rows[index - 1]
    named = [n for n in names if n]
    if len(set(named)) == len(named) or not 2 <= filled(groups) < len(named):
        return 1
    joined = [n for n in with_groups(groups, names) if n]
    return 2 if len(set(joined)) > len(set(named)) else 1


def _kind(cell: str) -> str:
    cell = cell.strip()
    if not cell:
        return ""
    return "date" if DATE_LIKE.fullmatch(cell) else "number" if NUMBER_LIKE.fullmatch(cell) else "text"


def _is_data(row: Cells, below: Sequence[Cells]) -> bool:
    below = [r for r in below if len(r) == len(row)]
    if len(below) < 2:
        return False
    years = [c for c in row if re.fullmatch(r"(19|20)\d\d", c.strip())]
    alike = 0
    for i, cell in enumerate(row):
        kinds = [k for r in below if (k := _kind(r[i]))]
        mostly = max(set(kinds), key=lambda k: (kinds.count(k), k)) if kinds else ""
        if not mostly or kinds.count(mostly) < 0.8 * len(kinds) or not cell.strip():
            continue
        if mostly == "text":
            # a town or a status comes again below; a heading hardly ever does
            alike += sum(r[i].strip() == cell.strip() for r in below) > 0.05 * len(below)
        elif _kind(cell) != mostly:
            return False
        elif len(years) < 2 or cell not in years:
            alike += 1
    return alike > 0


def count_below(rows: Sequence[Cells], width: int) -> int:
    """How many rows at the end of a file are totals or closing words and no records."""
    count = spaces = 0
    most = max(2, width // 2)
    for at in reversed(range(len(rows))):
        row = rows[at]
        cells = [cell.strip() for cell in row if cell.strip()]
        if not cells:
            spaces += 1
            continue
        foot = len(cells) == 1 and _FOOT.match(cells[0])
        if not is_total(row, most) and not foot and not _adds_up(row, rows[:at], most):
            break
        count += 1 + spaces
        spaces = 0
    return count


def printed_below(rows: Sequence[Cells], headings: Sequence[str], line: int) -> pl.DataFrame:
    """The totals among rows below the data, the first of them in a line: in one row, of each column what stands lowest."""
    lowest = {
        heading: next((row[i].strip() for row in reversed(rows) if len(row) > i and row[i].strip()), None)
        for i, heading in enumerate(headings)
    }
    return pl.DataFrame([lowest], schema=dict.fromkeys(headings, pl.String)).with_columns(pl.lit(line).alias(LINE))


def _adds_up(row: Cells, above: Sequence[Cells], most: int) -> bool:
    """Whether a row closes a table in whatever language: words where the rows above have numbers or dates, and otherwise nothing, or few numbers below numbers."""
    at = [i for i, cell in enumerate(row) if cell.strip()]
    if not 1 <= len(at) <= most or _kind(row[at[0]]) != "text" or any(_kind(row[i]) != "number" for i in at[1:]):
        return False
    # a code that is not like the others is no word
    if len(at) == 1 and (len(row) < _FEW or len(re.findall(r"[^\W\d_]", row[at[0]])) < _FEW):
        return False
    kinds = [[kind for one in above if len(one) > i and (kind := _kind(one[i]))] for i in at]
    word, *numbers = kinds
    larger = all(_digits(row[i]) >= max((_digits(one[i]) for one in above if len(one) > i), default=0) for i in at[1:])
    return (
        larger
        and len(word) >= _FEW
        and word.count("text") <= 0.05 * len(word)
        and all(kind.count("number") >= 0.9 * max(len(kind), 1) for kind in numbers)
    )


def _digits(cell: str) -> int:
    """The digits of a number, which is larger than another of as many decimals if they are."""
    return int(re.sub(r"\D", "", cell)[:30] or 0)


def records_among(rows: Sequence[Cells], width: int) -> list[int]:
    """Which of the rows that are passed over below the data look like records: as many values, the first of them filled, and no total."""
    return [
        i
        for i, row in enumerate(rows)
        if len(row) >= width > 1 and row[0].strip() and filled(row) > width // 2 and not is_total(row, width)
    ]


def is_total(row: Cells, most: int) -> bool:
    """Whether a row reads as a total: the word in its first value, and otherwise numbers, in at most so many columns."""
    cells = [cell.strip() for cell in row if cell.strip()]
    if not cells or not _TOTAL.match(cells[0]):
        return False
    return len(cells) <= most and all(NUMBER_LIKE.search(cell) for cell in cells[1:])
