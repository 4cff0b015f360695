"""A hash that may be kept: the same for the same values on every machine and with every version of the libraries."""

from __future__ import annotations

from collections.abc import Sequence

import polars as pl
import polars_hash

#: what a blank is hashed as; no text holds it
_BLANK = "\x1e"
#: an odd number whose bits are well mixed: 2 to the power of 64, divided by the golden ratio
_MULTIPLIER = 0x9E3779B97F4A7C15


def fixed_hash(texts: Sequence[pl.Expr]) -> pl.Expr:
    """Texts of a row as one unsigned number of 64 bits.

    Each text is hashed by XXH3 (xxHash specification 0.1.1, 64 bits, seed 0) of its UTF-8, a blank as U+001E; from zero on, for each in turn, the number
    is multiplied by 0x9E3779B97F4A7C15 and the hash added, modulo 2 to the power of 64.
    """
    number: pl.Expr = pl.lit(0, dtype=pl.UInt64)
    for text in texts:
        one = polars_hash.concat_str(text.fill_null(_BLANK)).nchash.xxh3_64()
        number = number * pl.lit(_MULTIPLIER, dtype=pl.UInt64) + one
    return number
