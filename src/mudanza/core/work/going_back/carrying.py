"""Carrying accepted changes back into the old program: what its own columns and codes would have to be."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from functools import cached_property
from typing import Any
from urllib.parse import quote

import polars as pl

from mudanza.core.disk.files import Outputs
from mudanza.core.documents.errors import LoanError, Place
from mudanza.core.engine.intake import Opened
from mudanza.core.engine.late import run_whole
from mudanza.core.language.nodes import Flow
from mudanza.core.language.parsing import parse_flow
from mudanza.core.layouts.dialect import Dialect
from mudanza.core.plans.move import Move
from mudanza.core.sinks.csv_text import QuotedWriter, RowWriter
from mudanza.core.sinks.formats import RecordFile
from mudanza.core.state.evidence import ledger_of
from mudanza.core.state.loans import RECORD, REMOVED
from mudanza.core.state.running import running
from mudanza.core.values.digest import Digest
from mudanza.core.values.row_columns import FILE, LINE, SOURCE, key_text
from mudanza.core.work.accepted import accepted_cells
from mudanza.core.work.going_back.inverting import Around, Native, Proposal, proposals
from mudanza.core.work.loans.lent import ROW_MARK, shown_text
from mudanza.core.work.prepared import Prepared, prepare

#: so few different texts make a column one of words
_FEW = 200


@dataclass(frozen=True)
class Standing:
    """A row of a source whose record has an accepted cell: the row, alone in a frame, what is made of it, and the record's key."""

    opened: Opened
    frame: pl.DataFrame
    made: dict[str, str | None]
    key: str

    @cached_property
    def row(self) -> dict[str, Any]:
        """Its columns."""
        return self.frame.row(0, named=True)

    @property
    def source(self) -> str:
        return str(self.row[SOURCE])

    @property
    def file(self) -> str:
        return str(self.row[FILE])

    @property
    def line(self) -> int:
        return int(self.row[LINE])

    @property
    def headings(self) -> dict[str, str]:
        """What the source itself calls columns that the plan renames."""
        return {new: old for old, new in self.opened.source.options.rename.items()}


@dataclass(frozen=True)
class Carried:
    """A cell that was carried back: the record, its field, what it is to be, what the columns of its row hold and are to hold, and that row."""

    key: str
    field: str
    after: str | None
    columns: Mapping[str, tuple[str | None, str]]
    standing: Standing


@dataclass(frozen=True)
class ByHand:
    """A cell that cannot be carried back for certain: why, and what the columns hold that it came from."""

    key: str
    field: str
    before: str | None
    after: str | None
    why: str
    columns: Mapping[str, str | None]


@dataclass(frozen=True)
class CarriedBack:
    """What was carried back of a list, what is left to be done by hand, how many cells the sources say by now, and the files."""

    list_name: str
    carried: Sequence[Carried]
    by_hand: Sequence[ByHand]
    there: int
    files: Sequence[Digest]


def carry_back(
    move: Move, name: str, *, as_of: date | None = None, parameters: Mapping[str, str] | None = None
) -> CarriedBack:
    """Turn what was accepted from loans of a list into columns of its sources, each proved by the plan itself: forward, it gives just that, and nothing else of the record changes.

    Raises LoanError where nothing was accepted.
    """
    ready = prepare(move, name, as_of=as_of, parameters=parameters, for_few=True)
    ledger = ledger_of(move)
    cells = accepted_cells(ledger, name)
    if cells.is_empty():
        raise LoanError(
            f"nothing was accepted from loans of {name}.",
            place=Place(move.shown(ready.plan.path)),
            hint="`mudanza receive FILE --accept` accepts.",
        )
    carried, by_hand, there = _Turning(ready, cells).turned()
    with running(ledger, "carry back", name) as run:
        files = list(_files(move, run.outputs, name, carried, by_hand))
        counts = {"read": cells.height, "written": len(carried)}
        run.commit(counts, [], [one.as_dict() for one in files])
    return CarriedBack(name, carried, by_hand, there, files)


