"""What people name when they ask for a survey: files, patterns, tables of databases, and the sources of a plan."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path

from mudanza.core.errors import MoveError, Place, SourceError, nearest
from mudanza.core.files import digest_of
from mudanza.core.move import Move
from mudanza.core.plans import Source, load_plan
from mudanza.core.sources.opening import files_of, open_source, parts, recognise
from mudanza.core.sources.reading import Reader, ReadOptions
from mudanza.core.survey.surveying import Subject
from mudanza.core.survey.whole import Remembered


def subjects(names: Sequence[str], options: ReadOptions, move: Move | None) -> list[Subject]:
    """The subjects that names stand for. Raises MoveError for a name that is none, SourceError for a file that cannot be read.

    A file of several tables (record types, lists within lists, tables of a database) is a subject for each.
    """
    return [subject for name in names for subject in _subjects(name, options, move)]


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
    if path.is_dir():
        inside = sorted(p for p in path.rglob("*") if p.is_file() and not p.name.startswith("."))
        if not inside:
            raise SourceError("the folder has no files.", place=Place(name), hint="Name the folder of the exports.")
        return [subject for file in inside for subject in _subjects(str(file), options, move)]
    paths = tuple(files_of(path))
    seen = recognise(paths[0], options)
    return [_named(name, paths, part) for part in parts(paths[0], seen)]


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
    return [_of_source(plan, source) for source in chosen]


def _of_source(plan: str, source: Source) -> Subject:
    opened = source.open()
    paths = tuple(path for path, _ in opened if path.is_file())
    return Subject(f"{plan}/{source.name}", paths, lambda: [reader for _, reader in source.open()])


def remembered(move: Move) -> list[Remembered]:
    """The files that were surveyed before in a move."""
    return [Remembered(*row) for row in move.ledger.surveyed()]


def digests(found: Sequence[tuple[Subject, int]]) -> list[tuple[str, str, int]]:
    """SHA-256, path and rows of the files of surveyed subjects, each file once."""
    files: dict[str, tuple[str, str, int]] = {}
    for subject, rows in found:
        for path in subject.paths:
            if str(path) not in files:
                files[str(path)] = (digest_of(path).sha256, str(path), rows)
    return list(files.values())
