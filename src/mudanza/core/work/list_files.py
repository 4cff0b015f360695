"""The files of one list under way: its records, the rows held back, the findings, and the metadata."""

from __future__ import annotations

from collections.abc import Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from types import TracebackType

import polars as pl

from mudanza.core.disk.files import OutFile, Outputs
from mudanza.core.engine.intake import Intake
from mudanza.core.engine.local import Part, held_schema, in_order
from mudanza.core.findings.finding import SHOWN, as_shown
from mudanza.core.layouts.csvw import BESIDE, metadata_of
from mudanza.core.layouts.dialect import Around, Dialect
from mudanza.core.plans.move import Move
from mudanza.core.plans.plan import Plan
from mudanza.core.sinks.csv_text import QuotedWriter
from mudanza.core.sinks.formats import RecordFile, built_file, sink_of
from mudanza.core.values.digest import Digest
from mudanza.core.work.file_parts import PartFiles
from mudanza.core.work.labels import Labels

_SLICE = 100_000


class ListFiles:
    """Takes the parts of a list and writes them, records while the next ones are made. To be used as a context."""

    def __init__(self, move: Move, plan: Plan, titles: Sequence[str], intake: Intake, outputs: Outputs) -> None:
        self.plan = plan
        out = move.out
        self.path = built_file(move, plan.name, plan.layout)
        self._whole = outputs.create(self.path)
        self._records = RecordFile(self._whole, sink_of(plan.layout).writer(plan.layout, titles))
        # whoever corrects them opens them as they open the exports; the mark tells spreadsheet programs the encoding
        for_spreadsheets = Dialect(delimiter=intake.delimiter, bom=True, around=Around(comment=""))
        names = list(held_schema(intake.columns))
        held = QuotedWriter(names, for_spreadsheets, names)
        self._beside = [outputs.create(out / f"{plan.name}.{what}.csv") for what in ("held-back", "findings")]
        self._held = RecordFile(self._beside[0], held)
        self._findings = RecordFile(self._beside[1], QuotedWriter(SHOWN))
        self._parts = PartFiles(outputs, self.path, titles, plan.layout)
        self._labels, self._outputs = Labels(plan.layout), outputs
        self._further: list[OutFile] = []
        self._helper = ThreadPoolExecutor(1)
        self._under_way: Future[None] = Future()
        self._under_way.set_result(None)
        self._to_sort: list[pl.DataFrame] = []

    def __enter__(self) -> ListFiles:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._helper.shutdown()

    def take(self, part: Part) -> None:
        """Write a part, or keep its records until all are there to be sorted."""
        if self.plan.sort:
            self._to_sort.append(part.written)
        else:
            self._write(part.written)
        self._held.write(part.held)
        self._findings.write(as_shown(part.findings))

    def close(self, findings: pl.DataFrame) -> None:
        """Write what was still to come: sorted records, the last findings, and the metadata."""
        if self._to_sort:
            for rows in in_order(self.plan, self._to_sort).iter_slices(_SLICE):
                self._write(rows)
        self._under_way.result()
        self._further += self._parts.close()
        labels = self._labels.write(self._outputs, self.path.with_name(f"{self.plan.name}.labels.csv"))
        self._further += [labels] if labels is not None else []
        self._findings.write(as_shown(findings))
        for file in (self._records, self._held, self._findings):
            file.close()
        described = self.path.with_name(f"{self.path.name}{BESIDE}")
        if self.plan.layout.form.is_delimited:
            self._beside.append(self._outputs.create_text(described, metadata_of(self.plan.layout, self.path.name)))

    def digests(self, move: Move) -> list[Digest]:
        """What was written."""
        files = (self._whole, *self._beside, *self._further)
        return [file.digest(move.shown(file.final)) for file in files]

    def _write(self, rows: pl.DataFrame) -> None:
        # an error of the last rows comes up here
        self._under_way.result()
        self._under_way = self._helper.submit(self._write_records, rows)

    def _write_records(self, rows: pl.DataFrame) -> None:
        self._records.write(rows)
        self._parts.write(rows)
        self._labels.take(rows)
