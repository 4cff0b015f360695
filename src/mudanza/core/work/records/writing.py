"""The answer to a question as a file, in any form that files are written in."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterator
from dataclasses import dataclass, replace
from pathlib import Path

import polars as pl

from mudanza.core.disk.files import Outputs
from mudanza.core.documents.errors import MoveError, Place, SourceError
from mudanza.core.findings.problem import Problem
from mudanza.core.layouts import form as forms
from mudanza.core.layouts.dialect import Dialect
from mudanza.core.layouts.form import FieldForm, Form, misfit
from mudanza.core.layouts.layout import Field, Layout
from mudanza.core.layouts.types import NumberType
from mudanza.core.plans.move import Move
from mudanza.core.sinks.formats import RecordFile, sink_of
from mudanza.core.state.evidence import ledger_of
from mudanza.core.state.running import running, settle
from mudanza.core.values.digest import digest_of
from mudanza.core.values.row_columns import LINE
from mudanza.core.work.progress import Tell, quietly
from mudanza.core.work.records.answering import COUNT, Chooser, answer
from mudanza.core.work.records.own_files import COMMAND

#: by how names of files end, the form that they are written in
ENDINGS = {
    ".csv": forms.CSV, ".tsv": forms.TSV, ".xlsx": forms.XLSX, ".ods": forms.ODS, ".json": forms.JSON, ".ndjson": forms.NDJSON, ".jsonl": forms.NDJSON,
    ".xml": forms.XML, ".txt": forms.FIXED, ".parquet": forms.PARQUET,
}  # fmt: skip


@dataclass(frozen=True)
class WrittenAnswer:
    """A file with records: where, in what form, how many, and by what run of the move that is known."""

    path: Path
    form: str
    rows: int
    columns: int
    run: int | None


def write_answer(
    chooser: Chooser, to: Path, move: Move | None, *, overwrite: bool = False, tell: Tell = quietly
) -> WrittenAnswer:
    """Write what meets a question. In a move the ledger remembers the file, so that it is never taken for an export.

    Raises MoveError where it may not be written there (`named_outputs`), SourceError where the form cannot hold a
    value; then nothing is written.
    """
    layout = _layout(chooser, to, forms_of(to))
    inputs = [path for path in chooser.viewed.paths if path.is_file()]
    if move is None:
        with Outputs(command=COMMAND, overwrite=overwrite, protected=inputs) as outputs:
            rows = _write(chooser, layout, to, outputs, tell)
            outputs.publish()
        return WrittenAnswer(to, layout.form.words, rows, len(layout.fields), None)
    ledger = ledger_of(move)
    settle(ledger)
    with running(ledger, COMMAND, chooser.viewed.shown, to=[to], inputs=inputs) as run:
        rows = _write(chooser, layout, to, run.outputs, tell)
        read = [digest_of(path, move.shown(path)).as_dict() for path in inputs]
        written = [file.digest(move.shown(file.final)).as_dict() for file in run.outputs.files]
        run.commit({"written": rows}, read, written)
    return WrittenAnswer(to, layout.form.words, rows, len(layout.fields), run.id)


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
    return Form(format=format, records=path, formulas=forms.QUOTED, ending=to.suffix)


def _write(chooser: Chooser, layout: Layout, to: Path, outputs: Outputs, tell: Tell) -> int:
    sink = sink_of(layout)
    titles = [one.title for one in layout.fields]
    asked = [problem for one in layout.fields for problem in sink.problems(one, layout, pl.col(one.title))]
    problems = [one for one in asked if one.stops]
    file = RecordFile(outputs.create_named(to), sink.writer(layout, titles))
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
                hint="Leave the column out (--columns), or write another form.",
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
