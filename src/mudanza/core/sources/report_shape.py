"""Seeing the shape of a printed report: where its heading is, and what its groups, totals and page lines begin with."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace
from decimal import Decimal, InvalidOperation
from itertools import zip_longest

from mudanza.core.sources.headings import Cells, filled, find_heading, is_total, tell_apart
from mudanza.core.sources.reader import ReadOptions

#: a line that only draws a line
RULE = r"^[-=_*.\s]{3,}$"
_PAGE = re.compile(r"\W*(page|página|pagina|seite|pág\.?|pag\.?)\W*\d+", re.I)
_LABEL = re.compile(r"([^\d:]{1,40}:)\s*(.*)")
_NUMBER = re.compile(r"\(?[-+]?[\d.,']*\d[\d.,']*\)?-?")
_TOTAL_WORD = re.compile(r"\W*[^\W\d]+([- ]?total\w*)?", re.I)


@dataclass(frozen=True)
class ReportShape:
    """A report's shape: the rows of its heading, the line they begin on and the first line below them; the titles above, their digits
    taken for 9; columns made of group lines with what those begin with, outermost first; what totals and lines to pass over begin with."""

    heads: tuple[tuple[str, ...], ...]
    heading_line: int
    data_from: int
    titles: frozenset[str]
    groups: tuple[tuple[str, str], ...]
    totals: tuple[str, ...]
    pass_over: tuple[str, ...]
    decimal: str
    repeats: int
    regular: bool

    @property
    def is_report(self) -> bool:
        """Whether there is more to it than a plain table, and yet a table in it."""
        between = bool(self.groups or self.totals)
        pages = self.repeats > 1 and bool(self.titles or between)
        return self.regular and (pages or bool(self.groups and self.totals) or len(self.groups) > 1)

    @property
    def proposal(self) -> tuple[str, ...]:
        """Lines for a plan's source."""
        lines = ['format = "report"', f"heading = {self.heading_line}"]
        if len(self.heads) > 1:
            lines.append(f"heading_rows = {len(self.heads)}")
        if self.groups:
            lines.append("groups = { " + ", ".join(f'"{name}" = "{prefix}"' for name, prefix in self.groups) + " }")
        if self.totals:
            lines.append("totals = [" + ", ".join(f'"{t}"' for t in self.totals) + "]")
        if self.pass_over:
            lines.append("pass_over = [" + ", ".join(f'"{t}"' for t in self.pass_over) + "]")
        return (*lines, f'decimal = "{self.decimal}"')


