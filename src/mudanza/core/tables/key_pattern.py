"""How the identifiers of a key book look."""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import partial

import polars as pl

from mudanza.core.documents.errors import MoveError, unknown
from mudanza.core.values.check_digits import SCHEMES, check_characters
from mudanza.core.values.row_columns import BETWEEN


@dataclass(frozen=True)
class KeyPattern:
    """How a new identifier looks: `OW-{000000}` is a number of at least six digits after `OW-`.

    With `check`, check digits by a standard (of `values.check_digits.SCHEMES`) stand for `{check}`: those of all that stands before it, as far as the standard knows its characters. With `groups`, so many of the first values of an old identifier are its group, and each group is numbered by itself; `{group}` stands
    for them.
    """

    before: str
    digits: int
    after: str
    start: int = 1
    groups: int = 0
    check: str | None = None

    @classmethod
    def of(cls, text: str, start: int = 1, groups: int = 0, check: str | None = None) -> KeyPattern:
        """Raises MoveError unless there is exactly one run of zeros in braces, {group} only where there are groups, and {check} once behind the zeros where there is a check."""
        match = re.fullmatch(r"((?:[^{}]|\{group\})*)\{(0+)\}((?:[^{}]|\{group\}|\{check\})*)", text)
        if not isinstance(groups, int) or isinstance(groups, bool) or groups < 0:
            raise MoveError("groups says how many of the first values make the group.", hint="Write groups = 1.")
        if match and ("{group}" in text) and not groups:
            raise MoveError(
                "the pattern has a {group}, and groups is not said.",
                hint="Write groups = 1: the first value is the group.",
            )
        if check is not None and (check not in SCHEMES or SCHEMES[check].behind is not None):
            known = [name for name, scheme in SCHEMES.items() if scheme.behind is None]
            raise MoveError(
                unknown("standard of check digits", str(check), known), hint=f"There are: {'; '.join(known)}."
            )
        if match and match.group(3).count("{check}") != (check is not None):
            raise MoveError(
                "the pattern has {check} once, behind its digits, if check says by which standard.",
                hint='Write pattern = "OW-{000000}{check}" and check = "luhn".',
            )
        if not match:
            raise MoveError(
                f"{text!r} is no key pattern.",
                hint='Write the digits as zeros in braces, as in "OW-{000000}".',
            )
        return cls(match.group(1), len(match.group(2)), match.group(3), start, groups, check)

    def group(self, identities: pl.Expr) -> pl.Expr:
        """The group of old identifiers, as it is written."""
        return identities.str.split(BETWEEN).list.head(self.groups).list.join("-")

    def keys(self, numbers: pl.Expr, identities: pl.Expr) -> pl.Expr:
        """Numbers as identifiers."""
        number = numbers.cast(pl.String).str.zfill(self.digits)
        after, sign, rest = self.after.partition("{check}")
        text = pl.concat_str(*self._around(self.before, identities), number, *self._around(after, identities))
        if not sign or self.check is None:
            return text
        check = partial(check_characters, scheme=self.check, known_only=True)
        digits = text.map_batches(check, return_dtype=pl.String)
        return pl.concat_str(text, digits, *self._around(rest, identities))

    @property
    def shown(self) -> str:
        """The pattern as it is written."""
        return f"{self.before}{{{'0' * self.digits}}}{self.after}"

    def numbers(self, keys: pl.Expr) -> pl.Expr:
        """The running numbers of identifiers that look so; null for others."""
        sides = []
        for text in (self.before, self.after):
            parts = re.split(r"(\{group\}|\{check\})", text)
            sides.append("".join(".*" if part in ("{group}", "{check}") else re.escape(part) for part in parts))
        return keys.str.extract(f"^{sides[0]}(\\d{{{self.digits},}}){sides[1]}$", 1).cast(pl.Int64, strict=False)

    def _around(self, text: str, identities: pl.Expr) -> list[pl.Expr]:
        """What stands beside the number, with the group where the pattern has it."""
        first, *others = text.split("{group}")
        return [pl.lit(first), *(part for other in others for part in (self.group(identities), pl.lit(other)))]
