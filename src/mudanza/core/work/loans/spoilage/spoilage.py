"""A way in which values are spoilt, as conditions on what was lent and what came back."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import polars as pl

#: what stands in a column of a loan: the text that was lent and that of the cell which came back, null where there is nothing
BEFORE, AFTER = pl.col("before"), pl.col("after")
#: and both as values of the field's kind; null where a text is none
WAS, IS = pl.col("was"), pl.col("is")

#: how far a way is known from what people do: `sure` is what nobody does by hand; `mark` what shows by all cells that it could have hit, be
#: it one; `many` what takes at least two of them; `ask` the same, but people do it too, so it is a question
Proof = Literal["sure", "mark", "many", "ask"]


@dataclass(frozen=True)
class Spoilage:
    """A way in which values are spoilt.

    `same` says whether a cell differs from what was lent only so, `could` whether what was lent would come back otherwise. `mended` is what an
    edited cell held before it was spoilt so, null where that cannot be told; `suspect` says which edited cells may have been. A way
    that `spreads` is done to a whole file: what one column proves is believed of the others.
    """

    name: str
    words: str
    proof: Proof
    same: pl.Expr
    could: pl.Expr
    mended: pl.Expr | None = None
    suspect: pl.Expr | None = None
    spreads: bool = False


def one_of(
    name: str, words: str, proof: Proof, *forms: pl.Expr, spreads: bool = False, **more: pl.Expr | None
) -> Spoilage:
    """A way that makes one of some forms of what was lent."""
    same = pl.any_horizontal([(form == AFTER).fill_null(False) for form in forms])
    could = pl.any_horizontal([(form != BEFORE).fill_null(False) for form in forms])
    return Spoilage(name, words, proof, same, could, spreads=spreads, **more)


def alike(
    name: str,
    words: str,
    proof: Proof,
    before: pl.Expr,
    after: pl.Expr,
    *,
    spreads: bool = False,
    **more: pl.Expr | None,
) -> Spoilage:
    """A way after which two forms of what was lent and of what came back are the same."""
    same, could = (before == after).fill_null(False), (before != BEFORE).fill_null(False)
    return Spoilage(name, words, proof, same, could, spreads=spreads, **more)
