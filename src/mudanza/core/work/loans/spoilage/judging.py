"""Telling spoilage from edits: for each column, in which ways its cells differ from what was lent, and whether it was a person."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Literal

import polars as pl

from mudanza.core.layouts.layout import Field
from mudanza.core.layouts.rules import blank_in_file, render
from mudanza.core.layouts.types import DateType, NumberType, YesNoType
from mudanza.core.values.written import YES_NO, YES_NO_TOO
from mudanza.core.work.loans.spoilage.columns import happened
from mudanza.core.work.loans.spoilage.letters import letters
from mudanza.core.work.loans.spoilage.moments import of_moments, readings_of_moments
from mudanza.core.work.loans.spoilage.numbers import of_numbers, readings_of_numbers
from mudanza.core.work.loans.spoilage.reading import Reading
from mudanza.core.work.loans.spoilage.spoilage import AFTER, BEFORE, IS, WAS, Spoilage
from mudanza.core.work.loans.spoilage.texts import nothings, of_texts, spaces

#: what a person says of a column: `undo` what is spoilt, or take all of it `as edits`; or nothing
Answer = Literal["undo", "as edits"]
Settled = Literal["undone", "question"]
#: the column of cells that says which were lent to be corrected
FAULTY = "faulty"
_MANY, _SHARE = 3, 0.6
#: no cell is spoilt in more ways one after the other
_ROUNDS = 5


@dataclass(frozen=True)
class Told:
    """That cells of a field differ only in one way: how many `cells` `of` those that could, in which `line` the first of them stands and what it held, and what was made of them."""

    field: str
    name: str
    words: str
    cells: int
    of: int
    settled: Settled
    line: int
    before: str | None
    after: str | None


@dataclass(frozen=True)
class Judged:
    """What came back of a column: its edits (line, at, before, after), the cells that cannot be judged (the same, and why), and what was told of spoilage."""

    edits: pl.DataFrame
    held: pl.DataFrame
    told: tuple[Told, ...] = ()
    #: how its cells are read, and put right, one after the other: for cells of new records
    read: tuple[pl.Expr, ...] = ()
    mended: tuple[pl.Expr, ...] = ()
    #: the ways in which it is spoilt, and the whole file probably
    spread: frozenset[str] = frozenset()


def judge(field: Field, cells: pl.DataFrame, answer: Answer | None = None, known: Collection[str] = ()) -> Judged:
    """Judge a column. `cells` has, in the order of the sheet, `line`, `at` (which record), `before` and `after` (texts, null where blank), and for
    typed fields `was`; `faulty` says, if it is there, which cells were lent to be corrected, so that whatever came back in them is an edit. `known` are the
    ways in which other columns of the file are spoilt.
    """
    column = _Column(field, answer, known)
    if FAULTY not in cells.columns:
        return column.judged(cells)
    judged = column.judged(cells.filter(~pl.col(FAULTY)))
    corrected = cells.filter(pl.col(FAULTY) & BEFORE.ne_missing(AFTER)).select(judged.edits.columns)
    return replace(judged, edits=pl.concat([judged.edits, corrected]).sort("line"))


class _Column:
    def __init__(self, field: Field, answer: Answer | None, known: Collection[str]) -> None:
        self.field, self.answer, self.known = field, answer, known
        self.typed = field.is_typed and field.separator is None
        self.told: list[Told] = []
        self.ways: list[Spoilage] | None = None
        self.read: list[pl.Expr] = []
        self.mended: list[pl.Expr] = []
        self.spread: set[str] = set()

    def judged(self, cells: pl.DataFrame) -> Judged:
        """All of it."""
        if self.typed:
            cells = cells.with_columns(self.field.type.read_sheet(AFTER).alias("is"))
            cells = self._read_as_written(cells)
        differing = cells.filter(self._differs)
        nothing = differing.clear().select("line", "at", "before", "after", pl.lit("").alias("why"))
        held = [nothing]
        if differing.height and self.answer != "as edits":
            differing, more = self._whole(cells, differing)
            held.append(more)
            for _ in range(_ROUNDS):
                before = differing.height
                differing, more = self._one_way(cells, differing)
                held.append(more)
                if differing.height in (0, before):
                    break
        edits = differing
        if self.typed:
            edits = edits.with_columns(_written(self.field).alias("after"))
        shown = [one.select(nothing.columns) for one in held]
        return Judged(
            edits.select("line", "at", "before", "after"),
            pl.concat(shown),
            tuple(self.told),
            tuple(self.read),
            tuple(self.mended),
            frozenset(self.spread),
        )

    @property
    def _differs(self) -> pl.Expr:
        if not self.typed:
            return BEFORE.ne_missing(AFTER)
        return WAS.ne_missing(IS) | (IS.is_null() & AFTER.is_not_null())

    # how cells are written

    def _read_as_written(self, cells: pl.DataFrame) -> pl.DataFrame:
        """Cells that are not as the layout or the sheet has them, read as most of the column shows that they are written."""
        odd = cells.filter(self._differs & AFTER.is_not_null())
        if odd.is_empty():
            return cells
        readings = readings_of(self.field)
        for _ in range(2):
            odd = cells.filter(self._differs & AFTER.is_not_null())
            if odd.is_empty() or not readings:
                return cells
            agreed = odd.select(
                (one.value == WAS).fill_null(False).sum().alias(str(n)) for n, one in enumerate(readings)
            ).row(0)
            most = max(agreed)
            if most < 1:
                break
            best = readings[agreed.index(most)]
            fixed = best.value.cast(cells["is"].dtype, strict=False)
            right, here = cells.select(
                (fixed == WAS).fill_null(False).sum().alias("right"), (IS == WAS).fill_null(False).sum().alias("here")
            ).row(0)
            value = pl.coalesce(fixed, IS) if right > here else pl.coalesce(IS, fixed)
            hits = cells.filter(self._differs & (value == WAS).fill_null(False))
            if hits.is_empty():
                break
            self._tell("writing", best.words, hits, int(cells["after"].is_not_null().sum()), "undone")
            self.read.append(value)
            cells = cells.with_columns(value.alias("is"))
        unread = cells.filter(IS.is_null() & AFTER.is_not_null())
        if unread.height and readings:
            # what all ways of reading take for one value is that value
            values = [one.value.cast(cells["is"].dtype, strict=False) for one in readings]
            least, most_ = pl.min_horizontal(values), pl.max_horizontal(values)
            clear = pl.when(IS.is_null() & AFTER.is_not_null() & (least == most_)).then(least)
            self.read.append(pl.coalesce(IS, clear))
            cells = cells.with_columns(self.read[-1].alias("is"))
        return cells

    # ways in which they are spoilt

    def _whole(self, cells: pl.DataFrame, differing: pl.DataFrame) -> tuple[pl.DataFrame, pl.DataFrame]:
        if self.typed:
            came = pl.coalesce(IS.cast(pl.String), AFTER)
            rows = cells.select("line", WAS.cast(pl.String).alias("before"), came.alias("after"))
        else:
            rows = cells.select("line", "before", "after")
        whole = happened(rows)
        if whole is None or self._explained(cells, differing, whole.name) >= int(whole.cells.sum()):
            return differing, differing.clear().with_columns(pl.lit("").alias("why"))
        hit = cells.filter(whole.cells).join(differing.select("line"), on="line", how="semi", maintain_order="left")
        return self._settle(hit, differing, whole.name, whole.words, whole.of, whole.certain)

    def _explained(self, cells: pl.DataFrame, differing: pl.DataFrame, whole: str) -> int:
        """How many cells differ in the one way that most do, which then says more than what happened to the `whole`."""
        ways = self._ways(cells)
        counts = differing.select(one.same.fill_null(False).sum().alias(str(n)) for n, one in enumerate(ways)).row(0)
        return max(
            (n for one, n in zip(ways, counts, strict=True) if one.proof != "ask" or whole == "words"), default=0
        )

    def _ways(self, cells: pl.DataFrame) -> list[Spoilage]:
        """The ways in which such cells are spoilt; they depend on what was lent alone."""
        if self.ways is None:
            self.ways = self._ways_of(cells)
        return self.ways

    def _ways_of(self, cells: pl.DataFrame) -> list[Spoilage]:
        takes, before = self.field.type, cells["before"]
        if isinstance(takes, NumberType) and self.typed:
            return [*of_numbers(), *nothings(), *spaces()]
        if isinstance(takes, DateType) and self.typed:
            return [*of_moments(self.field), *nothings(), *spaces()]
        if isinstance(takes, YesNoType) and self.typed:
            filled = (WAS.is_null() & ~IS).fill_null(False)
            no = Spoilage("zeros for blanks", "blanks filled with no", "ask", filled, WAS.is_null())
            return [no, *nothings(), *spaces(), *letters(before)]
        return list(of_texts(self.field, before))

    def _one_way(self, cells: pl.DataFrame, differing: pl.DataFrame) -> tuple[pl.DataFrame, pl.DataFrame]:
        """The differing cells without those that are spoilt in the way that most are, and those that cannot be judged."""
        none = differing.clear().with_columns(pl.lit("").alias("why"))
        ways = self._ways(cells)
        counts = differing.select(one.same.fill_null(False).sum().alias(str(n)) for n, one in enumerate(ways)).row(0)
        order = sorted(
            (n for n in range(len(ways)) if counts[n]), key=lambda n: (ways[n].proof == "ask", -counts[n], n)
        )
        for number in order:
            way = ways[number]
            hit = differing.filter(way.same.fill_null(False))
            could = int(cells.select(way.could.fill_null(False).sum()).item())
            others = int(differing.select((way.could & ~way.same).fill_null(False).sum()).item())
            if not self._proved(way, hit.height, max(could - others, hit.height)):
                continue
            # one cell of one that could have been hit, or two of two, may have been a person
            certain = way.proof == "sure" or way.name in self.known or (way.proof != "ask" and hit.height >= _MANY)
            rest, held = self._settle(hit, differing, way.name, way.words, max(could, hit.height), certain)
            if way.spreads and certain:
                self.spread.add(way.name)
            if way.mended is not None:
                rest = self._mended(rest, way.mended)
            if way.suspect is not None and rest.height:
                doubtful = rest.filter(way.suspect.fill_null(False))
                rest = rest.join(doubtful.select("line"), on="line", how="anti", maintain_order="left")
                held = pl.concat(
                    [
                        held,
                        doubtful.with_columns(pl.lit(f"an edit in a column that was spoilt: {way.words}").alias("why")),
                    ]
                )
            return rest, held
        return differing, none

    def _proved(self, way: Spoilage, hit: int, could: int) -> bool:
        if way.proof == "sure" or way.name in self.known or self.answer == "undo":
            return True
        if way.proof == "mark" and hit == could:
            return True
        return (hit >= 2 and hit == could) or (hit >= _MANY and hit >= _SHARE * could)

    def _settle(
        self, hit: pl.DataFrame, differing: pl.DataFrame, name: str, words: str, of: int, certain: bool
    ) -> tuple[pl.DataFrame, pl.DataFrame]:
        """The differing cells without those that were hit, and these where they are a question."""
        rest = differing.join(hit.select("line"), on="line", how="anti", maintain_order="left")
        undone = certain or self.answer == "undo"
        self._tell(name, words, hit, of, "undone" if undone else "question")
        held = hit.with_columns(pl.lit(words).alias("why"))
        return rest, held.clear() if undone else held

    def _mended(self, rest: pl.DataFrame, mended: pl.Expr) -> pl.DataFrame:
        """Edited cells as they were before they were spoilt."""
        self.mended.append(mended)
        rest = rest.with_columns(pl.coalesce(mended, AFTER).alias("after"))
        if self.typed:
            rest = rest.with_columns(pl.coalesce(self.field.type.read_sheet(AFTER), IS).alias("is"))
        return rest.filter(self._differs)

    def _tell(self, name: str, words: str, hit: pl.DataFrame, of: int, settled: Settled) -> None:
        line, before, after = hit.select("line", "before", "after").row(0)
        self.told.append(Told(self.field.title, name, words, hit.height, of, settled, line, before, after))


def judge_columns(
    columns: Sequence[tuple[Field, pl.DataFrame]], answers: dict[str, Answer]
) -> Iterator[tuple[Field, Judged]]:
    """Judge all columns of a file, the ways in which some are spoilt being known for the others."""
    first = [(field, cells, judge(field, cells, answers.get(field.title))) for field, cells in columns]
    known = frozenset[str]().union(*(one.spread for _, _, one in first))
    for field, cells, one in first:
        again = one.edits.height > 0 and known and answers.get(field.title) is None
        yield field, judge(field, cells, None, known) if again else one


def as_read(field: Field, cells: pl.Series, judged: Judged | None) -> pl.Series:
    """The texts of new cells of a field as the layout writes them; read as the other cells of their column were."""
    rows = pl.DataFrame({"after": cells}).select(pl.when(~blank_in_file(field, AFTER)).then(AFTER).alias("after"))
    for mended in judged.mended if judged is not None else ():
        rows = rows.with_columns(pl.coalesce(mended, AFTER).alias("after"))
    text = AFTER
    if field.is_typed and field.separator is None:
        rows = rows.with_columns(field.type.read_sheet(AFTER).alias("is"))
        for value in judged.read if judged is not None else ():
            rows = rows.with_columns(value.alias("is"))
        text = _written(field)
    return rows.select(text.fill_null(field.null[0]) if field.null[0] else text).to_series()


def _written(field: Field) -> pl.Expr:
    """The text of a value as the layout writes it; as it came, where it is none, or where the layout's text would be another value."""
    text = render(field, IS, field.kind)
    same = (field.type.read(text) == IS).fill_null(False)
    return pl.when(IS.is_not_null() & same).then(text).otherwise(AFTER)


