"""Of records that a build held back: which cells were lent to be corrected."""

from __future__ import annotations

from collections.abc import Mapping

import polars as pl


def faulty_cells(records: pl.DataFrame, why: pl.Expr, texts: Mapping[str, pl.Expr]) -> pl.DataFrame:
    """By title, whether a cell was lent to be corrected: a blank one, one that is quoted where it says why its record was held back, or any of a record of which none is.

    `why` and `texts` are what was lent, of the columns of `records`.
    """
    quoted = records.select(
        why.str.contains(pl.concat_str(pl.lit('"'), text, pl.lit('"')), literal=True).fill_null(False).alias(title)
        for title, text in texts.items()
    )
    blank = records.select(text.is_null().alias(title) for title, text in texts.items())
    none = quoted.select(~pl.any_horizontal(pl.all())).to_series()
    return pl.DataFrame([quoted[title] | none | blank[title] for title in quoted.columns])
