"""Steps about blanks, and checks in the flow."""

from __future__ import annotations

from datetime import date, datetime
from decimal import Decimal
from typing import Any

import polars as pl

from mudanza.core.language.steps.declaring import Call, Parameter, step
from mudanza.core.language.value import Value
from mudanza.core.values.kinds import DTYPES, Kind, is_blank, plain_text

_TEXT = Kind.TEXT
_ANY = tuple(Kind)
_SEVERITIES = ("stop", "warn", "note")


@step(
    "default",
    _ANY,
    None,
    Parameter("value", "value"),
    says="{0} if blank",
    examples=[
        ('{A} -> default "unknown"', (None,), "unknown"),
        ('{A} -> default "unknown"', ("Ana",), "Ana"),
        ("{A} -> number -> default 0", (None,), "0"),
        ('{A} -> date "dd/MM/yyyy" -> default "1900-01-01"', (None,), "1900-01-01"),
    ],
)
def default(given: Value, call: Call, value: Any) -> Value:
    """Puts a value where there is none: a text, a number, yes or no; for a date its ISO text."""
    kind = _TEXT if given.kind is Kind.BLANK else given.kind
    fits: Any = None
    match kind, value:
        case (Kind.TEXT, str()) | (Kind.YESNO, bool()):
            fits = value
        case Kind.NUMBER, Decimal():
            fits = value
        case ((Kind.DATE | Kind.DATETIME), str()):
            try:
                fits = date.fromisoformat(value) if kind is Kind.DATE else datetime.fromisoformat(value)
            except ValueError:
                raise call.fail(f"{value!r} is no {kind}.", "Write it as 2026-01-31.") from None
    if fits is None:
        raise call.fail(
            f"the default does not fit a {kind}.",
            "A text for a text, a number for a number, yes or no, an ISO date in quotes.",
        )
    filled = pl.lit(fits).cast(DTYPES[kind])
    return given.map(pl.when(is_blank(given.expr, given.kind)).then(filled).otherwise(given.expr), kind)


@step(
    "blank-if",
    _TEXT,
    _TEXT,
    Parameter("texts", "text", many=True),
    Parameter("pattern", "yes/no", False, option=True),
    says="blank if {0}",
    examples=[
        ('{A} -> blank-if "n/a" "-"', ("n/a",), None),
        ('{A} -> blank-if "n/a" "-"', ("Ana",), "Ana"),
        ('{A} -> blank-if "^[9?.-]+$" pattern=yes', ("999-",), None),
    ],
)
def blank_if(value: Value, call: Call, *texts: str, pattern: bool) -> Value:
    """Makes a placeholder blank: nothing remains where the whole text is one of those given, or matches one of them with pattern=yes."""
    text = value.expr.str.strip_chars()
    if pattern:
        for one in texts:
            call.groups_of(one)
        pretends = pl.any_horizontal([text.str.contains(one) for one in texts])
    else:
        pretends = text.is_in(texts)
    return value.map(pl.when(~pretends).then(value.expr))


@step(
    "expect",
    _ANY,
    None,
    Parameter("condition", "condition"),
    Parameter("message", "text"),
    Parameter("severity", "text", "stop", option=True, choices=_SEVERITIES),
    says="expecting {0}",
    examples=[
        ('{A} -> number -> expect it > 0 "weighs something"', ("3.5",), "3.5"),
        (
            '{A} -> expect it is not blank or {B} is not blank "a telephone or an e-mail" severity="warn"',
            (None, None),
            None,
        ),
    ],
)
def expect(value: Value, call: Call, condition: Value, message: str, severity: str) -> Value:
    """Hands the value on, with a finding where the condition is not true. `it` is the value. severity="stop" holds the row back, "warn" and
    "note" do not."""
    if not message.strip():
        raise call.fail(
            "the message is empty.", 'Say in quotes what is expected, as in expect it > 0 "a positive weight".'
        )
    merged = call.together(value, condition)
    wrong = ~condition.expr if merged.failed is None else ~condition.expr & ~merged.failed
    return call.note(merged, wrong, f"expect.{severity}", message, plain_text(value.expr, value.kind))
