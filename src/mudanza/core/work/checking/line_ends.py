"""Whether the lines of a file end as its layout says."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from mudanza.core.findings.finding import Finding
from mudanza.core.layouts.dialect import Dialect

_BLOCK = 8 << 20
_NAMES = {"\r\n": "CRLF", "\n": "LF", "\r": "CR"}


def wrong_line_ends(path: Path, dialect: Dialect, shown: str) -> list[Finding]:
    """A finding at the first line that ends in another way than it may; breaks inside values are none. Nothing where any end will do."""
    allowed = set(dialect.line_ends)
    if {"\r\n", "\n"} <= allowed or dialect.encoding.startswith(("utf-16", "utf-32")):
        return []
    quote = dialect.quote.encode()[0] if dialect.quote is not None else None
    lines, quotes, before = 0, 0, 0
    with path.open("rb") as file:
        while block := file.read(_BLOCK):
            data = np.frombuffer(block, np.uint8)
            ends = np.flatnonzero(data == 10)
            if ends.size:
                previous = np.where(ends > 0, data[ends - 1], before)
                returned = previous == 13
                wrong = ~returned if "\r\n" in allowed else returned | ("\n" not in allowed)
                if quote is not None and wrong.any():
                    places = np.flatnonzero(data == quote)
                    wrong &= (np.searchsorted(places, ends) + quotes) % 2 == 0
                if wrong.any():
                    first = int(np.argmax(wrong))
                    rule = " or ".join(_NAMES[one] for one in dialect.line_ends)
                    value = _NAMES["\r\n" if returned[first] else "\n"]
                    return [
                        Finding("file.line-ends", shown, lines + first + 1, value=value, rule=f"lines end with {rule}")
                    ]
            lines += ends.size
            quotes += 0 if quote is None else int(np.count_nonzero(data == quote))
            before = block[-1]
    return []
