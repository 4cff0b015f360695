"""Checking a folder as a package: each file against the layout that it was made for, with the references between them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

import polars as pl

from mudanza.core.documents.errors import Place, SourceError, few
from mudanza.core.findings.codes import Severity
from mudanza.core.findings.finding import Finding, frame
from mudanza.core.findings.tally import Group, Tally
from mudanza.core.layouts.csvw import CONTEXT, DESCRIPTION, read_layouts
from mudanza.core.layouts.layout import Layout
from mudanza.core.sources.opening import FORMATS
from mudanza.core.work.check import CheckResult, check
from mudanza.core.work.checking.recognising import Recognised, is_description, recognised_or_none
from mudanza.core.work.checking.references import Others
from mudanza.core.work.file_parts import whole_of
from mudanza.core.work.progress import Tell, quietly
from mudanza.core.work.with_lines import WITH_LINES

_ENDINGS = {ending for one in FORMATS.values() for ending in one.endings} | {".txt"}
#: what a build writes beside its files, for people and for itself
_NOT_FOR_THE_TARGET = (".held-back.csv", ".findings.csv", ".leavers.csv", ".labels.csv", ".corrections.csv")


@dataclass(frozen=True)
class PackageResult:
    """What a check of a folder found: of each file, and of the folder as a whole; `layouts` has by what each file's layout is known."""

    folder: str
    files: list[CheckResult]
    layouts: Mapping[str, Recognised]
    findings: pl.DataFrame
    groups: list[Group]

    @property
    def clean(self) -> bool:
        return all(one.clean for one in self.files) and not any(one.severity is Severity.STOP for one in self.groups)


def check_package(
    folder: Path,
    layouts: Mapping[str, Layout],
    *,
    shown: str | None = None,
    limit: int | None = None,
    tell: Tell = quietly,
) -> PackageResult:
    """Check every file of a folder for which there is a layout: in its own description (csv-metadata.json, FILE-metadata.json), or among `layouts`.

    Raises SourceError if there is none at all.
    """
    shown = shown or str(folder)
    files = sorted(path for path in folder.iterdir() if _is_data(path))
    # of a file in parts, the parts are what the target takes; references lead into the whole
    wholes = {whole for path in files if (whole := whole_of(path)) in files}
    known: dict[Path, Recognised] = {}
    told: list[Finding] = []
    for path in files:
        found = recognised_or_none(path, layouts)
        if found is None:
            told.append(Finding("package.no-layout", _named(shown, path), rule="a file of some layout"))
        else:
            known[path] = found
    told += _missing(folder, known, shown)
    if not known:
        raise SourceError(
            "no file of the folder was made for a layout that is known.",
            place=Place(file=shown),
            hint=f"It has: {few([path.name for path in files], 8)}. Name the layout of one: mudanza check FILE --layout NAME."
            if files
            else "It has no file of a format that is read.",
        )
    # where several files are of one layout, references lead into the one that is called like it
    package: dict[str, tuple[Path, Layout]] = {}
    for path, one in sorted(known.items(), key=lambda item: item[0].stem == item[1].layout.name):
        package[one.layout.name] = (path, one.layout)
    results = [
        check(path, one.layout, shown=_named(shown, path), others=Others((), package), limit=limit, tell=tell)
        for path, one in known.items()
        if path not in wholes
    ]
    tally, findings = Tally(), frame(told)
    tally.add(findings)
    named = {_named(shown, path): one for path, one in known.items()}
    return PackageResult(shown, results, named, findings, tally.groups())


def _named(folder: str, path: Path) -> str:
    return (Path(folder) / path.name).as_posix()


def _is_data(path: Path) -> bool:
    if not path.is_file() or path.name.startswith((".", "~$")) or is_description(path) or path.name == "run.json":
        return False
    if path.suffix.lower() == ".json":
        # a layout among the files is none of them
        with path.open("rb") as file:
            if CONTEXT.encode() in file.read(4096):
                return False
    # headers with their lines are made of two lists that are checked by themselves
    beside = path.name.endswith(_NOT_FOR_THE_TARGET) or WITH_LINES in path.name
    return path.suffix.lower() in _ENDINGS and not beside


def _missing(folder: Path, known: Mapping[Path, Recognised], shown: str) -> list[Finding]:
    description = folder / DESCRIPTION
    if not description.is_file():
        return []
    there = {path.name for path in known}
    return [
        Finding("package.missing", _named(shown, description), value=one.url, rule="every file that is described")
        for one in read_layouts(description)
        if one.url and Path(one.url).name not in there
    ]
