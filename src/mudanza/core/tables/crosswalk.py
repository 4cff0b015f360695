"""Crosswalks: small tables that translate source codes into target codes."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal

import polars as pl

from mudanza.core.values.kinds import DECIMAL
from mudanza.core.values.row_columns import BETWEEN

#: stands for every code, or for every value of a further column
ANY = "(any)"
#: the state of an entry that nobody has confirmed, and that is not used therefore
PROPOSED = "proposed"
_PLAIN = r"[+-]?[0-9]{1,26}(?:\.[0-9]{1,12})?"


@dataclass(frozen=True)
class Entry:
    """A line of a crosswalk: the code (up to `upto`, in a range), the values of the further columns, the target code, a note, and whether it is
    only proposed."""

    line: int
    code: str
    when: tuple[str, ...]
    to: str
    upto: str = ""
    note: str = ""
    state: str = ""

    @property
    def key(self) -> tuple[str, ...]:
        return (self.code, self.upto, *self.when)

    @property
    def asked(self) -> tuple[int, ...]:
        """Which of the code and the further values it asks for, by number."""
        return tuple(i for i, value in enumerate((self.code, *self.when)) if value != ANY)

    @property
    def rank(self) -> tuple[int, int, tuple[int, ...]]:
        """Which entry goes first where several fit: listed codes, then ranges (in their order, whatever their further columns), then all codes; of those alike, the one that
        asks for more, and for what stands further left."""
        if self.upto:
            return 1, 0, ()
        return 0 if 0 in self.asked else 2, -len(self.asked), self.asked


def plain_number(text: str) -> Decimal | None:
    """A plain number, as flows compare it with ranges; None where a text is none."""
    return Decimal(text) if re.fullmatch(_PLAIN, text) else None


class Listed:
    """Entries, quick to ask for the one that translates a code. It is the one that `Crosswalk.translate` takes."""

    def __init__(self, entries: Sequence[Entry]) -> None:
        self._by_code: dict[str, list[Entry]] = {}
        self._wide: list[Entry] = []
        for entry in entries:
            if entry.upto or entry.code == ANY:
                self._wide.append(entry)
            else:
                self._by_code.setdefault(entry.code, []).append(entry)

    def entry_for(self, values: tuple[str, ...]) -> Entry | None:
        """The entry for a code and the further values; None if none is listed."""
        fitting = [e for e in (*self._by_code.get(values[0], ()), *self._wide) if _covers(e, values)]
        return min(fitting, key=lambda entry: entry.rank, default=None)


def _covers(entry: Entry, values: tuple[str, ...]) -> bool:
    if any(w not in (ANY, v) for w, v in zip(entry.when, values[1:], strict=True)):
        return False
    if not entry.upto:
        return entry.code in (ANY, values[0])
    number, low, high = plain_number(values[0]), plain_number(entry.code), plain_number(entry.upto)
    return number is not None and low is not None and high is not None and low <= number <= high


@dataclass(frozen=True)
class Crosswalk:
    """A crosswalk as flows use it. `columns` are those looked up by, the code's first; `proposals` the entries that nobody has confirmed."""

    name: str
    columns: tuple[str, ...]
    entries: tuple[Entry, ...]
    proposals: tuple[Entry, ...] = ()

    def translate(self, parts: list[pl.Expr]) -> pl.Expr:
        """The target codes of codes (and further values), all trimmed texts; null where none is listed, blank where the target is.

        Where several entries fit, `Entry.rank` decides.
        """
        by_rank: dict[tuple[int, int, tuple[int, ...]], list[Entry]] = {}
        for entry in self.entries:
            by_rank.setdefault(entry.rank, []).append(entry)
        found: list[pl.Expr] = []
        for rank in sorted(by_rank):
            entries = by_rank[rank]
            ranges = [self._range(parts, entry) for entry in entries if entry.upto]
            found += ranges or [self._exact(parts, entries[0].asked, entries)]
        if not found:
            return pl.lit(None, dtype=pl.String)
        return pl.when(parts[0].is_not_null()).then(pl.coalesce(found))

    @staticmethod
    def _exact(parts: list[pl.Expr], asked: tuple[int, ...], entries: list[Entry]) -> pl.Expr:
        if not asked:
            return pl.lit(entries[0].to)
        key = (
            pl.concat_str([parts[i].fill_null("") for i in asked], separator=BETWEEN)
            if len(asked) > 1
            else parts[asked[0]]
        )
        old = pl.Series([BETWEEN.join((e.code, *e.when)[i] for i in asked) for e in entries], dtype=pl.String)
        return key.replace_strict(old, pl.Series([e.to for e in entries], dtype=pl.String), default=None)

    @staticmethod
    def _range(parts: list[pl.Expr], entry: Entry) -> pl.Expr:
        number = pl.when(parts[0].str.contains(f"^(?:{_PLAIN})$")).then(parts[0]).cast(DECIMAL, strict=False)
        inside = number.is_between(pl.lit(entry.code).cast(DECIMAL), pl.lit(entry.upto).cast(DECIMAL))
        further = [p.fill_null("") == w for p, w in zip(parts[1:], entry.when, strict=True) if w != ANY]
        return pl.when(pl.all_horizontal([inside, *further])).then(pl.lit(entry.to))
