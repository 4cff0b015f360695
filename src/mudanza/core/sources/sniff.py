"""Finding out how delimited text is written: delimiter, quotes, where its heading stands and where its data end."""

from __future__ import annotations

import csv
import math
import re
from collections import Counter
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

from mudanza.core.documents.errors import Place, SourceError
from mudanza.core.sources.decoding import TextFile, look_at
from mudanza.core.sources.headings import count_below, find_heading, heading_rows, with_groups
from mudanza.core.sources.reader import ReadOptions

USUAL_DELIMITERS = ",;\t|"
#: Stands for a delimiter of several bytes while text is parsed.
STAND_IN = "\x1e"
_SAMPLE_ROWS = 200
#: a delimiter cuts at least so many of the lines into the same number of values
#: so much of a text tells whether it is a plain table
_GLANCE, _GLANCE_ROWS = 1 << 16, 300
#: how a line begins that names the columns of a type of records
_TAGGED = re.compile(r"[^\w\s\"'-]{1,3}\w")
_LEAST_ALIKE = 0.4
_LOOK_ABOVE = 50
_TAIL = 1 << 14
_RUNS = re.compile(r"[^\w\s\"'().,/%€$£&+@-]{2,4}")


@dataclass(frozen=True)
class TextForm:
    """How a delimited file is written.

    `headings` are as they stand, groups in front of names, without the blank one that a trailing delimiter makes;
    `width` is the number of values in a row, `first_line` the line before the first row. `below` lines after the
    byte `end` are no data.
    """

    text: TextFile
    delimiter: str
    quote: str | None
    escape: str | None
    heading_line: int
    headings: tuple[str, ...]
    first_line: int
    width: int
    below: tuple[str, ...] = ()
    end: int | None = None
    heading_rows: int = 1


def find_text_form(path: Path, options: ReadOptions) -> TextForm:
    """Look at the head of a file and at its end. Raises SourceError for an empty file."""
    text = look_at(path, options)
    escape = options.escape or None
    if options.escape is None and not options.exact:
        escape = _find_escape(text.head)
    head = text.head.replace(f'{escape}"', '""') if escape else text.head
    delimiter = options.delimiter or find_delimiter(head, options.quote)
    quote = options.quote if options.exact else _find_quote(head, delimiter, options.quote)
    rows = split_rows(head, delimiter, quote)
    if not any(rows):
        raise SourceError(
            "the lines cannot be cut into values.",
            place=Place(file=str(path)),
            hint="Say delimiter= and quote= in the plan's source.",
        )
    heading_line, headings, first_line, count = _find_heading_line(head, rows, delimiter, quote, options, path)
    body = split_rows(_after(head, first_line), delimiter, quote)
    width = len(headings)
    if not options.exact:
        headings, width = _without_trailing(headings, body)
    below: tuple[str, ...] = ()
    end: int | None = None
    if not options.exact and options.below != 0:
        below, end = _find_below(text, delimiter, quote, width, first_line, options.below)
    return TextForm(text, delimiter, quote, escape, heading_line, headings, first_line, width, below, end, count)


def is_plain_table(path: Path, options: ReadOptions) -> bool:
    """Whether a text begins as nothing but a table does: all headings in the first line, as many values in each further one, most of them filled in. So there is no need to look for anything else in it."""
    text = look_at(path, options).head[:_GLANCE]
    delimiter = options.delimiter or find_delimiter(text, options.quote)
    rows = split_rows(text, delimiter, options.quote, _GLANCE_ROWS)
    # the last may be cut off
    heading, rows = (rows[0], rows[1:-1]) if len(rows) > 3 else ([], [])
    if len(heading) < 3 or not all(heading) or len({*heading}) < len(heading) or heading in rows:
        return False
    if any(_TAGGED.match(row[0]) for row in (heading, *rows) if row):
        return False
    return all(len(row) == len(heading) and 2 * sum(map(bool, row)) >= len(row) for row in rows)


