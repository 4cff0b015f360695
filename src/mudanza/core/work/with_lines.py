"""Headers in one file with their lines: nested in one another, or as tagged records; in parts of which none divides a header from its lines."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import polars as pl

from mudanza.core.disk.files import OutFile, Outputs
from mudanza.core.documents.errors import MoveError, Place
from mudanza.core.plans.plan import Plan
from mudanza.core.sinks.composed import Composition, composition_of
from mudanza.core.values.row_columns import HEADER, HEADER_TEXT, INNER, LINE_NUMBER
from mudanza.core.work.references import Target, referred_ids, targets_of
from mudanza.core.work.tables_at_hand import TablesAtHand

_SLICE = 50_000
_COUNT = f"{INNER}count"
#: by what the files are known among those of a list
WITH_LINES = ".with-lines."


@dataclass(frozen=True)
class ListWithin:
    """Lines of headers: their plan, how they refer to them, and what they stand under in a record of them."""

    plan: Plan
    target: Target
    heading: str


def lists_within(plan: Plan, plans: Mapping[str, Plan], tables: TablesAtHand) -> list[ListWithin]:
    """The lists whose records stand in the records of a plan's list, as its layout says. Raises MoveError where one is not built with it, or does not refer to it."""
    found = []
    for name, heading in plan.layout.form.lines.lists.items():
        if name not in plans:
            raise MoveError(
                f"{plan.name} is written with its {name}, and only {plan.name} was to be built.",
                place=Place(str(plan.layout.path), key="urn:mudanza:form.lines"),
                hint=f"Build both: mudanza build {plan.name} {name}.",
            )
        target = next((one for one in targets_of(plans[name], tables) if one.list == plan.name), None)
        if target is None:
            raise MoveError(
                f"{name} should stand in the records of {plan.name}, and does not refer to them.",
                place=Place(str(plan.layout.path), key="urn:mudanza:form.lines"),
                hint=f"Add foreignKeys to the layout of {name}.",
            )
        found.append(ListWithin(plans[name], target, heading))
    return found


def write_with_lines(
    plan: Plan, records: pl.DataFrame, lines: Sequence[tuple[ListWithin, pl.DataFrame]], whole: Path, outputs: Outputs
) -> list[OutFile]:
    """Write `LIST.with-lines` beside the whole file, of the written records of a list and of its lines (texts by headings); and parts of it, where the target takes no more than so many records at once.

    Raises MoveError where a line belongs to no header: it would be lost.
    """
    layout = plan.layout
    made_of = composition_of(layout, {one.heading: one.plan.layout for one, _ in lines})
    numbered = records.with_row_index(HEADER)
    texts = numbered.select(HEADER, made_of.header(records).alias(HEADER_TEXT))
    counts = np.ones(records.height, np.int64)
    for one, rows in lines:
        placed = _placed(one, numbered, rows)
        each = placed.select(HEADER, made_of.lines[one.heading](placed).alias(one.heading))
        grouped = each.group_by(HEADER, maintain_order=True).agg(
            pl.col(one.heading).str.join(made_of.between), pl.len().alias(_COUNT)
        )
        texts = texts.join(grouped.drop(_COUNT), on=HEADER, how="left", maintain_order="left")
        counts[grouped[HEADER].to_numpy()] += grouped[_COUNT].to_numpy()
    made = texts.select(made_of.whole.alias("text"))["text"]
    name = f"{plan.name}{WITH_LINES}{whole.suffix[1:]}"
    files = [_file(outputs, whole.with_name(name), made_of, made)]
    ends = part_ends(counts, layout.demands.rows_per_file)
    if len(ends) > 1:
        for number, (start, end) in enumerate(zip([0, *ends], ends, strict=False), start=1):
            part = whole.with_name(f"{plan.name}{WITH_LINES}part-{number}{whole.suffix}")
            files.append(_file(outputs, part, made_of, made[start:end]))
    return files


def part_ends(counts: np.ndarray[tuple[int], np.dtype[np.int64]], most: int | None) -> list[int]:
    """Where parts of at most so many records end, of how many each header is with its lines. One that alone has more is a part for itself."""
    ends: list[int] = []
    total, done = np.cumsum(counts), 0
    while most is not None and done < len(counts):
        before = int(total[done - 1]) if done else 0
        done = max(int(np.searchsorted(total, before + most, side="right")), done + 1)
        ends.append(done)
    return ends


def _placed(one: ListWithin, headers: pl.DataFrame, rows: pl.DataFrame) -> pl.DataFrame:
    """Lines with the number of their header, in its order and their own."""
    known = referred_ids(headers, one.target.titles, one.target, header=HEADER)
    numbered = rows.with_row_index(LINE_NUMBER)
    of = referred_ids(numbered, one.target.fields, one.target, line=LINE_NUMBER).join(known, on="id", how="inner")
    placed = numbered.join(
        of.select(pl.col("line").alias(LINE_NUMBER), pl.col("header").alias(HEADER)), on=LINE_NUMBER, how="inner"
    ).sort(HEADER, LINE_NUMBER)
    lost = rows.height - placed.height
    if lost:
        raise MoveError(
            f"{lost} of {one.plan.name} belong to no record of {one.target.list}, and would be lost in the file that has them together.",
            place=Place(str(one.plan.path)),
            hint="Make the fields that refer required in the layout, so that such rows are held back.",
        )
    return placed


def _file(outputs: Outputs, path: Path, made_of: Composition, texts: pl.Series) -> OutFile:
    file = outputs.create(path)
    for piece in made_of.envelope.bytes_of(texts.slice(start, _SLICE) for start in range(0, len(texts), _SLICE)):
        file.write(piece)
    return file
