"""Coverage: what becomes of every field of the layout and of every column of the sources."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date

import polars as pl

from mudanza.core.plans.move import Move
from mudanza.core.work.prepared import prepare


@dataclass(frozen=True)
class FieldCover:
    """A field: `how` is mapped, constant, default, not mapped, or missing (required and without a flow); the columns that its flow looks at."""

    name: str
    title: str
    required: bool
    how: str
    columns: tuple[str, ...]
    flow: str | None


@dataclass(frozen=True)
class ColumnCover:
    """A column: `how` is used, left behind or not accounted for; the fields it goes into (and keep, sort); the reason it is left behind for, and how many
    values stay behind."""

    name: str
    sources: tuple[str, ...]
    how: str
    fields: tuple[str, ...]
    reason: str | None
    values: int


@dataclass(frozen=True)
class Coverage:
    """The coverage of a list."""

    name: str
    fields: list[FieldCover]
    columns: list[ColumnCover]

    @property
    def whole(self) -> bool:
        """Whether no required field is missing and no column with data is unaccounted for."""
        lost = any(c.how == "not accounted for" and c.values for c in self.columns)
        return not lost and all(f.how != "missing" for f in self.fields)


def coverage(
    move: Move, name: str, *, as_of: date | None = None, parameters: Mapping[str, str] | None = None
) -> Coverage:
    """The coverage of a list, whose plan may be unfinished. The sources are read once, to count what would be lost."""
    ready = prepare(move, name, as_of=as_of, parameters=parameters, draft=True)
    plan, intake, recipe = ready.plan, ready.intake, ready.recipe
    fields = []
    goes_to: dict[str, list[str]] = {c: [] for c in intake.columns}
    for made in recipe.fields:
        field, columns = made.field, tuple(c for c in intake.columns if c in made.columns)
        flow = plan.flows.get(field.name)
        if flow is None:
            how = "default" if field.default is not None else "missing" if field.required else "not mapped"
        else:
            how = "mapped" if made.columns else "constant"
        fields.append(FieldCover(field.name, field.title, field.required, how, columns, flow))
        for column in columns:
            goes_to[column].append(field.name)
    for column in recipe.mentions.used:
        if column in plan.sort and column in goes_to:
            goes_to[column].append("sort")
    for column in recipe.mentions.chosen_by:
        if column in goes_to:
            goes_to[column].insert(0, "keep")
    staying = [c for c in intake.columns if not goes_to[c]]
    counts = dict.fromkeys(staying, 0)
    if staying:
        for opened, batch in intake.batches():
            rows = opened.rows(batch, intake.columns).select(
                pl.col(staying).str.strip_chars().replace("", None).count()
            )
            for column, count in rows.row(0, named=True).items():
                counts[column] += count
    columns_ = []
    for column in intake.columns:
        sources = tuple(source for source, names in intake.headings.items() if column in names)
        how = (
            "used"
            if goes_to[column]
            else "left behind"
            if plan.stays_behind(column) is not None
            else "not accounted for"
        )
        columns_.append(
            ColumnCover(column, sources, how, tuple(goes_to[column]), plan.stays_behind(column), counts.get(column, 0))
        )
    return Coverage(name, fields, columns_)
