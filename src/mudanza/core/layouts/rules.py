"""What a layout asks of cells, as problems; the same for a file that is checked and one that is built."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace

import polars as pl

from mudanza.core.findings.problem import Problem
from mudanza.core.layouts.layout import Field, Layout
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


def same_value(field: Field, text: pl.Expr, blank: pl.Expr | None = None) -> pl.Expr:
    """A text that is the same for all ways in which a cell can hold one value; an empty one for a blank. `blank` tells which are, where that is known.

    Keys and references are compared by it ("Model for Tabular Data", sections 4.6 and 6.1).
    """
    blank = blank_in_file(field, text) if blank is None else blank
    if field.separator is None:
        return pl.when(~blank).then(field.type.same(text)).otherwise(pl.lit(""))
    parts = parts_of(field, text).list.eval(field.type.same(pl.element())).list.join("\0")
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
    if field.demands.encoding:
        found.append(unencodable(field, field.demands.encoding, text))
    if field.demands.actions:
        words = list(field.demands.actions.values())
        found.append(cell.problem("value.not-permitted", ~text.is_in(words), "one of " + ", ".join(words), blank))
    return [*found, *(field.type.problems(cell) if field.separator is None else _problems_of_parts(field, cell))]


def row_problems(
    layout: Layout, texts: Mapping[str, pl.Expr], blanks: Mapping[str, pl.Expr]
) -> list[tuple[Problem, tuple[str, ...]]]:
    """What the layout asks of several fields of a row together, by their names: each problem, and the fields that it looks at. Where not all of them are there,
    nothing is asked."""
    found: list[tuple[Problem, tuple[str, ...]]] = []
    titles = {one.name: one.title for one in layout.fields}
    nothing = pl.lit(None, dtype=pl.String)
    for one in layout.fields:
        for name, values in one.demands.required_when:
            if one.name not in texts or name not in texts:
                continue
            asked = texts[name].is_in(list(values)) if values else ~blanks[name]
            rule = f"filled in, since {titles[name]} is {' or '.join(values) if values else 'filled in'}"
            missing = blanks[one.name] & asked.fill_null(False)
            found.append((Problem("value.required", one.title, missing, texts[one.name], rule), (one.name, name)))
    demands = layout.demands
    for names, exactly in [*((n, True) for n in demands.one_of), *((n, False) for n in demands.at_least_one_of)]:
        if not set(names) <= texts.keys():
            continue
        filled = pl.sum_horizontal([~blanks[name] for name in names])
        words = f"{'exactly' if exactly else 'at least'} one of {', '.join(titles[name] for name in names)}"
        wrong = filled != 1 if exactly else filled == 0
        shown = pl.when(filled > 0).then(pl.format("{} filled in", filled)).otherwise(nothing)
        found.append((Problem("row.one-of", titles[names[0]], wrong, shown, words), names))
    most = demands.row_length
    if most is not None and len(texts) == len(layout.fields):
        length = pl.sum_horizontal([text.str.len_chars().fill_null(0) for text in texts.values()])
        shown = pl.format("{} characters", length)
        found.append((Problem("row.too-long", None, length > most, shown, f"at most {most} characters"), tuple(texts)))
    return found


def unencodable(field: Field, encoding: str, text: pl.Expr) -> Problem:
    """Texts with characters that an encoding of eight bits cannot write."""
    signs = bytes(range(256)).decode(encoding, "ignore")
    escaped = "".join(f"\\x{{{ord(sign):x}}}" for sign in signs)
    return Problem("value.unencodable", field.title, text.str.contains(f"[^{escaped}]"), text, f"encoding {encoding}")


def parts_of(field: Field, text: pl.Expr) -> pl.Expr:
    """The several texts in a cell of a field with a separator ("Model for Tabular Data", section 6.4, step 5)."""
    parts = text.str.split(field.separator or "")
    verbatim = field.type.base in ("string", "any", "anyAtomicType")
    return parts if verbatim else parts.list.eval(pl.element().str.strip_chars(SPACES))


def any_part(field: Field, text: pl.Expr, wrong: Callable[[pl.Expr], pl.Expr]) -> pl.Expr:
    """Whether a text, or any of the several in it, is wrong."""
    if field.separator is None:
        return wrong(text)
    return parts_of(field, text).list.eval(wrong(pl.element()).fill_null(False)).list.any()


def _problems_of_parts(field: Field, cell: Cell) -> list[Problem]:
    one = pl.element()
    part = Cell(field.title, one, field.type.read(one), blank_in_file(field, one))
    asked = list(field.type.problems(part))
    if field.kind is not Kind.TEXT:
        asked.append(part.unread("value.kind", ~field.type.fits(one), field.type.rules[0]))
    parts = parts_of(field, cell.text)

    def anywhere(problem: Problem) -> pl.Expr:
        return parts.list.eval(problem.exactly.fill_null(False)).list.any()

    return [replace(problem, when=anywhere(problem), value=cell.text, unless=cell.blank) for problem in asked]
