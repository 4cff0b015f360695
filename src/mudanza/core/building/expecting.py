"""What is watched while a list is built: records that the plan expects, and values that its conditions name in vain."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import polars as pl

from mudanza.core.building.program import Program
from mudanza.core.building.rows import Early, Ends
from mudanza.core.errors import nearest
from mudanza.core.findings import Finding
from mudanza.core.plans import Expectation, Plan
from mudanza.core.sources.reading import FILE, LINE, SOURCE

_SHOWN = 8


class Expectations:
    """The `[[expect]]` of a plan, told whether they came true. Raises PlanError where one names a column that no source has."""

    def __init__(self, plan: Plan, program: Program, columns: Sequence[str]) -> None:
        self.plan = plan
        self.met = [False] * len(plan.expectations)
        self.found: list[Finding] = []
        self.titles = {m.field.name: m.field.title for m in program.fields}
        self.keys = [m.field.title for m in program.fields if m.field.name in plan.layout.primary_key]
        for number, one in enumerate(plan.expectations):
            for column in one.row:
                if column not in (*columns, SOURCE):
                    near = nearest(column, list(columns))
                    hint = f"Did you mean {near!r}?" if near else f"{SOURCE} is the source's name."
                    raise plan.error(
                        f"[[expect]] {number + 1} asks for the column {column!r}, which no source has.",
                        "expect",
                        None,
                        hint,
                    )
            if one.key and not self.keys:
                raise plan.error(
                    "the layout has no primary key to find a record by.", "expect", "key", "Find the record by its row."
                )

    def see(self, early: Early, ends: Ends) -> None:
        """Look at a batch of rows and at how they ended."""
        for number, one in enumerate(self.plan.expectations):
            for file, line, record in self._records(one, early, ends):
                self.met[number] = True
                self._compare(number, one, file, line, record, ends)

    def _records(
        self, one: Expectation, early: Early, ends: Ends
    ) -> list[tuple[str, int, Mapping[str, str | None] | None]]:
        """The rows that an expectation speaks of: file, line, and what was written of it."""
        written = ends.written.with_columns(ends.lines.alias(LINE))
        if one.key:
            key = pl.concat_str([pl.col(k).fill_null("") for k in self.keys], separator=", ")
            file = early.original[FILE].first() if early.original.height else ""
            return [(str(file), row[LINE], row) for row in written.filter(key == one.key).iter_rows(named=True)]
        asked = [pl.col(c).str.strip_chars().fill_null("") == v.strip() for c, v in one.row.items()]
        rows = early.original.filter(pl.all_horizontal(asked)).select(FILE, LINE)
        made = {
            row[LINE]: row for row in written.filter(pl.col(LINE).is_in(rows[LINE].implode())).iter_rows(named=True)
        }
        return [(file, line, made.get(line)) for file, line in rows.iter_rows()]

    def _compare(
        self, number: int, one: Expectation, file: str, line: int, record: Mapping[str, str | None] | None, ends: Ends
    ) -> None:
        told = f"[[expect]] {number + 1} of the plan"
        end = ends.end_of(line)
        if end != one.ends:
            self.found.append(Finding("record.ended", file, line, value=end, rule=f"{one.ends}, by {told}"))
        elif record is not None:
            for name, text in one.fields.items():
                title = self.titles[name]
                if (record[title] or "") != text:
                    self.found.append(
                        Finding(
                            "record.differs", file, line, column=title, value=record[title], rule=f'"{text}", by {told}'
                        )
                    )

    def findings(self) -> list[Finding]:
        """What did not come true, once all rows were seen."""
        missing = [
            Finding(
                "record.missing",
                str(self.plan.path.name),
                value=one.shown,
                rule=f"a record for [[expect]] {number + 1}",
            )
            for number, one in enumerate(self.plan.expectations)
            if not self.met[number]
        ]
        return [*self.found, *missing]


class NeverSeen:
    """The texts that conditions compare source columns with, until they are seen in the data."""

    def __init__(self, program: Program, shown: str) -> None:
        self.waiting = {column: set(texts) for column, texts in program.compared.items()}
        self.has: dict[str, dict[str, None]] = {column: {} for column in self.waiting}
        self.shown = shown

    def see(self, early: Early) -> None:
        """Look at a batch of rows."""
        for column, texts in self.waiting.items():
            if not texts or column not in early.original.columns:
                continue
            values = early.original[column].drop_nulls()
            texts -= set(values.filter(values.is_in(list(texts))).unique().to_list())
            if texts and len(self.has[column]) <= _SHOWN:
                self.has[column].update(
                    dict.fromkeys(values.value_counts(sort=True)[column].head(_SHOWN + 1).to_list())
                )

    def findings(self) -> list[Finding]:
        """The texts that were never seen, in columns that have data."""
        found = []
        for column, texts in self.waiting.items():
            has = sorted(self.has[column])
            if not has:
                continue
            listed = ", ".join(has[:_SHOWN]) + (", …" if len(has) > _SHOWN else "")
            for text in sorted(texts):
                near = nearest(text, has)
                hint = f"Did you mean {near!r}?" if near else None
                found.append(
                    Finding(
                        "flow.never",
                        self.shown,
                        column=column,
                        value=text,
                        rule=f"{column} is never this; it has: {listed}",
                        hint=hint,
                    )
                )
        return found