def find_delimiter(text: str, quote: str | None) -> str:
    """The character, or the run of them, that cuts the rows into the same number of values most consistently."""
    first_lines = text[:4000]
    others = sorted(
        {c for c in first_lines if not c.isalnum() and c not in USUAL_DELIMITERS and c not in "\"' \r\n.-_/()@"}
    )
    usual = [d for d in USUAL_DELIMITERS if d in text]
    best, best_score = "", 0.0
    for delimiter in [*usual, *others, *_runs(first_lines)]:
        widths = [len(row) for row in split_rows(text, delimiter, quote) if any(row)]
        if not widths:
            continue
        # a heading's width that most rows share counts; a few title lines or totals must not matter
        width, times = Counter(w for w in widths).most_common(1)[0]
        if width < 2 or times < _LEAST_ALIKE * len(widths):
            continue
        worth = 1.0 if delimiter in USUAL_DELIMITERS else 1.3 if len(delimiter) > 1 else 0.6
        score = times / len(widths) * math.log(width + 1) * worth
        if score > best_score:
            best, best_score = delimiter, score
    # where nothing cuts the lines alike, each is one value: there is no table in running text
    return best or next((d for d in USUAL_DELIMITERS if d not in text), STAND_IN)


def _runs(text: str) -> list[str]:
    """Runs of signs that could be delimiters of several characters: they stand in most lines, and never shorter."""
    lines = [line for line in text.split("\n")[:30] if line.strip()]
    counts = Counter(run for line in lines for run in set(_RUNS.findall(line)))
    runs = []
    for run, count in counts.items():
        whole = sum(line.count(run) for line in lines) * len(run)
        # the signs stand nowhere but in this run; between single delimiters it would be a blank value
        alone = sum(line.count(sign) for line in lines for sign in set(run))
        if count >= 0.6 * len(lines) and alone <= 1.1 * whole:
            runs.append(run)
    return runs


def _find_escape(text: str) -> str | None:
    r"""A backslash, if quotes inside values are written \" and never doubled."""
    sample = text[: 1 << 18]
    # behind a last quote stands a delimiter or the line's end, so that one is no proof
    if not re.search(r'\\"[^",;\t|^\r\n]', sample):
        return None
    inside = len(re.findall(r'[^",;\t|\n]""[^",;\t|\r\n]', sample))
    return "\\" if inside == 0 else None


def _find_quote(text: str, delimiter: str, quote: str | None) -> str | None:
    """A single quote instead of the usual one, if the values of most lines stand in those; none, if quotes are only signs."""
    if quote == '"' and '"' in text:
        # a quoted value, which may go on over lines but hardly begins with a line end
        inside = r'(?:[^"\n]|"")*|(?:[^"\n]|"")+\n(?:[^"]|"")*'
        sides = rf'(?:^|{re.escape(delimiter)})"(?:{inside})"(?:{re.escape(delimiter)}|\r?$)'
        if not re.search(sides, text, re.M) and text.count('"') > 2:
            widths = Counter(len(row) for row in split_rows(text, delimiter, None) if any(row))
            if widths and widths.most_common(1)[0][1] >= 0.9 * widths.total():
                return None
    lines = [line.rstrip("\r") for line in text.split("\n")[:60] if line.strip()]
    if quote != '"' or f'"{delimiter}' in text or f'{delimiter}"' in text:
        return quote
    single = sum(f"'{delimiter}'" in line or (line.startswith("'") and line.endswith("'")) for line in lines)
    return "'" if single > 0.8 * len(lines) else quote


def split_rows(text: str, delimiter: str, quote: str | None, most: int = _SAMPLE_ROWS) -> list[list[str]]:
    """The first rows of a text, cut as the standard library does. For looking, not for reading."""
    rows: list[list[str]] = []
    if len(delimiter) > 1:
        text, delimiter = text.replace(delimiter, STAND_IN), STAND_IN
    quoting: Literal[0, 3] = 3 if quote is None else 0  # csv.QUOTE_NONE, csv.QUOTE_MINIMAL
    # signs that the standard library stumbles over are blanks here; the rows are read elsewhere
    lines = (line.rstrip("\r").replace("\r", " ").replace("\0", " ") + "\n" for line in text.split("\n"))
    reader = csv.reader(lines, delimiter=delimiter, quotechar=quote, quoting=quoting)
    while len(rows) < most:
        try:
            rows.append(next(reader))
        except StopIteration:
            break
        except csv.Error:
            # a value that is longer than anybody looks at
            continue
    return rows


def _after(text: str, line: int) -> str:
    return text.split("\n", line)[line] if text.count("\n") >= line else ""


