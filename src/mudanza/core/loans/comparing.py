"""Comparing a returned workbook with what was lent, cell by cell."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import polars as pl

from mudanza.core.checking import read_cell
from mudanza.core.codes import Severity
from mudanza.core.errors import LoanError, Place
from mudanza.core.files import Digest, digest_of
from mudanza.core.findings import SCHEMA, Finding, Group, Tally, frame
from mudanza.core.kinds import Kind
from mudanza.core.layouts.model import Field, Layout
from mudanza.core.layouts.reading import read_layout
from mudanza.core.layouts.rules import blank_in_file, kind_problems, read_text, render, value_problems
from mudanza.core.loans.lend import key_fields, read_records
from mudanza.core.loans.returned import Returned, read_returned
from mudanza.core.loans.workbook import REMOVAL, REMOVE
from mudanza.core.move import Move
from mudanza.core.problems import flags, gather
from mudanza.core.sources.reading import INNER, LINE

#: Name of the column that holds a row's key as one text.
KEY = f"{INNER}key"
#: Shape of changed cells: the key's parts joined, the field's title, the texts, and where the cell stands.
CHANGES = {
    "key": pl.String,
    "field": pl.String,
    "before": pl.String,
    "after": pl.String,
    "line": pl.Int64,
    "cell": pl.String,
}


@dataclass(frozen=True)
class Conflict:
    """A cell that was changed here and elsewhere since it was lent."""

    key: str
    field: str
    before: str | None
    after: str | None
    now: str | None
    by: str


@dataclass(frozen=True)
class LoanReturn:
    """What came back. `changes` are the cells to be changed (of `CHANGES`), `additions` and `removals` whole rows.

    `held` counts rows kept out of the change set by findings; `blocked` says why nothing can be accepted.
    `files` are those written, if it was accepted.
    """

    loan: str
    subject: str
    lent: str
    rows: int
    changes: pl.DataFrame
    additions: pl.DataFrame
    removals: pl.DataFrame
    conflicts: list[Conflict]
    findings: pl.DataFrame
    groups: list[Group]
    held: int
    blocked: str | None
    files: list[Digest]

    @property
    def clean(self) -> bool:
        return not self.conflicts and not any(g.severity is Severity.STOP for g in self.groups)


class Comparison:
    """One returned workbook under comparison."""

    def __init__(
        self,
        move: Move,
        path: Path,
        shown: str,
        loan: str,
        subject: str,
        lent: str,
        detail: dict[str, Any],
        missing: str | None,
    ) -> None:
        self.move, self.path, self.shown, self.loan = move, path, shown, loan
        self.subject, self.lent, self.detail, self.missing = subject, lent, detail, missing
        self.layout: Layout = read_layout(move.path(detail["layout"]))
        self.keys = key_fields(self.layout)
        self.fields = [self.layout.field_named(title) for title in detail["columns"]]
        self.others = [f for f in self.fields if f not in self.keys]
        self.snapshot_path = move.folder / "loans" / loan / "lent.csv"
        self.blocked: str | None = None
        self.findings: list[pl.DataFrame] = []

    def compare(self) -> LoanReturn:
        if not self.snapshot_path.is_file() or digest_of(self.snapshot_path).sha256 != self.detail["lent"]:
            raise LoanError(
                "the record of what was lent is missing or was changed.",
                place=Place(str(self.snapshot_path)),
                hint="Restore it from a backup.",
            )
        self.before = self._keyed(read_records(self.snapshot_path, self.layout, self.move.shown(self.snapshot_path)))
        returned = read_returned(self.path, self.subject, [f.title for f in self.fields], self.shown)
        self._find(returned.findings)
        if returned.broken:
            self.blocked = "headings of the loan are missing or repeated"
        rows = self._keyed(self._typed(returned.rows))
        bad_lines = self._row_structure(rows, returned)
        sound = rows.filter(~pl.col(LINE).is_in(list(bad_lines))) if not returned.broken else rows.clear()
        cells = self._changed_cells(sound, returned)
        additions = sound.filter(~pl.col(KEY).is_in(self.before[KEY].implode()) | pl.col(KEY).is_null())
        removals = self._removals(rows, returned)
        bad_lines |= self._validate(sound, cells, additions, returned) | self._taken_keys(additions, returned)
        held = rows.filter(pl.col(LINE).is_in(list(bad_lines))).height
        cells = cells.filter(~pl.col("line").is_in(list(bad_lines)) & ~pl.col("key").is_in(removals[KEY].implode()))
        additions = additions.filter(~pl.col(LINE).is_in(list(bad_lines)))
        cells, conflicts = self._conflicts(cells, removals)
        removals = removals.filter(~pl.col(KEY).is_in([c.key for c in conflicts if c.field == REMOVAL]))
        tally = Tally()
        found = pl.concat([pl.DataFrame(schema=SCHEMA), *self.findings])
        tally.add(found)
        return LoanReturn(
            self.loan, self.subject, self.lent, rows.height, cells, additions, removals, conflicts, found,
            tally.groups(), held, self.blocked, [],
        )  # fmt: skip

    def _keyed(self, rows: pl.DataFrame) -> pl.DataFrame:
        """Rows with their key as one text; null where it is blank."""
        parts = [pl.col(f.title).str.strip_chars() for f in self.keys]
        return rows.with_columns(pl.concat_str(parts, separator=", ").alias(KEY))

    def _typed(self, rows: pl.DataFrame) -> pl.DataFrame:
        """Rows with each lent field's text as the layout writes it, and its typed value beside."""
        exprs = []
        for field in self.fields:
            cell = pl.when(~blank_in_file(field, pl.col(field.title))).then(pl.col(field.title))
            exprs.append(
                (read_cell(field, cell) if field.kind is not Kind.TEXT else cell).alias(f"{INNER}{field.name}")
            )
        rows = rows.with_columns(exprs)
        texts = [
            pl.coalesce(render(field, pl.col(f"{INNER}{field.name}"), field.kind), pl.col(field.title)).alias(
                field.title
            )
            for field in self.fields
            if field.kind is not Kind.TEXT
        ]
        return rows.with_columns(texts)

    def _row_structure(self, rows: pl.DataFrame, returned: Returned) -> set[int]:
        """Findings on rows as a whole, and their lines: formulas, repeated and blank keys, unclear removals."""
        bad = set(returned.formula_rows)
        lent = set(self.before[KEY].to_list())
        found = []
        repeated = rows.filter(pl.col(KEY).is_not_null() & pl.col(KEY).is_duplicated())
        title = ", ".join(f.title for f in self.keys)
        for key, line in repeated.select(KEY, LINE).iter_rows():
            found.append(self._finding("loan.key-repeated", returned, self.keys[0].title, line, key, "once", title))
            bad.add(line)
        needs_key = [f for f in self.keys if f.required and not f.left_out_of_additions]
        for line in rows.filter(pl.col(KEY).is_null())[LINE] if needs_key else []:
            found.append(self._finding("loan.key-blank", returned, needs_key[0].title, line, None, "required", title))
            bad.add(line)
        marked = rows.filter(pl.col(REMOVAL).is_not_null())
        for key, mark, line in marked.select(KEY, REMOVAL, LINE).iter_rows():
            if mark.strip().lower() != REMOVE or key not in lent:
                found.append(
                    self._finding(
                        "loan.removal-unclear",
                        returned,
                        REMOVAL,
                        line,
                        mark,
                        f"'{REMOVE}', on a row that was lent",
                    )
                )
                bad.add(line)
        self._find(found)
        return bad

    def _finding(
        self,
        code: str,
        returned: Returned,
        title: str,
        line: int,
        value: str | None,
        rule: str,
        column: str | None = None,
    ) -> Finding:
        cell = f"{returned.sheet}!{returned.cells[title]}{line}" if title in returned.cells else None
        return Finding(code, self.shown, line, cell, column or title, value, rule)

    def _changed_cells(self, rows: pl.DataFrame, returned: Returned) -> pl.DataFrame:
        both = self.before.join(rows, on=KEY, how="inner", suffix=f"{INNER}after")
        parts = []
        for field in self.others:
            after_text = pl.col(f"{field.title}{INNER}after")
            before, after = pl.col(field.title), after_text
            if field.kind is not Kind.TEXT:
                typed = read_text(field, pl.when(~blank_in_file(field, before)).then(before))
                unread = pl.col(f"{INNER}{field.name}").is_null() & after_text.is_not_null()
                differs = typed.ne_missing(pl.col(f"{INNER}{field.name}")) | unread
            else:
                differs = before.ne_missing(after)
            line = pl.col(f"{LINE}{INNER}after")
            cell = pl.lit(f"{returned.sheet}!{returned.cells.get(field.title, '')}") + line.cast(pl.String)
            parts.append(
                both.filter(differs.fill_null(False)).select(
                    pl.col(KEY).alias("key"), pl.lit(field.title).alias("field"), before.alias("before"),
                    after.alias("after"), line.alias("line"), cell.alias("cell"),
                )
            )  # fmt: skip
        return pl.concat([pl.DataFrame(schema=CHANGES), *parts]).sort("line", maintain_order=True)

    def _removals(self, rows: pl.DataFrame, returned: Returned) -> pl.DataFrame:
        """Lent rows that are to be removed: marked so, or gone and said to mean it."""
        marked = rows.filter(pl.col(REMOVAL).str.strip_chars().str.to_lowercase() == REMOVE)[KEY]
        came = rows[KEY].drop_nulls()
        gone = self.before.filter(~pl.col(KEY).is_in(came.implode()))
        if gone.height and not returned.broken and self.missing is None:
            self._find(
                [
                    Finding(
                        "loan.row-missing",
                        self.shown,
                        column=", ".join(f.title for f in self.keys),
                        value=key,
                    )
                    for key in gone[KEY]
                ]
            )
            self.blocked = (
                self.blocked or f"{gone.height} lent rows did not come back; say --missing keep or --missing remove"
            )
        taken = pl.concat([marked, gone[KEY]]) if self.missing == "remove" else marked
        return self.before.filter(pl.col(KEY).is_in(taken.implode()))

    def _validate(
        self, rows: pl.DataFrame, cells: pl.DataFrame, additions: pl.DataFrame, returned: Returned
    ) -> set[int]:
        """The layout's rules on what is new; gives the lines of rows that break them."""
        changed = rows.filter(pl.col(LINE).is_in(cells["line"].implode()))
        bad: set[int] = set()
        for some, fields, only_changed in (
            (changed, self.others, True),
            (additions, self._asked_of_additions(), False),
        ):
            if some.is_empty():
                continue
            problems = []
            for field in fields:
                text = pl.col(field.title) if field.title in some.columns else pl.lit(None, dtype=pl.String)
                value = pl.col(f"{INNER}{field.name}") if f"{INNER}{field.name}" in some.columns else text
                problems += kind_problems(field, text, value) + value_problems(
                    field, text, value, blank_in_file(field, text)
                )
            flagged = some.with_columns(flags(problems))

            def cell(title: str, line: int) -> str | None:
                return f"{returned.sheet}!{returned.cells[title]}{line}" if title in returned.cells else None

            found = gather(flagged, problems, pl.lit(self.shown), cell)
            if only_changed:
                touched = cells.select(pl.col("line"), pl.col("field").alias("column"))
                found = found.join(touched, on=["line", "column"], how="semi", maintain_order="left")
            self.findings.append(found)
            bad |= set(found.filter(pl.col("severity") == "stop")["line"].to_list())
        return bad

    def _taken_keys(self, additions: pl.DataFrame, returned: Returned) -> set[int]:
        """New rows whose key another record has already, lent or not; gives their lines."""
        path = self.move.path(self.detail["file"])
        if additions.is_empty() or not path.is_file():
            return set()
        there = self._keyed(read_records(path, self.layout, self.detail["file"]))[KEY]
        taken = additions.filter(pl.col(KEY).is_in(there.implode())).select(KEY, LINE).rows()
        title, rule = self.keys[0].title, f"not yet in {self.detail['file']}"
        self._find([self._finding("key.repeated", returned, title, line, key, rule) for key, line in taken])
        return {line for _, line in taken}

    def _asked_of_additions(self) -> list[Field]:
        return [f for f in self.layout.fields if not f.left_out_of_additions]

    def _conflicts(self, cells: pl.DataFrame, removals: pl.DataFrame) -> tuple[pl.DataFrame, list[Conflict]]:
        """Cells that were changed elsewhere too, by another loan or by a new build, are taken out."""
        accepted = self.move.ledger.accepted_since(self.subject, self.lent, self.loan)
        now = self._now(cells["key"])
        conflicts: list[Conflict] = []
        for key, field, before, after in cells.select("key", "field", "before", "after").iter_rows():
            other = accepted.get((key, field))
            if other is not None and other[0] != after:
                conflicts.append(Conflict(key, field, before, after, other[0], f"loan {other[1]}"))
            elif now is not None and key not in now:
                conflicts.append(Conflict(key, field, before, after, None, "the record is gone"))
            elif now is not None and now[key].get(field) not in (before, after):
                conflicts.append(
                    Conflict(
                        key,
                        field,
                        before,
                        after,
                        now[key].get(field),
                        self.detail["file"],
                    )
                )
        changed_elsewhere = {key for key, _ in accepted}
        for key in removals[KEY]:
            if key in changed_elsewhere:
                field, (value, loan) = next((f, v) for (k, f), v in accepted.items() if k == key)
                conflicts.append(Conflict(key, REMOVAL, None, REMOVE, f"{field} is now {value}", f"loan {loan}"))
        if conflicts:
            rule = "unchanged since it was lent"
            self._find(
                [
                    Finding(
                        "loan.conflict",
                        self.shown,
                        column=c.field,
                        value=f"{c.key}: {c.after}",
                        rule=rule,
                        hint=f"Now {c.now} ({c.by}).",
                    )
                    for c in conflicts
                ]
            )
            pairs = pl.DataFrame([(c.key, c.field) for c in conflicts], schema=["key", "field"], orient="row")
            cells = cells.join(pairs, on=["key", "field"], how="anti", maintain_order="left")
        return cells, conflicts

    def _now(self, keys: pl.Series) -> dict[str, dict[str, str | None]] | None:
        """The records of those keys as they are in the lent file now, if it changed since."""
        path = self.move.path(self.detail["file"])
        if not path.is_file() or digest_of(path).sha256 == self.detail["file_sha256"]:
            return None
        current = self._keyed(read_records(path, self.layout, self.move.shown(path)))
        current = current.filter(pl.col(KEY).is_in(keys.implode()))
        return {row[KEY]: row for row in current.iter_rows(named=True)}

    def _find(self, findings: Sequence[Finding]) -> None:
        if findings:
            self.findings.append(frame(list(findings)))
