"""Records as the cells of a sheet, column by column."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import polars as pl

from mudanza.core.documents.errors import MudanzaError
from mudanza.core.layouts.layout import Field
from mudanza.core.sinks.sheet_cells import MOST_ROWS, PER_DAY, sheet_cell
from mudanza.core.values.held import Held, Hold

#: numbers and moments as spreadsheets hold them, texts, and nothing
Values = list[float | str | None]


class SheetColumns:
    """The cells of some fields."""

    def __init__(self, fields: Sequence[Field]) -> None:
        self._count = len(fields)
        self._held = Held()
        self._cells = [expr for number, one in enumerate(fields) for expr in _named(number, one, self._held.hold)]

    def of(self, frame: pl.DataFrame) -> list[Values]:
        """The cells of each field, of the texts in a frame."""
        made = self._held.select(frame, self._cells)
        columns: list[Values] = []
        for n in range(self._count):
            texts = made[f"t{n}"].to_list()
            if f"n{n}" in made.columns:
                numbers = _numbers(made[f"n{n}"])
                texts = [text if number is None else number for number, text in zip(numbers, texts, strict=True)]
            columns.append(texts)
        return columns


def _numbers(held: pl.Series) -> list[float | None]:
    # one by one: how a library divides many at once depends on how many there are
    return [None if part is None else part / PER_DAY for part in held] if held.dtype == pl.Int64 else held.to_list()


def _named(number: int, field: Field, hold: Hold) -> Iterator[pl.Expr]:
    cell = sheet_cell(field, hold)
    yield cell.text.alias(f"t{number}")
    if cell.number is not None:
        yield cell.number.alias(f"n{number}")


def too_many(sheet: str) -> MudanzaError:
    """The error that a sheet is full."""
    return MudanzaError(
        f"the sheet {sheet!r} would have more than {MOST_ROWS:,} rows, and no sheet has room for them.",
        hint="Say another form in the layout, or build fewer records (keep in the plan's [rows]).",
    )
