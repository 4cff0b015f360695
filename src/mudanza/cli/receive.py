"""`mudanza receive`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click
from rich.text import Text

from mudanza.cli import look
from mudanza.cli.options import here, json_option, overwrite_option, set_option, short_time, wait_option
from mudanza.core.work.shapes import return_shape

if TYPE_CHECKING:
    from mudanza.core.work.loans.decision_sheets import WrongCell
    from mudanza.core.work.loans.outcome import LoanReturn
    from mudanza.core.work.loans.spoilage.judging import Answer

_SHOWN = 40


@click.command("receive")
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--accept", is_flag=True, help="Write the change set as import files.")
@click.option("--missing", type=click.Choice(["keep", "remove"]), help="What rows mean that did not come back.")
@click.option("--undo", multiple=True, metavar="FIELD", help="Keep what was lent where this field came back spoilt.")
@click.option("--as-edits", multiple=True, metavar="FIELD", help="Take what came back in this field as edits.")
@click.option("--whole-rows", is_flag=True, help="Write all columns of changed rows, not only key and changed ones.")
@click.option(
    "--one-file", is_flag=True, help="Write all in one file, if the layout has a field for what becomes of a row."
)
@click.option("--correct", is_flag=True, help="Have later builds write what is accepted, too (corrections/LIST.csv).")
@click.option("--from", "by", metavar="NAME", help="Who sent it back (who saved it).")
@click.option("--review", is_flag=True, help="Write a workbook in which each change is accepted or refused.")
@click.option("--to", type=click.Path(path_type=Path), metavar="FILE.xlsx", help="Where the review is to appear.")
@overwrite_option
@click.option("--fields", metavar="A,B", help="Accept changes of these fields alone; the others wait.")
@click.option("--keys", metavar="A,B", help="Accept what concerns these records alone; the others wait.")
@click.option(
    "--current", type=click.Path(path_type=Path), metavar="FILE", help="What the target holds now, as it exports it."
)
@click.option("--prefer", multiple=True, metavar="[FIELD=]returned|present", help="Which value is taken in a conflict.")
@click.option("--loan", metavar="ID", help="The loan, if the workbook has lost its slip.")
@set_option
@wait_option
@json_option
@click.pass_context
def command(
    ctx: click.Context,
    file: Path,
    accept: bool,
    missing: str | None,
    undo: tuple[str, ...],
    as_edits: tuple[str, ...],
    whole_rows: bool,
    one_file: bool,
    correct: bool,
    by: str | None,
    review: bool,
    to: Path | None,
    fields: str | None,
    keys: str | None,
    current: Path | None,
    prefer: tuple[str, ...],
    loan: str | None,
    parameters: dict[str, str],
    wait: float,
    as_json: bool,
) -> None:
    """Take a lent workbook back: see every change, and with --accept write it: records as import files, a mapping sheet into its plan, codes into
    their crosswalks.

    changes.csv, additions.csv and removals.csv hold only what changed; the undo files would put the old
    values back. Cells that break the layout's rules, and records changed elsewhere meanwhile, are left out and told.
    What a program spoilt (zeros in front, dates, letters) is told apart from edits and put right, or asked.

    \b
    Examples:
      mudanza receive loans/owners-2.xlsx
      mudanza receive back-from-maria.xlsx --accept
      mudanza receive back.xlsx --missing keep --accept
      mudanza receive back.csv --undo Town --as-edits Name
      mudanza receive back.xlsx --review --to for-the-boss.xlsx
      mudanza receive for-the-boss.xlsx --accept
      mudanza receive back.xlsx --fields Phone,E-mail --accept
      mudanza receive back.xlsx --accept --correct --from Maria
      mudanza receive back.xlsx --current exported-today.csv --prefer Town=present
    """
    from mudanza.core.work.loans.change_set import Way
    from mudanza.core.work.loans.decision_loan import kind_of_loan
    from mudanza.core.work.loans.outcome import Answers
    from mudanza.core.work.loans.receive import receive, receive_review
    from mudanza.core.work.loans.review import Only

    move = here(wait)
    way = Way(whole_rows, one_file, by, correct, (to or Path()) if review else None)
    wrong: list[WrongCell] = []
    known = kind_of_loan(move, file, loan)
    if accept and review:
        raise click.UsageError("A review is for deciding what is accepted: leave --accept out, and accept the review.")
    if known is not None and known[1] == "review":
        if review or undo or as_edits or missing or fields or keys or current or prefer:
            raise click.UsageError(
                "What is decided stands in the review; only how it is written can be said beside it."
            )
        result, wrong = receive_review(move, file, known[2], accept=accept, way=way)
    elif known is not None:
        from mudanza.cli.receive_decisions import receive_decisions

        ctx.exit(receive_decisions(move, file, known, accept, parameters, as_json))
    else:
        said: dict[str, Answer] = {**dict.fromkeys(undo, "undo"), **dict.fromkeys(as_edits, "as edits")}
        if set(undo) & set(as_edits):
            raise click.UsageError(f"{next(iter(set(undo) & set(as_edits)))!r} cannot be undone and taken as edits.")
        only = Only(_names(fields), _names(keys)) if fields or keys else None
        answers = Answers(missing, said, current, _rules(prefer))
        result = receive(move, file, loan=loan, accept=accept, answers=answers, decisions=only, way=way)
    to_save = move.before_import if result.files else None
    if as_json:
        look.document(
            {
                **return_shape(result, to_save),
                "wrong": [{"cell": one.cell, "value": one.value, "problem": one.problem} for one in wrong],
            }
        )
    else:
        _show(result, accept)
        if to_save is not None:
            look.say(f"  Before the import: {to_save}", style="bold")
        for one in wrong:
            look.say(f"  {one.cell}: {one.value!r} cannot be taken; it is to be {one.problem}.", style="bold")
    ctx.exit(0 if result.clean and result.blocked is None and not wrong and not result.waiting else 1)


def _rules(prefer: tuple[str, ...]) -> dict[str, str]:
    from mudanza.core.work.loans.conflicts import PRESENT, RETURNED

    rules = {}
    for one in prefer:
        name, _, which = one.rpartition("=")
        if which not in (RETURNED, PRESENT):
            raise click.BadParameter(f"{which!r} is neither {RETURNED} nor {PRESENT}.", param_hint="--prefer")
        rules[name or "*"] = which
    return rules


def _names(names: str | None) -> frozenset[str]:
    return frozenset(one.strip() for one in names.split(",")) if names else frozenset()


def _record(result: LoanReturn, key: str) -> str:
    """A record as people know it: by its key, or by the row of the source that was held back."""
    from mudanza.core.work.loans.lent import is_of_held_back, key_parts, shown_text

    parts = key_parts(key)
    return f"{parts[1]} row {parts[2]}" if is_of_held_back(result.subject) and len(parts) > 2 else shown_text(key)


def _show(result: LoanReturn, accept: bool) -> None:
    from mudanza.core.work.loans.lent import KEY, shown_text

    outcome = result.outcome
    saved = f", saved by {result.opened.by}" if result.opened.by else ""
    came = f"lent {short_time(result.lent)}; {look.plural(result.rows, 'row')} came back{saved}"
    look.heading(f"loan {result.loan}", came)
    changed = look.plural(outcome.changes["key"].n_unique(), "row")
    rows = [
        ["changed", changed, look.plural(outcome.changes.height, "cell")],
        ["added", look.plural(outcome.additions.height, "row"), ""],
        ["removed", look.plural(outcome.removals.height, "row"), ""],
        ["held back", look.plural(result.held, "row"), "see the findings" if result.held else ""],
    ]
    for settled, words in (("undone", "kept as they were lent"), ("question", "not taken until you say what they are")):
        cells = sum(one.cells for one in result.told if one.settled == settled)
        if cells:
            name = {"undone": "spoilt", "question": "questions"}[settled]
            rows.append([name, look.plural(cells, "cell"), words])
    conflicts = "changed here and elsewhere" if result.conflicts else ""
    rows.append(["conflicts", look.plural(len(result.conflicts), "cell"), conflicts])
    look.columns(rows, right=(1,))
    if result.told:
        _show_spoilage(result)
    if result.size:
        look.say()
        look.heading("changes", f"the first {_SHOWN} of each sort" if result.size > _SHOWN else "")
        first = outcome.changes.head(_SHOWN).select("key", "field", "before", "after").rows()
        cells_ = [
            [_record(result, k), f, look.shorten(b, 30), "->", Text(look.shorten(a, 30), style="bold")]
            for k, f, b, a in first
        ]
        for records, before, after in ((outcome.additions, "-", "added"), (outcome.removals, "as lent", "removed")):
            keys = records[KEY].head(_SHOWN)
            cells_ += [
                [_record(result, k or "(new)"), "(record)", before, "->", Text(after, style="bold")] for k in keys
            ]
        look.columns(cells_, heads=["key", "field", "before", "", "after"], fold=(0, 2, 4))
    if result.conflicts:
        look.say()
        look.heading("conflicts")
        look.columns(
            [
                [
                    shown_text(c.key),
                    c.field,
                    look.shorten(c.before, 20),
                    look.shorten(c.after, 20),
                    look.shorten(c.now, 20),
                    c.by,
                ]
                for c in result.conflicts
            ],
            heads=["key", "field", "lent as", "came back as", "is now", "by"],
            fold=(2, 3, 4, 5),
        )
    _show_notes(result)
    look.groups([group for group in result.groups if group.code not in ("loan.undone", "loan.question")])
    look.say()
    if result.blocked is not None:
        look.say(f"Nothing can be accepted: {result.blocked}.", style="bold")
    elif result.review is not None:
        review = result.review
        look.heading(f"review {review.id}", f"{look.plural(review.rows, 'row')} to accept or refuse")
        look.columns([["workbook", review.workbook]])
        look.say(f"  When it is decided: mudanza receive {review.workbook} --accept", style="dim")
    elif result.files:
        look.heading("files")
        look.columns([[f.path, look.size(f.size)] for f in result.files], right=(1,))
        if result.held:
            held = look.plural(result.held, "row")
            look.say(f"  The loan stays out for {held} held back: correct them in the workbook, and receive it again.")
        if result.conflicts:
            conflicts = look.plural(len(result.conflicts), "conflict")
            look.say(f"  The loan stays out for {conflicts}: settle them in a review (--review), or with --prefer.")
        if result.waiting:
            look.say(f"  The loan stays out for {look.count(result.waiting)} that nobody has decided yet.")
    elif accept:
        look.say("Accepted: there was nothing to write.")
    elif not (result.size or result.held or result.told or result.conflicts):
        look.say("Nothing was edited in it; --accept notes that it is back.", style="dim")
    else:
        look.say("Nothing is written yet; --accept writes the import files.", style="dim")


def _show_spoilage(result: LoanReturn) -> None:
    """In which ways cells differ that nobody edited, or perhaps somebody."""
    look.say()
    look.heading("not edits", "cells that differ from what was lent only in one way")
    rows: list[list[str | Text]] = []
    for one in result.told:
        example = f"{look.shorten(one.before or '(blank)', 24)} -> {look.shorten(one.after or '(blank)', 24)}"
        made = Text("ask", style="bold") if one.settled == "question" else Text("put right", style="dim")
        rows.append([one.field, f"{look.count(one.cells)} of {look.count(one.of)}", one.words, example, made])
    look.columns(rows, heads=["field", "cells", "what happened", "first", ""], right=(1,), fold=(2, 3))
    open_ones = [one.field for one in result.told if one.settled == "question"]
    if open_ones:
        name = open_ones[0] if " " not in open_ones[0] else f"'{open_ones[0]}'"
        look.say(f"  --undo {name} keeps what was lent, --as-edits {name} takes what came back.", style="dim")


def _show_notes(result: LoanReturn) -> None:
    """What people noted beside cells."""
    if result.opened.notes:
        look.say()
        look.heading("notes in the workbook")
        notes = [[by or "-", cell, look.shorten(note, 60)] for by, cell, note in result.opened.notes[:_SHOWN]]
        look.columns(notes, fold=(2,))
        if len(result.opened.notes) > _SHOWN:
            look.say(
                f"  … and {look.count(len(result.opened.notes) - _SHOWN)} more; --json has all of them.", style="dim"
            )
