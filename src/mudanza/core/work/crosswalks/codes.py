"""The codes that flow through a plan's crosswalks, and what each crosswalk makes of them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date
from pathlib import Path

import polars as pl

from mudanza.core.disk.files import Outputs
from mudanza.core.documents.errors import MoveError, Place, nearest
from mudanza.core.documents.names import NAME_RULE, is_name
from mudanza.core.engine.early import blank_rows
from mudanza.core.engine.intake import Intake
from mudanza.core.engine.recipe import Recipe
from mudanza.core.language.asking import crosswalks_of
from mudanza.core.layouts.types.text import TextType
from mudanza.core.plans.crosswalk_files import blank_crosswalk, entries_of, further_columns, heading_of
from mudanza.core.plans.move import Move
from mudanza.core.plans.plan import Plan
from mudanza.core.sources.opening import open_source
from mudanza.core.sources.reader import ReadOptions
from mudanza.core.tables.crosswalk import PROPOSED, Entry, Listed
from mudanza.core.values.row_columns import CORRECTED
from mudanza.core.work.crosswalks.proposing import TargetCode, Targets, propose
from mudanza.core.work.prepared import prepare
from mudanza.core.work.progress import Progress, Tell, quietly


@dataclass(frozen=True)
class FoundCode:
    """A code (and the values of the further columns) that occurs: in how many rows, the entry that covers it (None if none does, or only a proposal
    does), and what is proposed for it, with the reason."""

    values: tuple[str, ...]
    count: int
    entry: Entry | None
    proposal: str | None = None
    because: str | None = None


@dataclass(frozen=True)
class CodesOf:
    """A crosswalk against the data: the codes that occur, entries that nothing asks for, and those whose target the layout does not permit."""

    name: str
    path: Path
    columns: tuple[str, ...]
    fields: tuple[str, ...]
    codes: list[FoundCode]
    unused: list[Entry]
    not_permitted: list[Entry]
    targets: list[TargetCode] = field(default_factory=list)

    @property
    def open(self) -> list[FoundCode]:
        """The codes that nobody has confirmed a target for."""
        return [code for code in self.codes if code.entry is None]

    @property
    def clean(self) -> bool:
        return not self.open and not self.not_permitted


def find_codes(
    move: Move,
    name: str,
    *,
    as_of: date | None = None,
    parameters: Mapping[str, str] | None = None,
    tell: Tell = quietly,
) -> list[CodesOf]:
    """The crosswalks of a plan with the codes that occur in its sources. Reads them whole; writes nothing.

    Rows that the plan does not keep are not counted: what they hold need not be translated. Raises MoveError where a crosswalk's file is missing.
    """
    ready = prepare(move, name, as_of=as_of, parameters=parameters, draft=True)
    plan, recipe = ready.plan, ready.recipe
    asked_here = recipe.mentions.crosswalks
    counted = _counted(recipe, ready.intake, tell)
    by_title = {f.title: f for f in plan.layout.fields}
    found = []
    for crosswalk in dict.fromkeys(asked.crosswalk for asked in asked_here):
        path = move.crosswalk_path(crosswalk)
        entries = entries_of(path)
        fields = [by_title[a.field] for a in asked_here if a.crosswalk == crosswalk and a.field in by_title]
        targets = targets_of(
            move,
            crosswalk,
            [f.type.permitted for f in fields if isinstance(f.type, TextType) and f.type.permitted is not None],
        )
        found.append(
            _codes_of(
                crosswalk, path, entries, counted[crosswalk], targets, tuple(dict.fromkeys(f.name for f in fields))
            )
        )
    return found


def _counted(recipe: Recipe, intake: Intake, tell: Tell) -> dict[str, dict[tuple[str, ...], int]]:
    parts: dict[str, list[pl.DataFrame]] = {asked.crosswalk: [] for asked in recipe.mentions.crosswalks}
    read = 0
    for opened, batch in intake.batches():
        rows = opened.rows(batch, intake.columns)
        rows = rows.filter(~blank_rows(rows, opened.own(intake.columns)) & rows[CORRECTED].is_null())
        rows = recipe.with_known(rows)
        if recipe.keep is not None:
            rows = recipe.run(rows, recipe.keep.stages).filter(recipe.keep.expr).select(rows.columns)
        made = recipe.run(rows, recipe.early)
        for asked in recipe.mentions.crosswalks:
            some = made if asked.applies is None else made.filter(asked.applies)
            if isinstance(some.schema[asked.columns[0]], pl.List):
                some = some.explode(asked.columns[0])
            values = [pl.col(c).fill_null("").alias(f"c{i}") for i, c in enumerate(asked.columns)]
            parts[asked.crosswalk].append(some.filter(pl.col(asked.columns[0]).is_not_null()).group_by(values).len("n"))
        read += rows.height
        tell(Progress("reading codes", read, intake.share(opened, batch)))
    totals = {}
    for name, frames in parts.items():
        every = pl.concat(frames) if frames else pl.DataFrame({"c0": [], "n": []})
        summed = every.group_by(pl.exclude("n")).agg(pl.col("n").sum())
        totals[name] = {tuple(values): count for *values, count in summed.iter_rows()}
    return totals


def _codes_of(
    name: str,
    path: Path,
    entries: Sequence[Entry],
    counted: Mapping[tuple[str, ...], int],
    targets: Targets,
    fields: tuple[str, ...],
) -> CodesOf:
    used: set[int] = set()
    codes = []
    certain = [e for e in entries if e.state != PROPOSED]
    # what a code means, those of another source do not tell
    beside: dict[tuple[str, ...], set[str]] = {}
    for code, *when in counted:
        beside.setdefault(tuple(when), set()).add(code)
    listed, proposed = Listed(certain), Listed([e for e in entries if e.state == PROPOSED])
    for values, count in sorted(counted.items(), key=lambda item: (-item[1], item[0])):
        entry = listed.entry_for(values)
        if entry is not None:
            used.add(entry.line)
            codes.append(FoundCode(values, count, entry))
            continue
        waiting = proposed.entry_for(values)
        if waiting is not None:
            used.add(waiting.line)
            codes.append(FoundCode(values, count, None, waiting.to or None, waiting.note or None))
        else:
            to, because = propose(values, targets, certain, beside[values[1:]])
            codes.append(FoundCode(values, count, None, to, because))
    permitted = {t.code for t in targets.known}
    wrong = [e for e in entries if e.to and targets.closed and e.to not in permitted]
    return CodesOf(
        name,
        path,
        ("from", *further_columns(heading_of(path))),
        fields,
        codes,
        [e for e in entries if e.line not in used],
        wrong,
        targets.known,
    )


def targets_of(move: Move, name: str, permitted: Sequence[tuple[str, ...]]) -> Targets:
    """The target's own codes: from a file it exported, as the settings say, or what the layout permits."""
    settings = move.crosswalks.get(name, {})
    if "targets" not in settings:
        known = [TargetCode(code, "") for words in permitted for code in words]
        return Targets(list(dict.fromkeys(known)), closed=bool(known))
    path = move.path(settings["targets"])
    reader = open_source(path, ReadOptions())
    code, meaning = settings.get("code", reader.headings[0]), settings.get("meaning")
    for column in filter(None, (code, meaning)):
        if column not in reader.headings:
            near = nearest(column, list(reader.headings))
            raise MoveError(
                f"the target's codes for the crosswalk {name!r} have no column {column!r}.",
                place=Place(move.shown(path), 1),
                hint=f"Did you mean {near!r}?" if near else f"It has: {', '.join(reader.headings)}.",
            )
    found = []
    for batch in reader.batches():
        for row in batch.rows.select(
            pl.col(code).str.strip_chars().alias("c"),
            (pl.col(meaning).str.strip_chars() if meaning else pl.lit("")).alias("m"),
        ).iter_rows():
            if row[0]:
                found.append(TargetCode(row[0], row[1] or ""))
    return Targets(list(dict.fromkeys(found)), closed=True)


def missing_crosswalks(move: Move, plan: Plan) -> dict[str, tuple[str, ...]]:
    """Crosswalks that a plan's flows name and the move does not have, with the further columns that they are handed."""
    known = move.names("crosswalks", ".csv")
    asked: dict[str, tuple[str, ...]] = {}
    for field_name, flow in plan.flows.items():
        for name, further in crosswalks_of(flow).items():
            if not is_name(name):
                raise plan.error(f"{name!r} cannot be the name of a crosswalk.", ("fields", field_name), NAME_RULE)
            asked[name] = further
    return {name: further for name, further in asked.items() if name not in known}


def start_crosswalks(move: Move, plan: Plan) -> list[str]:
    """Make the files of crosswalks that a plan names and the move does not have; gives their names."""
    with move.files.lock(), Outputs(move.files) as outputs:
        missing = missing_crosswalks(move, plan)
        for name, further in missing.items():
            outputs.create_text(move.new_path("crosswalks", name, ".csv"), blank_crosswalk(further))
        outputs.publish()
    return list(missing)
