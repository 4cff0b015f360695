"""The ends of a batch of rows: identifiers given, what depends on them made, repeated keys told. Batches come in the total order."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

import polars as pl

from mudanza.core.engine.early import NOT_KEPT, Early, gather_here, missed_rows
from mudanza.core.engine.identities import IdentityHashes, asked_for
from mudanza.core.engine.numbering import Fresh, number, same_numbers
from mudanza.core.engine.recipe import Made, Recipe
from mudanza.core.engine.repeats import SeenKeys
from mudanza.core.findings.finding import Finding, frame, joined, subject
from mudanza.core.findings.problem import Problem, flags, flags_of_rows, held
from mudanza.core.language.value import Stage
from mudanza.core.plans.leavers import HELD_BACK
from mudanza.core.tables.corrections import corrected
from mudanza.core.tables.key_book import KeyBook
from mudanza.core.values.hashing import fixed_hash
from mudanza.core.values.row_columns import (
    FIRST,
    JOINED,
    LAST,
    LINE,
    RECORD_KEY,
    ROW,
    SAME,
    THEIRS,
    WHERE,
    WHY,
    file_and_line,
    key_text,
    shown_key,
)


@dataclass
class Memory:
    """What is remembered from batch to batch: the key books, and the keys of all rows that were written."""

    books: Mapping[str, KeyBook]
    seen: SeenKeys


@dataclass(frozen=True)
class Ends:
    """Where the rows of a batch ended.

    `written` has the layout's titles as text columns (and `extra` ones asked for), `lines` where these rows stood, `records` a hash of each; `held` the untouched source
    columns plus `#why`; `skipped` counts rows by rule. `asked` are hashes of the old identifiers that the written rows
    ask for; `missed` are the rows that are not written, if somebody wants to know of them (of `early.MISSED`).
    """

    written: pl.DataFrame
    lines: pl.Series
    places: pl.Series
    records: pl.Series
    held: pl.DataFrame
    findings: pl.DataFrame
    skipped: dict[str, int]
    merged: int
    asked: IdentityHashes
    missed: pl.DataFrame

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


def run_late(recipe: Recipe, early: Early, memory: Memory, files: Sequence[str], extra: Sequence[pl.Expr] = ()) -> Ends:
    """The ends of a batch. Identifiers are given out, and keys remembered, in `memory`. `files` are all sources' shown paths, to name places by."""
    ended = _settled(recipe, early.rows, memory, files)
    for name, keys in ended.fresh.items():
        memory.books[name].give(keys)
    memory.seen.add(ended.keys)
    findings = joined([early.findings, ended.findings])
    held_index = pl.concat([early.held, ended.held])
    skipped = early.skipped
    if ended.told_before.height:
        skipped = {**skipped, NOT_KEPT: skipped.get(NOT_KEPT, 0) + ended.told_before.height}
    held_rows = (
        early.original.filter(pl.col(ROW).is_in(held_index.implode())) if held_index.len() else early.original.head(0)
    )
    held_rows = held_rows.drop(ROW).join(_reasons(findings), on=LINE, how="left", maintain_order="left")
    texts = [made.text.expr.alias(made.field.title) for made in recipe.fields]
    written, records = ended.rows.select(*texts, *extra), _hashes(recipe, ended)
    if recipe.corrections and recipe.key:
        written, records, told = _corrected(recipe, written, records, ended.rows[LINE], files, ended.rows[WHERE])
        findings = joined([findings, told])
    return Ends(
        written=written,
        lines=ended.rows[LINE],
        places=ended.rows[WHERE],
        records=records,
        held=held_rows,
        findings=findings,
        skipped=skipped,
        merged=ended.merged,
        asked=asked_for(recipe, ended.rows),
        missed=_missed(recipe, early, held_rows),
    )


def _missed(recipe: Recipe, early: Early, held: pl.DataFrame) -> pl.DataFrame:
    """The rows that are not written, if somebody wants to know."""
    return pl.concat([early.missed, missed_rows(recipe, held, HELD_BACK, pl.col(WHY))])


def _corrected(
    recipe: Recipe, written: pl.DataFrame, records: pl.Series, lines: pl.Series, files: Sequence[str], places: pl.Series
) -> tuple[pl.DataFrame, pl.Series, pl.DataFrame]:
    """The written records with what people corrected in them, their hashes, and what there is to tell."""
    keys = [one.field.title for one in recipe.key_fields]
    keyed = written.with_columns(key_text([pl.col(title) for title in keys]).alias(RECORD_KEY))
    made, told = corrected(keyed, recipe.corrections)
    if told.is_empty():
        return written, records, frame([])
    hashed = made.select(fixed_hash([pl.col(title) for title in recipe.titles]).alias("record")).to_series()
    touched = pl.int_range(pl.len(), dtype=pl.UInt32).is_in(told["row"].unique().implode())
    mixed = pl.DataFrame([hashed.alias("new"), records.alias("old")]).select(
        pl.when(touched).then("new").otherwise("old").alias(records.name)
    )
    numbers = pl.DataFrame([places.alias("place")]).select(file_and_line(pl.col("place"))[0]).to_series()
    found = []
    for row, title, was, now, there, who in told.iter_rows():
        rule = f"{now or '(blank)'} ({who or recipe.corrections.file})"
        code = "correction.made"
        if (there or "") == (now or ""):
            code = "correction.there"
        elif (there or "") != (was or ""):
            code, rule = "correction.source-changed", f"{was or '(blank)'} when it was corrected"
        found.append(Finding(code, files[int(numbers[row])], int(lines[row]), field=title, value=there, rule=rule))
    return made.drop(RECORD_KEY), mixed.to_series(), frame(found)


