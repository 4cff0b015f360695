"""`mudanza survey`."""

from __future__ import annotations

import dataclasses
from datetime import date
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

import click

from mudanza.cli import look
from mudanza.cli.options import day_option, here_or_none, json_option, named_outputs, overwrite_option
from mudanza.cli.source_options import source_options
from mudanza.cli.survey_view import show_all
from mudanza.core.state.evidence import ledger_of
from mudanza.core.state.surveys import note_surveys
from mudanza.core.work.shapes import survey_shape

if TYPE_CHECKING:
    from mudanza.core.findings.finding import Finding
    from mudanza.core.plans.move import Move
    from mudanza.core.sources.reader import ReadOptions
    from mudanza.core.work.survey.references import LikelyReference
    from mudanza.core.work.survey.surveying import Subject, SurveyResult


@click.command("survey")
@click.argument("sources", nargs=-1, required=True, metavar="SOURCE...")
@click.option("--expect", type=click.IntRange(0), metavar="N", help="The number of records that the old program shows.")
@click.option(
    "--newer-than", callback=day_option, metavar="DAY", help="The day since which the export should have been made."
)
@click.option("--columns", "details", is_flag=True, help="Everything about each column.")
@click.option(
    "--chart",
    "chart_file",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="Draw what is filled (.png, .svg, .pdf).",
)
@overwrite_option
@source_options
@json_option
@click.pass_context
def command(
    ctx: click.Context,
    sources: tuple[str, ...],
    expect: int | None,
    newer_than: date | None,
    details: bool,
    chart_file: Path | None,
    options: ReadOptions,
    as_json: bool,
) -> None:
    """Look at old exports before anything else: is it whole, what is in each column?

    SOURCE is a file (delimited or fixed-width text, a workbook, a printed report, tagged records, JSON, XML, vCard, SQLite; also packed
    as .gz, .zst or .zip), several as one by a pattern in quotes, or in a move LIST, LIST/SOURCE or DATABASE:TABLE.
    Of several sources it is told which refers to which.

    \b
    Examples:
      mudanza survey incoming/north/clients.csv --expect 84
      mudanza survey incoming/*/* --chart filled.png
      mudanza survey 'incoming/2024-*.csv' --columns
      mudanza survey odd.txt --delimiter '^' --encoding cp850
      mudanza survey prices.txt --how type=ITEM
      mudanza survey clinic:visits --json
    """
    from mudanza.core.documents.errors import SourceError
    from mudanza.core.work.records.own_files import no_own_files
    from mudanza.core.work.survey.references import Surveyed, references
    from mudanza.core.work.survey.subjects import subjects, unreadable
    from mudanza.core.work.survey.surveying import find_values, survey_subject

    move = here_or_none()
    named = subjects(sources, options, move)
    found, missing = named.subjects, named.unreadable
    if expect is not None and len(found) > 1:
        raise click.UsageError(
            f"--expect is about one source; here are {len(found)}: {', '.join(s.name for s in found)}."
        )
    results, read = [], []
    for subject in found:
        try:
            if move is not None:
                no_own_files(move, subject.paths)
            with look.progress(as_json) as tell:
                results.append(survey_subject(subject, tell, expect=expect, newer_than=newer_than))
            read.append(subject)
        except SourceError as error:
            if len(found) == 1 and not missing:
                raise
            missing.append(unreadable(subject.name, error))
    found = read
    several = [
        Surveyed(r.name, r.columns, r.key_names, partial(find_values, s)) for s, r in zip(found, results, strict=True)
    ]
    refers = references(several) if len(several) > 1 else []
    about = missing + _about_several(refers) + _about_copies(found, results, move)
    if chart_file is not None:
        _draw(results, chart_file, [path for subject in found for path in subject.paths])
    if as_json:
        look.document(survey_shape(results, refers, about))
    else:
        show_all(results, refers, about, details, chart_file)
    stopped = bool(missing) or any(g.severity == "stop" for r in results for g in r.findings)
    ctx.exit(1 if stopped or any(r.damaged for r in results) else 0)


def _about_several(refers: list[LikelyReference]) -> list[Finding]:
    from mudanza.core.documents.errors import counted
    from mudanza.core.findings.finding import Finding

    return [
        Finding(
            "reference.nowhere",
            r.source,
            column=r.column,
            value=", ".join(r.examples) or None,
            rule=f"{r.key} of {r.target}; not there: {counted(r.missing, 'value')} in {counted(r.missing_rows, 'row')}",
        )
        for r in refers
        if r.missing
    ]


def _about_copies(found: list[Subject], results: list[SurveyResult], move: Move | None) -> list[Finding]:
    """Files that are the same as others of this survey or of an earlier one, which the ledger remembers."""
    from mudanza.core.documents.errors import LedgerError
    from mudanza.core.work.survey.subjects import digests, remembered
    from mudanza.core.work.survey.whole import Remembered, copies

    if move is None and len(found) == 1:
        return []
    files = digests([(s, r.rows) for s, r in zip(found, results, strict=True)])
    if move is not None:
        files = [(sha, move.shown(Path(path).resolve()), rows) for sha, path, rows in files]
    try:
        before = remembered(move) if move is not None else []
    except LedgerError:
        before = []
    noticed: list[Finding] = []
    for sha, path, rows in files:
        noticed += copies(path, sha, before)
        before.append(Remembered(sha, path, rows, date.today().isoformat()))
    if move is not None:
        try:
            note_surveys(ledger_of(dataclasses.replace(move, wait=1)), files)
        except LedgerError:
            look.err.print("the survey is not remembered: the ledger is held by a run, or cannot be written.")
    return noticed


def _draw(results: list[SurveyResult], path: Path, inputs: list[Path]) -> None:
    from mudanza.core.work.survey.chart import chart

    with named_outputs("survey", inputs) as outputs:
        outputs.create_named(path).write(chart(results, path.suffix.lower().removeprefix(".")))
        outputs.publish()
