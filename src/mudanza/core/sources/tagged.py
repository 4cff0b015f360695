"""Files of several record types: each line starts with a tag, and marked tags give the columns of a type."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, replace
from functools import cached_property
from itertools import pairwise
from pathlib import Path

import numpy as np
import polars as pl

from mudanza.core.documents.errors import Place, SourceError, unknown
from mudanza.core.findings.finding import Finding, frame
from mudanza.core.sources.decoding import TextFile, look_at, share_of
from mudanza.core.sources.guard import is_workbook
from mudanza.core.sources.headings import tell_apart
from mudanza.core.sources.lines import TEXT, is_blank_line, lines_of
from mudanza.core.sources.reader import Batch, BrokenRow, FileFacts, ReadOptions, WithoutCells, shorter
from mudanza.core.sources.sniff import split_rows
from mudanza.core.sources.structure import Cut, Shape, cut_exactly, cut_quickly
from mudanza.core.values.row_columns import LINE

_TAG = re.compile(r"\w[\w.-]{0,20}")
_MARKED = re.compile(r"([^\w\s\"']{1,3})(\w[\w.-]{0,20})")
_CANDIDATES = "|;\t,^~¦:"
_SAMPLE = 400
#: the share of a type's lines that stand below another's, but for records that were lost
_MOSTLY = 0.7


@dataclass(frozen=True)
class Marks:
    """How records are told apart: the sign between values, what marks a line of columns, the columns of each type as they
    stand there, with the line."""

    delimiter: str
    marker: str
    headings: dict[str, tuple[str, ...]]
    lines: dict[str, int]


def open_file(path: Path, options: ReadOptions, known_as: Path) -> TaggedFile:
    """The reader of one record type. Raises SourceError if the options name none and there are several."""
    marks = find_marks(path, options)
    types = list(marks.headings)
    kind = options.own.get("type") or (types[0] if len(types) == 1 else None)
    if kind is None:
        raise SourceError(
            f"the file has {len(types)} record types: {', '.join(types)}.",
            place=Place(str(known_as)),
            hint=f'Say which is read: type = "{types[0]}" in the plan\'s source.',
        )
    for name in (kind, *options.own.get("parents", ())):
        if name not in types:
            raise SourceError(
                unknown("record type", name, types), place=Place(str(known_as)), hint=f"There are: {', '.join(types)}."
            )
    return TaggedFile(path, options, known_as, marks, kind)


def parts(path: Path, options: ReadOptions, known_as: Path) -> list[ReadOptions]:  # noqa: ARG001
    """The options that read each record type, with its parents as far as they can be seen."""
    if "type" in options.own:
        return [options]
    marks = find_marks(path, options)
    above = _parents(look_at(path, options), marks)
    found = []
    for kind in marks.headings:
        own = {**options.own, "type": kind}
        if above.get(kind) and "parents" not in own:
            own["parents"] = above[kind]
        found.append(replace(options, own=own))
    return found


def recognises(path: Path, options: ReadOptions) -> bool:
    """Whether a file is of this format: nearly every line starts with a tag, and some with one that is marked."""
    if is_workbook(path):
        return False
    found = _guess(look_at(path, options).head.split("\n")[:_SAMPLE])
    return found is not None and len(found[2]) > 1


def find_marks(path: Path, options: ReadOptions) -> Marks:
    """Find the record types of a file. Raises SourceError if no line gives columns, or one gives others than before."""
    text = look_at(path, options)
    guess = _guess(text.head.split("\n")[:_SAMPLE])
    delimiter = options.delimiter or (guess[0] if guess else None)
    marker = options.own.get("marker") or (guess[1] if guess else None)
    if delimiter is None or marker is None:
        raise SourceError(
            "no line gives the columns of a record type.",
            place=Place(str(path)),
            hint='Say marker = "…" (what stands in front of the tag in such lines) and delimiter = "…" in the plan\'s source.',
        )
    headings: dict[str, tuple[str, ...]] = {}
    lines: dict[str, int] = {}
    for frame_, _ in lines_of(text):
        marked = frame_.filter(
            pl.col(TEXT).str.starts_with(marker) & pl.col(TEXT).str.contains(delimiter, literal=True)
        )
        for line, number in marked.select(TEXT, LINE).iter_rows():
            tag, *names = (split_rows(line[len(marker) :], delimiter, options.quote, 1) or [[""]])[0]
            names = names[:-1] if len(names) > 1 and not names[-1].strip() else names
            known = headings.setdefault(tag.strip(), tuple(names))
            lines.setdefault(tag.strip(), number)
            if known != tuple(names):
                raise SourceError(
                    f"the columns of {tag} are not those of line {lines[tag]}.",
                    place=Place(str(path), line=number),
                    hint="Divide the file there and read the parts one by one.",
                )
    headings.pop("", None)
    if not headings:
        raise SourceError(
            f"no line begins with {marker!r} and a tag.",
            place=Place(str(path)),
            hint="Correct marker= in the plan's source.",
        )
    return Marks(delimiter, marker, headings, lines)


def _guess(lines: list[str]) -> tuple[str, str, set[str]] | None:
    """Delimiter, marker and marked tags of the first lines, if nearly all of them have a tag."""
    lines = [line for line in lines if line.strip()]
    best: tuple[float, str, str, set[str]] | None = None
    for delimiter in _CANDIDATES:
        firsts = [line.split(delimiter, 1)[0].strip() for line in lines if delimiter in line]
        tags = Counter(first for first in firsts if _TAG.fullmatch(first))
        pairs = Counter(match.groups() for first in firsts if (match := _MARKED.fullmatch(first)))
        for marker in {mark for mark, _ in pairs}:
            marked = {tag for mark, tag in pairs if mark == marker and tags[tag]}
            covered = sum(tags[tag] for tag in marked) + sum(n for (m, t), n in pairs.items() if m == marker)
            share = covered / len(lines)
            if marked and share > 0.85 and (best is None or share > best[0]):
                best = (share, delimiter, marker, marked)
    return best[1:] if best else None


def _parents(text: TextFile, marks: Marks) -> dict[str, list[str]]:
    """For each type, the types that each of its lines stands below, outermost first, as seen in the first lines."""
    tags = (line.split(marks.delimiter, 1)[0].strip() for line in text.head.split("\n"))
    order = [tag for tag in tags if tag in marks.headings]
    counts = Counter(order)
    chains: dict[str, list[str]] = {}
    # a parent comes first, and more than once
    for tag in dict.fromkeys(order):
        known = [above for above in chains if counts[above] > 1]
        before = Counter(above for above, one in pairwise(order) if one == tag and above in chains)
        own: list[str] = []
        if counts[tag] > 1 and before:
            under = {p: sum(n for a, n in before.items() if a == p or p in chains[a]) for p in known}
            likely = [p for p, times in under.items() if times >= _MOSTLY * before.total()]
            inner = max(likely, key=lambda p: len(chains[p]), default=None)
            while inner is not None and chains[inner] and not _comes_between(order, inner, tag, chains[inner][-1]):
                inner = chains[inner][-1]
            own = [*chains[inner], inner] if inner is not None else []
        chains[tag] = own
    return chains


def _comes_between(order: list[str], parent: str, tag: str, outer: str) -> bool:
    """Whether a parent comes again behind a record below it before one further out does. If none ever does, both are below that one."""
    seen = False
    for one in order:
        seen = (seen or one == tag) and one != outer
        if seen and one == parent:
            return True
    return False


@dataclass(frozen=True)
class TaggedFile(WithoutCells):
    """One record type of a tagged file. A parent's columns stand behind its own, as `PARENT.column`."""

    path: Path
    options: ReadOptions
    known_as: Path
    marks: Marks
    kind: str

    @property
    def _above(self) -> tuple[str, ...]:
        return tuple(self.options.own.get("parents", ()))

    @cached_property
    def _text(self) -> TextFile:
        return look_at(self.path, self.options)

    @cached_property
    def raw_headings(self) -> tuple[str, ...]:
        own = self.marks.headings[self.kind]
        return (*own, *(f"{p}.{name}" for p in self._above for name in tell_apart(self.marks.headings[p])))

    @cached_property
    def headings(self) -> tuple[str, ...]:
        return tuple(tell_apart(self.raw_headings))

    @cached_property
    def facts(self) -> FileFacts:
        marks = self.marks
        proposal = ['format = "tagged"', f'type = "{self.kind}"']
        if self._above:
            proposal.append("parents = [" + ", ".join(f'"{p}"' for p in self._above) + "]")
        types = ", ".join(f"{tag} (columns in line {marks.lines[tag]})" for tag in marks.headings)
        return FileFacts(
            path=self.known_as,
            format="tagged records",
            size=self.path.stat().st_size,
            heading_line=marks.lines[self.kind],
            text=self._text.found,
            delimiter=marks.delimiter,
            part=self.kind,
            notes=(("types", f"{types}; marked with {marks.marker!r}"),),
            proposal=tuple(proposal),
        )

    def batches(self, *, first: bool = False) -> Iterator[Batch]:
        """The records of the type, each with those of its parents that stand above it."""
        marks, delimiter = self.marks, self.marks.delimiter
        last: dict[str, pl.DataFrame] = {}
        tag = pl.col(TEXT).str.split(delimiter).list.first().str.strip_chars()
        for blocks, (frame_, undecodable) in enumerate(lines_of(self._text, first=first), start=1):
            tagged = frame_.with_columns(tag.alias("tag"))
            rows, broken = self._records(tagged, self.kind)
            rows = rows.rename(dict(zip(rows.columns[:-1], self.headings, strict=False)))
            orphans = pl.Series([False] * rows.height, dtype=pl.Boolean)
            outer = None
            for parent in self._above:
                records, _ = self._records(tagged, parent)
                records = pl.concat([last[parent], records]) if parent in last else records
                last[parent] = records.tail(1) if records.height else records
                names = {c: f"{parent}.{c}" for c in records.columns[:-1]}
                above = records.rename(names).with_columns(pl.col(LINE).alias(f"{parent} line"))
                rows = rows.join_asof(above, on=LINE, strategy="backward")
                orphans |= rows[f"{parent} line"].is_null()
                if outer is not None:
                    orphans |= (rows[f"{parent} line"] < rows[outer]).fill_null(True)
                outer = f"{parent} line"
            alone = rows.filter(orphans)
            broken += [
                BrokenRow(
                    line,
                    "read.no-parent",
                    delimiter.join((self.kind, *cells)),
                    self.kind,
                    cells,
                    f"a line of {self._above[-1]} above it",
                )
                for line, cells in (
                    (r[-1], tuple(c or "" for c in r[:-1]))
                    for r in alone.select(*self.headings[: len(marks.headings[self.kind])], LINE).iter_rows()
                )
            ]
            broken = sorted([*broken, *undecodable], key=lambda b: b.line)
            blank = tuple(frame_.filter(is_blank_line())[LINE].to_list())
            yield Batch(
                rows.filter(~orphans).select(*self.headings, LINE),
                tuple(broken),
                blank,
                self._strangers(tagged),
                share_of(self._text, blocks),
            )

    def _strangers(self, tagged: pl.DataFrame) -> pl.DataFrame:
        marks = self.marks
        strange = tagged.filter(
            ~pl.col("tag").is_in(list(marks.headings)) & ~pl.col(TEXT).str.starts_with(marks.marker) & ~is_blank_line()
        )
        rule = f"one of {', '.join(marks.headings)}"
        return frame(
            [
                Finding("read.unknown-tag", line=line, value=shorter(text), rule=rule)
                for text, line in strange.select(TEXT, LINE).iter_rows()
            ]
        )

    def _records(self, tagged: pl.DataFrame, kind: str) -> tuple[pl.DataFrame, list[BrokenRow]]:
        """The records of a type, read as delimited text."""
        names = ("", *self.marks.headings[kind])
        mine = tagged.filter((pl.col("tag") == kind) & pl.col(TEXT).is_not_null())
        schema = {"\x1ftag": pl.String, **dict.fromkeys(tell_apart(names[1:]), pl.String)}
        quote = self.options.quote.encode() if self.options.quote else None
        delimiter = self.marks.delimiter.encode()
        if len(delimiter) > 1:
            raise SourceError(
                "the delimiter of tagged records must be one plain character.",
                place=Place(str(self.known_as)),
                hint='Say it: delimiter = "|" in the plan\'s source.',
            )
        text = mine[TEXT]
        if _closed(mine, self.marks.delimiter, len(names)):
            text = text.str.strip_suffix(self.marks.delimiter)
        if mine.is_empty():
            return pl.DataFrame(schema={**{k: v for k, v in schema.items() if k != "\x1ftag"}, LINE: pl.Int64}), []
        shape = Shape(delimiter, quote, len(names))
        block = ("\n".join(text.to_list()) + "\n").encode()
        cut = cut_quickly(block, shape, True)
        # a record is one line: where a quote would make one of several, each line is cut by itself
        if cut is None or cut.rows != mine.height:
            cut = _cut_lines(text.to_list(), shape)
        rows = self._parsed(cut.body, schema, shape)
        if rows is None:
            cut = _cut_lines(text.to_list(), shape)
            rows = self._parsed(cut.body, schema, shape)
        assert rows is not None
        at = mine[LINE].to_numpy()
        rows = rows.drop("\x1ftag").with_columns(pl.Series(LINE, at[cut.lines], dtype=pl.Int64))
        return rows, [
            replace(b, line=int(at[b.line]), cells=b.cells[1:], rule=f"{len(names)} values, the tag counted")
            for b in cut.broken
        ]

    def _parsed(self, body: bytes, schema: dict[str, type[pl.String]], shape: Shape) -> pl.DataFrame | None:
        """The rows of good records; None if they are not as many as there are lines."""
        if not body:
            return pl.DataFrame(schema=schema)
        quote = shape.quote.decode() if shape.quote else None
        try:
            rows = pl.read_csv(
                body, has_header=False, schema=schema, separator=shape.delimiter.decode(), quote_char=quote
            )
        except pl.exceptions.PolarsError:
            return None
        if rows.height != body.count(b"\n"):
            return None
        return rows.with_columns(pl.when(pl.col(pl.String).str.len_bytes() > 0).then(pl.col(pl.String)).name.keep())


def _cut_lines(lines: list[str], shape: Shape) -> Cut:
    """The good lines among some, and what is wrong with the others. Only where something is wrong."""
    cuts = [cut_exactly(f"{line}\n".encode(), shape, True) for line in lines]
    good = [number for number, cut in enumerate(cuts) if cut.rows]
    broken = tuple(replace(b, line=number) for number, cut in enumerate(cuts) for b in cut.broken)
    size = sum(cut.used for cut in cuts)
    return Cut(b"".join(c.body for c in cuts), len(good), np.array(good, dtype=np.int64), broken, (), size, len(lines))


def _closed(lines: pl.DataFrame, delimiter: str, width: int) -> bool:
    """Whether the lines end with a delimiter that is one too many for their columns."""
    count = pl.col(TEXT).str.count_matches(re.escape(delimiter), literal=False)
    share = lines.select((pl.col(TEXT).str.ends_with(delimiter) & (count == width)).mean()).item()
    return (share or 0) > 0.9
