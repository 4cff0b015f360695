"""`mudanza survey`."""

from __future__ import annotations

import dataclasses
from datetime import date
from functools import partial
from os.path import commonpath
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click
from rich.text import Text

from mudanza.cli import look
from mudanza.cli.options import day_option, here_or_none, json_option, pairs

if TYPE_CHECKING:
    from mudanza.core.findings import Finding
    from mudanza.core.move import Move
    from mudanza.core.sources.reading import ReadOptions, SheetFacts
    from mudanza.core.survey.columns import ColumnFacts
    from mudanza.core.survey.keys import KeyCandidate
    from mudanza.core.survey.references import Reference
    from mudanza.core.survey.surveying import Subject, SurveyResult


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
@click.option("--delimiter", metavar="C", help="What stands between values, if the guess is wrong.")
@click.option("--encoding", metavar="NAME", help="The file's encoding, if the guess is wrong.")
@click.option("--heading", metavar="N", help="The line of the heading; 0 if there is none.")
@click.option("--sheet", metavar="NAME", help="The sheet of a workbook, if the guess is wrong.")
@click.option(
    "--how", multiple=True, callback=pairs, metavar="KEY=VALUE", help="Any other setting that a plan's source can have."
)
@json_option
@click.pass_context
def command(
    ctx: click.Context,
    sources: tuple[str, ...],
    expect: int | None,
    newer_than: date | None,
    details: bool,
    chart_file: Path | None,
    delimiter: str | None,
    encoding: str | None,
    heading: str | None,
    sheet: str | None,
    how: dict[str, str],
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
    from mudanza.core.survey.references import Surveyed, references
    from mudanza.core.survey.subjects import subjects
    from mudanza.core.survey.surveying import find_values, survey_subject

    said = {"delimiter": delimiter, "encoding": encoding, "heading": heading, "sheet": sheet}
    options = _options({**{k: v for k, v in said.items() if v is not None}, **how})
    move = here_or_none()
    found = subjects(sources, options, move)
    if expect is not None and len(found) > 1:
        raise click.UsageError(
            f"--expect is about one source; here are {len(found)}: {', '.join(s.name for s in found)}."
        )
    results = []
    for subject in found:
        with look.progress(f"surveying {subject.name}", as_json) as progress:
            results.append(survey_subject(subject, progress, expect=expect, newer_than=newer_than))
    several = [
        Surveyed(r.name, r.columns, r.key_names, partial(find_values, s)) for s, r in zip(found, results, strict=True)
    ]
    refers = references(several) if len(several) > 1 else []
    about = _about_several(refers) + _about_copies(found, results, move)
    if chart_file is not None:
        _draw(results, chart_file)
    if as_json:
        look.document(_document(results, refers, about))
    else:
        _show_all(results, refers, about, details, chart_file)
    stopped = any(g.severity == "stop" for r in results for g in r.findings)
    ctx.exit(1 if stopped or any(r.damaged for r in results) else 0)


def _options(said: dict[str, str]) -> ReadOptions:
    from mudanza.core.sources.settings import said_options

    def fail(what: str, key: str, hint: str | None) -> Exception:
        return click.BadParameter(
            f"{what} {hint or ''}".strip(),
            param_hint=f"--{key}" if key in ("delimiter", "encoding", "heading", "sheet") else "--how",
        )

    return said_options(said, fail)


def _about_several(refers: list[Reference]) -> list[Finding]:
    from mudanza.core.findings import Finding

    return [
        Finding(
            "reference.nowhere", r.source, column=r.column, value=", ".join(r.examples) or None,
            rule=f"a {r.key} of {r.target}; {r.missing:,} values in {r.missing_rows:,} rows are not",
        )
        for r in refers
        if r.missing
    ]  # fmt: skip


def _about_copies(found: list[Subject], results: list[SurveyResult], move: Move | None) -> list[Finding]:
    """Files that are the same as others of this survey or of an earlier one, which the ledger remembers."""
    from mudanza.core.errors import LedgerError
    from mudanza.core.survey.subjects import digests, remembered
    from mudanza.core.survey.whole import Remembered, copies

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
            dataclasses.replace(move, wait=1).ledger.put_surveys(files)
        except LedgerError:
            look.err.print(Text("the survey is not remembered: the ledger is held by a run, or cannot be written."))
    return noticed


def _draw(results: list[SurveyResult], path: Path) -> None:
    from mudanza.core.files import Outputs
    from mudanza.core.survey.chart import chart

    with Outputs("survey") as outputs:
        outputs.create(path).write(chart(results, path.suffix.lower().removeprefix(".")))
        outputs.publish()


# as JSON


def _document(results: list[SurveyResult], refers: list[Reference], about: list[Finding]) -> dict[str, Any]:
    documents = [_one_document(r) for r in results]
    found = [f.as_dict() for f in about]
    if len(documents) == 1:
        return {**documents[0], "about": found}
    return {"sources": documents, "references": [dataclasses.asdict(r) for r in refers], "about": found}


def _one_document(result: SurveyResult) -> dict[str, Any]:
    facts = dataclasses.asdict(result.facts)
    return {
        "source": result.name,
        **facts,
        "path": str(result.facts.path),
        "rows": result.rows,
        "damaged": result.damaged,
        "files": [{"file": name, "rows": rows} for name, rows in result.files],
        "newest": result.newest,
        "keys": [dataclasses.asdict(k) for k in result.keys],
        "blank_columns": result.blank_columns,
        "columns": [
            {f.name: getattr(c, f.name) for f in dataclasses.fields(c) if f.name != "hashes"} for c in result.columns
        ],
        "findings": [
            {"code": g.code, "severity": str(g.severity), "count": g.count, "example": g.example.as_dict()}
            for g in result.findings
        ],
    }


# for people

_DELIMITERS = {"\t": "tab", ",": "comma", ";": "semicolon", "|": "bar", "^": "caret"}


def _show_all(
    results: list[SurveyResult], refers: list[Reference], about: list[Finding], details: bool, chart_file: Path | None
) -> None:
    from mudanza.core.findings import Tally, frame

    if len(results) == 1:
        _show(results[0], details, about)
    else:
        _overview(results, refers)
        if details:
            for result in results:
                look.say()
                _show(result, details, [])
        tally = Tally()
        tally.add(frame(about))
        # a line that belongs to no record type is noticed by each of them
        noticed = {(g.code, g.column, r.facts.path, g.example.line): g for r in reversed(results) for g in r.findings}
        groups = tally.groups() + ([] if details else list(noticed.values())[::-1])
        order = ["stop", "warn", "note"]
        notes = 0 if details else sum(g.severity == "note" for g in groups)
        shown = [g for g in groups if details or g.severity != "note"]
        look.groups(sorted(shown, key=lambda g: order.index(g.severity)), with_file=True)
        if notes:
            look.say(f"        and {look.plural(notes, 'note')}, told with each source", style="dim")
        if not details:
            _show_proposals(results)
            look.say()
            look.say("survey one source, or add --columns, to see what is in its columns.", style="dim")
    if chart_file is not None:
        look.say()
        look.say(f"chart  {chart_file}")


def _overview(results: list[SurveyResult], refers: list[Reference]) -> None:
    short, where = _short_names([r.name for r in results])
    look.heading(f"{len(results)} sources{where}")
    rows = []
    for r in results:
        damaged = f", {r.damaged} damaged" if r.damaged else ""
        key = " + ".join(r.keys[0].columns) if r.keys else "-"
        unsure = " ?" if r.keys and r.keys[0].repeated else ""
        rows.append(
            [short[r.name], r.facts.format, f"{look.count(r.rows)}{damaged}", str(len(r.columns)), f"{key}{unsure}"]
        )
    look.columns(rows, heads=["source", "format", "rows", "columns", "key, perhaps"], right=(2, 3), fold=(0, 1, 4))
    if refers:
        look.say()
        look.heading("references", "as far as values and headings show")
        look.columns(
            [[f"{short[r.source]}: {r.column}", "->", f"{short[r.target]}: {r.key}", _missing(r)] for r in refers],
            fold=(0, 2, 3),
        )


def _short_names(names: list[str]) -> tuple[dict[str, str], str]:
    """Names without the folder that all of them begin with, and that folder in words."""
    paths = [Path(name) for name in names]
    if len({p.is_absolute() for p in paths}) > 1 or not (folder := commonpath([p.parent for p in paths])):
        return dict(zip(names, names, strict=True)), ""
    return {name: str(Path(name).relative_to(folder)) for name in names}, f" in {folder}"


def _missing(reference: Reference) -> str:
    about = "" if reference.exact else "about "
    if not reference.missing:
        return "all found"
    return f"{about}{look.count(reference.missing)} of {look.plural(reference.values, 'value')} lead nowhere"


def _show(result: SurveyResult, details: bool, about: list[Finding]) -> None:
    from mudanza.core.findings import Tally, frame

    facts = result.facts
    size = f", {look.size(facts.size)}" if facts.size else ""
    look.heading(result.name, f"{facts.format}{size}")
    look.columns([[Text(a, style="dim"), b] for a, b in _facts(result)], fold=(1,))
    look.say()
    if details:
        for column in result.columns:
            _show_column(column, result.rows - result.damaged)
    else:
        _show_columns(result)
    tally = Tally()
    tally.add(frame(about))
    look.groups([*tally.groups(), *result.findings])
    _show_proposal(result)


def _facts(result: SurveyResult) -> list[tuple[str, str]]:
    facts = result.facts
    damaged = f", {result.damaged} of them damaged" if result.damaged else ""
    rows = [("rows", look.plural(result.rows, "row") + damaged)]
    if result.files:
        rows.append(("files", "; ".join(f"{name} {look.count(n)}" for name, n in result.files)))
    if facts.encoding:
        rows.append(("encoding", f"{facts.encoding} ({facts.encoding_because})"))
    if facts.delimiter:
        rows.append(("delimiter", f"{facts.delimiter!r} {_DELIMITERS.get(facts.delimiter, '')}".strip()))
    if facts.heading_line or facts.delimiter or facts.sheets:
        rows.append(("heading", f"{facts.unit} {facts.heading_line}" if facts.heading_line else "none"))
    if facts.sheets:
        rows.append(("sheets", "; ".join(_sheet(s) for s in facts.sheets)))
    rows += list(facts.notes)
    rows.append(("key", "; or ".join(_key(k) for k in result.keys) or "no columns are filled and distinct enough"))
    if result.blank_columns:
        rows.append(("blank", ", ".join(result.blank_columns)))
    if result.constant_columns and result.rows > 1:
        rows.append(
            ("constant", ", ".join(f"{c.name} = {look.shorten(c.samples[0], 24)}" for c in result.constant_columns))
        )
    if result.newest:
        rows.append(("newest day", f"{result.newest[0]}, in {result.newest[1]}"))
    return rows


def _key(key: KeyCandidate) -> str:
    name = " + ".join(key.columns)
    if not key.repeated:
        return f"{name}, perhaps: filled and distinct"
    examples = "; ".join(f'"{v}" in lines {", ".join(lines)}' for v, lines in key.examples[:3])
    return f"{name}, perhaps: {look.plural(key.repeated, 'value')} repeated ({examples})"


def _show_columns(result: SurveyResult) -> None:
    table = []
    rows = result.rows - result.damaged
    for c in result.columns:
        table.append([c.name, _share(c.filled, rows), _distinct(c), _length(c), _kind(c), _values(c)])
    look.columns(
        table,
        heads=["column", "filled", "distinct", "length", "kind", "values"],
        right=(1, 2, 3),
        fold=(0, 4, 5),
    )


def _share(part: int, whole: int) -> str:
    if not part or not whole:
        return "-"
    share = f"{100 * part / whole:.0f}%"
    return ">99%" if share == "100%" and part < whole else "<1%" if share == "0%" else share


def _distinct(column: ColumnFacts) -> str:
    return ("" if column.distinct_exact else "~") + look.count(column.distinct)


def _length(c: ColumnFacts) -> str:
    return "-" if c.shortest is None else str(c.shortest) if c.shortest == c.longest else f"{c.shortest}-{c.longest}"


def _show_column(column: ColumnFacts, rows: int) -> None:
    """Everything about one column."""
    look.say(column.name, style="bold")
    facts = [
        (
            "filled",
            f"{look.count(column.filled)} of {look.count(rows)} ({_share(column.filled, rows)}), {_distinct(column)} distinct",
        )
    ]
    if column.filled:
        facts += [("kind", _kind(column)), ("length", _length(column))]
        facts.append(("frequent" if column.frequent else "values", _counts(column.frequent) or _values(column)))
    if column.least is not None and column.least != column.most:
        facts.append(("from, to", f"{look.shorten(column.least, 40)[1:-1]}, {look.shorten(column.most, 40)[1:-1]}"))
    if column.total is not None:
        facts.append(("sum", column.total))
    if column.shapes:
        facts.append(("patterns", _counts(column.shapes)))
    if column.odd:
        facts.append(("odd", ", ".join(dict.fromkeys(look.shorten(v, 30)[1:-1] for v in column.odd))))
    if column.placeholders:
        facts.append(("pretend", _counts(column.placeholders[:10])))
    if column.leading_zeros:
        facts.append(("zeros", f"{look.count(column.leading_zeros)} begin with 0"))
    if column.zeros_lost:
        facts.append(("zeros", "none, and lengths look as if they had been lost"))
    if column.date_orders and column.date_orders[0] + column.date_orders[1]:
        day, month, either = column.date_orders
        facts.append(
            (
                "dates",
                f"{look.count(day)} have the day first, {look.count(month)} the month, {look.count(either)} may have either",
            )
        )
    if column.several:
        facts.append(("several", f"{look.count(column.several[1])} cells with {column.several[0]!r}"))
    if column.spaces:
        facts.append(("spaces", f"at an end of {look.count(column.spaces)}"))
    if column.control:
        facts.append(
            ("control", f"characters in {look.count(column.control[0])}: {look.shorten(column.control[1], 40)}")
        )
    look.columns([[Text(a, style="dim"), b] for a, b in facts], fold=(1,))


def _counts(counts: list[tuple[str, int]]) -> str:
    return ", ".join(f"{look.shorten(value, 30)[1:-1]} {look.count(number)}" for value, number in counts)


def _show_proposals(results: list[SurveyResult]) -> None:
    """How those sources are read that are more than a plain table."""
    special = [r for r in results if r.facts.proposal]
    if special:
        look.say()
        look.heading("for the plan", "lines below [[source]] that read")
    for result in special:
        look.say(f"  {result.name}")
        for line in result.facts.proposal:
            look.say(f"    {line}")


def _show_proposal(result: SurveyResult) -> None:
    lines = list(result.facts.proposal)
    blanks = list(dict.fromkeys(v for c in result.columns for v, _ in c.placeholders))[:12]
    if blanks:
        lines.append("blanks = [" + ", ".join(look.toml_text(v) for v in blanks) + "]")
    if lines:
        look.say()
        look.heading("for the plan", "what was found out, as lines below [[source]]; take what is right")
        for line in lines:
            look.say(f"  {line}")


def _sheet(sheet: SheetFacts) -> str:
    marks = [look.plural(sheet.rows, "row")]
    if not sheet.visible:
        marks.append("hidden")
    if sheet.chosen:
        marks.append("has the records")
    return f"{sheet.name} ({', '.join(marks)})"


def _kind(column: ColumnFacts) -> str:
    if column.kind_share == 1:
        return str(column.kind)
    share = f"{100 * column.kind_share:.0f}%"
    return f"{column.kind}, {share if share != '100%' else '>99%'}"


def _values(column: ColumnFacts) -> str:
    shown = [v for v, _ in column.frequent[:3]] if column.distinct <= 10 else column.samples
    words = ", ".join(look.shorten(v, 22)[1:-1] for v in shown or column.samples)
    if column.odd:
        words += f" (not: {', '.join(dict.fromkeys(look.shorten(v, 22)[1:-1] for v in column.odd))})"
    if column.spaces:
        words += f" ({column.spaces} with spaces at an end)"
    return words
