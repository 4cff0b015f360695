"""How the identifiers of a key book look."""

from __future__ import annotations

import re
from dataclasses import dataclass

import polars as pl

from mudanza.core.documents.errors import MoveError
from mudanza.core.values.row_columns import INNER


@dataclass(frozen=True)
class KeyPattern:
    """How a new identifier looks: `OW-{000000}` is a number of at least six digits after `OW-`.

    With `groups`, so many of the first values of an old identifier are its group, and each group is numbered by itself; `{group}` stands
    for them.
    """

    before: str
    digits: int
    after: str
    start: int = 1
    groups: int = 0

    @classmethod
    def of(cls, text: str, start: int = 1, groups: int = 0) -> KeyPattern:
        """Raises MoveError unless there is exactly one run of zeros in braces, and {group} only where there are groups."""
        match = re.fullmatch(r"((?:[^{}]|\{group\})*)\{(0+)\}((?:[^{}]|\{group\})*)", text)
        if not isinstance(groups, int) or isinstance(groups, bool) or groups < 0:
            raise MoveError("groups says how many of the first values make the group.", hint="Write groups = 1.")
        if match and ("{group}" in text) and not groups:
            raise MoveError(
                "the pattern has a {group}, and groups is not said.",
                hint="Write groups = 1: the first value is the group.",
            )
        if not match:
            raise MoveError(
                f"{text!r} is no key pattern.",
                hint='Write the digits as zeros in braces, as in "OW-{000000}".',
            )
        return cls(match.group(1), len(match.group(2)), match.group(3), start, groups)

    def group(self, identities: pl.Expr) -> pl.Expr:
        """The group of old identifiers, as it is written."""
        return identities.str.split(INNER).list.head(self.groups).list.join("-")

    def keys(self, numbers: pl.Expr, identities: pl.Expr) -> pl.Expr:
        """Numbers as identifiers."""
        number = numbers.cast(pl.String).str.zfill(self.digits)
        return pl.concat_str(*self._around(self.before, identities), number, *self._around(self.after, identities))

    def _around(self, text: str, identities: pl.Expr) -> list[pl.Expr]:
        """What stands beside the number, with the group where the pattern has it."""
        first, *others = text.split("{group}")
        return [pl.lit(first), *(part for other in others for part in (self.group(identities), pl.lit(other)))]
