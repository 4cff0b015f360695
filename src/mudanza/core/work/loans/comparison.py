"""Comparing a returned workbook with what was lent, cell by cell."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import polars as pl

from mudanza.core.findings.codes import Severity
from mudanza.core.findings.finding import SCHEMA, Finding, frame
from mudanza.core.findings.problem import flags, gather
from mudanza.core.findings.tally import Group, Tally
from mudanza.core.layouts.layout import Field
from mudanza.core.layouts.rules import blank_in_file, kind_problems, render, value_problems
from mudanza.core.state.loans import RECORD, REMOVED
from mudanza.core.values.digest import Digest
from mudanza.core.values.kinds import Kind
from mudanza.core.values.row_columns import INNER, LINE, WHY
from mudanza.core.work.loans.lent import KEY, Lent, keyed, row_mark, shown_text
from mudanza.core.work.loans.loan_book import REMOVAL, REMOVE
from mudanza.core.work.loans.returned import Returned

#: Shape of changed cells: the key, the field's title, the texts, and where the cell stands.
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

    `held` counts rows kept out of the change set by findings, `held_rows` are these as they came; `blocked` says why nothing can be accepted.
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
    held_rows: pl.DataFrame
    blocked: str | None
    files: list[Digest]

    @property
    def clean(self) -> bool:
        return not self.conflicts and not any(g.severity is Severity.STOP for g in self.groups)


#: cells that were accepted from other loans
ACCEPTED = {"key": pl.String, "field": pl.String, "value": pl.String, "loan": pl.String}


@dataclass(frozen=True)
class Elsewhere:
    """What happened to lent cells meanwhile: those accepted from other loans (of `ACCEPTED`); the keys of the file that the records came from,
    and the lent records as they stand there now (None if the file is as it was lent, or gone)."""

    accepted: pl.DataFrame
    keys: pl.Series
    now: pl.DataFrame | None


def compare_returned(
    lent: Lent, returned: Returned, shown: str, elsewhere: Elsewhere, missing: str | None
) -> LoanReturn:
    """What came back, beside what was lent. `shown` is the workbook's name, `missing` what rows that did not come back mean (keep, remove)."""
    found: list[pl.DataFrame] = [frame(returned.findings)]
    blocked = "headings of the loan are missing or repeated" if returned.broken else None
    rows = _not_yet_accepted(lent, keyed(_typed(lent, returned.rows), lent.keys))
    at = _Places(returned, shown)
    bad, told = _row_structure(lent, rows, returned, at)
    found.append(frame(told))
    sound = rows.filter(~pl.col(LINE).is_in(list(bad))) if not returned.broken else rows.clear()
    cells = _changed_cells(lent, sound, returned)
    additions = sound.filter(~pl.col(KEY).is_in(lent.before[KEY].implode()) | pl.col(KEY).is_null())
    gone = lent.before.filter(~pl.col(KEY).is_in(rows[KEY].drop_nulls().implode()))
    if gone.height and not returned.broken and missing is None:
        found.append(frame(_missing(lent, gone, shown)))
        blocked = blocked or f"{gone.height} lent rows did not come back; say --missing keep or --missing remove"
    removals = _removals(lent, rows, gone if missing == "remove" else gone.clear())
    for wrong in (*_wrong(lent, sound, cells, additions, at), _taken_keys(lent, additions, elsewhere.keys, at)):
        found.append(wrong)
        bad |= set(wrong.filter(pl.col("severity") == "stop")["line"].to_list())
    held = rows.filter(pl.col(LINE).is_in(list(bad)))
    cells = cells.filter(~pl.col("line").is_in(list(bad)) & ~pl.col("key").is_in(removals[KEY].implode()))
    additions = additions.filter(~pl.col(LINE).is_in(list(bad)))
    conflicts = _conflicts(lent, cells, removals, elsewhere)
    found.append(frame([_told(conflict, shown) for conflict in conflicts]))
    hit = pl.DataFrame([(c.key, c.field) for c in conflicts], schema=["key", "field"], orient="row")
    if conflicts:
        cells = cells.join(hit, on=["key", "field"], how="anti", maintain_order="left")
        removals = removals.filter(~pl.col(KEY).is_in([c.key for c in conflicts if c.field == REMOVAL]))
    tally = Tally()
    every = pl.concat([pl.DataFrame(schema=SCHEMA), *found])
    tally.add(every)
    return LoanReturn(
        lent.id,
        lent.subject,
        lent.moment,
        rows.height,
        cells,
        additions,
        removals,
        conflicts,
        every,
        tally.groups(),
        held.height,
        _with_reasons(lent, held, every),
        blocked,
        [],
    )


def _not_yet_accepted(lent: Lent, rows: pl.DataFrame) -> pl.DataFrame:
    """The returned rows without records that were removed, or added without a key, when an earlier return was accepted."""
    if not lent.removed and not lent.added:
        return rows
    mark = pl.coalesce(KEY, row_mark([f.title for f in lent.fields]))
    keyless = pl.col(KEY).is_null() & mark.is_in(list(lent.added))
    return rows.filter(~pl.col(KEY).is_in(list(lent.removed)).fill_null(False) & ~keyless)


