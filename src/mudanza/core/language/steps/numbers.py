"""Steps on numbers: exact decimals throughout."""

from __future__ import annotations

from decimal import Decimal

import polars as pl

from mudanza.core.language.steps.declaring import Call, Parameter, step
from mudanza.core.language.value import Value, combined
from mudanza.core.values.kinds import DECIMAL, SCALE, Kind, plain_text

_NUMBER = Kind.NUMBER
_BOTH = (_NUMBER, Kind.DATE, Kind.DATETIME)
_MODES = ("half up", "half even", "half down", "up", "down", "ceiling", "floor")
#: what a number may come to at most, before its 26 whole digits are full
_MOST = 1e25


def rounded(value: pl.Expr, places: int, mode: str) -> pl.Expr:
    """A number rounded by the rules of UTS 35 by their names; exact."""
    if mode == "half even":
        return value.round(places, mode="half_to_even")
    near = value.round(places, mode="half_away_from_zero")
    if mode == "half up":
        return near
    unit = pl.lit(Decimal(1).scaleb(-places)).cast(DECIMAL)
    away = pl.when(value < 0).then(-unit).otherwise(unit)
    over, under = near.abs() > value.abs(), near.abs() < value.abs()
    match mode:
        case "half down":
            half = pl.lit(Decimal(1).scaleb(-places) / 2).cast(DECIMAL)
            return pl.when((near - value).abs() == half).then(near - away).otherwise(near)
        case "down":
            return pl.when(over).then(near - away).otherwise(near)
        case "up":
            return pl.when(under).then(near + away).otherwise(near)
        case "ceiling":
            return pl.when(near < value).then(near + unit).otherwise(near)
        case _:
            return pl.when(near > value).then(near - unit).otherwise(near)


@step(
    "round",
    _NUMBER,
    _NUMBER,
    Parameter("places", "number"),
    Parameter("mode", "text", "half up", option=True, choices=_MODES),
    says="rounded to {0} places",
    examples=[
        ("{A} -> number -> round 1", ("2.25",), "2.3"),
        ('{A} -> number -> round 1 mode="half even"', ("2.25",), "2.2"),
        ('{A} -> number -> round 0 mode="floor"', ("-2.1",), "-3"),
        ('{A} -> number -> round 1 mode="half down"', ("-2.25",), "-2.2"),
    ],
)
def round_(value: Value, call: Call, places: int, mode: str) -> Value:
    """Rounds to so many decimal places. The modes are those of Unicode (UTS 35): "half up" (away from zero), "half even",
    "half down", "up" (away from zero), "down", "ceiling" and "floor"."""
    if not 0 <= places < SCALE:
        raise call.fail(f"round takes 0 to {SCALE - 1} places.", "Write round 2; numbers have twelve places at most.")
    before = call.stages.hold(value)
    return before.map(rounded(before.expr, places, mode))


def _held(values: list[Value], call: Call) -> list[Value]:
    return [call.stages.hold(v if v.kind is _NUMBER else v.map(pl.lit(None, dtype=DECIMAL), _NUMBER)) for v in values]


def _computed(values: list[Value], call: Call, expr: pl.Expr, rule: str, size: pl.Expr) -> Value:
    """The result where its size (in floating point, only to see whether it can be held) is not too large."""
    result = combined(values, expr, _NUMBER)
    shown = pl.concat_str([plain_text(v.expr, _NUMBER) for v in values], separator=", ", ignore_nulls=True)
    return call.note(result, (size.abs() >= _MOST).fill_null(False), "flow.too-large", rule, shown)


def _float(value: Value) -> pl.Expr:
    return value.expr.cast(pl.Float64)


def _where(inside: pl.Expr, exprs: list[pl.Expr]) -> list[pl.Expr]:
    return [pl.when(inside).then(expr) for expr in exprs]


def _fold(values: list[Value], call: Call, word: str, *, sign: int, blanks: bool) -> Value:
    """Sums: the first number and the others with a sign, the blanks counting nothing or making the result blank."""
    held = _held(values, call)
    exprs = [v.expr for v in held]
    nothing = pl.all_horizontal([e.is_null() for e in exprs])
    if not blanks:
        nothing = pl.any_horizontal([e.is_null() for e in exprs])
    zero = pl.lit(Decimal(0)).cast(DECIMAL)
    size = pl.sum_horizontal([_float(v).abs() for v in held])
    inside = size < _MOST
    # the numbers that would be too large are taken out before, since both sides of a choice are computed
    total, *others = _where(inside, [e.fill_null(zero) for e in exprs])
    for other in others:
        total = total + other if sign > 0 else total - other
    return _computed(held, call, pl.when(~nothing).then(total), word, size)


