"""What a layout asks of cells, as problems; the same for a file that is checked and one that is built."""

from __future__ import annotations

from dataclasses import replace

import polars as pl

from mudanza.core.findings.problem import Problem
from mudanza.core.layouts.layout import Field
from mudanza.core.layouts.types import Cell
from mudanza.core.layouts.types.cell import SPACES
from mudanza.core.values.kinds import Kind, is_blank, plain_text


def blank_in_file(field: Field, text: pl.Expr) -> pl.Expr:
    """Whether a cell counts as blank: nothing, spaces only, or one of the layout's words for null."""
    blank = is_blank(text, Kind.TEXT)
    words = [word for word in field.null if word.strip()]
    return blank | field.type.normal(text).is_in(words).fill_null(False) if words else blank


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


def same_value(field: Field, text: pl.Expr) -> pl.Expr:
    """A text that is the same for all ways in which a cell can hold one value; an empty one for a blank.

    Keys and references are compared by it ("Model for Tabular Data", sections 4.6 and 6.1).
    """
    blank = blank_in_file(field, text)
    if field.separator is None:
        return pl.when(~blank).then(field.type.same(text)).otherwise(pl.lit(""))
    parts = _parts(field, text).list.eval(field.type.same(pl.element())).list.join("\0")
    return pl.when(~blank).then(parts).otherwise(pl.lit(""))


def kind_problems(field: Field, text: pl.Expr, value: pl.Expr) -> list[Problem]:
    """Cells that are filled and could not be read as the field's kind; of several values, `value_problems` tells."""
    if not field.is_typed:
        return []
    cell = Cell(field.title, text, value, blank_in_file(field, text))
    wrong = cell.unread("value.kind", ~field.type.fits(text), field.rule)
    if field.default is not None or "" in field.null:
        return [wrong]
    # another word stands for nothing, so nothing itself is no value (section 6.4, step 7)
    rule = f"{field.rule}; a blank as {field.null[0]}"
    return [wrong, cell.problem("value.kind", is_blank(text, Kind.TEXT), rule)]


def value_problems(field: Field, text: pl.Expr, value: pl.Expr, blank: pl.Expr) -> list[Problem]:
    """What the layout asks of a value that could be read: `text` as it stands in the file, `value` typed."""
    cell = Cell(field.title, text, value, blank)
    needed = field.required and field.default is None
    found = [cell.problem("value.required", blank, "filled in")] if needed else []
    if field.forbidden:
        signs = list(dict.fromkeys(field.forbidden))
        found.append(cell.problem("value.forbidden", text.str.contains_any(signs), f"none of {' '.join(signs)}"))
    return [*found, *(field.type.problems(cell) if field.separator is None else _problems_of_parts(field, cell))]


def _parts(field: Field, text: pl.Expr) -> pl.Expr:
    """The several texts in a cell ("Model for Tabular Data", section 6.4, step 5)."""
    parts = text.str.split(field.separator or "")
    verbatim = field.type.base in ("string", "any", "anyAtomicType")
    return parts if verbatim else parts.list.eval(pl.element().str.strip_chars(SPACES))


def _problems_of_parts(field: Field, cell: Cell) -> list[Problem]:
    one = pl.element()
    part = Cell(field.title, one, field.type.read(one), blank_in_file(field, one))
    asked = list(field.type.problems(part))
    if field.kind is not Kind.TEXT:
        asked.append(part.unread("value.kind", ~field.type.fits(one), field.type.rules[0]))
    parts = _parts(field, cell.text)
    return [
        replace(
            problem,
            when=parts.list.eval(problem.exactly.fill_null(False)).list.any(),
            value=cell.text,
            unless=cell.blank,
        )
        for problem in asked
    ]
