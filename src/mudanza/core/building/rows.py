"""What happens to a batch of rows: chosen, made, given identifiers, and divided into the four ends.

Everything here is a function of the rows and of small tables, so that preview and build do the same.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import polars as pl

from mudanza.core.building.program import Program
from mudanza.core.errors import MoveError, Place
from mudanza.core.findings import SCHEMA, Finding, frame
from mudanza.core.keys import KeyBook
from mudanza.core.language.values import Mint
from mudanza.core.layouts.model import Layout
from mudanza.core.problems import Problem, flags, gather, held
from mudanza.core.sources.reading import FILE, INNER, LINE, WHY
from mudanza.core.unique import SeenKeys

_ROW = f"{INNER}row"


@dataclass(frozen=True)
class Ends:
    """Where the rows of a batch ended.

    `written` has the layout's titles as text columns (and `extra` ones asked for); `held` the untouched source
    columns plus `#why`; `skipped` counts rows by rule.
    """

    written: pl.DataFrame
    held: pl.DataFrame
    findings: pl.DataFrame
    skipped: dict[str, int]
    merged: int
    lines: pl.Series
    records: pl.Series

    def end_of(self, line: int) -> str:
        """How the row at a line ended: written, held back, merged or skipped."""
        if line in self._written:
            return "written"
        if line in self._held:
            return "held back"
        merged = (pl.col("line") == line) & (pl.col("code") == "row.merged")
        return "merged" if self.findings.filter(merged).height else "skipped"

    @cached_property
    def _written(self) -> frozenset[int]:
        return frozenset(self.lines)

    @cached_property
    def _held(self) -> frozenset[int]:
        return frozenset(self.held[LINE])

    def sent(self, keys: list[str]) -> pl.DataFrame:
        """The keys of the written rows, as texts, and a hash of each record."""
        key = pl.concat_str([pl.col(k).fill_null("") for k in keys], separator=", ").alias("key")
        return self.written.select(key, self.records.alias("record"))


@dataclass(frozen=True)
class Early:
    """A batch after all that needs no identifiers: the rows still standing, and what became of the others.

    `reasons` are findings that were told already, with the batch, and that held rows back.
    """

    original: pl.DataFrame
    rows: pl.DataFrame
    held: list[pl.Series]
    findings: list[pl.DataFrame]
    skipped: dict[str, int]
    reasons: pl.DataFrame


def wrong_cells(noticed: pl.DataFrame) -> pl.DataFrame:
    """Of what a reader noticed, the values that keep their rows from being written."""
    return noticed.filter(
        (pl.col("severity") == "stop") & pl.col("line").is_not_null() & pl.col("column").is_not_null()
    )


def run_early(program: Program, rows: pl.DataFrame, columns: list[str], wrong: pl.DataFrame | None = None) -> Early:
    """Choose rows and make the fields that need no identifier. A pure function of rows in the intake's shape.

    Rows that have a cell in `wrong` (findings) are held back before anything is asked of them.
    """
    findings: list[pl.DataFrame] = []
    skipped: dict[str, int] = {}
    blank = rows.select(pl.all_horizontal(pl.col(columns).is_null())).to_series()
    if blank.any():
        skipped["blank row"] = int(blank.sum())
        rows = rows.filter(~blank)
    rows = rows.with_row_index(_ROW)
    original = rows
    held_rows: list[pl.Series] = []
    reasons = pl.DataFrame(schema=SCHEMA)
    if wrong is not None and not wrong.is_empty():
        bad = rows[LINE].is_in(wrong["line"].implode())
        held_rows.append(rows[_ROW].filter(bad))
        rows = rows.filter(~bad)
        reasons = wrong
    if program.keep is not None:
        chosen = staged(rows, program.choose, program.own_steps).with_columns(flags(program.choose_problems))
        bad = chosen.select(held(program.choose_problems)).to_series()
        findings.append(_gather(chosen, program.choose_problems))
        keep = chosen.select(program.keep).to_series()
        left_out = int((~keep & ~bad).sum())
        if left_out:
            skipped["keep"] = left_out
        if bad.any():
            held_rows.append(chosen[_ROW].filter(bad))
        if left_out or bad.any():
            rows = rows.filter(keep & ~bad)
    rows = staged(rows, [*program.early, flags(program.early_problems)], program.own_steps)
    bad = rows.select(held(program.early_problems)).to_series()
    findings.append(_gather(rows, program.early_problems))
    if bad.any():
        held_rows.append(rows[_ROW].filter(bad))
        rows = rows.filter(~bad)
    return Early(original, rows, held_rows, findings, skipped, reasons)


def run_late(
    program: Program,
    layout: Layout,
    early: Early,
    seen: SeenKeys,
    files: list[str],
    extra: list[pl.Expr] | None = None,
) -> Ends:
    """Give identifiers, make what depends on them, and tell repeated keys. Batches come in order.

    Identifiers for rows that are written are given out in the program's key books, and their keys are remembered
    in `seen`. `files` are all sources' shown paths, to name places by.
    """
    late = _late(program, layout, early.rows, seen, files)
    found = pl.concat([pl.DataFrame(schema=SCHEMA), *early.findings, late.findings])
    held_index = pl.concat([pl.Series(_ROW, [], dtype=pl.UInt32), *early.held, late.held])
    held_frame = (
        early.original.filter(pl.col(_ROW).is_in(held_index.implode())) if held_index.len() else early.original.head(0)
    )
    texts = [made.text.expr.alias(made.field.title) for made in program.fields]
    return Ends(
        written=late.rows.select(*texts, *(extra or [])),
        held=held_frame.drop(_ROW).join(
            _reasons(pl.concat([found, early.reasons])), on=LINE, how="left", maintain_order="left"
        ),
        findings=found,
        skipped=early.skipped,
        merged=late.merged,
        lines=late.rows[LINE],
        records=late.records,
    )


def run_whole(program: Program, rows: pl.DataFrame) -> pl.DataFrame:
    """All columns that the program makes of rows, wherever these would end; identifiers as they would be given out."""
    made = staged(rows, program.early, program.own_steps)
    for name, book in program.books.items():
        found, proposed = _keys_for(program, book, made)
        made = _with_keys(made, [m for m in program.mints if m.book == name], found, proposed)
    return staged(made, program.late, program.own_steps)


def staged(rows: pl.DataFrame, stages: list[list[pl.Expr]], own_steps: bool = False) -> pl.DataFrame:
    """Rows with the columns of all stages. Raises MoveError where a move's `own_steps` fail."""
    lazy = rows.lazy()
    for stage in stages:
        if stage:
            lazy = lazy.with_columns(stage)
    if not own_steps:
        return lazy.collect()
    try:
        return lazy.collect()
    except Exception as error:  # whatever somebody's own function does
        raise MoveError(
            f"one of the move's own steps failed: {str(error).splitlines()[0]}", place=Place("steps.py"),
            hint="Mend it there, and give it an example like the value that it failed on.",
        ) from error  # fmt: skip


