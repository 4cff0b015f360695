"""Conflicts: cells that were changed in a loan, and elsewhere since it was lent."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass

import polars as pl

from mudanza.core.findings.finding import Finding
from mudanza.core.state.loans import RECORD, REMOVED
from mudanza.core.values.row_columns import INNER
from mudanza.core.work.loans.lent import KEY, Lent, shown_text, with_changes
from mudanza.core.work.loans.loan_book import REMOVAL
from mudanza.core.work.loans.wording import WORDS

#: Shape of changed cells: the key, the field's title, the texts, and where the cell stands.
CHANGES = {
    "key": pl.String,
    "field": pl.String,
    "before": pl.String,
    "after": pl.String,
    "line": pl.Int64,
    "cell": pl.String,
}


#: which of two values is taken
RETURNED, PRESENT = "returned", "present"
_HIT, _THERE_IS = f"{INNER}hit", f"{INNER}there "
_THERE = {"key": pl.String, "field": pl.String, "before": pl.String, "now": pl.String}


@dataclass(frozen=True)
class Conflict:
    """A cell that was changed here and elsewhere since it was lent."""

    key: str
    field: str
    before: str | None
    after: str | None
    now: str | None
    by: str


#: cells that were accepted from other loans
ACCEPTED = {"key": pl.String, "field": pl.String, "value": pl.String, "loan": pl.String}


@dataclass(frozen=True)
class Elsewhere:
    """What happened to lent cells meanwhile: those accepted from other loans (of `ACCEPTED`); the keys of the file that the records came from,
    and the lent records as they stand there now (None if the file is as it was lent, or gone)."""

    accepted: pl.DataFrame
    keys: Callable[[], pl.Series]
    now: pl.DataFrame | None
    #: what it is called, and whether it is what the target itself holds
    name: str = ""
    of_target: bool = False

    def standing(self, records: pl.DataFrame) -> pl.DataFrame:
        """Lent records as they stand by now: what a change set writes of cells that nobody edited."""
        if self.now is None:
            cells = self.accepted.filter(pl.col("field").is_in(records.columns))
            return with_changes(records, cells.select("key", "field", pl.col("value").alias("after")))
        titles = [name for name in records.columns if name in self.now.columns and not name.startswith((INNER, "#"))]
        there = self.now.select(
            KEY, pl.lit(True).alias(_HIT), *(pl.col(title).alias(_THERE_IS + title) for title in titles)
        )
        beside = records.join(there, on=KEY, how="left", maintain_order="left")
        now = [pl.when(_HIT).then(_THERE_IS + title).otherwise(title).alias(title) for title in titles]
        return beside.with_columns(now).select(records.columns)


def conflicts_of(lent: Lent, cells: pl.DataFrame, removals: pl.DataFrame, elsewhere: Elsewhere) -> list[Conflict]:
    """Cells that were changed elsewhere too, by another loan or by a new build, and records that are to go and were changed there."""
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
        .then(pl.lit(elsewhere.name))
    )
    told = beside.select("key", "field", "before", "after", value.alias("now"), by.alias("by")).drop_nulls("by")
    conflicts = [Conflict(*row) for row in told.iter_rows()]
    removed = accepted.unique("key", keep="first", maintain_order=True)
    removed = removals.select(pl.col(KEY).alias("key")).join(removed, on="key", maintain_order="left")
    for key, field, value, loan in removed.iter_rows():
        conflicts.append(Conflict(key, REMOVAL, None, WORDS["en"].remove, f"{field} is now {value}", f"loan {loan}"))
    told_already = [one.key for one in conflicts if one.field == REMOVAL]
    there = changed_there(lent, cells.clear(), elsewhere).unique("key", keep="first", maintain_order=True)
    there = there.filter(pl.col("key").is_in(removals[KEY].implode()) & ~pl.col("key").is_in(told_already))
    for key, field, _, value in there.iter_rows():
        is_now = f"{field} is now {value or '(blank)'}"
        conflicts.append(Conflict(key, REMOVAL, None, WORDS["en"].remove, is_now, elsewhere.name))
    return conflicts


def shown_conflict(conflict: Conflict) -> str:
    """A conflict as its finding shows it."""
    return f"{shown_text(conflict.key)}: {conflict.after}"


def told_conflict(conflict: Conflict, shown: str) -> Finding:
    """The finding on a conflict."""
    return Finding(
        "loan.conflict",
        shown,
        field=conflict.field,
        value=shown_conflict(conflict),
        rule="unchanged since it was lent",
        hint=f"Now {conflict.now} ({conflict.by}).",
    )


def changed_there(lent: Lent, cells: pl.DataFrame, elsewhere: Elsewhere) -> pl.DataFrame:
    """The lent cells that the target holds otherwise than they were lent, though nobody changed them in the loan: key, field, before, now."""
    if elsewhere.now is None:
        return pl.DataFrame(schema=_THERE)
    titles = [f.title for f in lent.fields if f not in lent.keys]
    parts = []
    both = lent.before.join(elsewhere.now, on=KEY, how="inner", suffix=f"{INNER}there", maintain_order="left")
    for title in titles:
        before, now = pl.col(title), pl.col(f"{title}{INNER}there")
        parts.append(
            both.filter(before.ne_missing(now)).select(
                pl.col(KEY).alias("key"), pl.lit(title).alias("field"), before.alias("before"), now.alias("now")
            )
        )
    found = pl.concat([pl.DataFrame(schema=_THERE), *parts])
    return found.join(cells.select("key", "field"), on=["key", "field"], how="anti", maintain_order="left")


@dataclass(frozen=True)
class Settlement:
    """What stands when what came back was set beside what is there: changes, records that go, those of them that are `disputed`, the conflicts that nobody decided, and what is otherwise `there` without us."""

    changes: pl.DataFrame
    removals: pl.DataFrame
    disputed: pl.DataFrame
    conflicts: list[Conflict]
    there: pl.DataFrame


def settle(
    lent: Lent, changes: pl.DataFrame, removals: pl.DataFrame, elsewhere: Elsewhere, prefer: Mapping[str, str]
) -> Settlement:
    """Set changes and removals beside what happened elsewhere. `prefer` are rules for fields: which value is taken; that of `*` is the rule of all others."""
    there = changed_there(lent, changes, elsewhere)
    if elsewhere.of_target and elsewhere.now is not None and changes.height:
        titles = changes["field"].unique().to_list()
        now = elsewhere.now.unpivot(titles, index=KEY, variable_name="field", value_name="after").rename({KEY: "key"})
        changes = changes.join(now, on=["key", "field", "after"], how="anti", nulls_equal=True, maintain_order="left")
    every = conflicts_of(lent, changes, removals, elsewhere)
    rules = [prefer.get(one.field, prefer.get("*")) for one in every]
    left = [one for one, rule in zip(every, rules, strict=True) if rule is None]
    schema = {"key": pl.String, "field": pl.String, "now": pl.String, "rule": pl.String}
    table = [(one.key, one.field, one.now, rule or "") for one, rule in zip(every, rules, strict=True)]
    beside = changes.join(
        pl.DataFrame(table, schema=schema, orient="row"), on=["key", "field"], how="left", maintain_order="left"
    )
    taken = pl.col("rule") == RETURNED
    beside = beside.filter(pl.col("rule").is_null() | taken)
    before = pl.when(taken).then("now").otherwise("before").alias("before")
    going = [one for one, rule in zip(every, rules, strict=True) if one.field == REMOVAL and rule != RETURNED]
    disputed = removals.filter(pl.col(KEY).is_in([one.key for one in going if one in left]))
    staying = removals.filter(~pl.col(KEY).is_in([one.key for one in going]))
    return Settlement(beside.with_columns(before).select(list(CHANGES)), staying, disputed, left, there)


def told_there(there: pl.DataFrame, elsewhere: Elsewhere, shown: str) -> Iterator[Finding]:
    """The findings on what is otherwise than it was lent, and nobody touched in the loan: one for each field."""
    for (name,), cells in there.partition_by("field", as_dict=True, maintain_order=True).items():
        key, _, before, now = cells.row(0)
        yield Finding(
            "loan.changed-there",
            shown,
            field=str(name),
            value=f"{shown_text(key)}: {now or '(blank)'}",
            rule=f"{before or '(blank)'}, as lent; {cells.height:,} of them",
            hint=f"It stays as {elsewhere.name} has it.",
        )
