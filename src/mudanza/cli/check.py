"""`mudanza check`."""

from __future__ import annotations

import codecs
import dataclasses
import shutil
import sys
from pathlib import Path
from typing import TYPE_CHECKING

import click

from mudanza.cli import look
from mudanza.cli.options import here_or_none, json_option, named_outputs, overwrite_option
from mudanza.core.findings.finding import SHOWN, as_shown
from mudanza.core.work.shapes import check_shape, package_shape, recognised_shape

if TYPE_CHECKING:
    from collections.abc import Sequence

    import polars as pl

    from mudanza.core.disk.files import OutFile, Outputs
    from mudanza.core.findings.finding import Finding
    from mudanza.core.layouts.layout import Layout
    from mudanza.core.work.check import CheckResult
    from mudanza.core.work.checking.recognising import Recognised
    from mudanza.core.work.fixing import FixResult
    from mudanza.core.work.package import PackageResult

_SHOWN = 20


@dataclasses.dataclass(frozen=True)
class _Asked:
    """What was asked for beside the check itself."""

    sheet: str | None
    findings: Path | None
    limit: int | None
    annotated: Path | None
    fixed: Path | None
    as_json: bool

    @property
    def kept(self) -> int | None:
        """How many findings the check has to keep: where all are written somewhere, all."""
        return None if self.findings or self.annotated else self.limit

    def outputs(self, inputs: Sequence[Path]) -> _Files:
        """The files that are to be written, which all appear when the last of them is whole."""
        outputs = named_outputs("check", inputs)
        listed = None if self.fixed is None else self.fixed.with_name(f"{self.fixed.stem}.corrections.csv")
        wanted = (self.findings, self.annotated, self.fixed, listed)
        return _Files(outputs, *(None if path is None else outputs.create_named(path) for path in wanted))


@dataclasses.dataclass(frozen=True)
class _Files:
    outputs: Outputs
    findings: OutFile | None
    annotated: OutFile | None
    fixed: OutFile | None
    listed: OutFile | None