@step(
    "sum",
    _NUMBER,
    _NUMBER,
    several=True,
    says="added up",
    examples=[
        ("({A} -> number), ({B} -> number) -> sum", ("1.10", "2.2"), "3.3"),
        ("({A} -> number), ({B} -> number) -> sum", ("1.10", None), "1.1"),
        ("({A} -> number), 0.5 -> sum", ("1",), "1.5"),
    ],
)
def sum_(values: list[Value], call: Call) -> Value:
    """Adds numbers. Blanks count nothing; if all are blank, so is the sum."""
    return _fold(values, call, "a sum of at most 25 digits", sign=1, blanks=True)


@step(
    "difference",
    _NUMBER,
    _NUMBER,
    several=True,
    says="the first less the others",
    examples=[
        ("({A} -> number), ({B} -> number) -> difference", ("10", "2.5"), "7.5"),
        ("({A} -> number), 1 -> difference", (None,), None),
    ],
)
def difference(values: list[Value], call: Call) -> Value:
    """The first number less the others; blank if any is blank."""
    return _fold(values, call, "a difference of at most 25 digits", sign=-1, blanks=False)


@step(
    "product",
    _NUMBER,
    _NUMBER,
    several=True,
    says="multiplied",
    examples=[
        ("({A} -> number), ({B} -> number) -> product", ("3", "0.1"), "0.3"),
        ("({A} -> number), 2.54 -> product", ("10",), "25.4"),
    ],
)
def product(values: list[Value], call: Call) -> Value:
    """Multiplies numbers; blank if any is blank. Up to twelve decimal places are kept."""
    return _times(_held(values, call), call)


def _times(held: list[Value], call: Call) -> Value:
    size: pl.Expr = pl.lit(1.0)
    for value in held:
        size = size * _float(value).abs().clip(1.0)
    inside = size < _MOST
    total, *others = _where(inside, [v.expr for v in held])
    for other in others:
        total = total * other
    return _computed(held, call, total, "a product of at most 25 digits", size)


@step(
    "times",
    _NUMBER,
    _NUMBER,
    Parameter("factor", "decimal"),
    says="times {0}",
    examples=[
        ("{A} -> number -> times 0.45359237", ("10",), "4.5359237"),
        ("{A} -> number -> times -1", ("10",), "-10"),
    ],
)
def times(value: Value, call: Call, factor: Decimal) -> Value:
    """Multiplies by a factor, as from one unit to another. Up to twelve decimal places are kept."""
    return _times([call.stages.hold(value), Value(_NUMBER, pl.lit(factor).cast(DECIMAL))], call)


@step(
    "quotient",
    _NUMBER,
    _NUMBER,
    several=True,
    says="divided",
    examples=[
        ("({A} -> number), ({B} -> number) -> quotient -> round 2", ("10", "3"), "3.33"),
        ("({A} -> number), 100 -> quotient", ("12.5",), "0.125"),
    ],
)
def quotient(values: list[Value], call: Call) -> Value:
    """The first number divided by the second, to twelve decimal places. A division by zero is a finding."""
    if len(values) != 2:
        raise call.fail(f"quotient takes two numbers, and {len(values)} came in.", "Write first, second -> quotient.")
    over, under = _held(values, call)
    zero = under.expr == 0
    size = _float(over) / pl.when(~zero).then(_float(under))
    inside = pl.when(~zero & (size.abs() < _MOST)).then(under.expr)
    result = _computed([over, under], call, over.expr / inside, "a quotient of at most 25 digits", size)
    return call.note(
        result, zero.fill_null(False), "flow.division-by-zero", "a divisor other than 0", plain_text(over.expr, _NUMBER)
    )


@step("absolute", _NUMBER, _NUMBER, says="without its sign", examples=[("{A} -> number -> absolute", ("-7.5",), "7.5")])
def absolute(value: Value, call: Call) -> Value:  # noqa: ARG001
    """The number without its sign."""
    return value.map(value.expr.abs())


def _extreme(values: list[Value], call: Call, *, least: bool) -> Value:
    kinds = {v.kind for v in values} - {Kind.BLANK}
    if len(kinds) != 1:
        raise call.fail("the values must be of one kind.", "Numbers with numbers, dates with dates.")
    exprs = [v.expr for v in values if v.kind is not Kind.BLANK]
    return combined(values, pl.min_horizontal(exprs) if least else pl.max_horizontal(exprs), kinds.pop())


@step(
    "smallest",
    _BOTH,
    None,
    several=True,
    says="the smallest",
    examples=[("({A} -> number), ({B} -> number) -> smallest", ("10", "9.5"), "9.5")],
)
def smallest(values: list[Value], call: Call) -> Value:
    """The smallest of several numbers, or the earliest of several dates. Blanks are passed over."""
    return _extreme(values, call, least=True)


@step(
    "largest",
    _BOTH,
    None,
    several=True,
    says="the largest",
    examples=[("({A} -> number), 0 -> largest", ("-3",), "0")],
)
def largest(values: list[Value], call: Call) -> Value:
    """The largest of several numbers, or the latest of several dates. Blanks are passed over."""
    return _extreme(values, call, least=False)
