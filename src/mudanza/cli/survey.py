"""`mudanza survey`."""

from __future__ import annotations

import dataclasses
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click
from rich.text import Text

from mudanza.cli import look
from mudanza.cli.options import json_option

if TYPE_CHECKING:
    from mudanza.core.sources.reading import SheetFacts
    from mudanza.core.survey import ColumnFacts, SurveyResult


@click.command("survey")
@click.argument("files", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option("--delimiter", metavar="C", help="The character between values, if the guess is wrong.")
@click.option("--encoding", metavar="NAME", help="The file's encoding, if the guess is wrong.")
@click.option("--heading", type=click.IntRange(0), metavar="N", help="The line of the heading; 0 if there is none.")
@click.option("--sheet", metavar="NAME", help="The sheet of a workbook, if the guess is wrong.")
@json_option
@click.pass_context
def command(
    ctx: click.Context,
    files: tuple[Path, ...],
    delimiter: str | None,
    encoding: str | None,
    heading: int | None,
    sheet: str | None,
    as_json: bool,
) -> None:
    """Look at old exports before anything else: CSV (any delimiter) and XLSX.

    Works anywhere, also outside a move.

    \b
    Examples:
      mudanza survey incoming/north/clients.csv
      mudanza survey incoming/*.xlsx --json
      mudanza survey odd.txt --delimiter '^' --encoding cp850
    """
    from mudanza.core.sources.reading import ReadOptions
    from mudanza.core.survey import survey

    if delimiter is not None:
        delimiter = {"\\t": "\t", "tab": "\t"}.get(delimiter, delimiter)
        if len(delimiter) != 1:
            raise click.BadParameter("it must be one character (tab for a tab).", param_hint="--delimiter")
    options = ReadOptions(encoding=encoding, delimiter=delimiter, heading=heading, sheet=sheet)
    results = []
    for number, file in enumerate(files):
        with look.progress(f"surveying {file.name}", as_json) as progress:
            result = survey(file, options, progress)
        results.append(result)
        if not as_json:
            if number:
                look.say()
            _show(result)
    if as_json:
        look.document([_document(r) for r in results] if len(results) > 1 else _document(results[0]))
    ctx.exit(1 if any(r.damaged for r in results) else 0)


def _document(result: SurveyResult) -> dict[str, Any]:
    facts = dataclasses.asdict(result.facts)
    return {
        **facts,
        "path": str(result.facts.path),
        "rows": result.rows,
        "damaged": result.damaged,
        "key": dataclasses.asdict(result.key) if result.key else None,
        "blank_columns": result.blank_columns,
        "columns": [dataclasses.asdict(c) for c in result.columns],
        "findings": [
            {"code": g.code, "severity": str(g.severity), "count": g.count, "example": g.example.as_dict()}
            for g in result.findings
        ],
    }


_DELIMITERS = {"\t": "tab", ",": "comma", ";": "semicolon", "|": "bar"}


def _show(result: SurveyResult) -> None:
    facts = result.facts
    look.heading(str(facts.path), f"{facts.format}, {look.size(facts.size)}")
    rows = [
        [
            "rows",
            look.plural(result.rows, "row") + (f", {result.damaged} of them damaged" if result.damaged else ""),
        ]
    ]
    if facts.encoding:
        rows.append(["encoding", f"{facts.encoding} ({facts.encoding_because})"])
    if facts.delimiter:
        rows.append(["delimiter", f"{facts.delimiter!r} {_DELIMITERS.get(facts.delimiter, '')}".strip()])
    where = f"line {facts.heading_line}" if facts.encoding else f"row {facts.heading_line}"
    rows.append(["heading", where if facts.heading_line else "none"])
    if facts.sheets:
        rows.append(["sheets", "; ".join(_sheet(s) for s in facts.sheets)])
    if result.key is None:
        rows.append(["key", "no column is filled and distinct enough to be one"])
    elif result.key.repeated:
        examples = "; ".join(f'"{v}" in lines {", ".join(map(str, lines))}' for v, lines in result.key.examples[:3])
        rows.append(
            [
                "key",
                f"{result.key.column}, perhaps: {look.plural(result.key.repeated, 'value')} repeated ({examples})",
            ]
        )
    else:
        rows.append(["key", f"{result.key.column}, perhaps: filled and distinct"])
    if result.blank_columns:
        rows.append(["blank", ", ".join(result.blank_columns)])
    look.columns([[Text(a, style="dim"), b] for a, b in rows], fold=(1,))
    look.say()
    table = []
    for c in result.columns:
        share = f"{100 * c.filled / max(result.rows - result.damaged, 1):.0f}%" if c.filled else "-"
        if share == "100%" and c.filled < result.rows - result.damaged:
            share = ">99%"
        length = (
            "-" if c.shortest is None else str(c.shortest) if c.shortest == c.longest else f"{c.shortest}-{c.longest}"
        )
        table.append(
            [
                c.name,
                share,
                ("" if c.distinct_exact else "~") + look.count(c.distinct),
                length,
                _kind(c),
                _values(c),
            ]
        )
    look.columns(
        table,
        heads=["column", "filled", "distinct", "length", "kind", "values"],
        right=(1, 2, 3),
        fold=(0, 4, 5),
    )
    look.groups(result.findings)


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
    words = ", ".join(look.shorten(v, 22)[1:-1] for v in column.samples)
    if column.odd:
        words += f" (not: {', '.join(dict.fromkeys(look.shorten(v, 22)[1:-1] for v in column.odd))})"
    if column.spaces:
        words += f" ({column.spaces} with spaces at an end)"
    return words
