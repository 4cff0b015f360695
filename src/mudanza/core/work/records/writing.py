"""The answer to a question as a file, in any form that files are written in."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterator
from dataclasses import dataclass, replace
from pathlib import Path

import polars as pl

from mudanza.core.documents.errors import MoveError, OutsideError, Place, SourceError
from mudanza.core.findings.problem import Problem
from mudanza.core.layouts import form as forms
from mudanza.core.layouts.dialect import Dialect
from mudanza.core.layouts.form import FieldForm, Form, misfit
from mudanza.core.layouts.layout import Field, Layout
from mudanza.core.layouts.types import NumberType
from mudanza.core.plans.move import Move
from mudanza.core.sinks.formats import RecordFile, sink_of
from mudanza.core.state.files import Outputs, keep_apart
from mudanza.core.state.ledger import ledger_of, sweep_behind
from mudanza.core.values.digest import digest_of
from mudanza.core.values.row_columns import LINE
from mudanza.core.work.progress import Tell, quietly
from mudanza.core.work.records.answering import COUNT, Chooser, answer
from mudanza.core.work.records.own_files import COMMAND, run_that_wrote

#: by how names of files end, the form that they are written in
ENDINGS = {
    ".csv": forms.CSV, ".tsv": forms.TSV, ".xlsx": forms.XLSX, ".ods": forms.ODS, ".json": forms.JSON, ".ndjson": forms.NDJSON, ".jsonl": forms.NDJSON,
    ".xml": forms.XML, ".txt": forms.FIXED, ".parquet": forms.PARQUET,
}  # fmt: skip
_INCOMING = "incoming"


@dataclass(frozen=True)
class WrittenAnswer:
    """A file with records: where, in what form, how many, and by what run of the move that is known."""

    path: Path
    form: str
    rows: int
    columns: int
    run: int | None


def write_answer(
    chooser: Chooser, to: Path, move: Move | None, *, over: bool = False, tell: Tell = quietly
) -> WrittenAnswer:
    """Write what meets a question. In a move the ledger remembers the file, so that it is never taken for an export.

    Raises MoveError where it would stand among the exports, SourceError where it would take the place of a file that Mudanza did not write (unless it is to be written `over` it), or where the
    form cannot hold a value; then nothing is written.
    """
    known = forms_of(to)
    _may_stand(to, move, over)
    keep_apart([to], [path for path in chooser.viewed.paths if path.is_file()])
    layout = _layout(chooser, to, known)
    if move is None:
        with Outputs(COMMAND) as outputs:
            rows = _write(chooser, layout, to, outputs, tell)
            outputs.publish()
        return WrittenAnswer(to, layout.form.words, rows, len(layout.fields), None)
    ledger = ledger_of(move)
    ledger.settle()
    run = ledger.begin(COMMAND, chooser.viewed.shown)
    with ledger.held(run), Outputs(str(run)) as outputs:
        sweep_behind(move, ledger)
        rows = _write(chooser, layout, to, outputs, tell)
        read = [digest_of(path, move.shown(path)).as_dict() for path in chooser.viewed.paths if path.is_file()]
        written = [file.digest(move.shown(file.final)).as_dict() for file in outputs.files]
        ledger.commit(run, outputs, {"written": rows}, read, written)
    return WrittenAnswer(to, layout.form.words, rows, len(layout.fields), run)


def forms_of(to: Path) -> Form:
    """The form of a file, by the ending of its name. Raises MoveError for an ending that is none."""
    format = ENDINGS.get(to.suffix.lower())
    if format is None:
        raise MoveError(
            f"a file that ends in {to.suffix or 'nothing'!r} is in no form that can be written.",
            place=Place(str(to)),
            hint=f"Endings: {', '.join(ENDINGS)}.",
        )
    path = ("records", "record") if format == forms.XML else ()
    return Form(format=format, records=path, formulas=forms.KEPT, ending=to.suffix)


def _may_stand(to: Path, move: Move | None, over: bool) -> None:
    where = to.resolve()
    if move is not None and where.is_relative_to((move.folder / _INCOMING).resolve()):
        raise MoveError(
            f"{_INCOMING}/ has what old programs exported, and nothing else.",
            place=Place(str(to)),
            hint="Write it elsewhere, as to out/ or the folder itself.",
        )
    if to.is_dir():
        raise OutsideError("this is a folder.", place=Place(str(to)), hint="Name a file in it.")
    if to.exists() and not over and (move is None or run_that_wrote(move, to) is None):
        raise SourceError(
            "the file is there already, and Mudanza did not write it as it stands.",
            place=Place(str(to)),
            hint="Choose another name, or add --over to write over it.",
        )


def _write(chooser: Chooser, layout: Layout, to: Path, outputs: Outputs, tell: Tell) -> int:
    sink = sink_of(layout)
    titles = [one.title for one in layout.fields]
    asked = [problem for one in layout.fields for problem in sink.problems(one, layout, pl.col(one.title))]
    problems = [one for one in asked if one.stops]
    file = RecordFile(outputs.create(to), sink.writer(layout, titles))
    total = 0
    for rows in _rows(chooser, tell):
        _must_hold(rows, problems, layout, chooser.viewed.shown)
        file.write(rows)
        total += rows.height
    file.close()
    return total


def _rows(chooser: Chooser, tell: Tell) -> Iterator[pl.DataFrame]:
    """The rows to write, with `#line` where they have one; held in memory only where all must be known before the first."""
    question = chooser.question
    if question.sort or question.distinct or question.count_by or question.most is not None:
        rows = answer(chooser, tell).rows
        yield (
            rows.with_columns(pl.col(COUNT).cast(pl.String), pl.lit(None, dtype=pl.Int64).alias(LINE))
            if question.count_by
            else rows
        )
        return
    for rows, _, _ in chooser.batches(tell):
        yield rows.select(*chooser.columns, LINE)


def _must_hold(rows: pl.DataFrame, problems: list[Problem], layout: Layout, shown: str) -> None:
    for problem in problems:
        bad = rows.filter(problem.exactly.fill_null(False)).head(1)
        if bad.height:
            raise SourceError(
                f"{layout.form.words} cannot hold a value of {problem.field!r}: asked is {problem.rule}.",
                place=Place(shown, bad[LINE][0]),
                hint="Leave the column out (--columns), or write another form. Nothing was written.",
            )


def _layout(chooser: Chooser, to: Path, form: Form) -> Layout:
    """The layout of the file: that of the list, with the columns that are asked for, else one of texts."""
    given, counted = chooser.viewed.layout, bool(chooser.question.count_by)
    fields = {one.title: one for one in given.fields} if given is not None else {}
    # a heading that can be a name is kept for its own field
    taken = {*chooser.columns}
    made = [
        replace(fields[one], name=_free(fields[one].name, one, taken))
        if one in fields
        else Field(_free(one, one, taken), one)
        for one in chooser.columns
    ]
    if counted:
        made.append(Field(_free(COUNT, COUNT, taken), COUNT, NumberType("integer")))
    dialect = Dialect(
        delimiter="\t" if form.format == forms.TSV else ",", bom=form.format == forms.CSV, line_ends=("\n",)
    )
    if given is not None and form.format == forms.CSV:
        dialect = given.dialect
    layout = Layout(to, to.stem, tuple(made), form=form, dialect=dialect)
    if misfit(form, [layout.way_to(one) for one in made], []) is not None and form.format in forms.NESTED:
        layout = replace(layout, form=replace(form, nested=False))
    return _with_widths(chooser, layout) if form.format == forms.FIXED else layout


def _with_widths(chooser: Chooser, layout: Layout) -> Layout:
    """Fields as wide as their longest value; it takes a look at all of them."""
    widths = {one.title: len(one.title) for one in layout.fields}
    for rows in _rows(chooser, quietly):
        longest = rows.select(pl.col(title).str.len_chars().max() for title in widths).row(0)
        widths = {title: max(width, found or 0) for (title, width), found in zip(widths.items(), longest, strict=True)}
    # spaces between them keep them apart, for the eye and for programs that look for columns
    fields = tuple(replace(one, form=FieldForm(width=widths[one.title] + 2)) for one in layout.fields)
    return replace(layout, fields=fields, dialect=replace(layout.dialect, bom=False))


def _free(wanted: str, heading: str, taken: set[str]) -> str:
    """A name like the one that is wanted for the field of a heading, which no other field has, of letters that all programs take."""
    plain = unicodedata.normalize("NFKD", wanted).encode("ascii", "ignore").decode()
    base = re.sub(r"[^A-Za-z0-9_]+", "_", plain).strip("_") or "column"
    base = base if base[0].isalpha() else f"c_{base}"
    name, number = base, 1
    while name in taken and name != heading:
        number += 1
        name = f"{base}_{number}"
    taken.add(name)
    return name
