"""Building a list: one pass over the sources that makes written rows, held-back rows and findings together."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from datetime import date

import polars as pl

from mudanza.core.building.comparing import compare_builds
from mudanza.core.building.expecting import Expectations, NeverSeen
from mudanza.core.building.intake import Intake, Opened, open_sources
from mudanza.core.building.places import passed_over, with_cells
from mudanza.core.building.program import Program, check_columns, compile_plan
from mudanza.core.building.results import Balance, BuildResult, ListResult, build_document
from mudanza.core.building.rows import Early, run_early, run_late, where, wrong_cells
from mudanza.core.building.sent import note_sent
from mudanza.core.errors import MudanzaError
from mudanza.core.files import Digest, Outputs, digest_of, sweep
from mudanza.core.findings import SCHEMA, Finding, Tally, frame
from mudanza.core.keys import KeyBook
from mudanza.core.layouts.writing import RowWriter, metadata_for
from mudanza.core.move import Move
from mudanza.core.parameters import check_given
from mudanza.core.plans import Plan, load_plan
from mudanza.core.sources.opening import files_of, read_ahead
from mudanza.core.sources.reading import FILE, LINE, SOURCE, TEXT, WHY, Batch
from mudanza.core.unique import SeenKeys

Progress = Callable[[int], None]
_SORT = "\x1fsort"


def build(
    move: Move,
    names: Sequence[str],
    *,
    rehearse: bool = False,
    as_of: date | None = None,
    parameters: Mapping[str, str] | None = None,
    progress: Progress | None = None,
    compare: bool = False,
) -> BuildResult:
    """Build lists into `out/`, in the order given. With `rehearse`, do everything and write nothing.

    With `compare`, tell what differs from the files of the build before (all records are then held in memory).

    `as_of` is the day that `within … days` counts from (today if None). `progress` is told how many rows
    were read so far. Raises MudanzaError where a plan, a file or the ledger is wrong; then nothing is written.
    """
    plans = [load_plan(move, name) for name in names]
    day, given = as_of or date.today(), parameters or {}
    # shared by the lists of a run, so that a later one finds the identifiers that an earlier one gave
    books: dict[str, KeyBook] = {}
    intakes = [_open(plan, move) for plan in plans]
    # a wrong plan is to be told before the ledger knows of a run
    programs = [_compile(plan, intake, move, day, given) for plan, intake in zip(plans, intakes, strict=True)]
    check_given(given, {name for one in programs for name in one.parameters}, move.parameters)
    if rehearse:
        nowhere = Outputs("", keep=False)
        rehearsed = [
            # one after the other: a list finds the identifiers that an earlier one would be given
            _Build(plan, intake, move, day, given, books, nowhere, progress, compare).run()
            for plan, intake in zip(plans, intakes, strict=True)
        ]
        return BuildResult(None, day, rehearsed)
    run = move.ledger.begin("build", ", ".join(names), day.isoformat())
    with move.ledger.held(run), Outputs(str(run)) as outputs:
        sweep(move.out, move.ledger.alive_runs())
        builds = []
        results = []
        for plan, intake in zip(plans, intakes, strict=True):
            builds.append(_Build(plan, intake, move, day, given, books, outputs, progress, compare))
            results.append(builds[-1].run())
        for book in books.values():
            book.save(move.ledger, run)
        for one in builds:
            one.note_sent(run)
        built = BuildResult(run, day, results)
        text = json.dumps(build_document(built), indent=2, ensure_ascii=False) + "\n"
        outputs.create_text(move.out / "run.json", text)
        counts = sum((Counter(one.balance.as_dict()) for one in results), Counter())
        move.ledger.commit(
            run,
            outputs,
            {name: counts[name] for name in Balance().as_dict()},
            [d.as_dict() for one in results for d in one.read],
            [d.as_dict() for one in results for d in one.files],
        )
    return built


def _open(plan: Plan, move: Move) -> Intake:
    return open_sources(plan, move.shown)


def _compile(
    plan: Plan,
    intake: Intake,
    move: Move,
    as_of: date,
    parameters: Mapping[str, str],
    books: dict[str, KeyBook] | None = None,
) -> Program:
    program = compile_plan(plan, move, intake.columns, as_of, parameters, books)
    check_columns(plan, program, intake.headings)
    return program


class _Build:
    """One list under way."""

    def __init__(
        self,
        plan: Plan,
        intake: Intake,
        move: Move,
        as_of: date,
        parameters: Mapping[str, str],
        books: dict[str, KeyBook],
        outputs: Outputs,
        progress: Progress | None,
        compare: bool,
    ) -> None:
        self.plan, self.move, self.progress = plan, move, progress
        #: all written records, where they are to be compared
        self.records: list[pl.DataFrame] | None = [] if compare else None
        self.intake = intake
        self.program = _compile(plan, intake, move, as_of, parameters, books)
        self.given_before = {name: book.given for name, book in books.items()}
        self.columns = self.intake.columns
        self.seen = SeenKeys()
        self.sent: list[pl.DataFrame] = []
        self.expectations = Expectations(plan, self.program, self.columns)
        self.never = NeverSeen(self.program, move.shown(plan.path))
        self.tally = Tally()
        self.by_source = {s.name: Balance() for s in plan.sources}
        titles = self.program.titles
        name = plan.name
        self.rows_out = outputs.create(move.out / f"{name}.csv")
        self.rows_writer = RowWriter(titles, plan.layout.dialect)
        self.held_out = outputs.create(move.out / f"{name}.held-back.csv")
        self.held_writer = RowWriter([SOURCE, FILE, LINE, WHY, *self.columns, TEXT])
        self.findings_out = outputs.create(move.out / f"{name}.findings.csv")
        self.findings_writer = RowWriter(list(SCHEMA))
        self.metadata_out = outputs.create(move.out / f"{name}.csv-metadata.json")
        self.key_titles = [f.title for f in plan.layout.fields if f.name in plan.layout.primary_key]
        self.to_sort: list[pl.DataFrame] = []
        self.pending: Future[None] = Future()
        self.pending.set_result(None)
        # columns that have to be used or left behind, once it is seen that they hold data
        self.unaccounted = [c for c in self.columns if c not in self.program.used and c not in plan.left_behind]
        self.counts = dict.fromkeys(self.unaccounted, 0)

    def run(self) -> ListResult:
        for out, writer in (
            (self.rows_out, self.rows_writer),
            (self.held_out, self.held_writer),
            (self.findings_out, self.findings_writer),
        ):
            out.write(writer.head())
        read = 0
        with ThreadPoolExecutor(1) as helper, ThreadPoolExecutor(1) as self.writer:
            digests = [
                helper.submit(digest_of, one.path, one.shown) for one in self.intake.opened if one.path.is_file()
            ]
            # reading, making and giving identifiers go on at the same time, each with its own batch
            for opened, batch, early in read_ahead(self._made(read_ahead(self.intake.batches()))):
                self._batch(opened, batch, early)
                read += batch.rows.height + len(batch.broken)
                if self.progress is not None:
                    self.progress(read)
            self._write_sorted()
            self.pending.result()
        self._found(self._about_files())
        compared = None
        if self.records is not None:
            now = pl.concat([pl.DataFrame(schema=dict.fromkeys(self.program.titles, pl.String)), *self.records])
            path = self.rows_out.final
            compared = compare_builds(path, self.move.shown(path), self.plan.layout, now)
        self.metadata_out.write(metadata_for(self.plan.layout, f"{self.plan.name}.csv").encode())
        total = self._total()
        if not total.holds:
            raise MudanzaError(
                f"the balance does not hold: {total.as_dict()}.",
                hint="This is a fault of Mudanza; please report it. Nothing was written.",
            )
        outputs = (self.rows_out, self.held_out, self.findings_out, self.metadata_out)
        return ListResult(
            name=self.plan.name,
            balance=total,
            by_source=self.by_source,
            findings=self.tally.groups(),
            files=[out.digest(self.move.shown(out.final)) for out in outputs],
            read=[digest.result() for digest in digests]
            + self._looked_up()
            + [d for one in self.intake.opened if (d := one.digest())],
            keys_given=self._keys_given(),
            compared=compared,
        )

    def _looked_up(self) -> list[Digest]:
        """The files that were looked up in."""
        tables = [self.plan.lookups[name].source for name in self.program.lookups]
        return [
            digest_of(p, self.move.shown(p))
            for table in tables
            if table.file
            for p in files_of(self.move.path(table.file))
        ]

    def note_sent(self, run: int) -> None:
        """Remember in the ledger which records went out."""
        if self.key_titles:
            now = pl.concat([pl.DataFrame(schema={"key": pl.String, "record": pl.UInt64}), *self.sent])
            note_sent(self.move.ledger, run, self.plan.name, self.move.shown(self.rows_out.final), now)

    def _keys_given(self) -> dict[str, int]:
        """How many identifiers this list gave out, by key book."""
        given = {name: self.program.books[name].given - before for name, before in self.given_before.items()}
        return {name: count for name, count in given.items() if count}

    def _made(self, batches: Iterator[tuple[Opened, Batch]]) -> Iterator[tuple[Opened, Batch, Early | None]]:
        for opened, batch in batches:
            if batch.rows.is_empty():
                yield opened, batch, None
                continue
            rows = where(opened.rows(batch, self.columns), opened.number)
            wrong = wrong_cells(opened.noticed(batch, self.program.used))
            yield opened, batch, run_early(self.program, rows, self.columns, wrong)

    def _batch(self, opened: Opened, batch: Batch, early: Early | None) -> None:
        balance = self.by_source[opened.source.name]
        balance.read += batch.rows.height + len(batch.broken)
        self._damaged(opened, batch, balance)
        if early is None:
            return
        if self.unaccounted:
            for column, count in early.original.select(pl.col(self.unaccounted).count()).row(0, named=True).items():
                self.counts[column] += count
        files = [one.shown for one in self.intake.opened]
        ends = run_late(self.program, self.plan.layout, early, self.seen, files, self._sort_columns())
        self.expectations.see(early, ends)
        self.never.see(early)
        if self.records is not None:
            self.records.append(ends.written.select(self.program.titles))
        if self.key_titles:
            self.sent.append(ends.sent(self.key_titles))
        balance.skip(ends.skipped)
        balance.merged += ends.merged
        balance.held_back += ends.held.height
        balance.written += ends.written.height
        if self.plan.sort:
            self.to_sort.append(ends.written)
        else:
            self._write(ends.written)
        if ends.held.height:
            self.held_out.write(
                self.held_writer.rows(ends.held.with_columns(pl.lit(None, dtype=pl.String).alias(TEXT)))
            )
        self._found(with_cells(ends.findings, opened, self.program))

    def _damaged(self, opened: Opened, batch: Batch, balance: Balance) -> None:
        balance.held_back += len(batch.broken)
        if batch.broken:
            rows = opened.broken_rows(batch.broken, self.columns)
            reasons = pl.Series(WHY, [b.code for b in batch.broken], dtype=pl.String)
            self.held_out.write(self.held_writer.rows(rows.with_columns(reasons)))
        self._found(opened.noticed(batch, self.program.used))

    def _found(self, findings: pl.DataFrame) -> None:
        if findings.height:
            self.tally.add(findings)
            self.findings_out.write(self.findings_writer.rows(findings))

    def _sort_columns(self) -> list[pl.Expr]:
        exprs = []
        for i, name in enumerate(self.plan.sort):
            if name.startswith("@"):
                made = next(m for m in self.program.fields if m.field.name == name[1:])
                exprs.append(made.value.expr.alias(f"{_SORT}{i}"))
            else:
                exprs.append(pl.col(name).alias(f"{_SORT}{i}"))
        return exprs

    def _write_sorted(self) -> None:
        if not self.to_sort:
            return
        keys = [f"{_SORT}{i}" for i in range(len(self.plan.sort))]
        ordered = pl.concat(self.to_sort).sort(keys, maintain_order=True, nulls_last=True)
        for part in ordered.iter_slices(100_000):
            self._write(part)

    def _write(self, rows: pl.DataFrame) -> None:
        """Write rows while the next ones are made; an error of the last ones comes up here."""
        self.pending.result()
        self.pending = self.writer.submit(lambda: self.rows_out.write(self.rows_writer.rows(rows)))

    def _about_files(self) -> pl.DataFrame:
        """Columns nobody accounted for, columns that some sources lack without saying so, and what was passed over."""
        found = [
            Finding(
                "column.unused",
                self.move.shown(self.plan.path),
                column=column,
                value=f"{count} values",
                rule="used or left behind",
            )
            for column, count in self.counts.items()
            if count
        ]
        for one in self.intake.opened:
            found += passed_over(one)
            found += [
                Finding(
                    "column.absent",
                    one.shown,
                    column=column,
                    rule=f"used by the plan; source {one.source.name}",
                )
                for column in sorted(self.program.used)
                if column in self.columns
                and column not in one.names
                and column not in one.source.lacks
                and not one.was_held_back
            ]
        return frame([*found, *self.expectations.findings(), *self.never.findings()])

    def _total(self) -> Balance:
        total = Balance()
        for one in self.by_source.values():
            total.read += one.read
            total.written += one.written
            total.merged += one.merged
            total.held_back += one.held_back
            total.skip(one.skipped)
        return total
