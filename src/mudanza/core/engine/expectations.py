"""What is watched while a list is built: records that the plan expects, and values that its conditions name in vain."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import polars as pl

from mudanza.core.documents.errors import nearest
from mudanza.core.engine.early import Early
from mudanza.core.engine.late import Ends
from mudanza.core.engine.recipe import Recipe
from mudanza.core.findings.finding import Finding
from mudanza.core.plans.plan import Expectation, Plan
from mudanza.core.values.row_columns import FILE, LINE, SOURCE, key_text, shown_key

_SHOWN = 8
Record = Mapping[str, str | None]


def check_expectations(plan: Plan, columns: Sequence[str]) -> None:
    """Raise PlanError where an `[[expect]]` names a column that no source has, or a key where there is none."""
    for number, one in enumerate(plan.expectations):
        for column in one.row:
            if column not in (*columns, SOURCE):
                near = nearest(column, list(columns))
                raise plan.error(
                    f"[[expect]] {number + 1} asks for the column {column!r}, which no source has.",
                    ("expect", number),
                    f"Did you mean {near!r}?" if near else f"{SOURCE} is the source's name.",
                )
        if one.key and not plan.layout.primary_key:
            raise plan.error(
                "the layout has no primary key to find a record by.",
                ("expect", number, "key"),
                "Find the record by its row.",
            )


@dataclass
class Expected:
    """What came of the expectations of a plan: whether each was met, and what was otherwise, by its number."""

    met: dict[int, bool] = field(default_factory=dict)
    found: list[tuple[int, Finding]] = field(default_factory=list)

    def see(self, plan: Plan, recipe: Recipe, early: Early, ends: Ends) -> None:
        """Look at a batch of rows and at how they ended."""
        for number, one in enumerate(plan.expectations):
            for file, line, record in _records(one, recipe, early, ends):
                self.met[number] = True
                told = f"[[expect]] {number + 1} of the plan"
                self.found += [(number, f) for f in _differences(one, told, recipe, file, line, record, ends)]

    def merge(self, later: Expected) -> None:
        """Add what was seen after all this."""
        self.met.update(later.met)
        self.found += later.found

    def findings(self, plan: Plan) -> list[Finding]:
        """What did not come true, once all rows were seen."""
        missing = [
            Finding("record.missing", plan.path.name, value=one.shown, rule=f"a record for [[expect]] {number + 1}")
            for number, one in enumerate(plan.expectations)
            if not self.met.get(number)
        ]
        return [*(f for _, f in sorted(self.found, key=lambda item: item[0])), *missing]


def _records(one: Expectation, recipe: Recipe, early: Early, ends: Ends) -> list[tuple[str, int, Record | None]]:
    """The rows that an expectation speaks of: file, line, and what was written of it."""
    written = ends.written.with_columns(ends.lines.alias(LINE))
    if one.key:
        key = shown_key(key_text([pl.col(made.field.title) for made in recipe.key_fields]))
        file = early.original[FILE].first() if early.original.height else ""
        return [(str(file), row[LINE], row) for row in written.filter(key == one.key).iter_rows(named=True)]
    asked = [pl.col(c).str.strip_chars().fill_null("") == v.strip() for c, v in one.row.items()]
    rows = early.original.filter(pl.all_horizontal(asked)).select(FILE, LINE)
    made = {row[LINE]: row for row in written.filter(pl.col(LINE).is_in(rows[LINE].implode())).iter_rows(named=True)}
    return [(file, line, made.get(line)) for file, line in rows.iter_rows()]


def _differences(
    one: Expectation, told: str, recipe: Recipe, file: str, line: int, record: Record | None, ends: Ends
) -> list[Finding]:
    end = ends.end_of(line)
    if end != one.ends:
        return [Finding("record.ended", file, line, value=end, rule=f"{one.ends}, by {told}")]
    if record is None:
        return []
    titles = {made.field.name: made.field.title for made in recipe.fields}
    return [
        Finding(
            "record.differs", file, line, field=titles[name], value=record[titles[name]], rule=f'"{text}", by {told}'
        )
        for name, text in one.fields.items()
        if (record[titles[name]] or "") != text
    ]


@dataclass
class Met:
    """Of the texts that conditions compare source columns with, those that occur; and the first values that the columns have."""

    texts: dict[str, set[str]] = field(default_factory=dict)
    values: dict[str, dict[str, None]] = field(default_factory=dict)

    def see(self, recipe: Recipe, early: Early) -> None:
        """Look at a batch of rows."""
        for column, texts in recipe.mentions.compared.items():
            if column in early.original.columns:
                values = early.original[column].drop_nulls()
                self.texts[column] = set(values.filter(values.is_in(list(texts))).unique().to_list())
                self.values[column] = dict.fromkeys(values.unique(maintain_order=True).head(_SHOWN + 1).to_list())

    def merge(self, later: Met) -> None:
        """Add what was met after all this."""
        for column, texts in later.texts.items():
            self.texts.setdefault(column, set()).update(texts)
            first = self.values.setdefault(column, {})
            for value in later.values[column]:
                if len(first) <= _SHOWN:
                    first[value] = None

    def findings(self, recipe: Recipe, shown: str) -> list[Finding]:
        """The texts that were never met, in columns that have data; `shown` is the plan's path."""
        found = []
        for column, texts in recipe.mentions.compared.items():
            has = sorted(self.values.get(column, {}))
            if not has:
                continue
            listed = ", ".join(has[:_SHOWN]) + (", …" if len(has) > _SHOWN else "")
            for text in sorted(texts - self.texts[column]):
                near = nearest(text, has)
                rule = f"{column} is never this; it has: {listed}"
                hint = f"Did you mean {near!r}?" if near else None
                found.append(Finding("flow.never", shown, column=column, value=text, rule=rule, hint=hint))
        return found
