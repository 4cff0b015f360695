"""Reviewing what came back: a workbook in which each change is accepted or refused, lent and taken back like any other."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, ClassVar

import polars as pl

from mudanza.core.documents.errors import LoanError, Place
from mudanza.core.findings.tally import Tally
from mudanza.core.plans.move import Move
from mudanza.core.values.row_columns import LINE, shown_key
from mudanza.core.work.loans.conflicts import CHANGES, Conflict, shown_conflict
from mudanza.core.work.loans.decision_loan import lend_sheets
from mudanza.core.work.loans.decision_sheets import Sheet, SheetColumn, WrongCell, read_sheet
from mudanza.core.work.loans.lent import KEY, Lent, shown_text
from mudanza.core.work.loans.loan_book import REMOVAL
from mudanza.core.work.loans.outcome import Answers, LoanReturn, Outcome, Review
from mudanza.core.work.loans.spoilage.judging import Answer

ACCEPT, REFUSE = "accept", "refuse"
CHANGE, ADDITION, REMOVED, CONFLICT, QUESTION = "change", "addition", "removal", "conflict", "question"
_SHEET, _QUIET = "review", "put right, held back"
_COLUMNS = ("No.", "What", "Record", "Field", "If refused", "If accepted", "Where, why", "Decision", "Remark")
#: what a decision is about: the sort of it, the key, the field
Item = tuple[str, str, str]
_NO_FIELD = pl.lit("").alias("field")
_NO_ITEMS = pl.DataFrame(schema={"key": pl.String, "field": pl.String})


@dataclass(frozen=True)
class Decisions:
    """What was decided: by item, whether it is accepted. What is not among it waits."""

    accepted: Mapping[Item, bool]

    def verdicts(self, what: str, items: pl.DataFrame) -> pl.Series:
        """Of items of a sort (key, field), whether they are accepted; null where that is not decided."""
        own = [(key, name, verdict) for (sort, key, name), verdict in self.accepted.items() if sort == what]
        table = pl.DataFrame(own, schema={"key": pl.String, "field": pl.String, "verdict": pl.Boolean}, orient="row")
        return items.join(table, on=["key", "field"], how="left", maintain_order="left")["verdict"]


@dataclass(frozen=True)
class Only:
    """That only changes of some fields, or what concerns some records, is accepted; empty: all. What is left waits."""

    fields: frozenset[str]
    keys: frozenset[str]

    accepted: ClassVar[Mapping[Item, bool]] = {}

    def verdicts(self, what: str, items: pl.DataFrame) -> pl.Series:
        """Of items of a sort (key, field), whether they are accepted; null where they wait."""
        asked = shown_key(pl.col("key")).is_in(list(self.keys)) if self.keys else pl.lit(True)
        if self.fields:
            asked &= pl.col("field").is_in(list(self.fields)) & pl.lit(what == CHANGE)
        return items.select(pl.when(asked).then(pl.lit(True)).alias("verdict")).to_series()


def items_of(result: LoanReturn) -> Iterator[tuple[Item, Sequence[str]]]:
    """All that is to be decided, each with its cells of the review (from "What" to "Where, why")."""
    for key, name, before, after, cell in result.outcome.changes.select(
        "key", "field", "before", "after", "cell"
    ).iter_rows():
        yield (CHANGE, key, name), (CHANGE, shown_text(key), name, before or "", after or "", cell or "")
    titles = [name for name in result.outcome.additions.columns if not name.startswith(("\x1f", "#"))]
    for row in result.outcome.additions.iter_rows(named=True):
        texts = "; ".join(f"{title} {row[title]}" for title in titles if row[title] and title != REMOVAL)
        yield (
            (ADDITION, row[KEY] or str(row[LINE]), ""),
            (ADDITION, shown_text(row[KEY] or "(new)"), "", "", texts, f"row {row[LINE]}"),
        )
    for row in result.outcome.removals.iter_rows(named=True):
        yield (REMOVED, row[KEY], ""), (REMOVED, shown_text(row[KEY]), "", "stays", "goes", "")
    for one in result.conflicts:
        why = f"was {one.before or '(blank)'} when lent; {one.by}"
        yield (
            (CONFLICT, one.key, one.field),
            (CONFLICT, shown_text(one.key), one.field, one.now or "", one.after or "", why),
        )
    for told in result.told:
        if told.settled == "question":
            words = f"{told.cells} of {told.of} cells: {told.words}"
            yield (
                (QUESTION, "", told.field),
                (QUESTION, "", told.field, f"as lent: {told.before or ''}", f"as it came: {told.after or ''}", words),
            )


def answers_with(answers: Answers, decisions: Decisions | Only) -> Answers:
    """The answers, with those that were decided on questions of columns."""
    columns: dict[str, Answer] = dict(answers.columns)
    for (what, _, name), accepted in decisions.accepted.items():
        if what == QUESTION:
            columns[name] = "as edits" if accepted else "undo"
    return replace(answers, columns=columns)


def decided(result: LoanReturn, decisions: Decisions | Only) -> LoanReturn:
    """What is accepted of what came back; what nobody decided waits, and is held back."""
    outcome = result.outcome
    changes, additions, removals = outcome.changes, outcome.additions, outcome.removals
    new = additions.select(_key_of_new().alias("key"), _NO_FIELD) if additions.height else _NO_ITEMS
    verdicts = decisions.verdicts(CHANGE, changes.select("key", "field"))
    added = decisions.verdicts(ADDITION, new)
    gone = decisions.verdicts(REMOVED, removals.select(pl.col(KEY).alias("key"), _NO_FIELD))
    waiting = changes.filter(verdicts.is_null()).select(
        "line", "field", pl.col("after").alias("value"), pl.lit("undecided").alias("why")
    )
    taken, left = _settled_conflicts(result.conflicts, decisions)
    of_conflicts = pl.DataFrame(
        [(c.key, c.field, c.now, c.after, None, None) for c in taken if c.field != REMOVAL],
        schema=CHANGES,
        orient="row",
    )
    going = [one.key for one in taken if one.field == REMOVAL]
    made = Outcome(
        pl.concat([changes.filter(verdicts.fill_null(False)), of_conflicts]),
        additions.filter(added.fill_null(False)) if additions.height else additions,
        pl.concat([removals.filter(gone.fill_null(False)), outcome.disputed.filter(pl.col(KEY).is_in(going))]),
        pl.concat([outcome.held, waiting]),
        outcome.held_rows,
        outcome.disputed.filter(~pl.col(KEY).is_in(going)),
    )
    findings = _without_settled(result, left)
    tally = Tally()
    tally.add(findings)
    open_ones = waiting.height + added.null_count() + gone.null_count()
    return replace(result, outcome=made, conflicts=left, waiting=open_ones, findings=findings, groups=tally.groups())


def _without_settled(result: LoanReturn, left: Sequence[Conflict]) -> pl.DataFrame:
    """The findings without those on conflicts that were decided."""
    open_ones = [shown_conflict(one) for one in left]
    settled = [shown_conflict(one) for one in result.conflicts if shown_conflict(one) not in open_ones]
    return result.findings.filter(
        ~((pl.col("code") == "loan.conflict") & pl.col("value").is_in(settled)).fill_null(False)
    )


def _settled_conflicts(
    conflicts: Sequence[Conflict], decisions: Decisions | Only
) -> tuple[list[Conflict], list[Conflict]]:
    """The conflicts in which what came back is taken, and those that nobody decided."""
    # what is accepted without a look at it is none of the conflicts
    verdicts = [(one, decisions.accepted.get((CONFLICT, one.key, one.field))) for one in conflicts]
    return [one for one, verdict in verdicts if verdict], [one for one, verdict in verdicts if verdict is None]


def _key_of_new() -> pl.Expr:
    """By what a new record is known in a review: its key, or its row where the target gives that."""
    return pl.coalesce(KEY, pl.col(LINE).cast(pl.String))


def lend_review(move: Move, lent: Lent, result: LoanReturn, path: Path, answers: Answers, to: Path | None) -> Review:
    """Write a workbook in which what came back in a file is decided, and note it. The file is kept, so that it can be decided on whatever becomes of it."""
    rows = list(items_of(result))
    if not rows:
        raise LoanError(
            "there is nothing to be decided.",
            place=Place(move.shown(path)),
            hint="What was put right or is held back is told without it.",
        )

    def made(_: str) -> tuple[list[Sheet], dict[str, Any]]:
        remembered = {
            "of": lent.id,
            "items": [item for item, _ in rows],
            "missing": answers.missing,
            "columns": dict(answers.columns),
            "current": move.shown(answers.current.resolve()) if answers.current is not None else None,
            "prefer": dict(answers.prefer),
        }
        return [_sheet(result, rows), *_quiet(result)], remembered

    loan = lend_sheets(move, lent.id, "review", made, to, about=path)
    return Review(loan.id, loan.workbook, loan.rows)


def _sheet(result: LoanReturn, rows: Sequence[tuple[Item, Sequence[str]]]) -> Sheet:
    widths = (6, 11, 16, 16, 26, 26, 34, 12, 24)
    columns = [
        SheetColumn(title, width, title in ("Decision", "Remark"), (ACCEPT, REFUSE) if title == "Decision" else ())
        for title, width in zip(_COLUMNS, widths, strict=True)
    ]
    who = f", saved by {result.opened.by}" if result.opened.by else ""
    note = f"What came back of {result.loan}{who}: accept or refuse each row; what is left open waits."
    return Sheet(_SHEET, note, columns, [[str(n), *cells, "", ""] for n, (_, cells) in enumerate(rows, start=1)])


def _quiet(result: LoanReturn) -> Iterator[Sheet]:
    """What needs no decision: spoilage that was put right, and cells that are held back."""
    rows = [
        ["put right", one.field, f"{one.cells} of {one.of} cells", one.words, f"{one.before or ''} → {one.after or ''}"]
        for one in result.told
        if one.settled == "undone"
    ]
    rows += [
        ["held back", name, f"row {line}", why, value or ""]
        for line, name, value, why in result.outcome.held.iter_rows()
    ]
    if rows:
        columns = [
            SheetColumn(title, width)
            for title, width in (("What", 12), ("Field", 18), ("Where", 18), ("Why", 40), ("Value", 40))
        ]
        yield Sheet(_QUIET, "Nothing to decide here.", columns, rows)


def read_decisions(path: Path, detail: Mapping[str, Any], shown: str) -> tuple[Decisions, list[WrongCell]]:
    """What was decided in a review that came back, and the cells that cannot be taken."""
    items = [tuple(one) for one in detail["items"]]
    accepted: dict[Item, bool] = {}
    wrong: list[WrongCell] = []
    for row in read_sheet(path, _SHEET, ["No.", "Decision"], shown):
        number, word = row.texts["No."].removesuffix(".0"), row.texts["Decision"].strip().lower()
        if not word:
            continue
        if not number.isdigit() or not 0 < int(number) <= len(items):
            wrong.append(WrongCell(row.cells["No."], row.texts["No."], "the number of no row of the review"))
        elif word not in (ACCEPT, REFUSE) or "Decision" in row.formulas:
            wrong.append(WrongCell(row.cells["Decision"], row.texts["Decision"], f"{ACCEPT} or {REFUSE}"))
        else:
            accepted[items[int(number) - 1]] = word == ACCEPT
    return Decisions(accepted), wrong


def kept_file(move: Move, detail: Mapping[str, Any]) -> Path:
    """The file that a review is of, as it came back."""
    path = move.path(detail["file"])
    if not path.is_file():
        what = "the file that came back is not in the loan's folder any more."
        raise LoanError(what, place=Place(str(path)), hint="Receive it again.")
    return path
