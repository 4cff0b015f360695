"""A flow or condition tried on a few rows that are given as texts, without a move around it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import date
from typing import Any

import polars as pl

from mudanza.core.documents.errors import MoveError
from mudanza.core.findings.problem import flag, flags
from mudanza.core.language.compiling import Compiler
from mudanza.core.language.parameters import Parameters
from mudanza.core.language.parsing import parse_condition, parse_flow
from mudanza.core.language.steps import STEPS
from mudanza.core.language.steps.declaring import Step
from mudanza.core.language.value import Stages, Surroundings, run_stages
from mudanza.core.values.kinds import plain_text
from mudanza.core.values.row_columns import FILE, LINE, SOURCE

Tried = list[tuple[str | None, list[str]]]


def nothing(name: str) -> Any:
    """Stands for tables and key books where there are none."""
    raise MoveError(f"crosswalks, key books and lookups have no place here ({name!r}).", hint="Compare columns only.")


def without_tables(as_of: date, parameters: Parameters | None = None) -> Surroundings:
    """Surroundings in which flows find no crosswalk, key book or lookup."""
    return Surroundings(nothing, nothing, parameters or Parameters(), as_of, nothing)


def try_flow(
    text: str,
    rows: Sequence[tuple[str | None, ...]],
    *,
    columns: Sequence[str] = ("A", "B"),
    steps: Mapping[str, Step] = STEPS,
    around: Surroundings | None = None,
    keys: pl.DataFrame | None = None,
    fields: Sequence[str] = (),
    what: str = "flow",
) -> Tried:
    """What comes out of a flow (or of a condition, if `what` says so) as plain text, and the codes of its findings, for each row.

    `keys` (identity, key) are what `mint` gives. Raises LanguageError where the text is wrong.
    """
    stages = Stages()
    compiler = Compiler(
        columns, around or without_tables(date(2026, 3, 31)), stages, lambda _: None, fields, steps=steps
    )
    if what == "flow":
        value = compiler.flow(text, parse_flow(text), "F")
    else:
        value = compiler.condition(text, parse_condition(text), "F")
    width = len(columns)
    frame = pl.DataFrame(
        [(*row, *[None] * width)[:width] for row in rows], schema=dict.fromkeys(columns, pl.String), orient="row"
    ).with_columns(
        pl.lit("north").alias(SOURCE), pl.lit("f.csv").alias(FILE), pl.int_range(2, 2 + len(rows)).alias(LINE)
    )
    frame = run_stages(frame, stages.early)
    for mint in stages.mints:
        known = (
            pl.DataFrame({"identity": [], "key": []}, schema={"identity": pl.String, "key": pl.String})
            if keys is None
            else keys
        )
        frame = frame.join(
            known.rename({"identity": mint.identity, "key": mint.key}),
            on=mint.identity,
            how="left",
            maintain_order="left",
        )
    frame = run_stages(frame, stages.late)
    out = frame.with_columns(flags(value.problems)).with_columns(
        plain_text(value.expr, value.kind).cast(pl.String).alias("out")
    )
    codes = [[p.code for i, p in enumerate(value.problems) if row[flag(i)]] for row in out.iter_rows(named=True)]
    return list(zip(out["out"].to_list(), codes, strict=True))
