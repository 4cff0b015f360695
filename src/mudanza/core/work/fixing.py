"""Corrections that cannot be wrong, made in a new file: each where a cell is not as its layout asks and the corrected one is."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

import polars as pl

from mudanza.core.disk.files import OutFile
from mudanza.core.documents.errors import Place, SourceError
from mudanza.core.findings.problem import Problem
from mudanza.core.layouts.layout import Field, Layout
from mudanza.core.layouts.rules import blank_in_file, kind_problems, value_problems
from mudanza.core.layouts.types import TextType
from mudanza.core.sinks.csv_text import QuotedWriter, RowWriter
from mudanza.core.values.date_format import DateFormat
from mudanza.core.values.kinds import Kind
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
    path: Path,
    layout: Layout,
    out: OutFile,
    listed: OutFile,
    *,
    shown: str | None = None,
    sheet: str | None = None,
    tell: Tell = quietly,
) -> FixResult:
    """Write into `out` a file anew in its layout's dialect and order, with what can be corrected without a doubt; what
    cannot stays as it is. The corrections are `listed`.

    Columns that the layout does not know follow behind. Raises SourceError where a row is damaged, since it would be lost.
    """
    shown = shown or str(path)
    if out.final.suffix.lower() in (".xlsx", ".ods", ".xls"):
        raise SourceError(
            "a corrected file is written as its layout says, which is text.",
            place=Place(str(out.final)),
            hint=f"Write --fix {out.final.stem}.csv; --annotated writes a workbook.",
        )
    opened = open_to_check(path, layout, shown, sheet)
    headings = match_headings(opened, layout, shown)
    orders = _orders(opened, layout, headings, shown)
    fields = [one for one in layout.fields if one.title in headings.columns]
    columns = [headings.columns[one.title] for one in fields]
    others = [column for column in opened.columns if column not in set(columns)]
    headed = dict(zip(opened.columns, opened.headings, strict=True)) if layout.dialect.header else {}
    parts = [pl.DataFrame(schema=CORRECTIONS), _renamed(opened, fields, columns, headed)]
    titles = [one.title for one in fields] + [headed.get(column, column) for column in others]
    writer = RowWriter([*columns, *others], layout.dialect, titles)
    total = 0
    out.write(writer.head())
    for batch, share in _whole(opened, shown):
        total += batch.height
        rows = (
            batch.with_columns(_as_text(one, column) for one, column in zip(fields, columns, strict=True))
            if opened.in_sheet
            else batch
        )
        corrected = rows.with_columns(
            _corrected(one, column, orders) for one, column in zip(fields, columns, strict=True)
        )
        parts += [
            _differences(rows[LINE], rows[column], corrected[column], one, ORDER if one.title in orders else None)
            for one, column in zip(fields, columns, strict=True)
        ]
        out.write(writer.rows(corrected))
        tell(Progress(f"correcting {shown}", total, share))
    found = pl.concat(parts).sort("line", maintain_order=True)
    listing = QuotedWriter(list(CORRECTIONS))
    listed.write(listing.head() + listing.rows(found.with_columns(pl.col("line").cast(pl.String))))
    return FixResult(shown, out.final, listed.final, total, found)


def _as_text(one: Field, column: str) -> pl.Expr:
    """A sheet's cell as the layout writes what it holds; what is none of its kind as it stands."""
    text = pl.col(column)
    if one.separator is not None:
        return text
    held = one.type.read_sheet(text)
    return pl.coalesce(one.type.render(held), text).alias(column) if one.is_typed else held.alias(column)


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


def _renamed(
    opened: Opened, fields: Sequence[Field], columns: Sequence[str], headed: Mapping[str, str]
) -> pl.DataFrame:
    line = opened.line or 1
    found = [
        (line, one.title, headed[column], one.title, HEADING)
        for one, column in zip(fields, columns, strict=True)
        if headed.get(column, one.title) != one.title
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
            small: dict[str, list[str]] = {}
            for word in one.type.permitted:
                small.setdefault(word.lower(), []).append(word)
            words = {word: meant[0] for word, meant in small.items() if len(meant) == 1}
            found.append(trimmed.str.to_lowercase().replace_strict(words, default=None, return_dtype=pl.String))
        digits = _digits(one.type)
        if digits is not None:
            found.append(pl.when(trimmed.str.contains("^[0-9]+$")).then(trimmed.str.zfill(digits)))
    return found


def _digits(takes: TextType) -> int | None:
    """How many digits a text has, where it is always so many and nothing else."""
    match = _FIXED_DIGITS.fullmatch(takes.pattern or "")
    return int(match[1]) if match else None


def _corrected(one: Field, column: str, orders: Mapping[str, DateFormat]) -> pl.Expr:
    text = pl.col(column)
    proven = orders.get(one.title)
    if proven is not None:
        return pl.coalesce(one.type.render(proven.read(text.str.strip_chars())), text).alias(column)
    result = text
    for proposal in reversed(_proposed(one, text)):
        result = pl.when(proposal.is_not_null() & _fits(one, proposal)).then(proposal).otherwise(result)
    return pl.when(_fits(one, text)).then(text).otherwise(result).alias(column)


def _differences(lines: pl.Series, before: pl.Series, after: pl.Series, one: Field, why: str | None) -> pl.DataFrame:
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
    return rows.select("line", pl.lit(one.title).alias("column"), "before", "after", told.alias("why"))


# a whole column


def _orders(opened: Opened, layout: Layout, headings: Headings, shown: str) -> dict[str, DateFormat]:
    """The pattern of each column of dates that all its values have, where that is not the layout's and no other has them all."""
    asked = {
        one.title: (one, headings.columns[one.title])
        for one in layout.fields
        if one.kind is Kind.DATE and one.is_typed and one.title in headings.columns
    }
    if not asked or opened.in_sheet:
        return {}
    forms = [DateFormat.of(pattern) for pattern in _ORDERS]
    counts = {title: [0] * (len(forms) + 2) for title in asked}
    for rows, _ in _whole(opened, shown):
        for title, (one, column) in asked.items():
            text = pl.col(column).str.strip_chars()
            filled = rows.select(column).filter(~blank_in_file(one, pl.col(column)))
            found = filled.select(
                pl.len().alias("n"),
                one.type.fits(text).sum().alias("own"),
                *(form.read(text).is_not_null().sum().alias(str(i)) for i, form in enumerate(forms)),
            ).row(0)
            counts[title] = [a + b for a, b in zip(counts[title], found, strict=True)]
    proven = {}
    for title, (total, own, *read) in counts.items():
        whole = [form for form, count in zip(forms, read, strict=True) if count == total]
        if total and own < total and len(whole) == 1:
            proven[title] = whole[0]
    return proven
