"""Carrying accepted changes back into the old program: what its own columns and codes would have to be."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from typing import Any

import polars as pl

from mudanza.core.documents.errors import LoanError, Place
from mudanza.core.engine.intake import Opened
from mudanza.core.engine.late import run_whole
from mudanza.core.language.nodes import Flow
from mudanza.core.language.parsing import parse_flow
from mudanza.core.layouts.dialect import Dialect
from mudanza.core.plans.move import Move
from mudanza.core.sinks.csv_text import RowWriter
from mudanza.core.sinks.formats import RecordFile
from mudanza.core.state.files import Outputs
from mudanza.core.state.ledger import ledger_of, sweep_behind
from mudanza.core.state.loans import RECORD, REMOVED
from mudanza.core.values.digest import Digest
from mudanza.core.values.row_columns import FILE, LINE, SOURCE, key_text
from mudanza.core.work.accepted import accepted_cells
from mudanza.core.work.going_back.inverting import Around, Native, Proposal, proposals
from mudanza.core.work.loans.lent import ROW_MARK, shown_text
from mudanza.core.work.prepared import Prepared, prepare

#: so few different texts make a column one of words
_FEW = 200


@dataclass(frozen=True)
class Carried:
    """A cell that was carried back: the record, its field, what it is to be, where its row stands, and what the columns of this hold and are to hold."""

    key: str
    field: str
    after: str | None
    source: str
    file: str
    line: int
    columns: Mapping[str, tuple[str | None, str]]
    #: the whole row as it stands, by the source's own headings, and these by the plan's names
    row: Mapping[str, str | None]
    headings: Mapping[str, str]


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


@dataclass(frozen=True)
class _Standing:
    """A row of a source whose record has an accepted cell: the row, and what is made of it."""

    opened: Opened
    row: dict[str, Any]
    made: dict[str, str | None]
    key: str


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
    run = ledger.begin("carry back", name)
    with ledger.held(run), Outputs(str(run)) as outputs:
        sweep_behind(move, ledger)
        files = list(_files(move, outputs, name, carried, by_hand))
        counts = {"read": cells.height, "written": len(carried)}
        ledger.commit(run, outputs, counts, [], [one.as_dict() for one in files])
    return CarriedBack(name, carried, by_hand, there, files)


class _Turning:
    def __init__(self, ready: Prepared, cells: pl.DataFrame) -> None:
        self.ready, self.recipe, self.cells = ready, ready.recipe, cells
        self.by_title = {made.field.title: made for made in self.recipe.fields}
        self.books = ready.trial().books
        self.flows: dict[str, Flow | None] = {}
        self.used: dict[int, dict[tuple[str, str], int]] = {}
        for made in self.recipe.fields:
            text = ready.plan.flows.get(made.field.name)
            self.flows[made.field.title] = parse_flow(text) if text is not None else None

    def turned(self) -> tuple[list[Carried], list[ByHand], int]:
        """What can be carried back, what cannot, and how many cells the sources have."""
        carried: list[Carried] = []
        by_hand: list[ByHand] = []
        there = 0
        rows: dict[str, list[_Standing]] = {}
        for standing in self._standing():
            rows.setdefault(standing.key, []).append(standing)
        titles = set(self.by_title)
        for key, title, before, after in self.cells.select("key", "field", "before", "after").iter_rows():
            mine = rows.get(key, [])
            if title == RECORD:
                removed = after == REMOVED
                if removed and mine:
                    by_hand.append(
                        ByHand(shown_text(key), RECORD, None, "removed", "a whole record", _key_columns(self, mine[0]))
                    )
                elif not removed and not mine and not key.startswith(ROW_MARK):
                    by_hand.append(ByHand(shown_text(key), RECORD, None, "added", "a whole record", {}))
                continue
            if title not in titles:
                continue
            if not mine:
                by_hand.append(
                    ByHand(shown_text(key), title, before, after, "no row of the sources makes the record", {})
                )
            for standing in mine:
                if (standing.made[title] or "") == (after or ""):
                    there += 1
                    continue
                one = self._cell(standing, title, before, after)
                if isinstance(one, Carried):
                    carried.append(one)
                else:
                    by_hand.append(one)
        return carried, by_hand, there

    def _standing(self) -> Iterator[_Standing]:
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
                texts = made.select(one.text.expr.alias(one.field.title) for one in self.recipe.fields)
                for row, text, mine in zip(
                    rows.filter(hit).iter_rows(named=True),
                    texts.filter(hit).iter_rows(named=True),
                    key.filter(hit),
                    strict=True,
                ):
                    yield _Standing(opened, row, text, mine)

    def _cell(self, standing: _Standing, title: str, before: str | None, after: str | None) -> Carried | ByHand:
        made = self.by_title[title]
        columns = [c for c in sorted(made.columns) if not c.startswith("#")]
        now = {c: standing.row.get(c) for c in columns}
        flow = self.flows[title]

        def left(why: str) -> ByHand:
            return ByHand(shown_text(standing.key), title, before, after, why, now)

        if flow is None or not columns:
            return left("it comes from no column")
        around = Around(self.ready.tables.crosswalk, standing.row)
        value = _native(made.field, after)
        offered = proposals(flow, value, around)
        fitting = self._proved(standing, title, after, offered)
        if not fitting:
            return left("no value of its columns gives just this" if offered else "its flow cannot be turned round")
        fitting = self._likeliest(standing, fitting)
        if len(fitting) > 1:
            some = "; ".join(", ".join(f"{c} {text!r}" for c, text in one.items()) for one in fitting[:3])
            return left(f"several values give it: {some}")
        chosen = {c: (standing.row.get(c), text) for c, text in fitting[0].items()}
        changed = {c: pair for c, pair in chosen.items() if (pair[0] or "") != pair[1]}
        place = standing.row
        row, headings = self._own_row(standing)
        return Carried(
            shown_text(standing.key),
            title,
            after,
            str(place[SOURCE]),
            str(place[FILE]),
            int(place[LINE]),
            changed,
            row,
            headings,
        )

    def _proved(
        self, standing: _Standing, title: str, after: str | None, offered: Sequence[Proposal]
    ) -> list[Proposal]:
        """Those of the proposals that give the value, and change nothing else of the record."""
        known = [one for one in offered if set(one) <= set(standing.row)]
        if not known:
            return []
        accepted = {t: a for k, t, a in self.cells.select("key", "field", "after").iter_rows() if k == standing.key}
        rows = pl.DataFrame(
            [{**standing.row, **{c: text or None for c, text in one.items()}} for one in known],
            schema=self._schema(standing),
        )
        made = run_whole(self.recipe, rows, self.books)
        texts = made.select(one.text.expr.alias(one.field.title) for one in self.recipe.fields)
        good = []
        for one, text in zip(known, texts.iter_rows(named=True), strict=True):
            others = all(
                (text[t] or "") in ((standing.made[t] or ""), (accepted.get(t, standing.made[t]) or ""))
                for t in text
                if t != title
            )
            if (text[title] or "") == (after or "") and others:
                good.append(one)
        return good

    def _own_row(self, standing: _Standing) -> tuple[dict[str, str | None], dict[str, str]]:
        """A row by its source's own headings, and these."""
        named = {new: old for old, new in standing.opened.source.options.rename.items()}
        return {named.get(c, c): standing.row.get(c) for c in standing.opened.names}, named

    def _likeliest(self, standing: _Standing, fitting: list[Proposal]) -> list[Proposal]:
        """Of several proposals those that leave blank what is blank, and use words that the source itself uses."""
        row = standing.row
        same_gaps = [one for one in fitting if all(bool(text) == bool(row.get(c)) for c, text in one.items())]
        fitting = same_gaps or fitting
        if len(fitting) < 2 or any(len(one) != 1 for one in fitting):
            return fitting
        used = self._texts_of(standing.opened)
        counts = [sum(used.get((c, text), 0) for c, text in one.items()) for one in fitting]
        # codes that stand for the same are both possible; a word that the source does not use is not
        used_here = [one for one, count in zip(fitting, counts, strict=True) if count]
        return used_here or fitting

    def _texts_of(self, opened: Opened) -> dict[tuple[str, str], int]:
        """How often each text stands in each column of a source, as far as columns have few different ones."""
        if opened.number not in self.used:
            counts: dict[tuple[str, str], int] = {}
            for batch in opened.reader.batches():
                rows = opened.rows(batch, self.ready.intake.columns)
                for column in opened.names:
                    if rows[column].n_unique() <= _FEW:
                        for text, count in rows[column].drop_nulls().str.strip_chars().value_counts().iter_rows():
                            counts[column, text] = counts.get((column, text), 0) + count
            self.used[opened.number] = counts
        return self.used[opened.number]

    def _schema(self, standing: _Standing) -> dict[str, Any]:
        batch = next(iter(standing.opened.reader.batches(first=True)))
        return dict(standing.opened.rows(batch, self.ready.intake.columns).schema)


