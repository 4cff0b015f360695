"""What a layout asks of cells, as problems; the same for a file that is checked and one that is built."""

from __future__ import annotations

import polars as pl

from mudanza.core.findings.problem import Problem
from mudanza.core.layouts.layout import Field
from mudanza.core.layouts.types import Cell
from mudanza.core.values.kinds import Kind, is_blank, plain_text


def blank_in_file(field: Field, text: pl.Expr) -> pl.Expr:
    """Whether a cell counts as blank: nothing, spaces only, or one of the layout's words for null."""
    blank = is_blank(text, Kind.TEXT)
    words = [word for word in field.null if word.strip()]
    return blank | text.is_in(words).fill_null(False) if words else blank


def render(field: Field, value: pl.Expr, kind: Kind) -> pl.Expr:
    """A value as the text that the layout wants; null where it is blank and the field has no default."""
    if kind is Kind.TEXTS and field.separator is not None:
        text = value.list.drop_nulls().list.join(field.separator)
    elif kind is field.kind:
        text = field.type.render(value)
    else:
        text = plain_text(value, kind)
    blank_as = blank_text(field)
    if kind in (Kind.TEXT, Kind.BLANK, Kind.TEXTS):
        return pl.when(is_blank(text, Kind.TEXT)).then(pl.lit(blank_as, dtype=pl.String)).otherwise(text)
    return text.fill_null(blank_as) if blank_as is not None else text


def blank_text(field: Field) -> str | None:
    """What stands in a field of which nothing is said."""
    return field.default if field.default is not None else field.null[0] or None


def blank_as_rendered(field: Field, text: pl.Expr) -> pl.Expr:
    """Whether a text that `render` made stands for a blank."""
    return text == field.null[0] if field.null[0] else text.is_null()


def kind_problems(field: Field, text: pl.Expr, value: pl.Expr) -> list[Problem]:
    """Cells that are filled and could not be read as the field's kind."""
    if field.kind is Kind.TEXT:
        return []
    wrong = value.is_null() & text.is_not_null()
    return [Problem("value.kind", field.title, wrong, text, field.rule, unless=blank_in_file(field, text))]


def value_problems(field: Field, text: pl.Expr, value: pl.Expr, blank: pl.Expr) -> list[Problem]:
    """What the layout asks of a value that could be read: `text` as it stands in the file, `value` typed."""
    cell = Cell(field.title, text, value, blank, field.separator)
    needed = field.required and field.default is None
    found = [cell.problem("value.required", blank, "filled in")] if needed else []
    if field.forbidden:
        signs = list(dict.fromkeys(field.forbidden))
        found.append(cell.problem("value.forbidden", text.str.contains_any(signs), f"none of {' '.join(signs)}"))
    return [*found, *field.type.problems(cell)]
