"""Corrections that cannot be wrong, made in a new file: each where a cell is not as its layout asks and the corrected one is."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

import polars as pl

from mudanza.core.documents.errors import Place, SourceError
from mudanza.core.findings.problem import Problem
from mudanza.core.layouts.layout import Field, Layout
from mudanza.core.layouts.rules import blank_in_file, kind_problems, value_problems
from mudanza.core.layouts.types import DateType, TextType
from mudanza.core.sinks.csv_text import RowWriter
from mudanza.core.state.files import Outputs
from mudanza.core.values.date_format import DateFormat
from mudanza.core.values.odd_letters import as_seen
from mudanza.core.values.row_columns import LINE
from mudanza.core.values.written import DATES, DATES_TOO
from mudanza.core.work.checking.headings import Headings, match_headings
from mudanza.core.work.checking.opened import Opened, open_to_check
from mudanza.core.work.progress import Progress, Tell, quietly

#: patterns of dates whose order a column can prove
_ORDERS = [pattern for pattern in (*DATES, *DATES_TOO) if "yyyy" in pattern]
_FIXED_DIGITS = re.compile(r"(?:\^)?(?:\[0-9\]|\\d)\{(\d+)\}(?:\$)?")
SPACES, LETTERS, ZEROS, ORDER, HEADING = (
    "spaces at its ends",
    "capitals of a permitted value",
    "zeros lost in front",
    "the order of dates that the column proves",
    "a heading that looks the same",
)
CORRECTIONS = {"line": pl.Int64, "column": pl.String, "before": pl.String, "after": pl.String, "why": pl.String}


@dataclass(frozen=True)
class FixResult:
    """What was corrected, a row each (`CORRECTIONS`), in a new file of so many rows, and where they are listed."""

    file: str
    written: Path
    listed: Path
    rows: int
    corrections: pl.DataFrame


def fix(
    path: Path, layout: Layout, out: Path, *, shown: str | None = None, sheet: str | None = None, tell: Tell = quietly
) -> FixResult:
    """Write a file anew in its layout's dialect and order, with what can be corrected without a doubt; what cannot stays as it is.

    Columns that the layout does not know follow behind. Raises SourceError where a row is damaged, since it would be lost.
    """
    shown = shown or str(path)
    opened = open_to_check(path, layout, shown, sheet)
    headings = match_headings(opened, layout, shown)
    _not_the_same(path, out)
    orders = _orders(opened, layout, headings, shown)
    fields = [one for one in layout.fields if one.title in headings.columns]
    named = {one.title: headings.columns[one.title] for one in fields}
    known = set(named.values())
    others = [column for column in opened.columns if column not in known]
    titles = dict(zip(opened.columns, opened.headings, strict=True)) if opened.headings else {}
    parts = [pl.DataFrame(schema=CORRECTIONS), _renamed(opened, named, titles)]
    writer = RowWriter([*named, *(titles.get(column) or column for column in others)], layout.dialect)
    total = 0
    with Outputs("check") as outputs:
        file = outputs.create(out)
        file.write(writer.head())
        for batch, share in _whole(opened, shown):
            total += batch.height
            corrected = batch.select(
                LINE, *(_corrected(one, named[one.title], orders).alias(one.title) for one in fields)
            )
            before = batch.select(pl.col(column).alias(title) for title, column in named.items())
            parts += [_differences(batch[LINE], before[t], corrected[t], why) for t, why in _reasons(fields, orders)]
            rows = corrected.drop(LINE).hstack(batch.select(pl.col(c).alias(titles.get(c) or c) for c in others))
            file.write(writer.rows(rows))
            tell(Progress(f"correcting {shown}", total, share))
        found = pl.concat(parts).sort("line", maintain_order=True)
        listed = outputs.create(out.with_name(f"{out.stem}.corrections.csv"))
        listing = RowWriter(list(CORRECTIONS))
        listed.write(listing.head() + listing.rows(found.with_columns(pl.col("line").cast(pl.String))))
        outputs.publish()
    return FixResult(shown, out, out.with_name(f"{out.stem}.corrections.csv"), total, found)


def _not_the_same(path: Path, out: Path) -> None:
    if out.exists() and out.resolve() == path.resolve():
        raise SourceError(
            "the corrected file would take the place of the one that is checked.",
            place=Place(str(out)),
            hint="Give it another name; what came in is never changed.",
        )
    if out.suffix.lower() in (".xlsx", ".ods", ".xls"):
        raise SourceError(
            "a corrected file is written as its layout says, which is text.",
            place=Place(str(out)),
            hint=f"Write --fix {out.stem}.csv; --annotated writes a workbook.",
        )


def _whole(opened: Opened, shown: str) -> Iterator[tuple[pl.DataFrame, float | None]]:
    for batch in opened.batches():
        if batch.broken:
            bad = batch.broken[0]
            raise SourceError(
                f"a row is damaged ({bad.value}) and would be lost.",
                place=Place(shown, bad.line),
                hint="Mend it first: `mudanza check` lists all that are damaged.",
            )
        yield batch.rows, batch.share


def _renamed(opened: Opened, named: dict[str, str], titles: dict[str, str]) -> pl.DataFrame:
    line = opened.line or 1
    found = [
        (line, title, titles[column], title, HEADING)
        for title, column in named.items()
        if titles.get(column, title) != title
    ]
    return pl.DataFrame(found, schema=CORRECTIONS, orient="row")


# one cell


def _problems(one: Field, text: pl.Expr) -> list[Problem]:
    value = one.type.read(text) if one.is_typed else text
    return kind_problems(one, text, value) + value_problems(one, text, value, blank_in_file(one, text))


def _fits(one: Field, text: pl.Expr) -> pl.Expr:
    asked = [problem.exactly.fill_null(False) for problem in _problems(one, text) if problem.stops]
    return ~pl.any_horizontal(asked) if asked else pl.lit(True)


def _proposed(one: Field, text: pl.Expr) -> list[pl.Expr]:
    """What a cell may have been meant to be, the least change first."""
    trimmed = text.str.strip_chars()
    found = [trimmed]
    if isinstance(one.type, TextType) and one.separator is None:
        if one.type.permitted is not None:
            by_look: dict[str, list[str]] = {}
            for word in one.type.permitted:
                by_look.setdefault(as_seen(word), []).append(word)
            words = {look: words[0] for look, words in by_look.items() if len(words) == 1}
            found.append(trimmed.str.to_lowercase().replace_strict(words, default=None, return_dtype=pl.String))
        digits = _digits(one.type)
        if digits is not None:
            found.append(pl.when(trimmed.str.contains("^[0-9]+$")).then(trimmed.str.zfill(digits)))
    return found


def _digits(takes: TextType) -> int | None:
    """How many digits a text has, where it is always so many and nothing else."""
    match = _FIXED_DIGITS.fullmatch(takes.pattern or "")
    return int(match[1]) if match else None


def _corrected(one: Field, column: str, orders: dict[str, DateFormat]) -> pl.Expr:
    text = pl.col(column)
    proven = orders.get(one.title)
    if proven is not None:
        return pl.coalesce(one.type.render(proven.read(text.str.strip_chars())), text)
    result = text
    for proposal in reversed(_proposed(one, text)):
        result = pl.when(proposal.is_not_null() & _fits(one, proposal)).then(proposal).otherwise(result)
    return pl.when(_fits(one, text)).then(text).otherwise(result)


def _reasons(fields: Sequence[Field], orders: dict[str, DateFormat]) -> Iterator[tuple[str, str | None]]:
    for one in fields:
        yield one.title, ORDER if one.title in orders else None


def _differences(lines: pl.Series, before: pl.Series, after: pl.Series, why: str | None) -> pl.DataFrame:
    rows = pl.DataFrame({"line": lines, "before": before, "after": after}).filter(
        pl.col("before").ne_missing(pl.col("after"))
    )
    trimmed, after_ = pl.col("before").str.strip_chars(), pl.col("after")
    told = (
        pl.lit(why)
        if why is not None
        else pl.when(trimmed == after_)
        .then(pl.lit(SPACES))
        .when(after_.str.ends_with(trimmed) & after_.str.contains("^[0-9]+$"))
        .then(pl.lit(ZEROS))
        .otherwise(pl.lit(LETTERS))
    )
    return rows.select("line", pl.lit(before.name).alias("column"), "before", "after", told.alias("why"))


# a whole column


def _orders(opened: Opened, layout: Layout, headings: Headings, shown: str) -> dict[str, DateFormat]:
    """The pattern of each column of dates that all its values have, where that is not the layout's and no other has them all."""
    asked = {
        one.title: (one.type, headings.columns[one.title])
        for one in layout.fields
        if isinstance(one.type, DateType) and one.is_typed and one.title in headings.columns
    }
    if not asked or opened.in_sheet:
        return {}
    forms = [DateFormat.of(pattern) for pattern in _ORDERS]
    counts = {title: [0] * (len(forms) + 2) for title in asked}
    for rows, _ in _whole(opened, shown):
        for title, (takes, column) in asked.items():
            text = pl.col(column).str.strip_chars()
            filled = rows.filter(text.str.len_bytes() > 0)
            found = filled.select(
                pl.len().alias("n"),
                takes.fits(text).sum().alias("own"),
                *(form.read(text).is_not_null().sum().alias(str(i)) for i, form in enumerate(forms)),
            ).row(0)
            counts[title] = [a + b for a, b in zip(counts[title], found, strict=True)]
    proven = {}
    for title, (total, own, *read) in counts.items():
        whole = [form for form, count in zip(forms, read, strict=True) if count == total]
        if total and own < total and len(whole) == 1:
            proven[title] = whole[0]
    return proven
