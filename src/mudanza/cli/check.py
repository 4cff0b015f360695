"""`mudanza check`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from mudanza.cli import look
from mudanza.cli.options import here_or_none, json_option
from mudanza.core.findings.finding import SHOWN, as_shown
from mudanza.core.work.shapes import check_shape

if TYPE_CHECKING:
    from mudanza.core.findings.finding import Finding
    from mudanza.core.layouts.layout import Layout
    from mudanza.core.work.check import CheckResult

_SHOWN = 20


@click.command("check")
@click.argument("file", type=click.Path(path_type=Path))
@click.option(
    "--layout",
    "layout_name",
    required=True,
    metavar="FILE|NAME",
    help="The layout: a file, or a name in layouts/.",
)
@click.option(
    "--with",
    "others",
    multiple=True,
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="A file that references point into.",
)
@click.option("--sheet", metavar="NAME", help="The sheet of a workbook.")
@click.option(
    "--findings",
    "findings_file",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="Write all findings to a CSV file.",
)
@click.option("--limit", type=click.IntRange(1), metavar="N", help="List only the first N findings; all are counted.")
@json_option
@click.pass_context
def command(
    ctx: click.Context,
    file: Path,
    layout_name: str,
    others: tuple[Path, ...],
    sheet: str | None,
    findings_file: Path | None,
    limit: int | None,
    as_json: bool,
) -> None:
    """Validate FILE (CSV or XLSX), by whomever it was made, against a layout.

    Lines are counted as a text editor counts them.

    \b
    Examples:
      mudanza check out/owners.csv --layout owners
      mudanza check from-a-colleague.xlsx --layout layouts/owners.json --findings problems.csv
      mudanza check visits.csv --layout visits --with out/owners.csv
    """
    from mudanza.core.sinks.csv_text import RowWriter
    from mudanza.core.state.files import Outputs
    from mudanza.core.work.check import check

    layout = find_layout(layout_name)
    with look.progress(as_json) as tell:
        result = check(
            file,
            layout,
            shown=str(file),
            layout_shown=layout_name,
            others=others,
            sheet=sheet,
            limit=limit,
            tell=tell,
        )
    if findings_file is not None:
        with Outputs("check") as outputs:
            out = outputs.create(findings_file)
            writer = RowWriter(SHOWN)
            out.write(writer.head() + writer.rows(as_shown(result.findings)))
            outputs.publish()
    if as_json:
        look.document(check_shape(result, limit is not None))
    else:
        _show(result, findings_file)
    ctx.exit(0 if result.clean else 1)


def find_layout(name: str) -> Layout:
    """A layout by its file or by its name in the move."""
    from mudanza.core.layouts.csvw import read_layout

    path = Path(name)
    move = here_or_none()
    if path.suffix == ".json" or path.is_file() or move is None:
        if not path.is_file() and move is not None and move.path(name).is_file():
            path = move.path(name)
        return read_layout(path)
    return read_layout(move.layout_path(name))


def _show(result: CheckResult, findings_file: Path | None) -> None:
    from mudanza.core.findings.finding import Finding

    look.heading(result.file, f"against {result.layout}, {look.plural(result.rows, 'row')}")
    if not result.groups:
        look.say("  all as the layout asks.")
        return
    other = next((group for group in result.groups if group.code == "layout.other"), None)
    if other is not None:
        look.say(f"  This looks like {other.example.value}: check it with --layout {other.example.value}.")
        return
    if result.total > _SHOWN:
        look.groups(result.groups)
    look.say()
    shown = [
        Finding(**{k: v for k, v in row.items() if k != "severity"}) for row in result.findings.head(_SHOWN).to_dicts()
    ]
    word = f"the first {_SHOWN} of {look.count(result.total)}" if result.total > _SHOWN else "all of them"
    look.heading("findings", word)
    rows = [[_where(f), f.subject or "", look.shorten(f.value, 30), f.rule or "", f.code] for f in shown]
    look.columns(rows, heads=["line", "column", "value", "asked", "code"], fold=(2, 3))
    if result.total > _SHOWN and findings_file is None:
        look.say("  --findings FILE writes all of them.", style="dim")
    if findings_file is not None:
        look.say(f"  written to {findings_file}", style="dim")


def _where(finding: Finding) -> str:
    return finding.cell or (str(finding.line) if finding.line else "-")
