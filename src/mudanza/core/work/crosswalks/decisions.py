"""Crosswalk files written: proposals added, entries confirmed; all else stays as it stands."""

from __future__ import annotations

import csv
import io
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from mudanza.core.disk.files import Outputs
from mudanza.core.documents.errors import MoveError, Place
from mudanza.core.plans.crosswalk_files import entries_of
from mudanza.core.plans.move import Move
from mudanza.core.sources.opening import open_source
from mudanza.core.sources.reader import ReadOptions
from mudanza.core.tables.crosswalk import PROPOSED
from mudanza.core.work.crosswalks.codes import CodesOf


@dataclass(frozen=True)
class Decision:
    """What a person decided about a code: its target (blank for none), and a note."""

    to: str
    note: str = ""


def propose_entries(move: Move, codes: CodesOf) -> int:
    """Write the codes that no entry covers into the crosswalk as proposals, which no build uses; gives how many were added."""
    with move.files.lock():
        known = {(e.code, *e.when) for e in entries_of(codes.path)}
        fresh = [c for c in codes.open if c.values not in known]
        added = {c.values: Decision(c.proposal or "", c.because or "") for c in fresh}
        if added:
            _save(move, codes.path, _rewritten(codes, added, PROPOSED)[1])
    return len(added)


def decide(move: Move, codes: CodesOf, decisions: Mapping[tuple[str, ...], Decision]) -> None:
    """Write what a person decided, as confirmed. Raises MoveError for a target that the layout does not permit."""
    with move.files.lock():
        if decisions:
            _save(move, codes.path, decided_text(codes, decisions)[1])


def decided_text(codes: CodesOf, decisions: Mapping[tuple[str, ...], Decision]) -> tuple[bytes, str]:
    """The crosswalk's bytes as they are, and its text with what a person decided, as confirmed. Raises MoveError for a target that the layout does not permit."""
    permitted = {t.code for t in codes.targets}
    for values, decision in decisions.items():
        if decision.to and permitted and decision.to not in permitted:
            raise MoveError(
                f"the target has no code {decision.to!r} (for {', '.join(values)}).",
                place=Place(str(codes.path)),
                hint=f"It has: {', '.join(sorted(permitted))}.",
            )
    return _rewritten(codes, decisions, "confirmed")


def _rewritten(codes: CodesOf, decisions: Mapping[tuple[str, ...], Decision], state: str) -> tuple[bytes, str]:
    """The file's bytes, and its text with decisions in their lines, or in new ones. Lines that nothing was decided about keep their texts."""
    facts = open_source(codes.path, ReadOptions(heading=1, exact=True)).facts
    delimiter = facts.delimiter or ","
    raw = codes.path.read_bytes()
    text = raw.decode(facts.encoding or "utf-8")
    rows = [row for row in csv.reader(io.StringIO(text.removeprefix("\ufeff"), newline=""), delimiter=delimiter) if row]
    heading = [h.strip() for h in rows[0]]
    for wanted in ("state", "note"):
        if wanted not in heading:
            heading.append(wanted)
    keys = [heading.index(c) for c in codes.columns]
    upto = heading.index("upto") if "upto" in heading else None
    written, left = [heading], dict(decisions)
    for row in rows[1:]:
        cells = [*row, *[""] * (len(heading) - len(row))]
        values = tuple(cells[k].strip() for k in keys)
        decision = None if upto is not None and cells[upto].strip() else left.pop(values, None)
        if decision is not None:
            _fill(cells, heading, decision, state)
        written.append(cells)
    for values, decision in left.items():
        cells = [""] * len(heading)
        for place, value in zip(keys, values, strict=True):
            cells[place] = value
        _fill(cells, heading, decision, state)
        written.append(cells)
    out = io.StringIO()
    csv.writer(out, delimiter=delimiter, lineterminator="\n").writerows(written)
    return raw, out.getvalue()


def _fill(cells: list[str], heading: list[str], decision: Decision, state: str) -> None:
    cells[heading.index("to")] = decision.to
    cells[heading.index("state")] = state
    if decision.note or state == "confirmed":
        cells[heading.index("note")] = decision.note


def _save(move: Move, path: Path, text: str) -> None:
    with Outputs(move.files) as outputs:
        outputs.create_text(path, text)
        outputs.publish()