def _with_reasons(lent: Lent, rows: pl.DataFrame, findings: pl.DataFrame) -> pl.DataFrame:
    """Rows held back, with where they stand in the workbook, and why."""
    told = pl.format("{}: {}", "field", "code")
    stops = findings.filter(pl.col("severity") == "stop")
    why = stops.group_by("line", maintain_order=True).agg(told.str.join("; ").alias(WHY))
    titles = [f.title for f in lent.fields]
    reasons = rows.select(LINE, *titles).join(why, left_on=LINE, right_on="line", how="left", maintain_order="left")
    return reasons.select(pl.col(LINE).cast(pl.String), WHY, *titles)


@dataclass(frozen=True)
class _Places:
    """Where things stand in the returned sheet."""

    returned: Returned
    shown: str

    def finding(
        self, code: str, title: str, line: int, value: str | None, rule: str, field: str | None = None
    ) -> Finding:
        """A finding at a line, in the column of a title."""
        letters = self.returned.cells.get(title)
        cell = f"{self.returned.sheet}!{letters}{line}" if letters else None
        return Finding(code, self.shown, line, cell, field=field or title, value=value, rule=rule)

    def cell(self) -> pl.Expr:
        """The cells of findings on fields."""
        letters = pl.col("field").replace_strict(self.returned.cells, default=None, return_dtype=pl.String)
        return pl.format("{}!{}{}", pl.lit(self.returned.sheet), letters, "line")


def _typed(lent: Lent, rows: pl.DataFrame) -> pl.DataFrame:
    """Rows with each lent field's text as the layout writes it, and its typed value beside."""
    exprs = []
    for field in lent.fields:
        cell = pl.when(~blank_in_file(field, pl.col(field.title))).then(pl.col(field.title))
        exprs.append((field.type.read_sheet(cell)).alias(f"{INNER}{field.name}"))
    rows = rows.with_columns(exprs)
    texts = [
        pl.coalesce(render(field, pl.col(f"{INNER}{field.name}"), field.kind), pl.col(field.title)).alias(field.title)
        for field in lent.fields
        if field.kind is not Kind.TEXT
    ]
    return rows.with_columns(texts)


def _row_structure(lent: Lent, rows: pl.DataFrame, returned: Returned, at: _Places) -> tuple[set[int], list[Finding]]:
    """The lines of rows that are wrong as a whole, and the findings: formulas, repeated and blank keys, unclear removals."""
    bad = set(returned.formula_rows)
    known = set(lent.before[KEY].to_list())
    found = []
    first, title = lent.keys[0].title, ", ".join(f.title for f in lent.keys)
    repeated = rows.filter(pl.col(KEY).is_not_null() & pl.col(KEY).is_duplicated())
    for key, line in repeated.select(KEY, LINE).iter_rows():
        found.append(at.finding("loan.key-repeated", first, line, shown_text(key), "once", title))
        bad.add(line)
    needs_key = [f for f in lent.keys if f.required and not f.left_out_of_additions]
    for line in rows.filter(pl.col(KEY).is_null())[LINE] if needs_key else []:
        found.append(at.finding("loan.key-blank", needs_key[0].title, line, None, "required", title))
        bad.add(line)
    marked = rows.filter(pl.col(REMOVAL).is_not_null())
    for key, mark, line in marked.select(KEY, REMOVAL, LINE).iter_rows():
        if mark.strip().lower() != REMOVE or key not in known:
            rule = f"'{REMOVE}', on a row that was lent"
            found.append(at.finding("loan.removal-unclear", REMOVAL, line, mark, rule))
            bad.add(line)
    return bad, found


def _changed_cells(lent: Lent, rows: pl.DataFrame, returned: Returned) -> pl.DataFrame:
    both = lent.before.join(rows, on=KEY, how="inner", suffix=f"{INNER}after")
    parts = []
    for field in lent.fields:
        if field in lent.keys:
            continue
        after_text = pl.col(f"{field.title}{INNER}after")
        before, after = pl.col(field.title), after_text
        if field.kind is not Kind.TEXT:
            typed = field.type.read(pl.when(~blank_in_file(field, before)).then(before))
            unread = pl.col(f"{INNER}{field.name}").is_null() & after_text.is_not_null()
            differs = typed.ne_missing(pl.col(f"{INNER}{field.name}")) | unread
        else:
            differs = before.ne_missing(after)
        line = pl.col(f"{LINE}{INNER}after")
        cell = pl.lit(f"{returned.sheet}!{returned.cells.get(field.title, '')}") + line.cast(pl.String)
        parts.append(
            both.filter(differs.fill_null(False)).select(
                pl.col(KEY).alias("key"),
                pl.lit(field.title).alias("field"),
                before.alias("before"),
                after.alias("after"),
                line.alias("line"),
                cell.alias("cell"),
            )
        )
    return pl.concat([pl.DataFrame(schema=CHANGES), *parts]).sort("line", maintain_order=True)


