"""`mudanza records`."""

from __future__ import annotations

import csv
from dataclasses import replace
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from mudanza.cli import completing, look
from mudanza.cli.options import (
    answered,
    here_or_none,
    json_option,
    may_overwrite,
    over_option,
    overwrite_option,
    run_options,
)
from mudanza.cli.source_options import source_options
from mudanza.core.work.shapes import answer_shape, written_answer_shape

if TYPE_CHECKING:
    from mudanza.core.plans.move import Move
    from mudanza.core.sources.reader import ReadOptions
    from mudanza.core.work.records.answering import Chooser, RecordAnswer
    from mudanza.core.work.records.question import RecordQuestion
    from mudanza.core.work.records.writing import WrittenAnswer

_ROWS = 20
#: so many characters of a value tell it from others
_TELLING = 20


@click.command("records")
@click.argument(
    "subject", metavar="LIST|LIST/SOURCE|FILE|DATABASE:TABLE", required=False, shell_complete=completing.subjects
)
@click.option("--columns", metavar="A,B", help="The columns to show (all).", shell_complete=completing.columns)
@click.option("--where", metavar="CONDITION", help="Which rows: a condition on {Heading}, or of a list on {@field}.")
@click.option(
    "--key",
    metavar="KEY",
    help="The record with that key; of what has no layout, where it stands in any column.",
    shell_complete=completing.keys,
)
@click.option(
    "--sort",
    metavar="A,-B",
    help="In the order of a column; with - in front from the last to the first.",
    shell_complete=completing.columns,
)
@click.option("-n", "most", type=click.IntRange(0), metavar="N", help=f"At most so many ({_ROWS}; with --to, all).")
@click.option("--distinct", is_flag=True, help="Rows that are alike in these columns once.")
@click.option(
    "--count-by", metavar="A,B", help="How many records there are of each value.", shell_complete=completing.columns
)
@click.option(
    "--to",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="Write them: .csv .tsv .xlsx .ods .json .ndjson .xml .txt .parquet.",
)
@overwrite_option
@over_option
@click.option("--save", metavar="NAME", help="Keep the question in questions/NAME.toml.")
@click.option(
    "--question",
    metavar="NAME",
    help="Ask what was kept under a name; what is said beside it goes before.",
    shell_complete=completing.questions,
)
@source_options
@run_options
@json_option
@click.pass_context
def command(
    ctx: click.Context,
    subject: str | None,
    columns: str | None,
    where: str | None,
    key: str | None,
    sort: str | None,
    most: int | None,
    distinct: bool,
    count_by: str | None,
    to: Path | None,
    save: str | None,
    question: str | None,
    options: ReadOptions,
    as_of: date | None,
    parameters: dict[str, str],
    as_json: bool,
) -> None:
    """Look at chosen records and columns of anything: a built list, a source of a list, a file, a table of a database.

    One record is shown with all its fields below each other. What is written with --to is never taken for an export of the old program.

    \b
    Examples:
      mudanza records owners --where '{@town} = "Braga"' --columns full_name,phone
      mudanza records owners --key OW-000007
      mudanza records owners/north --count-by Status
      mudanza records incoming/north/clients.csv --where '{Surname} starts with "S"' --sort Surname
      mudanza records clinic:visits --to visits.xlsx
      mudanza records owners --where '{@town} = :town' --save of-town
      mudanza records --question of-town --set town=Braga
    """
    from mudanza.core.language.parameters import Parameters
    from mudanza.core.work.records.answering import answer, ready
    from mudanza.core.work.records.subject import view_of
    from mudanza.core.work.records.writing import write_answer

    move = here_or_none()
    said = {
        "columns": _names(columns), "where": where, "key": key, "sort": _names(sort), "most": most, "distinct": distinct, "count_by": _names(count_by),
    }  # fmt: skip
    asking = _question(subject, question, said, move)
    asked = view_of(asking.subject, options, move)

    def chooser(given: dict[str, str]) -> Chooser:
        return ready(asking, asked, as_of or date.today(), Parameters(given, move.parameters if move else {}))

    if save is not None:
        _keep(asking, save, move)
    made = answered(chooser, parameters) if move is not None else chooser(parameters)
    with look.progress(as_json) as tell:
        if to is not None:
            written = write_answer(made, to, move, overwrite=may_overwrite(), tell=tell)
        else:
            most = _ROWS if asking.most is None else asking.most
            found = answer(replace(made, question=replace(asking, most=most)), tell)
    if to is not None:
        _show_written(written, as_json)
        return
    if as_json:
        look.document(answer_shape(found))
    else:
        _show(found, asking)
    ctx.exit(1 if found.damaged else 0)


