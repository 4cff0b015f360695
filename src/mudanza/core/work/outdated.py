"""Whether lists that another needs are still what their plans and sources make: what a list was built from, and what of it has changed since."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from pathlib import Path
from typing import Any

from mudanza.core.documents.errors import few
from mudanza.core.findings.finding import Finding
from mudanza.core.plans.move import Move
from mudanza.core.plans.plan import Plan
from mudanza.core.state.ledger import Run
from mudanza.core.values.digest import Digest, digest_of
from mudanza.core.work.order import looked_up_lists
from mudanza.core.work.references import targets_of
from mudanza.core.work.tables_at_hand import TablesAtHand


def made_by(move: Move, plan: Plan, crosswalks: Iterable[str]) -> list[Digest]:
    """What a list is made by, beside its sources: plan, layout and crosswalks."""
    paths = [plan.path, plan.layout.path, *(move.crosswalk_path(name) for name in dict.fromkeys(crosswalks))]
    return [digest_of(path, move.shown(path)) for path in paths if path.is_file()]


def outdated(plan: Plan, tables: TablesAtHand) -> list[Finding]:
    """A finding for each list that a plan looks up in or refers to, that is not built in this run, and was built from other files than there are now."""
    referred = {target.list for target in targets_of(plan, tables)} - {None, plan.name}
    needed = sorted(looked_up_lists(plan) | {name for name in referred if name is not None})
    needed = [name for name in needed if not tables.is_made(name) and not tables.is_to_come(name)]
    if not needed:
        return []
    runs = [run for run in tables.ledger.runs() if run.command == "build" and run.state == "done"]
    found = []
    for name in needed:
        last = next((run for run in runs if name in run.subject.split(", ")), None)
        changed = _changed(tables.move, last, name) if last is not None else []
        if last is not None and changed:
            rule = f"as it was built in run {last.id}; since then other: {few(changed)}"
            found.append(Finding("list.outdated", tables.move.shown(plan.path), value=name, rule=rule))
    return found


def _changed(move: Move, run: Run, name: str) -> list[str]:
    began = datetime.fromisoformat(run.started).timestamp()
    return [one["path"] for one in run.read if one.get("list") == name and _is_other(move, one, began)]


def _is_other(move: Move, noted: dict[str, Any], began: float) -> bool:
    """Whether a file is another than the one that was read. One that nobody wrote to since is not read through."""
    path = _file(move, noted["path"])
    if path is None:
        return False
    facts = path.stat()
    if facts.st_size != noted["size"]:
        return True
    return facts.st_mtime >= began and digest_of(path).sha256 != noted["sha256"]


def _file(move: Move, shown: str) -> Path | None:
    """The file that was read; what is no file, or a part of one that is gone, has none."""
    # a table of a file stands behind it in brackets
    paths = (move.path(shown), move.path(shown.rpartition(" [")[0] or shown))
    return next((path for path in paths if path.is_file()), None)