def guess_shape(rows: Sequence[Cells], lines: Sequence[int], options: ReadOptions) -> ReportShape | None:
    """The shape of a report, what the options say going before what can be seen. None if there is no heading."""
    index = _heading(rows, lines, options.heading)
    if index is None:
        return None
    count = options.heading_rows or 1
    heads = [tuple(row) for row in rows[index : index + count]]
    body = rows[index + count :]
    titles = {_normal(row) for row in rows[:index] if filled(row)}
    width = sum(1 for cell in heads[-1] if cell.strip())
    repeats = sum(1 for row in body if _same(row, heads[-1]))
    loose = [
        row
        for row in body
        if filled(row) and not _same(row, heads[-1]) and _normal(row) not in titles and not re.match(RULE, _all(row))
    ]
    own = options.own
    decimal = own.get("decimal") or _decimal(body)
    totals = tuple(own["totals"]) if "totals" in own else _totals(loose, width, decimal)
    titles |= _numbered_pages(body, heads[-1], titles)
    loose = [row for row in loose if _normal(row) not in titles]
    pages = tuple(own["pass_over"]) if "pass_over" in own else _pages(loose)
    lone = [row for row in loose if not _begins(row, totals) and not _begins(row, pages)]
    groups = tuple(own["groups"].items()) if "groups" in own else _groups(lone, width)
    data_from = lines[index + count] if index + count < len(lines) else lines[-1] + 1
    names = tell_apart([name for name, _ in groups])
    groups = tuple(zip(names, (prefix for _, prefix in groups), strict=True))
    labels = [prefix for _, prefix in groups if prefix.strip()]
    left = [row for row in lone if not _begins(row, labels)]
    wide = sum(1 for row in left if filled(row) > max(2, width // 2))
    regular = width > 2 and wide >= 0.4 * len(left) and not any(len(cell) > 200 for row in heads for cell in row)
    shape = ReportShape(
        tuple(heads), lines[index], data_from, frozenset(titles), groups, totals, pages, decimal, repeats + 1, regular
    )
    # groups that are printed between the titles and the first heading count as well
    return _with_groups_above(shape, rows[:index], lines)


def _heading(rows: Sequence[Cells], lines: Sequence[int], said: int | None) -> int | None:
    if said:
        return next((i for i, line in enumerate(lines) if line >= said), None)
    first = find_heading(rows[:80])
    if first is not None:
        return first
    again = Counter(tuple(c.strip() for c in row) for row in rows if filled(row) > 2)
    most = next((row for row, times in again.most_common(1) if times > 1), None)
    return next((i for i, row in enumerate(rows) if tuple(c.strip() for c in row) == most), None)


def _with_groups_above(shape: ReportShape, above: Sequence[Cells], lines: Sequence[int]) -> ReportShape:
    marks = [prefix for _, prefix in shape.groups if prefix.strip()]
    at = next((i for i, row in enumerate(above) if _begins(row, marks)), None)
    if at is None:
        return shape
    titles = frozenset(_normal(row) for row in above[:at] if filled(row))
    return replace(shape, titles=titles, data_from=lines[at])


def _all(row: Cells) -> str:
    return " ".join(cell.strip() for cell in row if cell.strip())


def _normal(row: Cells) -> str:
    return re.sub(r"\d+", "9", _all(row))


def _same(row: Cells, head: Cells) -> bool:
    return [c.strip() for c in row] == [c.strip() for c in head]


def _first(row: Cells) -> str:
    return next((cell for cell in row if cell.strip()), "")


def _begins(row: Cells, prefixes: Sequence[str]) -> bool:
    return _first(row).strip().lower().startswith(tuple(p.strip().lower() for p in prefixes if p.strip()))


def _totals(rows: Sequence[Cells], width: int, decimal: str) -> tuple[str, ...]:
    """What totals begin with: words for a total, and words in front of numbers that the records above add up to, in whatever language."""
    words = [_TOTAL_WORD.match(_first(row)) for row in rows if is_total(row, max(width - 1, 2))]
    known = list(dict.fromkeys(match.group(0).strip() for match in words if match))
    # the sum of a whole report shows once its parts' sums are known not to be records
    while found := [word for word in _added_up(rows, width, decimal, known) if not _begins([word], known)]:
        known += found
    return tuple(known)


def _added_up(rows: Sequence[Cells], width: int, decimal: str, known: Sequence[str]) -> list[str]:
    """First words of lines whose number is the sum of those above it, since another total or from the beginning, at least as often as not."""
    sums = [Decimal(0)] * max(map(len, rows), default=0)
    count = 0
    # for each column what was summed at the beginning and behind each total, with how many records there were
    marks: list[dict[Decimal, int]] = [{Decimal(0): 0} for _ in sums]
    right: Counter[str] = Counter()
    wrong: Counter[str] = Counter()
    for row in rows:
        numbers = [_value(cell, decimal) for cell in row]
        word = _TOTAL_WORD.match(_first(row))
        if word and filled(row) < width and not re.search(r"\d", word.group(0)):
            since = [marks[at].get(sums[at] - number) for at, number in enumerate(numbers) if number]
            hits = [count - before for before in since if before is not None and before < count]
            # what is the sum of one record could be another record
            if hits or _begins(row, known):
                right[word.group(0).strip()] += max(hits, default=0) > 1
                for mark, total in zip(marks, sums, strict=True):
                    mark.setdefault(total, count)
                continue
            wrong[word.group(0).strip()] += 1
        if any(numbers):
            count += 1
            sums = [total + (number or 0) for total, number in zip(sums, numbers, strict=False)] + sums[len(numbers) :]
    return [word for word, times in right.items() if times >= max(1, wrong[word])]


def _value(cell: str, decimal: str) -> Decimal | None:
    """A printed number, with signs and brackets as books have them; None for what is none."""
    text = re.sub(r"[\s\u00a0€$£]", "", cell)
    if not _NUMBER.fullmatch(text):
        return None
    digits = text.strip("()+-").replace("." if decimal == "," else ",", "").replace("'", "").replace(decimal, ".")
    try:
        number = Decimal(digits)
    except InvalidOperation:
        return None
    return -number if "-" in text or text.startswith("(") else number


def _pages(rows: Sequence[Cells]) -> tuple[str, ...]:
    found = [match.group(1) for row in rows if filled(row) <= 2 and (match := _PAGE.match(_first(row).strip()))]
    return tuple(dict.fromkeys(found))


def _numbered_pages(rows: Sequence[Cells], head: Cells, titles: Collection[str]) -> set[str]:
    """Lines that count pages in whatever language, their digits taken for 9: at the ends of pages, each with the next number."""
    numbered: dict[str, list[int]] = {}
    standing = [row for row in rows if filled(row)]
    for row, after in zip_longest(standing, standing[1:]):
        number = re.search(r"\d{1,5}", _all(row))
        at_end = after is None or _same(after, head) or _normal(after) in titles
        if number and at_end and filled(row) <= 2 and re.search(r"[^\W\d_]", _all(row)):
            numbered.setdefault(_normal(row), []).append(int(number.group()))
    return {
        line for line, seen in numbered.items() if len(seen) > 1 and seen == list(range(seen[0], seen[0] + len(seen)))
    }


def _groups(rows: Sequence[Cells], width: int) -> tuple[tuple[str, str], ...]:
    """Columns that group lines make: by a label (`Owner: …`), or else by how far a lone value is indented."""
    labels: dict[str, int] = {}
    indents: dict[str, int] = {}
    for at, row in enumerate(rows):
        first, count = _first(row), filled(row)
        match = _LABEL.match(first.strip())
        if match and count <= max(2, width // 2):
            labels.setdefault(match.group(1), at)
        elif count == 1 and width > 2:
            indents.setdefault(first[: len(first) - len(first.lstrip())], at)
    if labels:
        # outermost is what comes first
        return tuple((label.rstrip(":").strip(), label) for label in sorted(labels, key=lambda k: labels[k]))
    spaces = sorted(indents, key=len)
    return tuple((f"group {i + 1}" if len(spaces) > 1 else "group", indent) for i, indent in enumerate(spaces))


def _decimal(rows: Sequence[Cells]) -> str:
    texts = [cell.strip() for row in rows for cell in row if cell]
    commas = sum(1 for t in texts if re.fullmatch(r"\(?-?[\d.\s]*\d,\d{1,2}\)?-?", t))
    points = sum(1 for t in texts if re.fullmatch(r"\(?-?[\d,\s]*\d\.\d{1,2}\)?-?", t))
    return "," if commas > points else "."