def readings_of(field: Field) -> list[Reading]:
    """The ways in which the cells of a typed field may be written, besides those of the layout and of the sheet."""
    takes = field.type
    if isinstance(takes, NumberType):
        return readings_of_numbers()
    if isinstance(takes, DateType):
        return readings_of_moments(field)
    if isinstance(takes, YesNoType):
        word = AFTER.str.strip_chars().str.to_lowercase()
        pairs = [*YES_NO, *YES_NO_TOO, ("1.0", "0.0"), ("☑", "☐"), ("✓", "✗")]
        return [
            Reading(f"written as {yes} and {no}", pl.when(word == yes).then(True).when(word == no).then(False))
            for yes, no in pairs
        ]
    return []


def agreement(field: Field, before: pl.Series, after: pl.Series) -> float:
    """The share of the filled cells of a field that hold what was lent, however they are written."""
    cells = pl.DataFrame({"before": before, "after": after}).filter(
        BEFORE.is_not_null() & ~blank_in_file(field, BEFORE)
    )
    if cells.is_empty():
        return 0.0
    same = [BEFORE == AFTER]
    if field.is_typed and field.separator is None:
        readings = [field.type.read_sheet(AFTER), *(one.value for one in readings_of(field))]
        same += [field.type.read(BEFORE) == one for one in readings]
    shares = cells.select(one.fill_null(False).mean().alias(str(n)) for n, one in enumerate(same)).row(0)
    return float(max(shares))