def _gather(rows: pl.DataFrame, problems: list[Problem], start: int = 0) -> pl.DataFrame:
    return gather(rows, problems, pl.col(FILE), start=start)


def _reasons(findings: pl.DataFrame) -> pl.DataFrame:
    """Why each line was held back, as one text."""
    said = pl.concat_str(
        pl.col("column"),
        pl.when(pl.col("value").is_null()).then(pl.lit(" (blank)")).otherwise(pl.format(' "{}"', "value")),
        pl.format(" [{}: {}]", "code", "rule"),
        ignore_nulls=True,
    )
    return (
        findings.filter(pl.col("severity") == "stop")
        .group_by(pl.col("line").alias(LINE), maintain_order=True)
        .agg(said.str.join("; ").alias(WHY))
    )


@dataclass(frozen=True)
class _Late:
    rows: pl.DataFrame
    held: pl.Series
    findings: pl.DataFrame
    merged: int
    records: pl.Series


def _late(program: Program, layout: Layout, rows: pl.DataFrame, seen: SeenKeys, files: list[str]) -> _Late:
    """Identifiers, what depends on them, and repeated keys.

    Rows are first made with proposed identifiers. If some of them prove not to be written and their identifiers
    go to no other row, the rest is made again, so that no number is given to a row that is not written.
    """
    findings: list[pl.DataFrame] = []
    held_rows: list[pl.Series] = []
    merged = 0
    start = len(program.early_problems)
    while True:
        proposed: dict[str, pl.DataFrame] = {}
        made = rows
        for name, book in program.books.items():
            found, proposed[name] = _keys_for(program, book, rows)
            made = _with_keys(made, [m for m in program.mints if m.book == name], found, proposed[name])
        made = staged(made, [*program.late, flags(program.late_problems, start)], program.own_steps)
        bad = made.select(held(program.late_problems, start)).to_series()
        noticed = [_gather(made, program.late_problems, start)]
        if bad.any():
            held_rows.append(made[_ROW].filter(bad))
            made = made.filter(~bad)
        hashed, again, same = _repeats(program, layout, made, seen)
        if again is not None:
            noticed.append(_repeat_findings(program, layout, made, again, same, files))
            held_rows.append(made[_ROW].filter(again.is_not_null() & ~same))
            merged += int((again.is_not_null() & same).sum())
            fresh = again.is_null()
            made, hashed = made.filter(fresh), hashed.filter(fresh)
        if made.height == rows.height or all(
            _all_used(program, name, proposal, made) for name, proposal in proposed.items()
        ):
            findings += noticed
            break
        # what was noticed on the rows that go on will be noticed again
        findings += [f.filter(~pl.col("line").is_in(made[LINE].implode())) for f in noticed]
        rows = rows.filter(pl.col(_ROW).is_in(made[_ROW].implode()))
    for name, proposal in proposed.items():
        program.books[name].give(proposal)
    seen.add(hashed)
    held_index = pl.concat([pl.Series(_ROW, [], dtype=pl.UInt32), *held_rows])
    return _Late(made, held_index, pl.concat([pl.DataFrame(schema=SCHEMA), *findings]), merged, hashed["record"])