def _find_heading_line(
    text: str, rows: list[list[str]], delimiter: str, quote: str | None, options: ReadOptions, path: Path
) -> tuple[int, tuple[str, ...], int, int]:
    """The line where the heading begins (0 if there is none), the headings, the last line of the heading, and how many rows it has."""
    said = options.heading
    if said == 0:
        rows = split_rows(_after(text, options.above), delimiter, quote) if options.above else rows
        width = next((len(row) for row in rows if any(row) and not _is_comment(row, options)), 1)
        return 0, ("",) * width, options.above, 1
    if said is not None:
        if said > text.count("\n") + 1:
            raise SourceError(
                f"the heading should be in line {said}, but the file has fewer lines.",
                place=Place(file=str(path)),
                hint="Correct heading= in the plan's source.",
            )
        rows = split_rows(_after(text, said - 1), delimiter, quote)
        count = min(options.heading_rows or 1, len(rows))
        return said, _joined(rows[:count]), said - 1 + _lines(rows[:count]), count
    index = find_heading(rows[:_LOOK_ABOVE]) if options.comment is None else None
    if index is None and options.exact:
        index = next((i for i, row in enumerate(rows) if any(row) and not _is_comment(row, options)), 0)
    if index is None:
        widths = Counter(len(row) for row in rows[:_LOOK_ABOVE] if any(row))
        width = widths.most_common(1)[0][0]
        start = next(i for i, row in enumerate(rows) if len(row) == width)
        return 0, ("",) * width, _lines(rows[:start]), 1
    count = options.heading_rows or heading_rows(rows, index)
    start = max(0, index - count + 1)
    # rows with line breaks inside values are rare above a heading: count lines through the values themselves
    return 1 + _lines(rows[:start]), _joined(rows[start : index + 1]), _lines(rows[: index + 1]), count


def _is_comment(row: list[str], options: ReadOptions) -> bool:
    return options.comment is not None and row[0].startswith(options.comment)


def _lines(rows: list[list[str]]) -> int:
    return sum(1 + sum(cell.count("\n") for cell in row) for row in rows)


def _joined(rows: list[list[str]]) -> tuple[str, ...]:
    names = [cell.rstrip("\r\n") for cell in rows[-1]]
    for groups in reversed(rows[:-1]):
        names = with_groups(groups, names)
    return tuple(names)


def _without_trailing(headings: tuple[str, ...], rows: list[list[str]]) -> tuple[tuple[str, ...], int]:
    """The headings without a blank last one, and the width of rows, where lines end with a delimiter."""
    size = len(headings)
    body = [row for row in rows if any(row)]
    longer = sum(len(row) == size + 1 and not row[-1].strip() for row in body)
    if size > 1 and not headings[-1].strip() and any(h.strip() for h in headings):
        closed = sum(len(row) == size and not row[-1].strip() for row in body)
        shorter = sum(len(row) == size - 1 for row in body)
        if max(closed, shorter) > 0.9 * len(body):
            return headings[:-1], size if closed >= shorter else size - 1
    if body and longer > 0.9 * len(body):
        return headings, size + 1
    return headings, size


def _find_below(
    text: TextFile, delimiter: str, quote: str | None, width: int, first_line: int, said: int | None
) -> tuple[tuple[str, ...], int | None]:
    """The lines below the data, and the byte where they begin."""
    size = text.path.stat().st_size
    unit = 4 if text.encoding.startswith("utf-32") else 2 if text.encoding.startswith("utf-16") else 1
    start = max(text.skip, size - _TAIL // unit * unit)
    with text.path.open("rb") as file:
        file.seek(start)
        raw = file.read()
    tail = raw.decode(text.encoding, "surrogateescape" if unit == 1 else "replace")
    lines = [line for line in re.split(r"(?<=\r)" if text.carriage_returns else r"(?<=\n)", tail) if line]
    if start > text.skip:
        lines = lines[1:]
    elif text.head:
        lines = lines[first_line:]
    if said is None:
        rows = [(split_rows(line.rstrip("\r\n"), delimiter, quote, 1) or [[]])[0] for line in lines[-40:]]
        if len(rows) == len(lines):
            # the first row is never taken for a total
            rows = rows[1:]
        said = count_below(rows, width)
    count = min(said, len(lines))
    if count == 0:
        return (), None
    below = lines[len(lines) - count :]
    errors = "surrogateescape" if unit == 1 else "strict"
    length = len("".join(below).encode(text.encoding, errors))
    return tuple(line.rstrip("\r\n") for line in below), size - length
