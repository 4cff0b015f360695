"""The change set of a loan: what came back as import files, what undoes each, and what is saved before."""

from __future__ import annotations

import zipfile
from dataclasses import dataclass
from pathlib import Path
from tempfile import NamedTemporaryFile

import polars as pl

from mudanza.core.disk.files import OutFile, Outputs
from mudanza.core.documents.errors import LoanError, Place
from mudanza.core.layouts.layout import Layout
from mudanza.core.plans.move import Move
from mudanza.core.sinks.formats import RecordFile, sink_of
from mudanza.core.work.action_words import with_action
from mudanza.core.work.file_parts import PartFiles
from mudanza.core.work.loans.carried import carried, lost, titles_in
from mudanza.core.work.loans.lent import KEY, Lent, with_changes
from mudanza.core.work.loans.outcome import LoanReturn


@dataclass(frozen=True)
class Way:
    """How a change set is written: with all columns of changed rows, all in one file; and where a `review` is to appear (a file, or a folder for the usual name)."""

    whole_rows: bool = False
    one_file: bool = False
    #: who sent it back, if its own properties do not say; and whether later builds are to have what is accepted
    by: str | None = None
    correct: bool = False
    review: Path | None = None


def import_files(
    lent: Lent, result: LoanReturn, way: Way, standing: pl.DataFrame
) -> list[tuple[str, list[str], pl.DataFrame]]:
    """The import files as the target takes them: one for each action with its word, where the layout has words; or all in one. For `standing` see `change_files`."""
    layout = lent.present_layout
    made = change_files(lent, result, way.whole_rows, standing)
    if lent.changed_layout is not None:
        touched = result.outcome.changes["field"].unique(maintain_order=True).to_list()
        if gone := lost(touched, lent.layout, layout):
            raise LoanError(
                f"{', '.join(gone)} was changed in the loan, and the layout has no such field any more.",
                place=Place(str(layout.path)),
                hint="Accept the other fields with --fields, or put the field back into the layout.",
            )
        made = [
            (name, titles_in(titles, lent.layout, layout), carried(rows, lent.layout, layout))
            for name, titles, rows in made
        ]
    files = [(name, *with_action(layout, name, titles, rows)) for name, titles, rows in made]
    if not way.one_file:
        return files
    if layout.action is None:
        raise LoanError(
            "the layout has no field that says what becomes of a row, so all cannot stand in one file.",
            place=Place(str(layout.path)),
            hint='Add "urn:mudanza:actions" to the field that does, or leave --one-file out.',
        )
    whole = {name: (titles, rows) for name, titles, rows in files}
    titles = [f.title for f in layout.fields]
    parts = [
        rows.with_columns(pl.lit(None, dtype=pl.String).alias(t) for t in titles if t not in named).select(titles)
        for named, rows in (whole[one] for one in ("additions", "changes", "removals"))
    ]
    return [("import", titles, pl.concat(parts)), *((name, *whole[name]) for name in whole if name.startswith("undo-"))]


def change_files(
    lent: Lent, result: LoanReturn, whole_rows: bool, standing: pl.DataFrame
) -> list[tuple[str, list[str], pl.DataFrame]]:
    """The import files: what each is called, its columns and rows. `standing` are the lent records as they stand by now, from which the cells come that nobody edited."""
    key_titles = [f.title for f in lent.keys]
    touched = result.outcome.changes["field"].unique().to_list()
    all_titles = [f.title for f in lent.layout.fields]
    columns = [t for t in all_titles if t in key_titles or whole_rows or t in touched]
    touched_rows = standing.filter(pl.col(KEY).is_in(result.outcome.changes["key"].implode()))
    going = standing.filter(pl.col(KEY).is_in(result.outcome.removals[KEY].implode()))
    new = with_changes(touched_rows, result.outcome.changes)
    # where a conflict was settled, it was not as it was lent
    old = with_changes(touched_rows, result.outcome.changes.with_columns(pl.col("before").alias("after")))
    added = [f.title for f in lent.layout.fields if not f.left_out_of_additions]
    lacking = [pl.lit(None, dtype=pl.String).alias(t) for t in added if t not in result.outcome.additions.columns]
    blanks = [pl.col(f.title).fill_null(f.null[0]) for f in lent.layout.fields if f.title in added and f.null[0]]
    additions = result.outcome.additions.with_columns(lacking).with_columns(blanks)
    keyed = additions.filter(pl.col(KEY).is_not_null())
    return [
        ("changes", columns, new),
        ("additions", added, additions),
        ("removals", key_titles, going),
        ("undo-changes", columns, old),
        ("undo-additions", key_titles, keyed),
        ("undo-removals", all_titles, going),
    ]


def for_import(outputs: Outputs, path: Path, layout: Layout, titles: list[str], rows: pl.DataFrame) -> list[OutFile]:
    """Records in the form that the target takes, and parts of them, where it takes only so many at once."""
    whole = outputs.create(path)
    file = RecordFile(whole, sink_of(layout).writer(layout, titles))
    file.write(rows)
    file.close()
    parts = PartFiles(outputs, path, titles, layout)
    parts.write(rows)
    return [whole, *parts.close()]


def archived(move: Move, out: OutFile) -> OutFile:
    """The files that are to be saved before an import, in one archive. Raises LoanError where there are none."""
    paths = sorted({path for pattern in move.archived for path in move.folder.glob(pattern) if path.is_file()})
    if not paths:
        raise LoanError(
            "there is no file to be saved before the import.",
            place=Place(move.shown(move.folder / "mudanza.toml")),
            hint=f"Put it where [before_import] looks for it: {', '.join(move.archived)}.",
        )
    with NamedTemporaryFile() as file:
        with zipfile.ZipFile(file, "w", zipfile.ZIP_DEFLATED) as archive:
            for path in paths:
                archive.write(path, move.shown(path))
        file.seek(0)
        while piece := file.read(1 << 20):
            out.write(piece)
    return out