def _keys_for(program: Program, book: KeyBook, rows: pl.DataFrame) -> tuple[pl.DataFrame, pl.DataFrame]:
    """Known and proposed keys for the identities in rows."""
    asked = [rows[mint.identity].rename("identity") for mint in program.mints if mint.book == book.name]
    identities = pl.concat([pl.Series("identity", [], dtype=pl.String), *asked])
    found = book.find(identities)
    return found, book.propose(identities, found)


def _with_keys(made: pl.DataFrame, mints: list[Mint], found: pl.DataFrame, proposed: pl.DataFrame) -> pl.DataFrame:
    if len(mints) == 1 and found.is_empty() and proposed.height == made.height:
        # every row has an identity of its own that is new: the keys stand in row order already
        return made.with_columns(proposed["key"].alias(mints[0].key))
    for mint in mints:
        known = pl.concat([found, proposed]).rename({"identity": mint.identity, "key": mint.key})
        made = made.join(known, on=mint.identity, how="left", maintain_order="left")
    return made


def _all_used(program: Program, name: str, proposal: pl.DataFrame, made: pl.DataFrame) -> bool:
    if proposal.is_empty():
        return True
    used = [made.select(pl.col(m.identity).alias("identity")) for m in program.mints if m.book == name]
    return proposal.join(pl.concat(used), on="identity", how="anti").is_empty()


def _key_texts(program: Program, layout: Layout) -> list[pl.Expr]:
    texts = [made.text.expr for made in program.fields if made.field.name in layout.primary_key]
    return [text.str.to_lowercase() for text in texts] if layout.key_ignores_case else texts


def _repeats(
    program: Program, layout: Layout, made: pl.DataFrame, seen: SeenKeys
) -> tuple[pl.DataFrame, pl.Series | None, pl.Series]:
    """The rows' hashes; where each repeated key was first seen (None if none is); whether the record was the same."""
    no = pl.Series(dtype=pl.Boolean)
    if not layout.primary_key or made.is_empty():
        return (
            pl.DataFrame(schema={"key": pl.UInt64, "key2": pl.UInt64, "record": pl.UInt64, "where": pl.Int64}),
            None,
            no,
        )
    record = [one.text.expr for one in program.fields]
    hashed = SeenKeys.prepare(made, _key_texts(program, layout), record)
    hashed = hashed.with_columns(made[f"{INNER}where"].alias("where"))
    first = seen.first_seen(hashed)
    if first is None:
        return hashed, None, no
    return hashed, first["first"], first["same"]


def _repeat_findings(
    program: Program, layout: Layout, made: pl.DataFrame, again: pl.Series, same: pl.Series, files: list[str]
) -> pl.DataFrame:
    titles = [m.field.title for m in program.fields if m.field.name in layout.primary_key]
    texts = [m.text.expr for m in program.fields if m.field.name in layout.primary_key]
    repeated = made.select(
        pl.col(FILE), pl.col(LINE), pl.concat_str(texts, separator=", ", ignore_nulls=True).alias("value")
    )
    repeated = repeated.with_columns(again.alias("first"), same.alias("same")).filter(pl.col("first").is_not_null())
    found = [
        Finding(
            "row.merged" if alike else "key.repeated",
            file=file,
            line=line,
            column=", ".join(titles),
            value=value,
            rule=f"unique; first in {files[first >> 40]} line {first & ((1 << 40) - 1)}",
        )
        for file, line, value, first, alike in repeated.iter_rows()
    ]
    return frame(found)


def where(rows: pl.DataFrame, number: int) -> pl.DataFrame:
    """Rows with a number that says where each stands: the source's place in the plan, and the line."""
    return rows.with_columns((pl.col(LINE) + (number << 40)).alias(f"{INNER}where"))
