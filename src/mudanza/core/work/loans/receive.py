"""Receiving: what came back from a loan, and the change set as import files."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from datetime import date
from pathlib import Path
from typing import Any

import polars as pl

from mudanza.core.disk.files import OutFile, Outputs
from mudanza.core.documents.errors import LoanError, MudanzaError, Place
from mudanza.core.documents.errors import unknown as unknown_name
from mudanza.core.findings.finding import Finding, frame
from mudanza.core.findings.tally import Tally
from mudanza.core.layouts.dialect import Dialect
from mudanza.core.plans.correction_files import with_corrections
from mudanza.core.plans.move import Move
from mudanza.core.sinks.csv_text import QuotedWriter, unquoted
from mudanza.core.sinks.formats import RecordFile
from mudanza.core.state.contents import keep_change_set
from mudanza.core.state.evidence import ledger_of
from mudanza.core.state.ledger import Ledger
from mudanza.core.state.loans import (
    ADDED,
    RECORD,
    REMOVED,
    Cell,
    accept_changes,
    accepted_from,
    last_change,
    noted_loan,
)
from mudanza.core.state.running import running, settle
from mudanza.core.values.digest import Digest, digest_of
from mudanza.core.work.loans.change_set import Way, archived, change_files, for_import, import_files
from mudanza.core.work.loans.comparison import compare_returned
from mudanza.core.work.loans.conflicts import Elsewhere
from mudanza.core.work.loans.decision_sheets import WrongCell
from mudanza.core.work.loans.elsewhere import what_happened
from mudanza.core.work.loans.held_back import corrected_rows, of_held_back
from mudanza.core.work.loans.lent import KEY, Lent, folder_of, open_loan, row_mark, shown_text
from mudanza.core.work.loans.outcome import Answers, LoanReturn
from mudanza.core.work.loans.returned.opened import Opened, open_returned, with_notes_of_people
from mudanza.core.work.loans.returned.slips import loan_named_in
from mudanza.core.work.loans.returned.table import Table, find_table
from mudanza.core.work.loans.returned.whose import headings_of_loans, whose_loan
from mudanza.core.work.loans.review import (
    Decisions,
    Only,
    answers_with,
    decided,
    kept_file,
    lend_review,
    read_decisions,
)
from mudanza.core.work.runs import RECEIVE


def receive(
    move: Move,
    path: Path,
    *,
    loan: str | None = None,
    accept: bool = False,
    answers: Answers | None = None,
    decisions: Decisions | Only | None = None,
    way: Way | None = None,
) -> LoanReturn:
    """Compare a file that came back with what was lent. With `accept`, write the change set, in some `way`; of what was decided, if `decisions` says so.

    `loan` names the loan if the file has lost all that says so. Raises LoanError if the loan is unknown, another, or was received already.
    """
    ledger = ledger_of(move)
    settle(ledger)
    seen = last_change(ledger)
    shown = move.shown(path.resolve())
    if not path.is_file():
        raise LoanError("the file does not exist.", place=Place(shown), hint="Name the returned file.")
    answers, way = answers or Answers(), way or Way()
    with ThreadPoolExecutor(1) as pool:
        opening = pool.submit(open_returned, path, shown, headings_of_loans(ledger))
        beside = _read_beside(move, ledger, path, shown, loan, answers.current)
        opened = opening.result()
    lent = whose_loan(move, ledger, opened, shown, loan, beside[0] if beside is not None else None)
    if accept and lent.state != "out":
        raise LoanError(
            f"the loan {lent.id!r} was accepted already.",
            place=Place(shown),
            hint="Lend the records again for further changes.",
        )
    opened = with_notes_of_people(opened, lent.notes)
    answers = _by_titles(answers, lent)
    if isinstance(decisions, Only):
        decisions = replace(decisions, fields=frozenset(lent.layout.field_named(one).title for one in decisions.fields))
    if decisions is not None:
        answers = answers_with(answers, decisions)
    if beside is not None and beside[0] is lent:
        elsewhere = beside[1]
    else:
        elsewhere = what_happened(move, ledger, lent, answers.current)
    result = _compared(lent, opened, shown, elsewhere, answers)
    if decisions is not None:
        result = decided(result, decisions)
    if way.review is not None and result.blocked is None:
        review = lend_review(move, lent, result, path, answers, way.review if way.review.suffix else None)
        result = replace(result, review=review)
    if not accept or result.blocked is not None:
        return result
    touched = [result.outcome.changes["key"], result.outcome.removals[KEY]]
    standing = elsewhere.standing(lent.before.filter(pl.col(KEY).is_in(pl.concat(touched).implode())))
    return _accept(move, ledger, lent, result, digest_of(path, shown), way, seen, standing)


def _read_beside(
    move: Move, ledger: Ledger, path: Path, shown: str, said: str | None, current: Path | None
) -> tuple[Lent, Elsewhere] | None:
    """What was lent and what happened to it elsewhere, while the file that came back is read; None if it does not say at first sight which loan it is, or something is wrong with that."""
    name = said or loan_named_in(path)
    try:
        lent = open_loan(move, ledger, name, shown) if name is not None else None
        return (lent, what_happened(move, ledger, lent, current)) if lent is not None else None
    except MudanzaError:
        # it is told when the loan is asked for
        return None


def receive_review(
    move: Move, path: Path, detail: Mapping[str, Any], *, accept: bool, way: Way | None = None
) -> tuple[LoanReturn, list[WrongCell]]:
    """What was decided in a review that came back, of the file that it is of. With `accept`, write the change set. Also the cells of the review that cannot be taken."""
    decisions, wrong = read_decisions(path, detail, move.shown(path.resolve()))
    current = move.path(detail["current"]) if detail.get("current") else None
    answers = Answers(detail["missing"], detail["columns"], current, detail.get("prefer", {}))
    result = receive(
        move, kept_file(move, detail), loan=detail["of"], accept=accept, answers=answers, decisions=decisions, way=way
    )
    return result, wrong


def _by_titles(answers: Answers, lent: Lent) -> Answers:
    """Answers by the headings of fields, which may have been said by their names."""
    title = {name: lent.layout.field_named(name).title for name in (*answers.columns, *answers.prefer) if name != "*"}
    columns = {title[name]: answer for name, answer in answers.columns.items()}
    return replace(
        answers, columns=columns, prefer={title.get(name, name): rule for name, rule in answers.prefer.items()}
    )


def _compared(lent: Lent, opened: Opened, shown: str, elsewhere: Elsewhere, answers: Answers) -> LoanReturn:
    """The sheet that was edited, beside what was lent."""
    titles = [f.title for f in lent.fields]
    unknown = sorted(set(answers.columns) - set(titles))
    if unknown:
        raise LoanError(
            unknown_name("field", unknown[0], titles), place=Place(shown), hint=f"The loan has: {', '.join(titles)}."
        )
    tables = [table for grid in opened.grids if (table := find_table(grid, titles, shown)) is not None]
    if not tables:
        hint = f"They were: {', '.join(titles)}."
        raise LoanError("no sheet has the headings of the loan.", place=Place(shown), hint=hint)
    if lent.quoted:
        texts = [f.title for f in lent.fields if not f.is_typed]
        tables = [_as_lent(table, texts) for table in tables]
    results = [compare_returned(lent, opened, table, elsewhere, answers) for table in tables]
    edited = [one for one in results if one.size or one.held or one.told or one.conflicts]
    chosen = edited[0] if edited else results[0]
    if len(results) == 1:
        return chosen
    names = [table.grid.name or "" for table in tables]
    differing = [
        one
        for one in edited
        if not one.outcome.changes.drop("cell", "line").equals(chosen.outcome.changes.drop("cell", "line"))
    ]
    which = next(name for name, one in zip(names, results, strict=True) if one is chosen)
    copies = Finding("loan.copies", shown, value=", ".join(names), rule=f"one sheet; taken was {which}")
    told = pl.concat([chosen.findings, frame([copies])])
    tally = Tally()
    tally.add(told)
    blocked = (
        f"several sheets of the loan were edited ({', '.join(names)}); put all edits on one of them"
        if differing
        else chosen.blocked
    )
    return replace(chosen, findings=told, groups=tally.groups(), blocked=blocked)


def _as_lent(table: Table, titles: Sequence[str]) -> Table:
    """A table without the apostrophes with which texts were lent."""
    there = [title for title in titles if title in table.rows.columns]
    return replace(table, rows=table.rows.with_columns(unquoted(pl.col(title)).alias(title) for title in there))


def _accept(
    move: Move,
    ledger: Ledger,
    lent: Lent,
    result: LoanReturn,
    came: Digest,
    way: Way,
    seen: int,
    standing: pl.DataFrame,
) -> LoanReturn:
    """Write the change set, what would undo it, and the rows held back; note in the ledger what was accepted. While rows are held back the loan stays out."""
    with running(ledger, RECEIVE, lent.id) as run:
        outputs, folder = run.outputs, folder_of(move, lent.id)
        # what was accepted before may still have to be imported
        folder = folder / str(run.id) if accepted_from(ledger, lent.id) else folder
        known = noted_loan(ledger, lent.id)
        if known is None or known.state != "out" or last_change(ledger) != seen:
            raise LoanError(
                "another run accepted something meanwhile, which this one did not know of.",
                place=Place(came.path),
                hint="Receive it again; `mudanza ledger --loans` tells of loans.",
            )
        written: list[OutFile] = []
        corrects = of_held_back(lent)
        if corrects is not None and (result.outcome.removals.height or result.outcome.additions.height):
            raise LoanError(
                "rows that were held back can be corrected, not removed or added.",
                place=Place(came.path),
                hint="A row that is not to go at all is said so with `mudanza preview LIST --key KEY --exclude WHY`.",
            )
        if corrects is not None and result.outcome.changes.height:
            written.append(corrected_rows(move, outputs, lent, corrects, result.outcome.changes))
        for name, titles, rows in import_files(lent, result, way, standing) if corrects is None else ():
            if rows.height:
                written += for_import(
                    outputs, folder / f"{name}{lent.present_layout.form.ending}", lent.present_layout, titles, rows
                )
        beside = [("held-back.csv", result.outcome.held_rows, Dialect(bom=True))]
        if result.conflicts:
            conflicts = pl.DataFrame([{**vars(c), "key": shown_text(c.key)} for c in result.conflicts])
            beside.insert(0, ("conflicts.csv", conflicts, Dialect()))
        if result.opened.notes:
            notes = pl.DataFrame(result.opened.notes, schema=["by", "cell", "note"], orient="row")
            beside.append(("notes.csv", notes, Dialect(bom=True)))
        for name, rows, dialect in beside:
            if rows.height:
                written.append(outputs.create(folder / name))
                file = RecordFile(written[-1], QuotedWriter(rows.columns, dialect))
                file.write(rows)
                file.close()
        if way.correct:
            written.append(_corrections(move, outputs, lent, result, way))
        if move.archived:
            written.append(archived(move, outputs.create(folder / "before-import.zip")))
        digests = [out.digest(move.shown(out.final)) for out in written]
        accept_changes(
            ledger,
            known,
            _accepted_cells(lent, result),
            back=result.held == 0 and not result.waiting and not result.conflicts,
        )
        if corrects is None:
            _keep(ledger, run.id, lent, result, way.whole_rows, standing)
        counts = {
            "read": result.rows,
            "changed": result.outcome.changes["key"].n_unique(),
            "added": result.outcome.additions.height,
            "removed": result.outcome.removals.height,
            "held_back": result.held,
        }
        run.commit(counts, [came.as_dict()], [d.as_dict() for d in digests])
    return replace(result, files=digests)


def _corrections(move: Move, outputs: Outputs, lent: Lent, result: LoanReturn, way: Way) -> OutFile:
    """What was accepted as corrections of the list, which go before what its sources say."""
    if lent.subject not in move.names("plans", ".toml"):
        raise LoanError(
            f"{lent.subject} is no list that is built, so no build can have what was accepted.",
            hint="Leave --correct out.",
        )
    cells = result.outcome.changes.select("key", "field", "before", "after").rows()
    who = way.by or result.opened.by or ""
    path, text = with_corrections(move, lent.subject, cells, who, date.today().isoformat(), lent.id)
    return outputs.create_text(path, text)


def _keep(ledger: Ledger, run: int, lent: Lent, result: LoanReturn, whole_rows: bool, standing: pl.DataFrame) -> None:
    """Keep what the import files say of each record, for when they are handed over."""
    (_, columns, changes), (_, added, additions), (_, _, removals), *_ = change_files(
        lent, result, whole_rows, standing
    )
    if changes.height or additions.height or removals.height:
        named = additions.filter(pl.col(KEY).is_not_null())
        keep_change_set(
            ledger, run, lent.subject, changes.select(KEY, *columns), named.select(KEY, *added), removals.select(KEY)
        )


def _accepted_cells(lent: Lent, result: LoanReturn) -> list[Cell]:
    """The cells that are accepted: changed ones, all of new records that have a key, and whole records."""
    cells = result.outcome.changes.select("key", "field", "before", "after").rows()
    titles = [f.title for f in lent.fields]
    additions = result.outcome.additions.select(KEY, row_mark(titles).alias("mark"), *titles)
    for key, mark, *texts in additions.iter_rows():
        cells.append((key or mark, RECORD, None, ADDED))
        if key is not None:
            cells += [(key, title, None, text) for title, text in zip(titles, texts, strict=True)]
    return [*cells, *((key, RECORD, "as lent", REMOVED) for key in result.outcome.removals[KEY])]
