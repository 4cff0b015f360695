"""Headers and their lines, which go together as the plan of the lines says: settled before any of them is written."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace

import polars as pl

from mudanza.core.documents.errors import MoveError, MudanzaError, Place
from mudanza.core.engine.intake import SAID_BEFORE, said_before
from mudanza.core.findings.codes import CODES
from mudanza.core.layouts.layout import Layout
from mudanza.core.plans.move import Move
from mudanza.core.plans.plan import Plan
from mudanza.core.plans.plan_reading import load_plan
from mudanza.core.plans.together import ALL, EACH, Together
from mudanza.core.values.kinds import Kind, plain_text
from mudanza.core.values.row_columns import WHERE, WHY
from mudanza.core.work.order import needed_by
from mudanza.core.work.references import Target, referred_ids, targets_of
from mudanza.core.work.settling import PLACE, Asked, Listed, Tried, tried
from mudanza.core.work.tables_at_hand import TablesAtHand

Lists = Sequence[Listed]
INCOMPLETE, DIFFERS = "together.incomplete", "together.differs"
#: what is wrong with a header, by what it is referred to by: the finding, and what it speaks of
_DOOMED = ("id", "code", "subject", "value", "rule")


@dataclass(frozen=True)
class _Pair:
    """Lines and their headers: the plan of the lines, what it says, the list of the headers and its layout, and how lines refer to it."""

    lines: Plan
    says: Together
    header: str
    layout: Layout
    target: Target

    def doomed(self, made: Mapping[str, Tried]) -> pl.DataFrame:
        """Headers that cannot go whole (of `_DOOMED`)."""
        held = referred_ids(made[self.lines.name].held, self.target.fields, self.target, place=PLACE, why=WHY)
        told = {
            "code": pl.lit(INCOMPLETE),
            "subject": pl.lit(self.lines.name),
            "value": pl.col("place"),
            "rule": pl.format("written; it is held back: {}", "why"),
        }
        incomplete = held.select("id", **told)
        return pl.concat([incomplete, self.differing(made)]).unique("id", keep="first", maintain_order=True)

    def differing(self, made: Mapping[str, Tried]) -> pl.DataFrame:
        """Headers whose total is not the sum of their lines; none if that is not asked."""
        says, layout = self.says, self.lines.layout
        if says.sum is None or says.total is None:
            return pl.DataFrame(schema=dict.fromkeys(_DOOMED, pl.String))
        one, other = layout.field_named(says.sum), self.layout.field_named(says.total)
        lines = referred_ids(made[self.lines.name].written, self.target.fields, self.target, amount=one.title)
        sums = lines.group_by("id").agg(one.type.read(pl.col("amount")).sum().alias("sum"))
        headers = referred_ids(made[self.header].written, self.target.titles, self.target, total=other.title)
        totals = headers.select("id", other.type.read(pl.col("total")).alias("total"))
        both = totals.join(sums, on="id", how="left", maintain_order="left").with_columns(pl.col("sum").fill_null(0))
        total, summed = (plain_text(pl.col(name), Kind.NUMBER) for name in ("total", "sum"))
        told = {
            "code": pl.lit(DIFFERS),
            "subject": pl.lit(other.title),
            "value": total,
            "rule": pl.format(
                "{}, the sum of {} of its lines in {}", summed, pl.lit(one.title), pl.lit(self.lines.name)
            ),
        }
        return both.filter(pl.col("total") != pl.col("sum")).select("id", **told)

    def said(self, made: Mapping[str, Tried]) -> dict[str, pl.DataFrame]:
        """What is said of rows that cannot go, by list."""
        doomed = self.doomed(made)
        # lines are told of which header they are, and what is wrong with it
        value = pl.when(pl.col("code") == DIFFERS).then(pl.format("{} {}", "subject", "value")).otherwise("value")
        referring = pl.lit(", ".join(self.target.fields))
        of_lines = doomed.with_columns(
            pl.lit(INCOMPLETE).alias("code"), value.alias("value"), referring.alias("subject")
        )
        lines = _said(made[self.lines.name].written, self.target.fields, self.target, of_lines)
        if self.says.goes != ALL:
            return {self.lines.name: lines}
        headers = _said(made[self.header].written, self.target.titles, self.target, doomed)
        return {self.lines.name: lines, self.header: headers}


def settle_together(move: Move, lists: Lists, tables: TablesAtHand, asked: Asked) -> Lists:
    """Lists with what is said of their rows that cannot go since others do not that belong to them. They are made on trial until no more are found.

    Raises MoveError where headers are made and their lines are not, or the other way round.
    """
    plans = {one.plan.name: one.plan for one in lists}
    pairs = [pair for plan in plans.values() for pair in _pairs(move, plan, plans, tables)]
    _check_whole(move, plans, tables)
    if not pairs:
        return lists
    involved = needed_by(list(plans.values()), {name for pair in pairs for name in (pair.lines.name, pair.header)})
    nothing = pl.DataFrame(schema=SAID_BEFORE)
    said = dict.fromkeys(plans, nothing)
    while True:
        trial = tables.trial()
        made = {
            one.plan.name: tried(move, with_said(one, said), trial, asked) for one in lists if one.plan.name in involved
        }
        found = 0
        for pair in pairs:
            for name, rows in pair.said(made).items() if pair.says.goes != EACH else ():
                more = rows.join(said[name], on=WHERE, how="anti", maintain_order="left")
                said[name] = pl.concat([said[name], more])
                found += more.height
        if not found:
            break
    for pair in pairs:
        if pair.says.goes == EACH:
            # told, and written all the same
            headers = made[pair.header].written
            told = _said(headers, pair.target.titles, pair.target, pair.differing(made))
            of_field = {"field": pl.col("column"), "column": pl.lit(None, dtype=pl.String)}
            said[pair.header] = pl.concat([said[pair.header], told.with_columns(**of_field)])
    settled = {name: one.lost for name, one in made.items()}
    return [replace(with_said(one, said), lost=settled.get(one.plan.name)) for one in lists]


def with_said(one: Listed, said: Mapping[str, pl.DataFrame]) -> Listed:
    """A list with what is said of its rows (of `SAID_BEFORE`), by list."""
    return replace(one, intake=one.intake.with_said(said[one.plan.name])) if one.plan.name in said else one


def _pairs(move: Move, plan: Plan, plans: Collection[str], tables: TablesAtHand) -> list[_Pair]:
    found = []
    for says in (one for one in plan.together if one.asks):
        target = next(one for one in targets_of(plan, tables) if one.reference.fields == says.fields)
        at = ("together", ", ".join(says.fields))
        if target.list is None or target.layout is None:
            raise plan.error(
                f"no list of this move makes {target.reference.resource}, so nothing is known of headers.", at
            )
        if target.list not in plans:
            raise _apart(move, plan, target.list, plan.name)
        if says.total is not None:
            total = next((one for one in target.layout.fields if one.name == says.total), None)
            if total is None or total.kind is not Kind.NUMBER:
                numbers = ", ".join(one.name for one in target.layout.fields if one.kind is Kind.NUMBER)
                raise plan.error(
                    f"{target.list} has no number {says.total!r}.", at, f"Its numbers are: {numbers or 'none'}."
                )
        found.append(_Pair(plan, says, target.list, target.layout, target))
    return found


def _check_whole(move: Move, plans: Collection[str], tables: TablesAtHand) -> None:
    """Raise where the lines of a list that is made are not made with it."""
    for other in _others(move, plans):
        headers = [header for header, _ in _headers(other, tables) if header in plans]
        if headers:
            raise _apart(move, other, headers[0], headers[0])


def goes_with(move: Move, plan: Plan, tables: TablesAtHand) -> list[str]:
    """The lists whose rows can keep rows of a list from going, so that a build alone knows whether one goes."""
    found = [header for header, says in _headers(plan, tables) if says.goes != EACH]
    for other in _others(move, [plan.name]):
        found += [other.name for header, says in _headers(other, tables) if header == plan.name and says.goes == ALL]
    return list(dict.fromkeys(found))


def _others(move: Move, plans: Collection[str]) -> Iterator[Plan]:
    """The plans of other lists, as far as they can be read: of one that is not finished nothing is known."""
    for name in move.names("plans", ".toml"):
        other = None
        with suppress(MudanzaError):
            other = load_plan(move, name) if name not in plans else None
        if other is not None:
            yield other


def _headers(lines: Plan, tables: TablesAtHand) -> list[tuple[str, Together]]:
    """The lists that lines go together with, as their plan says."""
    if not lines.together:
        return []
    lists = {one.reference.fields: one.list for one in targets_of(lines, tables)}
    return [(header, says) for says in lines.together if says.asks and (header := lists.get(says.fields)) is not None]


def _apart(move: Move, lines: Plan, header: str, made: str) -> MoveError:
    line = lines.document.place(("together",)).line
    return MoveError(
        f"{header} and {lines.name} go together, and only {made} was to be built.",
        place=Place(move.shown(lines.path), line),
        hint=f"Build both: mudanza build {header} {lines.name}.",
    )


def _said(rows: pl.DataFrame, titles: Sequence[str], target: Target, doomed: pl.DataFrame) -> pl.DataFrame:
    """What is said of records (of `SAID_BEFORE`) whose id is `doomed`: they are held back."""
    named = (
        referred_ids(rows, titles, target, where=WHERE)
        .rename({"where": WHERE})
        .join(doomed, on="id", maintain_order="left")
    )
    hint = pl.col("code").replace_strict({code: CODES[code].next for code in (INCOMPLETE, DIFFERS)})
    told = {name: pl.col(name) for name in ("code", "value", "rule")}
    return said_before(named, column=pl.col("subject"), hint=hint, **told)
