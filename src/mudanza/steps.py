"""For a move's own `steps.py`: how a step of one's own is declared.

import polars as pl
from mudanza.steps import TEXT, own_step

@own_step("microchip", takes=TEXT, gives=TEXT, finding="fifteen digits", examples=[("{A} -> microchip", ("620 098 100 123 456",), "620098100123456")])
def microchip(value: pl.Expr, digits: int = 15) -> pl.Expr:
    \"\"\"The digits of a chip number, if there are as many as there must be.\"\"\"
    plain = value.str.replace_all(r"[^0-9]", "")
    return pl.when(plain.str.len_chars() == digits).then(plain)
"""

from mudanza.core.language.own_steps import own_step
from mudanza.core.values.kinds import Kind

TEXT, NUMBER, DATE, DATETIME, YESNO, TEXTS = Kind.TEXT, Kind.NUMBER, Kind.DATE, Kind.DATETIME, Kind.YESNO, Kind.TEXTS

__all__ = ["DATE", "DATETIME", "NUMBER", "TEXT", "TEXTS", "YESNO", "Kind", "own_step"]
