"""A list made ready: its plan read, its sources opened, its recipe assembled."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from datetime import date

from mudanza.core.documents.errors import MoveError, MudanzaError, Place, few, nearest
from mudanza.core.engine.assembling import assemble, check_columns
from mudanza.core.engine.expectations import check_expectations
from mudanza.core.engine.intake import Intake, open_sources
from mudanza.core.engine.late import Memory
from mudanza.core.engine.recipe import Recipe
from mudanza.core.engine.repeats import SeenKeys
from mudanza.core.findings.finding import Finding
from mudanza.core.language.own_steps import steps_of
from mudanza.core.language.value import Surroundings
from mudanza.core.plans.move import Move
from mudanza.core.plans.plan import Plan
from mudanza.core.plans.plan_reading import load_plan
from mudanza.core.state.evidence import ledger_of
from mudanza.core.tables.by_hand import KEY_COLUMN, ByHand
from mudanza.core.values.row_columns import FILE, SOURCE
from mudanza.core.work.references import Lost, references_of
from mudanza.core.work.tables_at_hand import TablesAtHand


@dataclass(frozen=True)
class Prepared:
    """A list made ready to be run: `around` is what its flows may refer to, `tables` where that comes from."""

    move: Move
    plan: Plan
    intake: Intake
    recipe: Recipe
    around: Surroundings
    tables: TablesAtHand
    #: what can be said before a row is read
    found: Sequence[Finding] = ()

    def memory(self) -> Memory:
        """A memory of its own: the books as they are now, and no keys seen."""
        books = {name: self.tables.book(name) for name in self.recipe.books}
        return Memory(books, SeenKeys())

    def trial(self) -> Memory:
        """A memory that may be forgotten: what is given out in it is not given out."""
        return Memory({name: self.tables.book(name).copy() for name in self.recipe.books}, SeenKeys())


def prepare(
    move: Move,
    name: str,
    *,
    as_of: date | None = None,
    parameters: Mapping[str, str] | None = None,
    draft: bool = False,
    watch: bool = False,
    refer: bool = False,
    for_few: bool = False,
    quick: bool = False,
) -> Prepared:
    """Read a plan (which may be unfinished, if it is a `draft`), open its sources, assemble its recipe; if it is to `refer`, with a look at where references lead;
    if it is `for_few` rows, without holding whole lookups; if `quick`, with those columns that the first records of a source have, if they are enough.

    Raises MudanzaError where anything of it is wrong, with its place.
    """
    plan = load_plan(move, name, draft=draft)
    tables = TablesAtHand(move, ledger_of(move), for_few=for_few)

    def ready(*, first: bool) -> Prepared:
        intake = open_sources(plan, move, quick=first)
        return assembled(move, plan, intake, tables, as_of, parameters, watch=watch, refer=refer)

    if quick:
        # what is asked for may first stand further down
        with suppress(MudanzaError):
            return ready(first=True)
    return ready(first=False)


def _check_by_hand(by_hand: ByHand, intake: Intake) -> None:
    """Raise where rows are to be found by a column that no source has."""
    known = [KEY_COLUMN, SOURCE, FILE, *intake.columns]
    for one in by_hand.said:
        for column, _ in one.by:
            if column not in known:
                near = nearest(column, known)
                hint = f"Did you mean {near!r}?" if near else f"There are: {few(known)}."
                raise MoveError(f"no source has a column {column!r}.", place=Place(one.file, 1), hint=hint)


def assembled(
    move: Move,
    plan: Plan,
    intake: Intake,
    tables: TablesAtHand,
    as_of: date | None,
    parameters: Mapping[str, str] | None,
    *,
    watch: bool = False,
    refer: bool = False,
    named: bool = False,
    lost: Lost | None = None,
) -> Prepared:
    """A plan whose sources are open, with its recipe."""
    around = tables.around(plan, as_of or date.today(), parameters or {})
    _check_by_hand(around.by_hand, intake)
    references, found = references_of(plan, tables, lost) if refer else ([], [])
    recipe = assemble(
        plan,
        intake.columns,
        around,
        steps_of(move.folder, move.own_steps),
        sources=intake.source_names,
        references=references,
        watch=watch,
        named=named,
    )
    check_columns(plan, recipe, intake.headings)
    check_expectations(plan, intake.columns)
    return Prepared(move, plan, intake, recipe, around, tables, found)