def _missing(lent: Lent, gone: pl.DataFrame, shown: str) -> list[Finding]:
    title = ", ".join(f.title for f in lent.keys)
    return [Finding("loan.row-missing", shown, field=title, value=shown_text(key)) for key in gone[KEY]]


def _removals(lent: Lent, rows: pl.DataFrame, gone: pl.DataFrame) -> pl.DataFrame:
    """Lent rows that are to be removed: marked so, or gone and said to mean it."""
    marked = rows.filter(pl.col(REMOVAL).str.strip_chars().str.to_lowercase() == REMOVE)[KEY]
    return lent.before.filter(pl.col(KEY).is_in(pl.concat([marked, gone[KEY]]).implode()))


def _wrong(
    lent: Lent, rows: pl.DataFrame, cells: pl.DataFrame, additions: pl.DataFrame, at: _Places
) -> Iterator[pl.DataFrame]:
    """What breaks the layout's rules in what is new: in changed cells, and in rows that were added."""
    changed = rows.filter(pl.col(LINE).is_in(cells["line"].implode()))
    others = [f for f in lent.fields if f not in lent.keys]
    touched = cells.select("line", "field")
    yield _broken_rules(changed, others, at).join(touched, on=["line", "field"], how="semi", maintain_order="left")
    yield _broken_rules(additions, [f for f in lent.layout.fields if not f.left_out_of_additions], at)


def _broken_rules(rows: pl.DataFrame, fields: Sequence[Field], at: _Places) -> pl.DataFrame:
    problems = []
    for field in fields if rows.height else ():
        text = pl.col(field.title) if field.title in rows.columns else pl.lit(None, dtype=pl.String)
        value = pl.col(f"{INNER}{field.name}") if f"{INNER}{field.name}" in rows.columns else text
        problems += kind_problems(field, text, value)
        problems += value_problems(field, text, value, blank_in_file(field, text))
    return gather(rows.with_columns(flags(problems)), problems, pl.lit(at.shown), at.cell())


def _taken_keys(lent: Lent, additions: pl.DataFrame, there: pl.Series, at: _Places) -> pl.DataFrame:
    """New rows whose key another record has already, lent or not."""
    taken = additions.filter(pl.col(KEY).is_in(there.implode())).select(KEY, LINE).rows()
    title, rule = lent.keys[0].title, f"not yet in {lent.file}"
    return frame([at.finding("key.repeated", title, line, shown_text(key), rule) for key, line in taken])


def _conflicts(lent: Lent, cells: pl.DataFrame, removals: pl.DataFrame, elsewhere: Elsewhere) -> list[Conflict]:
    """Cells that were changed elsewhere too, by another loan or by a new build."""
    whole = elsewhere.accepted.filter(pl.col("field") == RECORD)
    accepted = elsewhere.accepted.filter(pl.col("field") != RECORD)
    beside = cells.join(accepted, on=["key", "field"], how="left", maintain_order="left")
    gone = other = pl.lit(False)
    now = pl.lit(None, dtype=pl.String)
    if elsewhere.now is not None and cells.height:
        fields = cells["field"].unique().to_list()
        standing = elsewhere.now.unpivot(fields, index=KEY, variable_name="field", value_name="now")
        beside = beside.join(standing.rename({KEY: "key"}), on=["key", "field"], how="left", maintain_order="left")
        now = pl.col("now")
        gone = ~pl.col("key").is_in(elsewhere.now[KEY].implode())
        other = now.ne_missing(pl.col("before")) & now.ne_missing(pl.col("after"))
    taken = pl.col("loan").is_not_null() & pl.col("value").ne_missing(pl.col("after"))
    value = pl.when(taken).then("value").when(other).then(now)
    loan = pl.concat_str(pl.lit("loan "), "loan")
    removed_by = whole.filter(pl.col("value") == REMOVED).select("key", pl.col("loan").alias("removed by"))
    beside = beside.join(removed_by, on="key", how="left", maintain_order="left")
    removed_there = pl.concat_str(pl.lit("removed by loan "), "removed by")
    by = (
        pl.when(removed_there.is_not_null())
        .then(removed_there)
        .when(taken)
        .then(loan)
        .when(gone)
        .then(pl.lit("the record is gone"))
        .when(other)
        .then(pl.lit(lent.file))
    )
    told = beside.select("key", "field", "before", "after", value.alias("now"), by.alias("by")).drop_nulls("by")
    conflicts = [Conflict(*row) for row in told.iter_rows()]
    removed = accepted.unique("key", keep="first", maintain_order=True)
    removed = removals.select(pl.col(KEY).alias("key")).join(removed, on="key", maintain_order="left")
    for key, field, value, loan in removed.iter_rows():
        conflicts.append(Conflict(key, REMOVAL, None, REMOVE, f"{field} is now {value}", f"loan {loan}"))
    return conflicts


def _told(conflict: Conflict, shown: str) -> Finding:
    return Finding(
        "loan.conflict",
        shown,
        field=conflict.field,
        value=f"{shown_text(conflict.key)}: {conflict.after}",
        rule="unchanged since it was lent",
        hint=f"Now {conflict.now} ({conflict.by}).",
    )
