"""Building lists: one pass over the sources that makes written rows, held-back rows and findings together."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Collection, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from datetime import date

from mudanza.core.disk.files import Outputs
from mudanza.core.documents.errors import MoveError, MudanzaError, Place, counted, few
from mudanza.core.engine.intake import Intake, check_unchanged, open_sources
from mudanza.core.engine.local import Part, run_recipe
from mudanza.core.engine.places import passed_over
from mudanza.core.engine.summary import ENDS, Balance, Summary
from mudanza.core.findings.finding import Finding, frame
from mudanza.core.language.parameters import check_given
from mudanza.core.plans.move import Move
from mudanza.core.plans.plan import Plan
from mudanza.core.plans.plan_reading import load_plan
from mudanza.core.state.contents import KEY, RECORD, NewContents
from mudanza.core.state.evidence import given_out, ledger_of
from mudanza.core.state.key_pages import save_book
from mudanza.core.state.ledger import Ledger
from mudanza.core.state.run_values import note_values
from mudanza.core.state.running import Running, running
from mudanza.core.state.sent import sent_by
from mudanza.core.values.digest import Digest, digest_of
from mudanza.core.values.row_columns import CORRECTED, SOURCE_COLUMN
from mudanza.core.work.again.comparing import Difference
from mudanza.core.work.again.sets import take_away
from mudanza.core.work.cascade import cascades
from mudanza.core.work.circles import PassFiles, Turn, in_turn, settle_circles, take_away_passes, told
from mudanza.core.work.collecting import Collector, HandedOn, Kept
from mudanza.core.work.control_totals import control_totals, differing
from mudanza.core.work.difference import compare_builds
from mudanza.core.work.finishing import describe_all, take_away_other_forms, with_lines
from mudanza.core.work.list_files import ListFiles
from mudanza.core.work.order import Circle, in_order_of_need, looked_up_lists
from mudanza.core.work.outdated import made_by, outdated
from mudanza.core.work.prepared import Prepared
from mudanza.core.work.progress import Progress, Tell, quietly
from mudanza.core.work.records.own_files import no_own_files
from mudanza.core.work.references import orphaned, wanted_columns
from mudanza.core.work.results import BuildResult, ControlTotal, ListResult
from mudanza.core.work.settling import Asked, Listed, comparing_of, prepared, settle_own
from mudanza.core.work.shapes import build_shape
from mudanza.core.work.since import Since, refused, since
from mudanza.core.work.tables_at_hand import TablesAtHand
from mudanza.core.work.together import Lists, settle_together
from mudanza.core.work.with_lines import lists_within

#: more columns than these that a source lacks are told together
_FEW = 3


@dataclass(frozen=True)
class _Built:
    """A list that was made: its result, what it is beside the build before, its records that were not there before, what it is to the target, and what looks like a loss that
    nobody has said is meant."""

    result: ListResult
    compared: Since
    contents: NewContents | None
    difference: Difference | None
    losses: Sequence[Finding]

    def note(self, ledger: Ledger, run: int) -> None:
        """Remember it. The ledger must be held by the run."""
        self.compared.note(ledger, run, self.result.files[0].path)
        if self.contents is not None:
            self.contents.note(ledger)
        if self.difference is not None:
            self.difference.note(ledger, run, self.result.name)


def _planned(move: Move) -> list[str]:
    """All lists that have a plan."""
    names = move.names("plans", ".toml")
    if not names:
        raise MoveError("the move has no plan yet.", place=Place("plans"), hint="Draft one: mudanza match LIST.")
    return names


def build(
    move: Move,
    names: Sequence[str],
    *,
    rehearse: bool = False,
    as_of: date | None = None,
    parameters: Mapping[str, str] | None = None,
    tell: Tell = quietly,
    compare: bool = False,
    fewer: bool = False,
    new_identities: bool = False,
    since: int | str | None = None,
) -> BuildResult:
    """Build lists into `out/` (all that have a plan, if none is named), each behind those that it needs. With `rehearse`, do everything and write nothing.

    With `compare`, tell what differs from the files of the build before (all records are then held in memory).

    With `since` (a run, or HANDED_OVER), write beside the whole lists what is new, changed and gone since then.

    A list of which far fewer records are left than the build before wrote is refused, unless `fewer` says that it is meant; likewise one of whose old
    identifiers hardly any comes back, unless `new_identities` says so. A rehearsal tells both as findings.

    `as_of` is the day that `within … days` counts from (today if None). `tell` is told how far it is. Raises MudanzaError where a plan, a file or the ledger is wrong; then nothing is written.
    """
    tell(Progress("opening"))
    ledger = ledger_of(move)
    order = in_order_of_need([load_plan(move, name) for name in names or _planned(move)])
    plans = order.plans
    lists: Lists = [Listed(plan, open_sources(plan, move)) for plan in plans]
    no_own_files(move, {opened.path for one in lists for opened in one.intake.opened})
    to_come = [plan.name for plan in plans]
    tables = TablesAtHand(move, ledger, to_come, since=since)
    meant = frozenset(code for code, said in (("build.fewer", fewer), ("build.new-identities", new_identities)) if said)
    wanted = _wanted(plans, tables)
    asked = Asked(as_of or date.today(), parameters or {}, tell, compare, since is not None, None, meant, wanted)
    # a wrong plan is to be told before the ledger knows of a run; what it looks up in is held only while its list is made
    looked_at = TablesAtHand(move, ledger, to_come, for_few=True, since=since)
    recipes = (prepared(move, one, looked_at, asked).recipe for one in lists)
    asked_for = {name for one in recipes for name in one.mentions.parameters}
    check_given(asked.parameters, asked_for, move.parameters)
    found = looked_at.values(asked.parameters, asked_for)
    for plan in plans:
        lists_within(plan, {one.name: one for one in plans}, looked_at)
    lists = settle_circles(move, settle_together(move, lists, tables, asked), order.circles, tables, asked)
    if rehearse:
        nowhere = Outputs(keep=False)
        results, cost = [], []
        for turn in in_turn(move, lists, order.circles, tables, asked):
            results.append(_build(move, turn, tables, nowhere, asked).result)
            cost += cascades(turn.listed.plan, results[-1], tables)
        return BuildResult(None, asked.as_of, results, found, cost)
    names_built = ", ".join(plan.name for plan in plans)
    with running(ledger, "build", names_built, as_of=asked.as_of.isoformat()) as run:
        outputs = run.outputs
        # another run may have given out identifiers meanwhile
        tables.forget_books()
        found = tables.values(asked.parameters, asked_for)
        note_values(ledger, run.id, found)
        results, cost = [], []
        for turn in in_turn(move, lists, order.circles, tables, replace(asked, run=run.id)):
            made = _build(move, turn, tables, outputs, replace(asked, run=run.id))
            tables.forget_lookups()
            results.append(made.result)
            cost += cascades(turn.listed.plan, made.result, tables)
            if made.losses:
                raise refused(turn.listed.plan, made.losses[0])
            made.note(ledger, run.id)
        tell(Progress("remembering what was built"))
        for book in tables.books.values():
            save_book(ledger, run.id, book)
        results = with_lines(move, plans, tables, results, outputs)
        built = BuildResult(run.id, asked.as_of, results, found, cost, given_out(ledger))
        text = json.dumps(build_shape(built), indent=2, ensure_ascii=False) + "\n"
        outputs.create_text(move.out / "run.json", text)
        describe_all(move, plans, tables, outputs)
        take_away_other_forms(move, ledger, results, outputs)
        _commit(run, results)
    return built


def _wanted(plans: Sequence[Plan], tables: TablesAtHand) -> dict[str, Collection[str]]:
    """The headings of lists that plans look up in, or refer to."""
    wanted: dict[str, Collection[str]] = {**wanted_columns(plans, tables)}
    for name in frozenset[str]().union(*(looked_up_lists(plan) for plan in plans)):
        if name in tables.layouts:
            wanted[name] = [field.title for field in tables.layouts[name].fields]
    return wanted


def _losses(compared: Since, tables: TablesAtHand, asked: Asked) -> list[Finding]:
    """What looks like a loss that nobody has said is meant."""
    found = [compared.new_identities(tables.books), compared.fewer_records()]
    return [one for one in found if one is not None and one.code not in asked.meant]


def _commit(run: Running, results: Sequence[ListResult]) -> None:
    counts = sum((Counter(one.balance.as_dict()) for one in results), Counter())
    run.commit(
        {name: counts[name] for name in ENDS},
        [{**d.as_dict(), "list": one.name} for one in results for d in (*one.read, *one.made_by)],
        [{**d.as_dict(), "list": one.name, "records": one.balance.written} for one in results for d in one.files],
    )


class _TakesContents:
    """Takes written records as they are kept."""

    def __init__(self, contents: NewContents, titles: Sequence[str]) -> None:
        self._contents, self._titles = contents, titles

    def take(self, part: Part) -> None:
        """Take a part."""
        looked_at = [name for name in part.written.columns if name.startswith(SOURCE_COLUMN)]
        written = part.written.select(part.keys.alias(KEY), part.records.alias(RECORD), *self._titles, *looked_at)
        self._contents.take(written)


def _build(move: Move, turn: Turn, tables: TablesAtHand, outputs: Outputs, asked: Asked) -> _Built:
    """Build one list."""
    plan, intake, behind = turn.listed.plan, turn.listed.intake, turn.behind
    # one list after the other: a later one finds the identifiers that an earlier one was given
    given_before = {name: book.given for name, book in tables.books.items()} | dict(behind.given if behind else {})
    asked.tell(Progress(f"building {plan.name}"))
    lost = settle_own(move, turn.listed, tables, outputs, asked)
    ready = prepared(move, turn.listed, tables, asked, refer=True, lost=lost)
    recipe = ready.recipe
    total = Summary({source.name: Balance() for source in plan.sources})
    handed_on, kept = HandedOn.of(ready, asked.wanted), Kept.of(ready, whole=asked.compare)
    before = sent_by(tables.ledger, plan.name)
    comparing = comparing_of(ready, outputs, sets=asked.sets, behind=behind)
    # of an earlier run, and not made again
    take_away(move, plan, outputs, leavers=comparing is None, sets=comparing is None or not asked.sets)
    passes = PassFiles(move, plan, outputs, behind) if behind is not None else None
    if passes is None:
        take_away_passes(move, plan, outputs)
    with ThreadPoolExecutor(1) as helper, ListFiles(move, plan, recipe.titles, intake, outputs) as files:
        contents = None
        if recipe.key and asked.run is not None:
            # without a hand-over it is enough to know what the file does not say
            contents = NewContents(plan.name, asked.run, before["record"], helper, whole=comparing is not None)
        digests = [helper.submit(digest_of, one.path, one.shown) for one in intake.opened if one.path.is_file()]
        takes_contents = _TakesContents(contents, recipe.titles) if contents is not None else None
        asking: list[Collector | None] = [files, passes, comparing, takes_contents]
        collectors = [*(one for one in asking if one is not None), *handed_on.collectors, *kept.collectors]
        for part in run_recipe(plan, recipe, intake, ready.memory()):
            total.merge(part.summary)
            for one in collectors:
                one.take(part)
            asked.tell(Progress(f"building {plan.name}", total.total.read, part.share))
        if passes is not None:
            passes.close()
        asked.tell(Progress(f"closing {plan.name}", total.total.read, 1.0))
        read = [digest.result() for digest in digests] + _read_beside(ready)
        check_unchanged(intake)
        given = {name: book.new().slice(given_before.get(name, 0)) for name, book in tables.books.items()}
        difference = comparing.close() if comparing is not None else None
        if contents is not None and difference is not None and difference.marked.height:
            contents.take(difference.marked)
        compared = since(
            tables.ledger,
            plan,
            move.shown(plan.path),
            intake,
            before,
            kept.sent.rows if kept.sent is not None else None,
            total.total.written,
            total.identities,
            given,
        )
        losses = _losses(compared, tables, asked)
        totals = control_totals(plan, total, difference.left if difference is not None else {})
        made = _Made(ready, total, kept, compared, difference, totals)
        found = frame(made.about(turn.circle, losses, sets=asked.sets))
        total.tally.add(found)
        files.close(found)
        written = [
            *files.digests(move),
            *(passes.digests() if passes else []),
            *(difference.files if difference is not None else []),
        ]
        keys_given = {name: rows.height for name, rows in given.items() if rows.height}
        result = made.result(written, read, keys_given)
    handed_over = difference if asked.sets else None
    handed_on.hand_on(ready, (lambda: handed_over.staying) if handed_over is not None else None)
    if handed_over is not None:
        tables.removed[plan.name] = handed_over.removed
    return _Built(result, compared, contents, difference, losses)


@dataclass(frozen=True)
class _Made:
    """What came of a list's rows: what is counted, what is kept, and what it is beside the build before and to the
    target.
    """

    ready: Prepared
    total: Summary
    kept: Kept
    compared: Since
    difference: Difference | None
    totals: list[ControlTotal]

    def about(self, circle: Circle | None, losses: Sequence[Finding], *, sets: bool) -> list[Finding]:
        """What is said of the list as a whole."""
        plan, shown, tables = self.ready.plan, self.ready.move.shown(self.ready.plan.path), self.ready.tables
        about = [*_about_the_whole(self.ready, self.total), *self.compared.changed_kinds(), *losses]
        if self.difference is not None:
            about += [*self.difference.found, *orphaned(plan, tables, self.difference.staying)]
        if sets and not self.ready.recipe.key:
            about.append(Finding("since.no-key", shown, rule="a primaryKey in the layout"))
        about += told(self.ready.move, plan, circle)
        return [*about, *self.kept.findings(self.ready, shown), *differing(plan, shown, self.total, self.totals)]

    def result(self, files: list[Digest], read: list[Digest], keys_given: dict[str, int]) -> ListResult:
        """What is told of the list, once its `files` are written. Raises MudanzaError where a row is not accounted
        for.
        """
        balance, records, crosswalks = self.total.total, self.kept.records, self.ready.recipe.mentions.crosswalks
        if not balance.holds:
            raise MudanzaError(
                f"the balance does not hold: {balance.as_dict()}.",
                hint="This is a fault of Mudanza; please report it.",
            )
        move, plan = self.ready.move, self.ready.plan
        return ListResult(
            name=plan.name,
            balance=balance,
            by_source=self.total.balances,
            findings=self.total.tally.groups(),
            files=files,
            read=read,
            made_by=made_by(move, plan, (asked.crosswalk for asked in crosswalks)),
            keys_given=keys_given,
            identities=[one.counts for one in self.compared.brought],
            compared=compare_builds(move, plan, records.rows) if records is not None else None,
            to_target=self.difference.told if self.difference is not None else None,
            totals=self.totals,
        )


def _read_beside(ready: Prepared) -> list[Digest]:
    """What was read beside the files of the sources: lookups, and sources that are no files."""
    looked_up = ready.tables.looked_up(ready.plan, ready.recipe.mentions.lookups)
    return looked_up + [d for one in ready.intake.opened if (d := one.digest())]


def _about_the_whole(ready: Prepared, total: Summary) -> list[Finding]:
    """Columns nobody accounted for, columns that some sources lack without saying so, what was passed over, and what was watched."""
    plan_shown = ready.move.shown(ready.plan.path)
    used, columns = ready.recipe.mentions.used, ready.intake.columns
    found = list(ready.found)
    found += [
        Finding("lookup.unused", plan_shown, value=name, rule="asked by a flow")
        for name in ready.plan.lookups
        if name not in ready.recipe.mentions.lookups
    ]
    found += [
        Finding("column.unused", plan_shown, column=column, value=counted(count, "value"), rule="used or left behind")
        for column, count in total.unused.items()
        if count
    ]
    found += _stale(ready.intake, total)
    found += [
        Finding("by-hand.stale", one.file, one.line, value=one.shown, rule=one.rule)
        for number, one in enumerate(ready.around.by_hand.said)
        if number not in total.said
    ]
    for one in ready.intake.opened:
        found += passed_over(one)
        if not one.was_held_back:
            lacking = [c for c in sorted(used) if c in columns and c not in one.names and c not in one.source.lacks]
            rule = f"used by the plan; source {one.source.name}"
            if len(lacking) > _FEW:
                found.append(Finding("column.absent", one.shown, value=few(lacking), rule=rule))
            else:
                found += [Finding("column.absent", one.shown, column=column, rule=rule) for column in lacking]
    found += outdated(ready.plan, ready.tables)
    return [*found, *total.expected.findings(ready.plan), *total.met.findings(ready.recipe, plan_shown)]


def _stale(intake: Intake, total: Summary) -> list[Finding]:
    """Files whose rows correct what the sources do not hold any more."""
    counts = intake.corrections.group_by(CORRECTED, maintain_order=True).len().iter_rows()
    return [
        Finding(
            "read.stale-correction", file, value=f"{count - total.corrected.get(file, 0)} of {counted(count, 'row')}"
        )
        for file, count in counts
        if count > total.corrected.get(file, 0)
    ]
