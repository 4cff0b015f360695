"""What is new, other and gone in the target, as import files beside the whole list, each with its own way back."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import polars as pl

from mudanza.core.disk.files import OutFile, Outputs
from mudanza.core.engine.local import in_order
from mudanza.core.layouts.layout import Layout
from mudanza.core.plans.move import Move
from mudanza.core.plans.plan import Plan
from mudanza.core.sinks.formats import RecordFile, built_file, sink_of
from mudanza.core.state.contents import KEY
from mudanza.core.values.digest import Digest
from mudanza.core.values.row_columns import BETWEEN, INNER
from mudanza.core.work.action_words import ADDITIONS, CHANGES, REMOVALS, with_action
from mudanza.core.work.again.against import ids_of
from mudanza.core.work.again.before import in_layout
from mudanza.core.work.behind import Behind
from mudanza.core.work.difference import ChangedField, fields_changed, some_keys
from mudanza.core.work.file_parts import PartFiles, parts_beside

_SETS = (ADDITIONS, CHANGES, REMOVALS)
#: what becomes of the rows of each set, and of those that undo it
_ID = f"{INNER}id"


class ChangeSets:
    """The files of additions, changes and removals of a list under way, and what would undo each."""

    def __init__(self, move: Move, plan: Plan, outputs: Outputs, behind: Behind | None = None) -> None:
        """Of records that are new, what comes `behind` other lists is among the changes."""
        self._move, self._plan, self._outputs, self._behind = move, plan, outputs, behind
        self._titles = [one.title for one in plan.layout.fields]
        self._keys = plan.layout.key_titles
        self._added = [one.title for one in plan.layout.fields if not one.left_out_of_additions]
        self._additions: list[pl.DataFrame] = []
        self._changes: list[pl.DataFrame] = []
        self.files: list[OutFile] = []
        #: for people: the keys of some additions, and the fields that change
        self.added_keys: list[str] = []
        self.fields: list[ChangedField] = []

    def take(self, added: pl.DataFrame, changed: pl.DataFrame) -> None:
        """Take written records (with the columns to sort by) that are new in the target, and those that are other."""
        self._additions.append(added)
        self._changes.append(changed)

    def close(self, before: pl.DataFrame, marked: pl.DataFrame, removed: pl.DataFrame) -> None:
        """Write the files. `before` are records as the target holds them (with `KEY`), `marked` those of leavers that change, `removed` the keys of those that go."""
        added, changed = self._ordered(self._additions), self._ordered(self._changes)
        changed = pl.concat([changed, marked.select(self._titles)])
        old = self._before(before, changed.select(ids_of(self._plan.layout).alias(_ID)))
        if self._behind is not None:
            later = self._behind.with_more(self._plan, added)
            added = self._behind.without(self._plan, added)
            changed = pl.concat([later, changed])
            old = pl.concat([self._behind.without(self._plan, later), old])
        self.added_keys = some_keys(added, self._keys)
        # what some of them held before may not be known any more
        known = old.height == changed.height
        self.fields = fields_changed(old, changed, self._keys) if known else []
        columns = self._changed_columns() if known else self._titles
        gone = removed.select(pl.col("key").alias(KEY))
        self._write(ADDITIONS, self._added, added)
        self._write(CHANGES, columns, changed)
        self._write(REMOVALS, self._keys, self._with_keys(gone))
        self._write(f"undo-{ADDITIONS}", self._keys, added)
        self._write(f"undo-{CHANGES}", columns, old)
        going = gone.select(self._plan.layout.key_rule.whole(pl.col(KEY)).alias(_ID))
        self._write(f"undo-{REMOVALS}", self._titles, self._before(before, going))

    def digests(self) -> list[Digest]:
        """What was written."""
        return [file.digest(self._move.shown(file.final)) for file in self.files]

    def _ordered(self, parts: Sequence[pl.DataFrame]) -> pl.DataFrame:
        if not parts:
            return pl.DataFrame(schema=dict.fromkeys(self._titles, pl.String))
        rows = in_order(self._plan, parts) if self._plan.sort else pl.concat(parts)
        return rows.select(self._titles)

    def _before(self, before: pl.DataFrame, wanted: pl.DataFrame) -> pl.DataFrame:
        """Records as they were, in the order of those wanted; fields that the layout did not have then are blank."""
        layout = self._plan.layout
        known = in_layout(before, layout).with_columns(layout.key_rule.whole(pl.col(KEY)).alias(_ID))
        known = known.unique(_ID, keep="last")
        return wanted.join(known, on=_ID, how="inner", maintain_order="left").select(self._titles)

    def _with_keys(self, gone: pl.DataFrame) -> pl.DataFrame:
        if len(self._keys) == 1:
            return gone.rename({KEY: self._keys[0]})
        parts = pl.col(KEY).str.split(BETWEEN)
        return gone.select(parts.list.get(n).alias(title) for n, title in enumerate(self._keys))

    def _changed_columns(self) -> list[str]:
        """Which columns the file of changes has: all, or the key and those that changed in any record, as the layout says."""
        if not self._plan.layout.changed_fields_only:
            return self._titles
        changed = {one.field for one in self.fields}
        return [title for title in self._titles if title in changed or title in self._keys]

    def _write(self, name: str, titles: list[str], rows: pl.DataFrame) -> None:
        layout = self._plan.layout
        titles, rows = with_action(layout, name, titles, rows)
        file = self._outputs.create(set_file(self._move, self._plan.name, layout, name))
        records = RecordFile(file, sink_of(layout).writer(layout, titles))
        records.write(rows)
        records.close()
        parts = PartFiles(self._outputs, file.final, titles, layout)
        parts.write(rows)
        self.files += [file, *parts.close()]


def set_file(move: Move, name: str, layout: Layout, which: str) -> Path:
    """Where a set of a list stands."""
    whole = built_file(move, name, layout)
    return whole.with_name(f"{name}.{which}{whole.suffix}")


def leavers_file(move: Move, plan: Plan) -> Path:
    """Where the leavers of a list stand."""
    return move.out / f"{plan.name}.leavers.csv"


def take_away(move: Move, plan: Plan, outputs: Outputs, *, leavers: bool, sets: bool) -> None:
    """Take the files of an earlier run away that are not made again: leavers, and what is new, changed and gone."""
    if leavers:
        outputs.remove(leavers_file(move, plan))
    for which in (*_SETS, *(f"undo-{one}" for one in _SETS)) if sets else ():
        whole = set_file(move, plan.name, plan.layout, which)
        outputs.remove(whole)
        for part in parts_beside(whole):
            outputs.remove(part)