@dataclass(frozen=True)
class _Asked:
    """A cell that is to be carried back: of which row, what it is to be, and what may have to stand in its columns for that."""

    standing: Standing
    title: str
    before: str | None
    after: str | None
    offered: Sequence[Proposal]

    def left(self, why: str, columns: Sequence[str]) -> ByHand:
        """It, as something to be done by hand."""
        now = {c: self.standing.row.get(c) for c in columns}
        return ByHand(shown_text(self.standing.key), self.title, self.before, self.after, why, now)


class _Turning:
    def __init__(self, ready: Prepared, cells: pl.DataFrame) -> None:
        self.ready, self.recipe, self.cells = ready, ready.recipe, cells
        self.books = ready.trial().books
        self.used: dict[int, set[tuple[str, str]]] = {}
        self.made = {made.field.title: made for made in self.recipe.fields}
        #: by record, what was accepted of its fields
        self.accepted: dict[str, dict[str, str | None]] = {}
        for key, title, after in cells.select("key", "field", "after").iter_rows():
            self.accepted.setdefault(key, {})[title] = after
        flows = {one.field.title: ready.plan.flows.get(one.field.name) for one in self.recipe.fields}
        self.flows: dict[str, Flow] = {title: parse_flow(text) for title, text in flows.items() if text is not None}

    def turned(self) -> tuple[list[Carried], list[ByHand], int]:
        """What can be carried back, what cannot, and how many cells the sources have."""
        asked: list[_Asked] = []
        by_hand: list[ByHand] = []
        there = 0
        rows: dict[str, list[Standing]] = {}
        for standing in self._standing():
            rows.setdefault(standing.key, []).append(standing)
        for key, title, before, after in self.cells.select("key", "field", "before", "after").iter_rows():
            mine = rows.get(key, [])
            if title == RECORD:
                by_hand += self._whole(key, after, mine)
            elif title in self.made and not mine:
                why = "no row of the sources makes the record"
                by_hand.append(ByHand(shown_text(key), title, before, after, why, {}))
            for standing in mine if title in self.made else ():
                if (standing.made[title] or "") == (after or ""):
                    there += 1
                else:
                    asked.append(_Asked(standing, title, before, after, self._offered(standing, title, after)))
        found = [self._decided(one, fitting) for one, fitting in zip(asked, self._proved(asked), strict=True)]
        by_hand += [one for one in found if isinstance(one, ByHand)]
        carried, apart = self._together([one for one in found if isinstance(one, Carried)])
        return carried, by_hand + apart, there

    def _standing(self) -> Iterator[Standing]:
        """The rows of the sources that make records of which cells were accepted."""
        intake = self.ready.intake
        wanted = self.cells["key"].unique()
        keys = [made.text.expr for made in self.recipe.key_fields]
        for opened in intake.opened:
            for batch in opened.reader.batches():
                rows = opened.rows(batch, intake.columns)
                if rows.is_empty():
                    continue
                made = run_whole(self.recipe, rows, self.books)
                key = made.select(key_text(keys).alias("key")).to_series()
                hit = key.is_in(wanted.implode())
                near = rows.filter(hit)
                texts = self._texts(made.filter(hit))
                for number, (text, mine) in enumerate(zip(texts.iter_rows(named=True), key.filter(hit), strict=True)):
                    yield Standing(opened, near.slice(number, 1), text, mine)

    def _texts(self, made: pl.DataFrame) -> pl.DataFrame:
        """The texts of the fields, of all that a recipe makes."""
        return made.select(one.text.expr.alias(one.field.title) for one in self.recipe.fields)

    def _whole(self, key: str, after: str | None, mine: Sequence[Standing]) -> list[ByHand]:
        """What is to be done by hand of a record that was removed or added, if that is not done yet."""
        if after == REMOVED and mine:
            columns = sorted({c for made in self.recipe.key_fields for c in made.columns if not c.startswith("#")})
            now = {c: mine[0].row.get(c) for c in columns}
            return [ByHand(shown_text(key), RECORD, None, "removed", "a whole record", now)]
        if after != REMOVED and not mine and not key.startswith(ROW_MARK):
            return [ByHand(shown_text(key), RECORD, None, "added", "a whole record", {})]
        return []

    def _columns_of(self, title: str) -> list[str]:
        return [c for c in sorted(self.made[title].columns) if not c.startswith("#")]

    def _offered(self, standing: Standing, title: str, after: str | None) -> list[Proposal]:
        """What may have to stand in the columns of a field."""
        if title not in self.flows:
            return []
        around = Around(self.ready.tables.crosswalk, standing.row)
        offered = proposals(self.flows[title], _native(self.made[title].field, after), around)
        return [one for one in offered if set(one) <= set(standing.row)]

    def _proved(self, asked: Sequence[_Asked]) -> list[list[Proposal]]:
        """Of each cell the proposals that give its value, and change nothing else of the record but what was accepted too."""
        tried = [(number, one) for number, cell in enumerate(asked) for one in cell.offered]
        texts = self._forward([(asked[number].standing, one) for number, one in tried])
        good: list[list[Proposal]] = [[] for _ in asked]
        for (number, one), text in zip(tried, texts, strict=True):
            cell = asked[number]
            was, accepted = cell.standing.made, self.accepted[cell.standing.key]
            others = all(
                (text[t] or "") in ((was[t] or ""), (accepted.get(t, was[t]) or "")) for t in text if t != cell.title
            )
            if others and (text[cell.title] or "") == (cell.after or ""):
                good[number].append(one)
        return good

    def _forward(self, rows: Sequence[tuple[Standing, Proposal]]) -> list[dict[str, str | None]]:
        """What the plan makes of rows with other texts in some columns."""
        if not rows:
            return []
        frames = [
            standing.frame.with_columns(pl.lit(text or None, dtype=pl.String).alias(c) for c, text in one.items())
            for standing, one in rows
        ]
        return self._texts(run_whole(self.recipe, pl.concat(frames), self.books)).rows(named=True)

    def _decided(self, cell: _Asked, fitting: list[Proposal]) -> Carried | ByHand:
        """A cell with what its columns are to hold, if that is certain."""
        standing, columns = cell.standing, self._columns_of(cell.title)
        if not columns:
            return cell.left("it comes from no column", columns)
        if not fitting:
            turned = bool(cell.offered)
            return cell.left(
                "no value of its columns gives just this" if turned else "its flow cannot be turned round", columns
            )
        fitting = self._likeliest(standing, fitting)
        if len(fitting) > 1:
            some = "; ".join(", ".join(f"{c} {text!r}" for c, text in one.items()) for one in fitting[:3])
            return cell.left(f"several values give it: {some}", columns)
        row = standing.row
        changed = {c: (row.get(c), text) for c, text in fitting[0].items() if (row.get(c) or "") != text}
        return Carried(shown_text(standing.key), cell.title, cell.after, changed, standing)

    def _together(self, carried: Sequence[Carried]) -> tuple[list[Carried], list[ByHand]]:
        """Those that also hold when all that is carried back into a row stands in it at once; and the others."""
        of_row: dict[int, list[Carried]] = {}
        for one in carried:
            of_row.setdefault(id(one.standing), []).append(one)
        several = [ones for ones in of_row.values() if len(ones) > 1]
        made = self._forward(
            [(ones[0].standing, {c: text for one in ones for c, (_, text) in one.columns.items()}) for ones in several]
        )
        apart = {
            id(one)
            for ones, text in zip(several, made, strict=True)
            if any((text[one.field] or "") != (one.after or "") for one in ones)
            for one in ones
        }
        why = "it does not go together with what else is carried back into its row"
        left = [
            ByHand(
                one.key,
                one.field,
                one.standing.made[one.field],
                one.after,
                why,
                {c: b for c, (b, _) in one.columns.items()},
            )
            for one in carried
            if id(one) in apart
        ]
        return [one for one in carried if id(one) not in apart], left

    def _likeliest(self, standing: Standing, fitting: list[Proposal]) -> list[Proposal]:
        """Of several proposals those that leave blank what is blank, and use words that the source itself uses."""
        row = standing.row
        same_gaps = [one for one in fitting if all(bool(text) == bool(row.get(c)) for c, text in one.items())]
        fitting = same_gaps or fitting
        if len(fitting) < 2 or any(len(one) != 1 for one in fitting):
            return fitting
        used = self._texts_of(standing.opened)
        # codes that stand for the same are both possible; a word that the source does not use is not
        return [one for one in fitting if any((c, text) in used for c, text in one.items())] or fitting

    def _texts_of(self, opened: Opened) -> set[tuple[str, str]]:
        """The texts that stand in the columns of a source, as far as these have few different ones."""
        if opened.number not in self.used:
            found: set[tuple[str, str]] = set()
            for batch in opened.reader.batches():
                rows = opened.rows(batch, self.ready.intake.columns)
                for column in opened.names:
                    texts = rows[column].drop_nulls().str.strip_chars().unique()
                    found |= {(column, text) for text in texts} if texts.len() <= _FEW else set()
            self.used[opened.number] = found
        return self.used[opened.number]


