"""What is written when all lists of a build are made: headers with their lines, the description of all files; and what goes that is not made any more."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

import polars as pl

from mudanza.core.disk.files import Outputs
from mudanza.core.layouts.csvw import DESCRIPTION, metadata_of_all
from mudanza.core.plans.move import Move
from mudanza.core.plans.plan import Plan
from mudanza.core.sinks.formats import built_file, sink_of
from mudanza.core.state.ledger import Ledger
from mudanza.core.work.results import ListResult
from mudanza.core.work.tables_at_hand import TablesAtHand
from mudanza.core.work.with_lines import WITH_LINES, lists_within, write_with_lines


def with_lines(
    move: Move, plans: Sequence[Plan], tables: TablesAtHand, results: Sequence[ListResult], outputs: Outputs
) -> list[ListResult]:
    """Write headers with their lines, of what was just written; and the results with those files."""
    by_name = {plan.name: plan for plan in plans}
    made = []
    for result in results:
        plan = by_name[result.name]
        lines = lists_within(plan, by_name, tables)
        if lines:
            whole = built_file(move, plan.name, plan.layout)
            rows = [(one, _just_written(move, one.plan, outputs)) for one in lines]
            files = write_with_lines(plan, _just_written(move, plan, outputs), rows, whole, outputs)
            digests = [file.digest(move.shown(file.final)) for file in files]
            result = replace(result, files=[*result.files, *digests])
        made.append(result)
    return made


def _just_written(move: Move, plan: Plan, outputs: Outputs) -> pl.DataFrame:
    """The records of a list that are written, and not yet in their place."""
    path = built_file(move, plan.name, plan.layout).absolute()
    file = next(one for one in outputs.files if one.final == path)
    file.close()
    return sink_of(plan.layout).read(file.part, plan.layout, move.shown(path))


def describe_all(move: Move, plans: Sequence[Plan], tables: TablesAtHand, outputs: Outputs) -> None:
    """Write what describes all files that are to be imported, with the references between them, if there are several."""
    made = {plan.name: plan.layout for plan in plans}
    there = {name: one for name, one in tables.layouts.items() if built_file(move, name, one).is_file()}
    written = {
        name: (one, built_file(move, name, one).name)
        for name, one in sorted({**there, **made}.items())
        if one.form.is_delimited
    }
    path = move.out / DESCRIPTION
    if len(written) > 1:
        outputs.create_text(path, metadata_of_all(written))
    else:
        outputs.remove(path)


def take_away_other_forms(move: Move, ledger: Ledger, results: Sequence[ListResult], outputs: Outputs) -> None:
    """Take away what the build before wrote of lists whose files have another form since."""
    before: dict[str, list[str]] = {}
    for run in ledger.runs(command="build"):
        if run.state == "done":
            made: dict[str, list[str]] = {}
            for file in run.written:
                made.setdefault(str(file.get("list")), []).append(Path(str(file["path"])).name)
            before = {**made, **before}
    for one in results:
        now = [Path(file.path).name for file in one.files]
        names = before.get(one.name, now)
        for name in set(names) - set(now):
            if names[0] != now[0] or WITH_LINES in name:
                outputs.remove(move.out / name)
