"""`mudanza preview`."""

from __future__ import annotations

import time
from collections.abc import Callable
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING

import click
from rich.text import Text

from mudanza.cli import completing, look
from mudanza.cli.options import answered, here, json_option, run_options
from mudanza.core.plans.move import SETTINGS
from mudanza.core.work.shapes import coverage_shape, preview_shape

if TYPE_CHECKING:
    from mudanza.core.work.coverage import Coverage
    from mudanza.core.work.preview import PreviewResult

_PAUSE = 0.2


@click.command("preview")
@click.argument("list_name", metavar="LIST", shell_complete=completing.lists)
@click.option("--rows", "-n", default=3, show_default=True, type=click.IntRange(1, 500), help="Rows of each source.")
@click.option("--source", metavar="NAME", help="Only this source.")
@click.option("--fields", metavar="A,B", help="Only these fields.")
@click.option("--where", metavar="CONDITION", help="The first rows that meet a condition on source columns.")
@click.option("--key", metavar="KEY", help="The rows of a record, by its new or its old identifier.")
@click.option("--findings", "only_findings", is_flag=True, help="The first rows that have findings.")
@click.option("--sample", is_flag=True, help="A fair sample of all rows, in every run the same.")
@click.option("--coverage", "show_coverage", is_flag=True, help="What becomes of every field and every source column.")
@click.option(
    "--exclude", nargs=2, metavar="KEY REASON", help="Note in exclusions/LIST.csv that the rows of a record do not go."
)
@click.option(
    "--include", nargs=2, metavar="KEY REASON", help="Note in inclusions/LIST.csv that they go although keep says no."
)
@click.option("--who", metavar="NAME", help="Who says so.")
@click.option("--watch", is_flag=True, help="Show it again whenever the plan, its layout or a crosswalk is saved.")
@run_options
@json_option
@click.pass_context
def command(
    ctx: click.Context,
    list_name: str,
    rows: int,
    source: str | None,
    fields: str | None,
    where: str | None,
    key: str | None,
    only_findings: bool,
    sample: bool,
    show_coverage: bool,
    exclude: tuple[str, str] | None,
    include: tuple[str, str] | None,
    who: str | None,
    watch: bool,
    as_of: date | None,
    parameters: dict[str, str],
    as_json: bool,
) -> None:
    """Show rows of LIST as they would be written, beside what they come from; or what the plan covers.

    Nothing is written; identifiers not given out yet are shown as if these rows were the first.

    \b
    Examples:
      mudanza preview owners
      mudanza preview owners --fields full_name,since -n 10 --watch
      mudanza preview owners --where '{Status} = "D"' --source north
      mudanza preview owners --findings
      mudanza preview owners --coverage
      mudanza preview owners --exclude OW-000017 "moved abroad" --who Inês
    """
    if sum([where is not None, key is not None, only_findings, sample, show_coverage]) > 1:
        raise click.UsageError(
            "--where, --key, --findings, --sample and --coverage each choose what is shown; give one of them."
        )
    if exclude is not None or include is not None:
        _say(list_name, exclude, include, who, source, as_of, parameters, as_json)
        return
    if watch and as_json:
        raise click.UsageError("--watch is for people, --json for programs; give one of them.")

    def show(given: dict[str, str]) -> int:
        if show_coverage:
            from mudanza.core.work.coverage import coverage

            covered = coverage(here(), list_name, as_of=as_of, parameters=given)
            if as_json:
                look.document(coverage_shape(covered))
            else:
                _show_coverage(covered)
            return 0 if covered.whole else 1
        from mudanza.core.work.preview import preview

        result = preview(
            here(),
            list_name,
            rows=rows,
            source=source,
            fields=[f.strip() for f in fields.split(",")] if fields else None,
            where=where,
            key=key,
            only_findings=only_findings,
            sample=sample,
            as_of=as_of,
            parameters=given,
        )
        if as_json:
            look.document(preview_shape(result))
        else:
            _show(result)
        return 0

    if not watch:
        ctx.exit(answered(show, parameters))
    _watch(list_name, lambda: show(parameters))


