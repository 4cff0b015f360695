"""Cells that hold no value: formulas, errors, and what a merged cell covers."""

from __future__ import annotations

import polars as pl

from mudanza.core.work.loans.returned.table import Table

_SCHEMA = {"field": pl.String, "line": pl.Int64, "code": pl.String, "value": pl.String, "rule": pl.String}


def no_values(table: Table) -> dict[str, pl.DataFrame]:
    """The cells of a table that hold no value, by title: line, code, value, rule."""
    columns = {n: title for title, n in table.places.items()}
    grid = table.grid
    found: list[tuple[str, int, str, str, str]] = []
    for (row, column), formula in grid.formulas.items():
        if column in columns:
            shown = f"={formula}"[:80] if formula else f"=… ({grid.cells[row, column] or ''})"
            found.append((columns[column], row + 1, "loan.formula", shown, "a value"))
    for (row, column), error in grid.errors.items():
        if column in columns:
            found.append((columns[column], row + 1, "loan.error-value", error, "a value"))
    for row, column in grid.covered:
        if column in columns:
            found.append((columns[column], row + 1, "loan.covered", "", "a cell of its own"))
    if not found:
        return {}
    cells = pl.DataFrame(found, schema=_SCHEMA, orient="row").unique(
        ["field", "line"], keep="first", maintain_order=True
    )
    return {str(title): part for (title,), part in cells.partition_by("field", as_dict=True).items()}
