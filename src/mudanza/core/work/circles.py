"""Lists that need each other in a circle: one of them is imported first without what it says of the others, and what it says of them comes behind them."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace

import polars as pl

from mudanza.core.disk.files import Outputs
from mudanza.core.engine.intake import SAID_BEFORE, said_before
from mudanza.core.engine.local import Part, in_order
from mudanza.core.findings.codes import CODES
from mudanza.core.findings.finding import Finding
from mudanza.core.plans.move import Move
from mudanza.core.plans.plan import Plan
from mudanza.core.sinks.formats import RecordFile, sink_of
from mudanza.core.values.digest import Digest
from mudanza.core.values.row_columns import WHERE
from mudanza.core.work.again.sets import set_file
from mudanza.core.work.behind import Behind
from mudanza.core.work.order import Circle, books_of, needed_by
from mudanza.core.work.settling import Asked, Listed, tried
from mudanza.core.work.tables_at_hand import TablesAtHand
from mudanza.core.work.together import Lists, with_said

FIRST, SECOND = "first", "second"
_CODE = "reference.circle"


@dataclass(frozen=True)
class Turn:
    """A list whose turn it is, the circle that it was made first of, and what of it comes `behind` others, if it was made without that before."""

    listed: Listed
    circle: Circle | None = None
    behind: Behind | None = None


def settle_circles(
    move: Move, lists: Lists, circles: Mapping[str, Circle], tables: TablesAtHand, asked: Asked
) -> Lists:
    """Lists with what is said of rows that cannot go in a first pass, since they are held back for what they say of others. They are made on trial until no more are found."""
    broken = {name for name, one in circles.items() if one.late}
    if not broken:
        return lists
    around = {name for one in broken for name in circles[one].way}
    involved = needed_by([one.plan for one in lists], around)
    said = {name: pl.DataFrame(schema=SAID_BEFORE) for name in broken}
    # what was settled before does not know of the circle
    lists = [replace(one, lost=None) if one.plan.name in involved else one for one in lists]
    while True:
        trial = tables.trial()
        first, whole = {}, {}
        for one in lists:
            name = one.plan.name
            if name in broken:
                first[name] = tried(move, _without(with_said(one, said), circles[name].late), trial, asked)
            elif name in involved:
                whole[name] = tried(move, one, trial, asked)
        found = 0
        for one in (one for one in lists if one.plan.name in broken):
            name = one.plan.name
            whole[name] = tried(move, one, trial, asked)
            written = first[name].written.select(WHERE)
            lost = written.join(whole[name].written, on=WHERE, how="anti", maintain_order="left")
            # they are held back in the first pass, too; the second tells why
            more = said_before(lost, code=pl.lit(_CODE), column=pl.lit(_CODE), hint=pl.lit(CODES[_CODE].next))
            said[name] = pl.concat([said[name], more])
            found += lost.height
        if not found:
            break
    return [
        replace(
            with_said(one, said),
            lost=whole[one.plan.name].lost if one.plan.name in whole else one.lost,
            lost_first=first[one.plan.name].lost if one.plan.name in first else None,
        )
        for one in lists
    ]


def in_turn(
    move: Move, lists: Lists, circles: Mapping[str, Circle], tables: TablesAtHand, asked: Asked
) -> Iterator[Turn]:
    """Lists as they are to be made, each as soon as all is there that it needs; first passes are made on the way, which give out identifiers."""
    waiting: dict[str, Turn] = {}
    there: set[str] = set()
    for one in lists:
        plan = one.plan
        there.add(plan.name)
        if _is_broken(circles, plan):
            late = circles[plan.name].late
            given = {name: tables.book(name).given for name in sorted(books_of(plan, "mint"))}
            tried(move, replace(_without(one, late), lost=one.lost_first), tables, asked)
            titles = tuple(plan.layout.field_named(name).title for name in late)
            whole = replace(one, intake=one.intake.without_said(_CODE))
            waiting[plan.name] = Turn(whole, circles[plan.name], Behind(titles, given))
        else:
            yield Turn(one, circles.get(plan.name))
        for name in [name for name in waiting if there >= set(circles[name].later)]:
            yield waiting.pop(name)


def told(move: Move, plan: Plan, circle: Circle | None) -> list[Finding]:
    """The finding on a list that is needed by what it needs."""
    if circle is None:
        return []
    shown = move.shown(plan.path)
    way = " -> ".join(circle.way)
    if not circle.late:
        fields = ", ".join(plan.layout.field_named(name).title for name in circle.needed)
        return [
            Finding(
                _CODE,
                shown,
                field=fields,
                value=way,
                rule="a field that may be blank at first; this one is known as the last build left it",
            )
        ]
    fields = ", ".join(plan.layout.field_named(name).title for name in circle.late)
    order = f"{plan.name}.{FIRST}, then {', '.join(circle.way[1:-1])}, then {plan.name}.{SECOND}"
    return [Finding(_CODE, shown, field=fields, value=way, rule=f"imported in this order: {order}")]


class PassFiles:
    """The files of a list that is imported in two passes: the records without what they say of later lists, and the key with just that."""

    def __init__(self, move: Move, plan: Plan, outputs: Outputs, behind: Behind) -> None:
        self._move, self._plan = move, plan
        self._to_sort: list[pl.DataFrame] = []
        layout = plan.layout
        titles = [one.title for one in layout.fields]
        later = [title for title in titles if title in layout.key_titles or title in behind.titles]
        self._first, self._second = (
            outputs.create(set_file(move, plan.name, layout, which)) for which in (FIRST, SECOND)
        )
        rows = sink_of(layout).writer
        self._records = (
            (RecordFile(self._first, rows(layout, titles)), behind.without),
            (RecordFile(self._second, rows(layout, later)), behind.with_more),
        )

    def take(self, part: Part) -> None:
        """Write a part, or keep its records until all are there to be sorted."""
        if self._plan.sort:
            self._to_sort.append(part.written)
        else:
            self._write(part.written)

    def close(self) -> None:
        """Write what was still to come."""
        if self._to_sort:
            self._write(in_order(self._plan, self._to_sort))
        for file, _ in self._records:
            file.close()

    def _write(self, records: pl.DataFrame) -> None:
        for file, chosen in self._records:
            file.write(chosen(self._plan, records))

    def digests(self) -> list[Digest]:
        """What was written."""
        return [file.digest(self._move.shown(file.final)) for file in (self._first, self._second)]


def take_away_passes(move: Move, plan: Plan, outputs: Outputs) -> None:
    """Take the files of two passes of an earlier run away."""
    for which in (FIRST, SECOND):
        outputs.remove(set_file(move, plan.name, plan.layout, which))


def _is_broken(circles: Mapping[str, Circle], plan: Plan) -> bool:
    return plan.name in circles and bool(circles[plan.name].late)


def _without(one: Listed, late: Sequence[str]) -> Listed:
    """A list whose plan says nothing of some fields."""
    flows = {name: flow for name, flow in one.plan.flows.items() if name not in late}
    return replace(one, plan=replace(one.plan, flows=flows))