def _native(field: Any, text: str | None) -> Native:
    """A text of the layout as a value of the field's kind."""
    if text is None or not field.is_typed:
        return text
    value: Native = pl.select(field.type.read(pl.lit(text))).item()
    return text if value is None else value


def _files(
    move: Move, outputs: Outputs, name: str, carried: Sequence[Carried], by_hand: Sequence[ByHand]
) -> Iterator[Digest]:
    """What the old program is to hold, a file for each source; and what is to be done by hand."""
    for source in dict.fromkeys(one.standing.source for one in carried):
        rows: dict[tuple[str, int], dict[str, str | None]] = {}
        for one in carried:
            at = one.standing
            if at.source == source:
                own = {at.headings.get(c, c): at.row.get(c) for c in at.opened.names}
                row = rows.setdefault((at.file, at.line), own)
                row |= {at.headings.get(c, c): text for c, (_, text) in one.columns.items()}
        columns = list(dict.fromkeys(c for row in rows.values() for c in row))
        label = re.sub(r"[/\\\\]", lambda sign: quote(sign[0], safe=""), source)
        yield _written(move, outputs, f"{name}.carry-back.{label}.csv", columns, list(rows.values()), RowWriter)
    cells = [
        {
            "key": one.key,
            "field": one.field,
            "file": one.standing.file,
            "line": str(one.standing.line),
            "column": c,
            "holds": before,
            "is to hold": after,
        }
        for one in carried
        for c, (before, after) in one.columns.items()
    ]
    if cells:
        yield _written(move, outputs, f"{name}.carry-back.csv", list(cells[0]), cells)
    if by_hand:
        texts = [
            {
                "key": one.key, "field": one.field, "before": one.before or "", "after": one.after or "", "why": one.why,
                "columns": "; ".join(f"{c}: {text or ''}" for c, text in one.columns.items()),
            }
            for one in by_hand
        ]  # fmt: skip
        yield _written(
            move,
            outputs,
            f"{name}.carry-back.by-hand.csv",
            ["key", "field", "before", "after", "why", "columns"],
            texts,
        )


def _written(
    move: Move,
    outputs: Outputs,
    name: str,
    columns: Sequence[str],
    rows: Sequence[Mapping[str, str | None]],
    writer: type[RowWriter] = QuotedWriter,
) -> Digest:
    final = move.out / name
    out = outputs.create(final)
    file = RecordFile(out, writer(list(columns), Dialect(bom=True)))
    file.write(
        pl.DataFrame(
            [[row.get(c) for c in columns] for row in rows], schema=dict.fromkeys(columns, pl.String), orient="row"
        )
    )
    file.close()
    return out.digest(move.shown(final))
