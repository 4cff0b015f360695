"""The public JSON shapes of what is remembered: records, runs, hand-overs, key books."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

from mudanza.core.work.shapes.common import (
    Shape,
    all_of,
    of,
)

if TYPE_CHECKING:
    from mudanza.core.state.ledger import Run
    from mudanza.core.state.loans import Noted
    from mudanza.core.work.again.handing_over import HandedOver, TargetList
    from mudanza.core.work.keys import BookFacts, EnteredNow, FoundKeys
    from mudanza.core.work.ledger_copies import OlderLedger
    from mudanza.core.work.take_back import TakenBack
    from mudanza.core.work.trace import Trace, Traces


def trace_shape(key: str, traces: Traces) -> Shape:
    """A record's story in the lists that have it, the lists that could not be looked through, and those that were not any more."""
    failed = [name for name, _ in traces.failed]
    found = [_traced_shape(one) for one in traces.found]
    return {"key": key, "found": found, "not_looked_through": failed, "left": traces.left}


def _traced_shape(one: Trace) -> Shape:
    rows = [
        {
            **of(row, "source file unit line columns keep end rule"),
            "fields": [
                {**of(f, "name title flow"), "steps": all_of(f.steps, "text value depth"), **of(f, "written entries")}
                for f in row.fields
            ],
            **of(row, "keys findings"),
        }
        for row in one.rows
    ]
    return {
        **of(one, "list_name key"),
        "rows": rows,
        "damaged": one.damaged,
        "went": [[of(went, "run file how"), moment] for went, moment in one.went],
        "handed_over": [
            {**of(over, "run build moment by taken_back"), "became": became, "there": there}
            for over, became, there in one.told
        ],
        "changes": one.changes,
        "related": all_of(one.related, "list_name to fields count keys"),
        "goes_with": one.goes_with,
    }


def run_shape(run: Run) -> Shape:
    """A run as the ledger remembers it."""
    return of(run, "id command subject started ended state as_of counts read written")


def ledger_shape(runs: Sequence[Run], books: Mapping[str, int]) -> Shape:
    """The runs, and how many identifiers each key book has given out."""
    return {"runs": [run_shape(run) for run in runs], "key_books": books}


def handed_over_shape(done: HandedOver, *, taken_back: bool) -> Shape:
    """A hand-over, or one that was taken back."""
    lists = [
        {
            "list": one.list_name,
            **of(one, "how taken removed rejected unmentioned nameless"),
            "examples": [{"key": key, "outcome": outcome} for key, outcome in one.examples],
            **of(one, "unknown in_target"),
        }
        for one in done.lists
    ]
    return {**of(done, "run build"), "taken_back": taken_back, "lists": lists, "without_key": done.without_key}


def target_shape(held: Sequence[TargetList]) -> Shape:
    """What the target holds, as far as hand-overs tell."""
    lists = [
        {
            "list": one.list_name,
            **of(one, "records left waiting of_loans"),
            "hand_overs": all_of(one.overs, "run build how anew moment by note counts taken_back"),
        }
        for one in held
    ]
    return {"lists": lists}


def key_books_shape(books: Sequence[BookFacts]) -> Shape:
    """The key books of a move."""
    return {"key_books": all_of(books, "name pattern known given entered")}


def found_keys_shape(found: FoundKeys) -> Shape:
    """Old identifiers that were looked for."""
    names = ("run", "how", "because", "who", "before")
    keys = [
        {**of(one, "old new"), "entries": [dict(zip(names, entry, strict=True)) for entry in one.entries]}
        for one in found.keys
    ]
    return {"count": found.count, "found": keys}


def entered_shape(done: EnteredNow) -> Shape:
    """What was entered into a key book."""
    examples = [{"old": old, "new": new, "before": before} for old, new, before in done.examples]
    return {**of(done, "run book how count same blank"), "examples": examples}


def taken_back_shape(done: TakenBack) -> Shape:
    """A build that was taken back."""
    return {"run": done.run, "taken_back": done.build, "key_books": done.keys, "files": done.files}


def older_ledger_shape(done: OlderLedger) -> Shape:
    """A ledger that is used although it does not know what the project's files tell."""
    return {**of(done, "run reserved loans lists"), "unknown": all_of(done.unknown, "place what run")}


def loans_shape(loans: Sequence[Noted]) -> list[Shape]:
    """The loans of a move."""
    return [{"loan": one.id, **of(one, "subject lent state"), "whom": one.detail.get("whom")} for one in loans]