def _hashes(recipe: Recipe, ended: _Settled) -> pl.Series:
    """The hashes of the written records, as they are kept."""
    if not recipe.key_rule:
        return ended.keys["record"]
    # a key whose capitals alone changed is a change, too
    return ended.rows.select(fixed_hash([one.text.expr for one in recipe.fields]).alias("record")).to_series()


def run_whole(recipe: Recipe, rows: pl.DataFrame, books: Mapping[str, KeyBook]) -> pl.DataFrame:
    """All columns that the recipe makes of rows, wherever these would end; identifiers as they would be given out."""
    made = recipe.run(recipe.with_known(rows.with_row_index(ROW)), recipe.early)
    return recipe.run(number(recipe, made, books).rows, recipe.late).drop(ROW)


def _reasons(findings: pl.DataFrame) -> pl.DataFrame:
    """Why each line was held back, as one text."""
    said = pl.concat_str(
        subject(),
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
class _Settled:
    """Rows that are written, the numbers of those held back, the new identifiers, the hashed keys of the written, and the rows that were to be written for the last time and are in
    the target just so."""

    rows: pl.DataFrame
    held: pl.Series
    findings: pl.DataFrame
    merged: int
    fresh: Fresh
    keys: pl.DataFrame
    told_before: pl.DataFrame


def _settled(recipe: Recipe, rows: pl.DataFrame, memory: Memory, files: Sequence[str]) -> _Settled:
    """Identifiers, what depends on them, and repeated keys.

    All rows are first taken to be written. If some prove not to be, and others' numbers hang on that, it is done again with what was found out, until
    no number changes: each time at least one row more is right for certain, the first that was not.
    """
    start = len(recipe.early_problems)
    numbered = first_try = number(recipe, rows, memory.books)
    while True:
        made = recipe.run(numbered.rows, [*recipe.late, Stage(flags_of_rows(recipe.late_problems, start))])
        bad = made.select(held(recipe.late_problems, start)).to_series()
        told = _told_before(recipe, made) & ~bad
        keys, first, same = _repeats(recipe, made, bad | told, memory.seen)
        if JOINED in made.columns:
            same = same | made[JOINED]
        written = ~bad & ~told & first.is_null()
        if not recipe.mints or (numbered is first_try and written.all()):
            break
        again = number(recipe, rows, memory.books, written)
        if same_numbers(again.fresh, numbered.fresh):
            break
        numbered = again
    repeats = ~bad & ~told & first.is_not_null()
    repeated = made.with_columns(first.alias(FIRST), same.alias(SAME)).filter(repeats)
    findings = [gather_here(made, recipe.late_problems, start), _repeat_findings(recipe, repeated, files)]
    return _Settled(
        rows=made.filter(written),
        held=made[ROW].filter(bad | (repeats & ~same)),
        findings=joined(findings),
        merged=int((repeats & same).sum()),
        fresh=numbered.fresh,
        keys=keys.filter(written),
        told_before=made.filter(told),
    )


def _told_before(recipe: Recipe, made: pl.DataFrame) -> pl.Series:
    """Which rows are to be written for the last time though the target holds just that."""
    if LAST not in made.columns:
        return pl.Series(LAST, [False]).new_from_index(0, made.height)
    record = fixed_hash([one.text.expr for one in recipe.fields])
    return made.select((pl.col(LAST) & (record == pl.col(THEIRS))).fill_null(False)).to_series()


def _repeats(
    recipe: Recipe, made: pl.DataFrame, bad: pl.Series, seen: SeenKeys
) -> tuple[pl.DataFrame, pl.Series, pl.Series]:
    """The rows' hashed keys; where each key was first written, of the rows that are not bad (null if it is new); whether the record was the same."""
    no = pl.Series([None] * made.height, dtype=pl.Int64)
    if not recipe.key or made.is_empty():
        schema = {"key": pl.UInt64, "key2": pl.UInt64, "record": pl.UInt64, "where": pl.Int64}
        return pl.DataFrame({name: [None] * made.height for name in schema}, schema=schema), no, no.is_not_null()

    def compared(one: Made) -> pl.Expr:
        return recipe.key_rule.part(one.text.expr) if one.field.name in recipe.key else one.text.expr

    keys, whole = ([compared(one) for one in fields] for fields in (recipe.key_fields, recipe.fields))
    hashed = SeenKeys.prepare(made, keys, whole)
    hashed = hashed.with_columns(made[WHERE].alias("where"))
    candidates = hashed if not bad.any() else hashed.filter(~bad)
    found = seen.first_seen(candidates)
    if found is None:
        return hashed, no, no.is_not_null()
    if candidates.height < made.height:
        places = made.select(WHERE).with_columns(~bad.alias("good")).filter("good").select(WHERE).with_columns(found)
        found = made.select(WHERE).join(places, on=WHERE, how="left", maintain_order="left").select("first", "same")
    return hashed, found["first"], found["same"].fill_null(False)


def _repeat_findings(recipe: Recipe, repeated: pl.DataFrame, files: Sequence[str]) -> pl.DataFrame:
    if repeated.is_empty():
        return frame([])
    titles = ", ".join(one.field.title for one in recipe.key_fields)
    key = shown_key(key_text([one.text.expr for one in recipe.key_fields]))
    number_, line = file_and_line(pl.col(FIRST))
    name = number_.replace_strict(dict(enumerate(files)), return_dtype=pl.String)
    rule = pl.concat_str(pl.lit("unique; first in "), name, pl.lit(" line "), line)
    problems = [
        Problem("row.merged", titles, pl.col(SAME), key, rule),
        Problem("key.repeated", titles, ~pl.col(SAME), key, rule),
    ]
    return gather_here(repeated.with_columns(flags(problems)), problems)