def _names(text: str | None) -> tuple[str, ...]:
    """Names with commas between them; one that has a comma itself stands in double quotes."""
    given = next(csv.reader([text or ""], skipinitialspace=True), [])
    return tuple(one.strip() for one in given if one.strip())


def _question(subject: str | None, kept: str | None, said: dict[str, Any], move: Move | None) -> RecordQuestion:
    from mudanza.core.work.records.question import RecordQuestion, load_question

    if kept is not None:
        if move is None:
            raise click.UsageError("Questions are kept in a move; here is none.")
        known = load_question(move, kept)
        return known.over({"subject": subject, **said})
    if subject is None:
        raise click.UsageError("Say of what: a list, LIST/SOURCE, a file, DATABASE:TABLE, or --question NAME.")
    return RecordQuestion(subject).over(said)


def _keep(question: RecordQuestion, name: str, move: Move | None) -> None:
    from mudanza.core.work.records.question import keep_question

    if move is None:
        raise click.UsageError("Questions are kept in a move; here is none.")
    path = keep_question(move, name, question)
    click.echo(f"kept: {move.shown(path)}; ask again with mudanza records --question {name}", err=True)


def _show_written(written: WrittenAnswer, as_json: bool) -> None:
    if as_json:
        look.document(written_answer_shape(written))
        return
    look.say(
        f"{written.path}  {written.form}, {look.plural(written.rows, 'record')}, {look.plural(written.columns, 'column')}"
    )


def _show(found: RecordAnswer, asking: RecordQuestion) -> None:
    shown, total = found.rows.height, found.found
    number = (
        look.count(total)
        if total == found.looked_at or asking.distinct
        else f"{look.count(total)} of {look.count(found.looked_at)}"
    )
    what = "different" if asking.distinct else "record" if found.looked_at == 1 else "records"
    cut = f"; the first {look.count(shown)}" if shown < total and not asking.count_by else ""
    look.heading(found.shown, f"{number} {what}{cut}")
    rows = found.rows.select(found.headings)
    if asking.count_by:
        cells = [
            [_cell(one) if n < len(row) - 1 else look.count(int(one)) for n, one in enumerate(row)]
            for row in rows.iter_rows()
        ]
        look.columns(cells, heads=[*found.headings], right=(len(found.headings) - 1,))
    elif shown == 1 and rows.width > 3:
        look.columns([[name, _cell(value)] for name, value in zip(found.headings, rows.row(0), strict=True)], fold=(1,))
        look.say(f"  line {found.rows['#line'][0]}", style="dim")
    elif shown:
        cells = [[_cell(one) for one in row] for row in rows.iter_rows()]
        fit = _that_fit([*found.headings], cells)
        right = [at for at, name in enumerate(found.headings[:fit]) if name in found.numbers]
        look.columns([row[:fit] for row in cells], heads=[*found.headings[:fit]], right=right)
        if found.headings[fit:]:
            look.say(
                f"  Not shown: {', '.join(found.headings[fit:])}; --columns chooses, --key shows all of one.",
                style="dim",
            )
    if asking.count_by and found.rows.height and total > sum(found.rows[found.headings[-1]]):
        look.say("  Further values have fewer; -n shows more of them.", style="dim")
    elif cut:
        look.say(f"  -n {total} shows all, --to FILE writes them.", style="dim")
    for column, values in found.near.items():
        look.say(f"  {column} has no such value; it has {', '.join(map(look.shorten, values))}.")
    if found.damaged:
        look.say(f"  {look.plural(found.damaged, 'damaged row')} could not be looked at; mudanza survey tells where.")


def _that_fit(headings: list[str], rows: list[list[str]]) -> int:
    """How many columns have room beside each other, none of them cut to less than what tells values apart."""
    room = look.out.width - 2
    for count, heading in enumerate(headings):
        longest = max([len(heading), *(len(row[count]) for row in rows)])
        room -= min(longest, _TELLING) + 2
        if room < 0:
            return max(count, 1)
    return len(headings)


def _cell(value: str | None) -> str:
    return "" if value is None else value.replace("\r", "").replace("\n", "⏎")
