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
from mudanza.core.state.files import Outputs
from mudanza.core.state.ledger import ledger_of, sweep_behind
from mudanza.core.state.loans import note_loan
from mudanza.core.values.digest import digest_of
from mudanza.core.values.row_columns import LINE
from mudanza.core.work.loans.conflicts import CHANGES, Conflict, shown_conflict
from mudanza.core.work.loans.decision_sheets import Sheet, SheetColumn, WrongCell, read_sheet, sheets_bytes
from mudanza.core.work.loans.lent import KEY, Lent, folder_of, shown_text
from mudanza.core.work.loans.loan_book import REMOVAL
from mudanza.core.work.loans.outcome import Answers, LoanReturn, Outcome, Review
from mudanza.core.work.loans.spoilage.judging import Answer

ACCEPT, REFUSE = "accept", "refuse"
CHANGE, ADDITION, REMOVED, CONFLICT, QUESTION = "change", "addition", "removal", "conflict", "question"
_SHEET, _QUIET = "review", "put right, held back"
_COLUMNS = ("No.", "What", "Record", "Field", "If refused", "If accepted", "Where, why", "Decision", "Remark")
#: what a decision is about: the sort of it, the key, the field
Item = tuple[str, str, str]


@dataclass(frozen=True)
class Decisions:
    """What was decided: by item, whether it is accepted. What is not among it waits."""

    accepted: Mapping[Item, bool]

    def of(self, item: Item) -> bool | None:
        """Whether an item is accepted; None if that is not decided."""
        return self.accepted.get(item)


@dataclass(frozen=True)
class Only:
    """That only changes of some fields, or what concerns some records, is accepted; empty: all. What is left waits."""

    fields: frozenset[str]
    keys: frozenset[str]

    accepted: ClassVar[Mapping[Item, bool]] = {}

    def of(self, item: Item) -> bool | None:
        """Whether an item is accepted; None if it waits."""
        what, key, name = item
        concerned = not self.keys or shown_text(key) in self.keys
        return True if concerned and (not self.fields or (what == CHANGE and name in self.fields)) else None


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
    outcome, of = result.outcome, decisions.of
    changes = outcome.changes
    verdicts = [of((CHANGE, key, name)) for key, name in changes.select("key", "field").iter_rows()]
    added = (
        [of((ADDITION, key or str(line), "")) for key, line in outcome.additions.select(KEY, LINE).iter_rows()]
        if outcome.additions.height
        else []
    )
    gone = [of((REMOVED, key, "")) for key in outcome.removals[KEY]]
    waiting = changes.filter(_are(verdicts, None)).select(
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
        pl.concat([changes.filter(_are(verdicts, True)), of_conflicts]),
        outcome.additions.filter(_are(added, True)),
        pl.concat([outcome.removals.filter(_are(gone, True)), outcome.disputed.filter(pl.col(KEY).is_in(going))]),
        pl.concat([outcome.held, waiting]),
        outcome.held_rows,
        outcome.disputed.filter(~pl.col(KEY).is_in(going)),
    )
    findings = _without_settled(result, left)
    tally = Tally()
    tally.add(findings)
    open_ones = waiting.height + sum(one is None for one in (*added, *gone))
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


def _are(verdicts: Sequence[bool | None], which: bool | None) -> pl.Series:
    return pl.Series([verdict is which for verdict in verdicts], dtype=pl.Boolean)


def lend_review(move: Move, lent: Lent, result: LoanReturn, path: Path, answers: Answers, to: Path | None) -> Review:
    """Write a workbook in which what came back in a file is decided, and note it. The file is kept, so that it can be decided on whatever becomes of it."""
    rows = list(items_of(result))
    if not rows:
        raise LoanError(
            "there is nothing to be decided.",
            place=Place(move.shown(path)),
            hint="What was put right or is held back is told without it.",
        )
    ledger = ledger_of(move)
    run = ledger.begin("lend", f"{lent.id} review")
    name = f"{lent.id}-review-{run}"
    home = move.folder / "loans"
    final = to or home / f"{name}.xlsx"
    with ledger.held(run), Outputs(str(run)) as outputs:
        sweep_behind(move, ledger)
        kept = outputs.create(folder_of(move, lent.id) / f"came-back-{run}{path.suffix}")
        with path.open("rb") as file:
            while piece := file.read(1 << 20):
                kept.write(piece)
        book = outputs.create(final)
        slip = {"loan": name, "move": move.name, "kind": "review", "list": lent.subject}
        book.write(sheets_bytes([_sheet(result, rows), *_quiet(result)], slip))
        detail = {
            "kind": "review",
            "list": lent.subject,
            "of": lent.id,
            "file": move.shown(kept.final),
            "items": [item for item, _ in rows],
            "missing": answers.missing,
            "columns": dict(answers.columns),
        }
        note_loan(ledger, run, name, f"{lent.subject} review", detail)
        shown = move.shown(final)
        digests = [kept.digest(move.shown(kept.final)), book.digest(shown)]
        ledger.commit(
            run, outputs, {"read": len(rows)}, [digest_of(path).as_dict()], [one.as_dict() for one in digests]
        )
    return Review(name, shown, len(rows))


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