def _say(
    name: str,
    exclude: tuple[str, str] | None,
    include: tuple[str, str] | None,
    who: str | None,
    source: str | None,
    as_of: date | None,
    parameters: dict[str, str],
    as_json: bool,
) -> None:
    from mudanza.core.work.saying_by_hand import SaidNow, say_by_hand
    from mudanza.core.work.shapes import said_shape

    if exclude is not None and include is not None:
        raise click.UsageError("--exclude and --include contradict each other; give one of them.")
    key, reason = exclude or include or ("", "")

    def say(given: dict[str, str]) -> SaidNow:
        goes = include is not None
        return say_by_hand(here(), name, key, reason, goes=goes, who=who, source=source, as_of=as_of, parameters=given)

    said = answered(say, parameters)
    if as_json:
        look.document(said_shape(said))
        return
    for row in said.rows:
        look.say(f"{said.file}: {', '.join(f'{column} {text}' for column, text in row.items())}; {reason}")


def _show(result: PreviewResult) -> None:
    if not result.rows:
        look.say("no rows to show.")
    look.together(result.goes_with)
    for number, row in enumerate(result.rows):
        if number:
            look.say()
        look.heading(f"{row.source}, {row.unit} {row.line}", f"{row.end}: {row.rule}" if row.rule else row.end)
        for finding in row.findings:
            about = f"{finding['column']}: " if finding["column"] else ""
            asked = f"; asked: {finding['rule']}" if finding["rule"] else ""
            look.say(f"  {finding['code']}  {about}{look.shorten(finding['value'], 60)}{asked}")
        if row.end == "skipped":
            continue
        table: list[list[str | Text]] = []
        for field in row.fields:
            before = " + ".join(look.shorten(v, 34) for v in field.before.values()) or "-"
            bold = field.after is not None and row.end != "held back"
            after = Text(look.shorten(field.after, 34), style="bold" if bold else "dim")
            told = "; ".join(f"{f['code']}: {f['rule']}" for f in field.findings)
            table.append([field.name, before, "->", after, told])
        look.columns(table, fold=(1, 4))


def _show_coverage(covered: Coverage) -> None:
    look.heading("fields", f"{sum(f.flow is not None for f in covered.fields)} of {len(covered.fields)} have a flow")
    rows: list[list[str | Text]] = []
    for field in covered.fields:
        how = Text(field.how, style="bold" if field.how == "missing" else "dim" if field.how == "not mapped" else "")
        from_ = ", ".join(field.columns) if field.columns else (field.flow or "") if field.how == "constant" else ""
        rows.append([field.name, how, "required" if field.required else "", from_])
    look.columns(rows, fold=(3,))
    look.say()
    look.heading("source columns", "with the values that stay behind")
    rows = []
    for column in covered.columns:
        lost = column.how == "not accounted for"
        where = ", ".join(column.fields) if column.how == "used" else column.reason or ""
        values = "" if column.how == "used" else look.count(column.values)
        rows.append(
            [
                column.name,
                ", ".join(column.sources),
                Text(column.how, style="bold" if lost and column.values else ""),
                values,
                where,
            ]
        )
    look.columns(rows, right=(3,), fold=(4,))


def _watch(list_name: str, show: Callable[[], object]) -> None:
    """Show again after each save, until it is interrupted."""
    before: dict[str, tuple[int, int]] | None = None
    try:
        while True:
            now = _stand()
            if now != before:
                before = now
                if look.out.is_terminal:
                    look.out.clear()
                look.heading(list_name, f"{time.strftime('%H:%M:%S')}; shown again after each save, Ctrl-C ends")
                look.say()
                try:
                    show()
                except Exception as error:
                    look.show_error(error, False)
                look.out.file.flush()
            time.sleep(_PAUSE)
    except KeyboardInterrupt:
        look.say()


def _stand() -> dict[str, tuple[int, int]]:
    """The files that say what is done, each with its moment of change and its size."""
    # without reading the settings, which may be wrong just now
    folder = next((f for f in (Path.cwd(), *Path.cwd().parents) if (f / SETTINGS).is_file()), Path.cwd())
    found = {}
    for path in (
        folder / SETTINGS,
        folder / "steps.py",
        *(p for part in ("plans", "layouts", "crosswalks") for p in (folder / part).glob("*")),
    ):
        try:
            facts = path.stat()
        except OSError:
            continue
        found[str(path)] = (facts.st_mtime_ns, facts.st_size)
    return found
