"""What people name when they ask for a survey: files, patterns, tables of databases, and the sources of a plan."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from mudanza.core.documents.errors import MoveError, MudanzaError, Place, SourceError, nearest
from mudanza.core.engine.intake import open_readers
from mudanza.core.findings.finding import Finding
from mudanza.core.plans.move import Move
from mudanza.core.plans.plan import Source
from mudanza.core.plans.plan_reading import load_plan
from mudanza.core.sources.opening import files_of, open_source, parts, recognise
from mudanza.core.sources.reader import Reader, ReadOptions
from mudanza.core.state.evidence import ledger_of
from mudanza.core.state.surveys import surveyed
from mudanza.core.values.digest import digest_of
from mudanza.core.work.survey.surveying import Subject
from mudanza.core.work.survey.whole import Remembered


@dataclass
class Found:
    """What names stand for: the subjects, and files of folders that cannot be read, as findings."""

    subjects: list[Subject] = field(default_factory=list)
    unreadable: list[Finding] = field(default_factory=list)


def subjects(names: Sequence[str], options: ReadOptions, move: Move | None) -> Found:
    """The subjects that names stand for. Raises MoveError for a name that is none, SourceError for a file that is named and cannot be read.

    A file of several tables (record types, lists within lists, tables of a database) is a subject for each.
    """
    found = Found()
    for name in names:
        if Path(name).is_dir():
            _of_folder(Path(name), options, found)
        else:
            found.subjects += _subjects(name, options, move)
    return found


def unreadable(name: str, error: MudanzaError) -> Finding:
    """A file of several that cannot be read, with the reason."""
    return Finding(
        "file.unreadable", name, error.place.line if error.place else None, value=error.what, hint=error.hint
    )


def _of_folder(folder: Path, options: ReadOptions, found: Found) -> None:
    inside = sorted(p for p in folder.rglob("*") if not p.is_dir() and not p.name.startswith("."))
    if not inside:
        raise SourceError("the folder has no files.", place=Place(str(folder)), hint="Name the folder of the exports.")
    for file in inside:
        try:
            found.subjects += _subjects(str(file), options, None)
        except MudanzaError as error:
            found.unreadable.append(unreadable(str(file), error))


def _subjects(name: str, options: ReadOptions, move: Move | None) -> list[Subject]:
    path = Path(name)
    if not path.exists() and move is not None:
        database, _, table = name.partition(":")
        if database in move.databases:
            return _of_database(move, database, table, options)
        plan, _, source = name.partition("/")
        if plan in move.names("plans", ".toml"):
            return _of_plan(move, plan, source)
        if not set(name) & set("*?[./\\"):
            known = [*move.databases, *move.names("plans", ".toml")]
            near = nearest(name, known)
            raise MoveError(
                f"there is no file, list or database {name!r}.",
                hint=f"Did you mean {near!r}?" if near else "Name a file, a list of the move, or DATABASE:TABLE.",
            )
    if re.match(r"[A-Za-z][A-Za-z0-9+.-]+://", name):
        # its slashes are none of a path
        open_source(path)
    paths = tuple(files_of(path))
    seen = recognise(paths[0], options)
    try:
        each = parts(paths[0], seen)
        if seen is not options:
            # what it was taken for by a look inside must hold
            open_source(paths[0], each[0]).headings  # noqa: B018
    except SourceError:
        if seen is options:
            raise
        each = parts(paths[0], options)
    return [_named(name, paths, part) for part in each]


def _named(name: str, paths: tuple[Path, ...], options: ReadOptions) -> Subject:
    part = options.own.get("type") or options.own.get("table") or options.own.get("records")
    return Subject(
        f"{name} [{part}]" if part and part != "." else name,
        paths,
        lambda: [open_source(path, options) for path in paths],
    )


def _of_database(move: Move, name: str, table: str, options: ReadOptions) -> list[Subject]:
    from mudanza.core.sources.database import open_database, parts_of

    database = move.database(name)
    if table:
        options = replace(options, own={**options.own, "table": table})

    def opening(one: ReadOptions) -> Callable[[], list[Reader]]:
        return lambda: [open_database(database, one)]

    return [Subject(f"{name}:{one.own.get('table', 'query')}", (), opening(one)) for one in parts_of(database, options)]


def _of_plan(move: Move, plan: str, wanted: str) -> list[Subject]:
    sources = {source.name: source for source in load_plan(move, plan).sources}
    if wanted and wanted not in sources:
        raise MoveError(
            f"the list {plan!r} has no source {wanted!r}.",
            place=Place(str(move.plan_path(plan))),
            hint=f"It has: {', '.join(sources)}.",
        )
    chosen = [sources[wanted]] if wanted else list(sources.values())
    return [_of_source(move, plan, source) for source in chosen]


def _of_source(move: Move, plan: str, source: Source) -> Subject:
    opened = open_readers(source, move)
    paths = tuple(path for path, _ in opened if path.is_file())
    return Subject(f"{plan}/{source.name}", paths, lambda: [reader for _, reader in open_readers(source, move)])


def remembered(move: Move) -> list[Remembered]:
    """The files that were surveyed before in a move."""
    return [Remembered(*row) for row in surveyed(ledger_of(move))]


def digests(found: Sequence[tuple[Subject, int]]) -> list[tuple[str, str, int]]:
    """SHA-256, path and rows of the files of surveyed subjects, each file once."""
    files: dict[str, tuple[str, str, int]] = {}
    for subject, rows in found:
        for path in subject.paths:
            if str(path) not in files:
                files[str(path)] = (digest_of(path).sha256, str(path), rows)
    return list(files.values())