def _key_columns(turning: _Turning, standing: _Standing) -> dict[str, str | None]:
    columns = sorted({c for made in turning.recipe.key_fields for c in made.columns if not c.startswith("#")})
    return {c: standing.row.get(c) for c in columns}


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
    for source in dict.fromkeys(one.source for one in carried):
        mine = [one for one in carried if one.source == source]
        rows: dict[tuple[str, int], dict[str, str | None]] = {}
        for one in mine:
            row = rows.setdefault((one.file, one.line), dict(one.row))
            row |= {one.headings.get(c, c): after for c, (_, after) in one.columns.items()}
        columns = list(dict.fromkeys(c for row in rows.values() for c in row))
        yield _written(move, outputs, f"{name}.carry-back.{source}.csv", columns, list(rows.values()))
    cells = [
        {
            "key": one.key,
            "field": one.field,
            "file": one.file,
            "line": str(one.line),
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
    move: Move, outputs: Outputs, name: str, columns: Sequence[str], rows: Sequence[Mapping[str, str | None]]
) -> Digest:
    final = move.out / name
    out = outputs.create(final)
    file = RecordFile(out, RowWriter(list(columns), Dialect(bom=True)))
    file.write(
        pl.DataFrame(
            [[row.get(c) for c in columns] for row in rows], schema=dict.fromkeys(columns, pl.String), orient="row"
        )
    )
    file.close()
    return out.digest(move.shown(final))
