"""What a layout asks of values, as problems; the same for a file that is checked and one that is built."""

from __future__ import annotations

import operator
from dataclasses import dataclass
from datetime import date, datetime

import polars as pl

from mudanza.core.kinds import Kind, is_blank, plain_text
from mudanza.core.layouts.model import Dialect, Field
from mudanza.core.problems import Problem


def blank_in_file(field: Field, text: pl.Expr) -> pl.Expr:
    """Whether a cell counts as blank: nothing, spaces only, or one of the layout's words for null."""
    blank = is_blank(text, Kind.TEXT)
    words = [word for word in field.null if word.strip()]
    return blank | text.is_in(words).fill_null(False) if words else blank


def read_text(field: Field, text: pl.Expr) -> pl.Expr:
    """A cell as a value of the field's kind; null where it cannot be read. Blanks are null."""
    if field.number is not None:
        return field.number.read(text.str.strip_chars())
    if field.date is not None:
        return field.date.read(text.str.strip_chars())
    if field.yesno is not None:
        return field.yesno.read(text.str.strip_chars())
    return text


def render(field: Field, value: pl.Expr, kind: Kind) -> pl.Expr:
    """A value as the text that the layout wants; null where it is blank and the field has no default."""
    if kind is Kind.NUMBER and field.number is not None:
        text = field.number.render(value)
    elif kind in (Kind.DATE, Kind.DATETIME) and field.date is not None:
        text = field.date.render(value)
    elif kind is Kind.YESNO and field.yesno is not None:
        text = field.yesno.render(value)
    elif kind is Kind.TEXTS and field.separator is not None:
        text = value.list.drop_nulls().list.join(field.separator)
    else:
        text = plain_text(value, kind)
    blank_as = field.default if field.default is not None else field.null[0] or None
    if kind in (Kind.TEXT, Kind.BLANK, Kind.TEXTS):
        return pl.when(is_blank(text, Kind.TEXT)).then(pl.lit(blank_as, dtype=pl.String)).otherwise(text)
    return text.fill_null(blank_as) if blank_as is not None else text


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
    problems: list[Problem] = []

    def problem(code: str, when: pl.Expr, rule: str, unless: pl.Expr | None = None) -> None:
        problems.append(Problem(code, field.title, when, text, rule, unless=unless))

    if field.required and field.default is None:
        problem("value.required", blank, "filled in")
    if field.kind is Kind.TEXT:
        items = _Items.of(field, text)
        characters = items.text.str.len_chars()
        for limit, code, wrong, words in (
            (field.length, "value.too-long", characters > (field.length or 0), "exactly {} characters"),
            (field.length, "value.too-short", characters < (field.length or 0), "exactly {} characters"),
            (
                field.max_length,
                "value.too-long",
                characters > (field.max_length or 0),
                "at most {} characters",
            ),
            (
                field.min_length,
                "value.too-short",
                characters < (field.min_length or 0),
                "at least {} characters",
            ),
        ):
            if limit is not None:
                problem(code, items.any(wrong), words.format(limit), blank)
        if field.permitted is not None:
            problem(
                "value.not-permitted",
                items.any(~items.text.is_in(list(field.permitted))),
                "one of " + ", ".join(field.permitted),
                blank,
            )
        elif field.pattern is not None:
            matches = items.text.str.contains(f"^(?:{field.pattern})$")
            problem("value.pattern", items.any(~matches), f"text matching {field.pattern}", blank)
        return problems
    for bound, code, words, wrong_side in (
        (field.minimum, "value.too-small", "from {}", operator.lt),
        (field.above, "value.too-small", "above {}", operator.le),
        (field.maximum, "value.too-large", "up to {}", operator.gt),
        (field.below, "value.too-large", "below {}", operator.ge),
    ):
        if bound is not None:
            problem(code, wrong_side(value, _literal(bound, field.kind)), words.format(bound))
    return problems


@dataclass(frozen=True)
class _Items:
    """The texts that a rule looks at: the cell itself, or each of the several in it."""

    text: pl.Expr
    cell: pl.Expr | None

    @classmethod
    def of(cls, field: Field, text: pl.Expr) -> _Items:
        if field.separator is None:
            return cls(text, None)
        return cls(pl.element(), text.str.split(field.separator))

    def any(self, wrong: pl.Expr) -> pl.Expr:
        return wrong if self.cell is None else self.cell.list.eval(wrong).list.any()


def _literal(bound: object, kind: Kind) -> pl.Expr:
    from decimal import Decimal

    if isinstance(bound, Decimal):
        return pl.lit(bound)
    if kind is Kind.DATE:
        return pl.lit(date.fromisoformat(str(bound)))
    return pl.lit(datetime.fromisoformat(str(bound)))


def writing_problems(field: Field, dialect: Dialect, text: pl.Expr) -> list[Problem]:
    """Characters that the file's encoding cannot write, or that would break its rows for want of quotes."""
    problems = []
    if not dialect.encoding.startswith("utf"):
        signs = bytes(range(256)).decode(dialect.encoding, "ignore")
        escaped = "".join(f"\\x{{{ord(sign):x}}}" for sign in signs)
        wrong = text.str.contains(f"[^{escaped}]")
        problems.append(Problem("value.unencodable", field.title, wrong, text, f"encoding {dialect.encoding}"))
    if dialect.quote is None:
        wrong = text.str.contains_any([dialect.delimiter, "\r", "\n"])
        problems.append(
            Problem("value.unquotable", field.title, wrong, text, f"without {dialect.delimiter!r} or line breaks")
        )
    return problems
