"""Which record each returned row is: by its mark, by its key, and where a program spoilt the keys, by what is left of them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import polars as pl

from mudanza.core.findings.finding import Finding
from mudanza.core.values.row_columns import BETWEEN, INNER, LINE
from mudanza.core.work.loans.lent import KEY, ROW, Lent, shown_text
from mudanza.core.work.loans.loan_book import MARK
from mudanza.core.work.loans.returned.table import MARKED, Table
from mudanza.core.work.loans.spoilage.judging import agreement, as_read

#: the number of the lent record that a row is; null for a new one
AT = f"{INNER}at"
# beside the columns of the loan, which may have any name
_BY_KEY, _BY_MARK, _FOUND, _SAME_AS, _WAS, _REST = (
    f"{INNER}{one}" for one in ("by key", "by mark", "found", "same", "was", "rest")
)
_SAME = 0.5


@dataclass(frozen=True)
class Paired:
    """The rows with `AT`; the lines of those that cannot be told, and what was noticed; whether keys were put right."""

    rows: pl.DataFrame
    unclear: frozenset[int]
    findings: tuple[Finding, ...]


def pair(lent: Lent, table: Table) -> Paired:
    """Pair the rows of a table with the lent records. The rows have their `KEY`."""
    return _Pairing(lent, table).paired()


def columns_found(lent: Lent, table: Table) -> dict[str, int]:
    """Where columns stand whose headings were renamed: those that hold what was lent, or that alone are left between two others."""
    found: dict[str, int] = {}
    others = {n: texts for n, texts in table.others().items() if table.heading[n] or texts.null_count() < len(texts)}
    keys = [f.title for f in lent.keys]
    at = _by_mark(lent, table.rows)
    for title in keys:
        if title in table.missing and others:
            known = lent.before[title].drop_nulls()
            field = lent.layout.field_named(title)
            shares = {n: _share(as_read(field, texts, None).is_in(known.implode())) for n, texts in others.items()}
            best = max(shares, key=lambda n: shares[n])
            if shares[best] >= _SAME:
                found[title] = best
                del others[best]
    if at.null_count() == len(at) and not set(keys) & set(table.missing):
        keyed = table.rows.select(*(pl.col(k).str.strip_chars() for k in keys))
        lookup = lent.before.select(*keys, ROW).unique(keys)
        at = keyed.join(lookup, on=keys, how="left", maintain_order="left")[ROW]
    lookup = pl.DataFrame({ROW: at}).join(lent.before, on=ROW, how="left", maintain_order="left")
    for title in table.missing:
        if title in found or not others:
            continue
        if title in table.repeated:
            if (
                edited := _edited_copy(lookup[title], {n: t for n, t in others.items() if table.heading[n] == title})
            ) is not None:
                found[title] = edited
                del others[edited]
            continue
        field = lent.layout.field_named(title)
        shares = {n: agreement(field, lookup[title], texts) for n, texts in others.items()}
        best = max(shares, key=lambda n: shares[n])
        if shares[best] >= _SAME:
            found[title] = best
            del others[best]
    left = [title for title in table.missing if title not in found and title not in table.repeated]
    for title in left:
        between = _place_between([f.title for f in lent.fields], title, {**table.places, **found})
        if between in others and table.heading[between] and lookup[title].null_count() == len(lookup):
            found[title] = between
            del others[between]
    return found


def _edited_copy(lent: pl.Series, copies: Mapping[int, pl.Series]) -> int | None:
    """Of columns with one heading, the one that was edited, if the others are as they were lent; None if that cannot be told."""
    edited = [n for n, texts in copies.items() if not texts.equals(lent.alias(texts.name))]
    if not edited:
        return next(iter(copies), None)
    alike = _share((copies[edited[0]] == lent).filter(lent.is_not_null())) >= _SAME
    return edited[0] if len(edited) == 1 and alike else None


def _place_between(titles: Sequence[str], title: str, places: Mapping[str, int]) -> int:
    """Where a column would stand, by those beside it; -1 if they do not say."""
    at = titles.index(title)
    before = places.get(titles[at - 1]) if at else -1
    after = places.get(titles[at + 1]) if at + 1 < len(titles) else None
    if before is not None and (after is None or after == before + 2):
        return before + 1
    return after - 1 if before is None and after is not None else -1


def _share(same: pl.Series) -> float:
    return float(same.fill_null(False).mean() or 0.0) if len(same) else 0.0  # type: ignore[arg-type]


def _by_mark(lent: Lent, rows: pl.DataFrame) -> pl.Series:
    """The lent records of rows by their marks."""
    before, behind = f"{lent.id}:", f":{lent.mark}"
    mark = pl.col(MARKED).str.strip_chars()
    ours = mark.str.starts_with(before) & mark.str.ends_with(behind)
    number = mark.str.strip_prefix(before).str.strip_suffix(behind).cast(pl.Int64, strict=False)
    return rows.select(pl.when(ours).then(number).alias(AT)).to_series()


class _Pairing:
    def __init__(self, lent: Lent, table: Table) -> None:
        self.lent, self.table = lent, table
        self.title = ", ".join(f.title for f in lent.keys)
        self.findings: list[Finding] = []
        self.unclear: set[int] = set()

    def paired(self) -> Paired:
        """All rows."""
        lent, rows = self.lent, self.table.rows
        by_mark = _by_mark(lent, rows).alias(_BY_MARK)
        if by_mark.equals(lent.before[ROW]) and rows[KEY].equals(lent.before[KEY], null_equal=False):
            # each record has come back in its place, as most do
            return Paired(rows.with_columns(by_mark.alias(AT)), frozenset(), ())
        known = lent.before.select(KEY, ROW)
        by_key = rows.select(KEY).join(known, on=KEY, how="left", maintain_order="left")[ROW].alias(_BY_KEY)
        rows = rows.with_columns(by_key, by_mark)
        foreign = rows.filter(pl.col(MARKED).str.contains(f"^{MARK}$") & pl.col(_BY_MARK).is_null())
        self._tell("loan.foreign-row", foreign, MARKED, f"a row of loan {lent.id}")
        by_key_alone = rows[_BY_MARK].null_count() == rows.height
        rows = self._by_remains(rows) if by_key_alone else self._by_marks(rows)
        self._repeated(rows)
        return Paired(rows.drop(_BY_KEY, _BY_MARK, _REST, strict=False), frozenset(self.unclear), tuple(self.findings))

    def _by_marks(self, rows: pl.DataFrame) -> pl.DataFrame:
        """Rows by their marks; where the keys say otherwise, by what agrees with more of what was lent."""
        both = rows.filter(
            pl.col(_BY_KEY).is_not_null() & pl.col(_BY_MARK).is_not_null() & (pl.col(_BY_KEY) != pl.col(_BY_MARK))
        )
        if both.height and self._agreeing(both, _BY_KEY) > self._agreeing(both, _BY_MARK):
            # the marks stayed where they were while the records were sorted
            rows = rows.with_columns(pl.coalesce(_BY_KEY, _BY_MARK).alias(AT))
            return rows
        # of two rows with one mark, that is the record which has its key; the other is a new one
        copies = rows.filter(pl.col(_BY_MARK).is_not_null() & pl.col(_BY_MARK).is_duplicated())
        own = copies.filter(pl.col(_BY_KEY) == pl.col(_BY_MARK))[_BY_MARK]
        copied = pl.col(_BY_MARK).is_in(own.implode()) & (
            pl.col(_BY_KEY).is_null() | (pl.col(_BY_KEY) != pl.col(_BY_MARK))
        )
        mark = pl.when(copied.fill_null(False)).then(pl.lit(None, dtype=pl.Int64)).otherwise(_BY_MARK)
        rows = rows.with_columns(pl.coalesce(mark, _BY_KEY).alias(AT))
        self._keys_changed(rows)
        return rows

    def _keys_changed(self, rows: pl.DataFrame) -> None:
        """Rows whose mark is a record's and whose key is not."""
        there = rows.filter(pl.col(AT).is_not_null() & (pl.col(_BY_MARK) == pl.col(AT)))
        there = there.join(
            self.lent.before.select(pl.col(ROW).alias(AT), pl.col(KEY).alias(_WAS)),
            on=AT,
            how="inner",
            maintain_order="left",
        )
        wrong = there.filter(pl.col(KEY).ne_missing(pl.col(_WAS)))
        if wrong.is_empty():
            return
        blank = wrong.filter(pl.col(KEY).is_null())
        self._note("loan.undone", blank, "keys that were cleared")
        wrong = wrong.filter(pl.col(KEY).is_not_null())
        spoilt = wrong.filter(_remains(pl.col(KEY)) == _remains(pl.col(_WAS)))
        self._note("loan.undone", spoilt, "keys that a program spoilt")
        wrong = wrong.filter(~pl.col(LINE).is_in(spoilt[LINE].implode()))
        if wrong.filter(pl.col(_BY_KEY).is_not_null()).height > max(2, there.height // 2):
            self._note("loan.undone", wrong, "keys that were sorted without their records")
            return
        for line, key, was in wrong.select(LINE, KEY, _WAS).iter_rows():
            self._add("loan.key-changed", line, shown_text(key), f"{shown_text(was)}, as lent")

    def _by_remains(self, rows: pl.DataFrame) -> pl.DataFrame:
        """Rows without marks by their keys; of those that have no record, and records that have no row, the ones that fit each other."""
        rows = rows.with_columns(pl.col(_BY_KEY).alias(AT))
        others = [f for f in self.lent.fields if f not in self.lent.keys]
        rest = _rest([f.title for f in others])
        written = rows.select(as_read(f, rows[f.title], None).alias(f.title) for f in others) if others else rows
        rows = rows.with_columns(written.select(rest).to_series())
        gone = self.lent.before.with_columns(rest).filter(~pl.col(ROW).is_in(rows[AT].drop_nulls().implode()))
        strange = rows.filter(pl.col(AT).is_null())
        if gone.is_empty() or strange.is_empty():
            return rows
        for same, words in (
            (_remains(pl.col(KEY)), "keys that a program spoilt"),
            (pl.col(_REST), "keys that were changed"),
        ):
            left = strange.select(LINE, KEY, same.alias(_SAME_AS)).filter(
                pl.col(_SAME_AS).is_not_null() & ~pl.col(_SAME_AS).is_duplicated()
            )
            right = gone.select(pl.col(ROW).alias(_FOUND), pl.col(KEY).alias(_WAS), same.alias(_SAME_AS))
            right = right.filter(pl.col(_SAME_AS).is_not_null() & ~pl.col(_SAME_AS).is_duplicated())
            fits = left.join(right, on=_SAME_AS, how="inner", maintain_order="left")
            if fits.is_empty():
                continue
            if words == "keys that were changed" and fits.filter(pl.col(KEY).is_not_null()).height:
                for line, key, was in fits.filter(pl.col(KEY).is_not_null()).select(LINE, KEY, _WAS).iter_rows():
                    self._add("loan.key-changed", line, shown_text(key), f"{shown_text(was)}, as lent")
            else:
                self._note("loan.undone", fits, words)
            rows = rows.join(fits.select(LINE, _FOUND), on=LINE, how="left", maintain_order="left")
            rows = rows.with_columns(pl.coalesce(AT, _FOUND).alias(AT)).drop(_FOUND)
            gone = gone.filter(~pl.col(ROW).is_in(fits[_FOUND].implode()))
            strange = strange.filter(~pl.col(LINE).is_in(fits[LINE].implode()))
        return rows

    def _repeated(self, rows: pl.DataFrame) -> None:
        """Rows of one record, and new rows of one key."""
        twice = rows.filter(
            (pl.col(AT).is_not_null() & pl.col(AT).is_duplicated())
            | (pl.col(AT).is_null() & pl.col(KEY).is_not_null() & pl.col(KEY).is_duplicated())
        )
        for line, key in twice.select(LINE, KEY).iter_rows():
            self._add("loan.key-repeated", line, shown_text(key or ""), "once")

    def _agreeing(self, rows: pl.DataFrame, by: str) -> int:
        """How many cells are as they were lent, if rows are records by their key or by their mark."""
        titles = [f.title for f in self.lent.fields if f not in self.lent.keys]
        beside = rows.join(
            self.lent.before.rename({ROW: by}), on=by, how="left", suffix=f"{INNER}lent", maintain_order="left"
        )
        return int(
            beside.select(
                pl.sum_horizontal([(pl.col(t) == pl.col(f"{t}{INNER}lent")).fill_null(False).sum() for t in titles])
            ).item()
            if titles
            else 0
        )

    def _tell(self, code: str, rows: pl.DataFrame, column: str, rule: str) -> None:
        for line, value in rows.select(LINE, column).iter_rows():
            self._add(code, line, value, rule)

    def _add(self, code: str, line: int, value: str | None, rule: str) -> None:
        self.unclear.add(line)
        self.findings.append(self.table.finding(code, self.lent.keys[0].title, line, value, rule))

    def _note(self, code: str, rows: pl.DataFrame, words: str) -> None:
        if rows.height:
            cells = f"{rows.height:,} of {self.table.rows.height:,} rows: {words}"
            self.findings.append(
                Finding(code, self.table.shown, rows[LINE][0], field=self.title, value=cells, rule="as it was lent")
            )


def _remains(key: pl.Expr) -> pl.Expr:
    """What is left of a key after spreadsheet programs: no zeros in front, no spaces, no capitals, a number as a number."""
    plain = (
        key.str.to_lowercase()
        .str.replace_all(r"[\s\x{00A0}]+|\.0+$", "")
        .str.replace_all(rf"(^|{BETWEEN})[+']?0+([0-9])", "${1}${2}")
    )
    exponent = (
        pl.when(plain.str.contains(r"^[0-9.,]+e\+?[0-9]+$"))
        .then(plain.str.replace(",", "."))
        .cast(pl.Float64, strict=False)
    )
    return pl.coalesce(exponent.cast(pl.Decimal(38, 0), strict=False).cast(pl.String), plain)


def _rest(titles: Sequence[str]) -> pl.Expr:
    """All of a row but its key, as one text; null where nearly nothing is filled in."""
    if len(titles) < 2:
        return pl.lit(None, dtype=pl.String).alias(_REST)
    enough = pl.sum_horizontal([pl.col(t).is_not_null().cast(pl.Int64) for t in titles]) >= 2
    return (
        pl.when(enough).then(pl.concat_str([pl.col(t).fill_null("") for t in titles], separator=BETWEEN)).alias(_REST)
    )