@click.command("check")
@click.argument("file", metavar="FILE|FOLDER|-", type=click.Path(path_type=Path, allow_dash=True))
@click.option(
    "--layout",
    "layout_name",
    metavar="FILE|NAME",
    help="The layout: a file, or a name in layouts/. Without it, it is recognised.",
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
@click.option("--findings", type=click.Path(path_type=Path), metavar="FILE", help="Write all findings to a CSV file.")
@click.option(
    "--annotated",
    type=click.Path(path_type=Path),
    metavar="FILE.xlsx",
    help="Write a copy with what is wrong coloured and noted.",
)
@click.option(
    "--fix",
    "fixed",
    type=click.Path(path_type=Path),
    metavar="FILE.csv",
    help="Write a file with what can be corrected without a doubt.",
)
@overwrite_option
@click.option("--limit", type=click.IntRange(1), metavar="N", help="List only the first N findings; all are counted.")
@json_option
@click.pass_context
def command(
    ctx: click.Context,
    file: Path,
    layout_name: str | None,
    others: tuple[Path, ...],
    sheet: str | None,
    findings: Path | None,
    annotated: Path | None,
    fixed: Path | None,
    limit: int | None,
    as_json: bool,
) -> None:
    """Validate FILE, by whomever it was made, against the layout that it was made for; or each file of a FOLDER, with the references between them.

    CSV in any dialect, workbooks, JSON, XML and fixed-width text are read; - is what comes on standard input. Lines are counted as a text
    editor counts them. What comes in is never changed.

    \b
    Examples:
      mudanza check out
      mudanza check out/owners.csv --layout owners
      mudanza check from-a-colleague.xlsx --annotated for-the-colleague.xlsx
      mudanza check visits.csv --with out/owners.csv --findings problems.csv
      mudanza check owners.csv --fix owners-corrected.csv
    """
    asked = _Asked(sheet, findings, limit, annotated, fixed, as_json)
    if file.is_dir():
        if layout_name is not None or asked.annotated or asked.fixed or asked.sheet:
            raise click.UsageError(
                "a folder is checked as a whole; --layout, --sheet, --annotated and --fix go with one file."
            )
        clean = _folder(file, asked)
    else:
        clean = _file(file, layout_name, others, asked)
    ctx.exit(0 if clean else 1)


# one file


def _file(file: Path, layout_name: str | None, others: Sequence[Path], asked: _Asked) -> bool:
    from mudanza.core.work.check import check

    shown = "standard input" if str(file) == "-" else str(file)
    path = _from_standard_input() if str(file) == "-" else file
    files = asked.outputs([path, *others, *([Path(layout_name)] if layout_name else [])])
    with files.outputs:
        found = None if layout_name is not None else _recognised(path, shown, asked)
        layout = found.layout if found is not None else find_layout(layout_name or "")
        with look.progress(asked.as_json) as tell:
            result = check(
                path,
                layout,
                shown=shown,
                layout_shown=layout_name or layout.name,
                others=others,
                sheet=asked.sheet,
                limit=asked.kept,
                tell=tell,
            )
        fixed = _written(files, path, layout, shown, result, asked.sheet)
        files.outputs.publish()
    if asked.limit is not None:
        result = dataclasses.replace(result, findings=result.findings.head(asked.limit))
    if asked.as_json:
        shape = check_shape(result, asked.limit is not None, fixed)
        look.document({**shape, **(recognised_shape(found) if found else {})})
        return result.clean
    _show(result, _known_by(found), asked)
    if asked.annotated is not None:
        look.say(f"  an annotated copy is in {asked.annotated}", style="dim")
    if fixed is not None:
        _show_fixed(fixed)
    return result.clean


def _written(
    files: _Files, path: Path, layout: Layout, shown: str, result: CheckResult, sheet: str | None
) -> FixResult | None:
    """Write what is asked for beside the check; gives what was corrected."""
    if files.findings is not None:
        _write(files.findings, result.findings)
    if files.annotated is not None:
        from mudanza.core.work.annotating import annotate

        annotate(path, layout, result, files.annotated, sheet=sheet)
    if files.fixed is None or files.listed is None:
        return None
    from mudanza.core.work.fixing import fix

    return fix(path, layout, files.fixed, files.listed, shown=shown, sheet=sheet)


def _from_standard_input() -> Path:
    """Where the bytes of standard input stand, for as long as the command runs."""
    from mudanza.core.disk.temporary import temporary_folder

    path = temporary_folder() / "standard-input"
    with path.open("wb") as out:
        shutil.copyfileobj(sys.stdin.buffer, out)
    with path.open("rb") as read:
        start = read.read(64).removeprefix(codecs.BOM_UTF8).lstrip()
    # all other formats are known by how they begin, or are text
    return path.rename(path.with_suffix(".json")) if start.startswith((b"{", b"[")) else path


def _recognised(path: Path, shown: str, asked: _Asked) -> Recognised:
    from mudanza.core.documents.errors import LayoutError, Place, few
    from mudanza.core.work.checking.recognising import recognised

    layouts = _known_layouts()
    found = recognised(path, layouts, asked.sheet)
    if found is None:
        raise LayoutError(
            "the file was made for none of the layouts that are known.",
            place=Place(shown),
            hint=f"Name the one that is meant, --layout NAME. There are: {few(list(layouts), 8)}."
            if layouts
            else "Name its layout: --layout FILE. Here is no move, and no description lies beside the file.",
        )
    return found


def _known_layouts() -> dict[str, Layout]:
    from mudanza.core.work.checking.referred import layouts_in

    move = here_or_none()
    return {} if move is None else layouts_in(move.path("layouts"))


def _known_by(found: Recognised | None) -> str:
    if found is None:
        return ""
    if found.described_in is not None:
        return f" (as {found.described_in.name} says)"
    if found.by_name:
        return " (by its name)"
    return " (by its headings)" if found.share == 1 else f" (by {found.share:.0%} of its headings)"


def find_layout(name: str) -> Layout:
    """A layout by its file or by its name in the move."""
    from mudanza.core.layouts.csvw import MARK, read_layout

    path = Path(name)
    move = here_or_none()
    is_file = path.suffix == ".json" or path.is_file() or f".json{MARK}" in name
    if is_file or move is None:
        if not path.is_file() and move is not None and move.path(name.rpartition(MARK)[0] or name).is_file():
            path = move.path(name)
        return read_layout(path)
    return read_layout(move.layout_path(name))


# a folder


def _folder(folder: Path, asked: _Asked) -> bool:
    import polars as pl

    from mudanza.core.work.package import check_package

    files = asked.outputs([path for path in folder.iterdir() if path.is_file()])
    with files.outputs:
        with look.progress(asked.as_json) as tell:
            result = check_package(folder, _known_layouts(), limit=asked.kept, tell=tell)
        if files.findings is not None:
            _write(files.findings, pl.concat([result.findings, *(one.findings for one in result.files)]))
        files.outputs.publish()
    if asked.as_json:
        if asked.limit is not None:
            shortened = [dataclasses.replace(one, findings=one.findings.head(asked.limit)) for one in result.files]
            result = dataclasses.replace(result, files=shortened)
        look.document(package_shape(result, asked.limit is not None))
        return result.clean
    _show_package(result, asked)
    return result.clean


def _show_package(result: PackageResult, asked: _Asked) -> None:
    look.heading(result.folder, f"{look.plural(len(result.files), 'file')}, with the references between them")
    rows = []
    for one in result.files:
        found = result.layouts[one.file]
        state = "as its layout asks" if not one.groups else look.plural(one.total, "finding")
        rows.append([Path(one.file).name, one.layout + _known_by(found), look.count(one.rows), state])
    look.columns(rows, heads=["file", "layout", "rows", ""], right=(2,), fold=(1,))
    if result.groups:
        look.say()
        look.groups(result.groups, with_file=True)
    for one in result.files:
        if one.groups:
            look.say()
            look.heading(Path(one.file).name, look.plural(one.total, "finding"))
            _show_findings(one.findings, one.total, min(_SHOWN, asked.limit or _SHOWN))
    if asked.findings is not None:
        look.say(f"  written to {asked.findings}", style="dim")


# what people see


def _write(out: OutFile, findings: pl.DataFrame) -> None:
    import polars as pl

    from mudanza.core.sinks.csv_text import QuotedWriter

    writer = QuotedWriter(SHOWN)
    out.write(writer.head() + writer.rows(as_shown(findings).with_columns(pl.col("line").cast(pl.String))))


def _show(result: CheckResult, known_by: str, asked: _Asked) -> None:
    look.heading(result.file, f"against {result.layout}{known_by}, {look.plural(result.rows, 'row')}")
    if not result.groups:
        look.say("  all as the layout asks.")
        return
    other = next((group for group in result.groups if group.code == "layout.other"), None)
    if other is not None:
        look.say(f"  This looks like {other.example.value}: check it with --layout {other.example.value}.")
        return
    most = min(_SHOWN, asked.limit or _SHOWN)
    if result.total > most:
        look.groups(result.groups)
    look.say()
    word = f"the first {most} of {look.count(result.total)}" if result.total > most else "all of them"
    look.heading("findings", word)
    _show_findings(result.findings, result.total, most)
    if result.total > most and asked.findings is None:
        look.say("  --findings FILE writes all of them.", style="dim")
    if asked.findings is not None:
        look.say(f"  written to {asked.findings}", style="dim")


def _show_findings(findings: pl.DataFrame, total: int, most: int) -> None:
    from mudanza.core.findings.finding import Finding

    shown = [Finding(**{k: v for k, v in row.items() if k != "severity"}) for row in findings.head(most).to_dicts()]
    rows = [[_where(f), f.subject or "", look.shorten(f.value, 30), f.rule or "", f.code] for f in shown]
    look.columns(rows, heads=["line", "column", "value", "asked", "code"], fold=(2, 3))
    if total > most:
        look.say(f"  … and {look.count(total - most)} more", style="dim")


def _show_fixed(fixed: FixResult) -> None:
    look.say()
    found = fixed.corrections
    look.heading("corrected", f"{look.plural(found.height, 'value')}, in {fixed.written}")
    if not found.height:
        look.say("  nothing could be corrected without a doubt; the file is written in the layout's own form.")
        return
    rows = [
        [str(row["line"]), row["column"], look.shorten(row["before"], 24), look.shorten(row["after"], 24), row["why"]]
        for row in found.head(_SHOWN).iter_rows(named=True)
    ]
    look.columns(rows, heads=["line", "column", "was", "is", "why"], fold=(2, 3, 4))
    look.say(f"  each is listed in {fixed.listed}", style="dim")


def _where(finding: Finding) -> str:
    return finding.cell or (str(finding.line) if finding.line else "-")
