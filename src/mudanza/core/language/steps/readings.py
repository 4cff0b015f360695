"""Steps that read text as numbers and yes or no, and write yes or no as text."""

from __future__ import annotations

import re
from decimal import Decimal

import polars as pl

from mudanza.core.language.steps.declaring import Call, Parameter, step
from mudanza.core.language.value import Value
from mudanza.core.values.kinds import DECIMAL, Kind
from mudanza.core.values.number_format import NumberFormat
from mudanza.core.values.written import NO_WORDS, YES_WORDS

_TEXT, _NUMBER = Kind.TEXT, Kind.NUMBER


@step(
    "number",
    _TEXT,
    _NUMBER,
    Parameter("decimal", "text", ".", option=True),
    Parameter("group", "text", None, option=True),
    Parameter("signs", "yes/no", False, option=True),
    Parameter("unit", "text", None, option=True),
    Parameter("percent", "yes/no", False, option=True),
    says="read as a number",
    examples=[
        ("{A} -> number", ("12.50",), "12.5"),
        ('{A} -> number decimal="," group="."', ("-1.234,50",), "-1234.5"),
        ("{A} -> number signs=yes", ("(12.50)",), "-12.5"),
        ("{A} -> number signs=yes", ("12.50-",), "-12.5"),
        ('{A} -> number decimal="," unit="€|EUR"', ("12,50 €",), "12.5"),
        ("{A} -> number percent=yes", ("12.5 %",), "0.125"),
    ],
)
def number(
    value: Value, call: Call, decimal: str, group: str | None, signs: bool, unit: str | None, percent: bool
) -> Value:
    """Reads a text as an exact number, with up to twelve decimal places. `decimal` is the decimal sign, `group`
    the sign between thousands. With signs=yes a number in brackets, or with the minus behind it, is negative. `unit` are currency signs or units
    that may stand before or after it, with | between them; percent=yes reads a number that a percent sign follows. A text with anything else in it is a finding."""
    try:
        form = NumberFormat.of(decimal, group)
    except ValueError:
        raise call.fail(
            "decimal= and group= take one character each, and differ.", 'Write decimal="," group=".".'
        ) from None
    units = [re.escape(word.strip()) for word in (unit or "").split("|") if word.strip()]
    if unit is not None and not units:
        raise call.fail("unit= is empty.", 'Write the signs with | between them, unit="€|EUR".')

    def read(text: pl.Expr) -> pl.Expr:
        if group == " ":
            text = text.str.replace_all("[\u00a0\u202f\u2009]", " ")
        if signs:
            text = (
                text.str.replace(r"^\((.*)\)$", "-${1}")
                .str.replace(r"^([^-\u2212]*?)\s*[-\u2212]$", "-${1}")
                .str.replace("\u2212", "-", literal=True)
            )
        if units:
            one = "|".join(units)
            text = text.str.replace(rf"^([+-]?)\s*(?:{one})\s*", "${1}").str.replace(rf"\s*(?:{one})$", "")
            if signs:
                text = text.str.replace(r"^\((.*)\)$", "-${1}").str.replace(r"^([^-]*?)\s*-$", "-${1}")
        if not percent:
            return form.read(text)
        with_sign = text.str.extract(r"^(.*?)\s*%$", 1)
        return form.read(with_sign) * pl.lit(Decimal("0.01")).cast(DECIMAL)

    rule = f"a number, decimal sign {decimal!r}" + (f", thousands {group!r}" if group else "")
    rule += f", perhaps with {unit}" if unit else ""
    return call.attempt(value, read, _NUMBER, "flow.not-a-number", rule + (", in percent" if percent else ""))


@step(
    "yesno",
    _TEXT,
    Kind.YESNO,
    Parameter("yes", "text", YES_WORDS, option=True),
    Parameter("no", "text", NO_WORDS, option=True),
    says="read as yes or no",
    examples=[("{A} -> yesno", ("Y",), "yes"), ('{A} -> yesno yes="sim|s" no="não|n"', ("Não",), "no")],
)
def yesno(value: Value, call: Call, yes: str, no: str) -> Value:
    """Reads a text as yes or no. The words are given with | between them; capitals do not matter."""
    true, false = ([word.strip().lower() for word in words.split("|")] for words in (yes, no))
    if both := set(true) & set(false):
        raise call.fail(f"{sorted(both)[0]!r} stands for both yes and no.", "Take it out of one of them.")

    def read(text: pl.Expr) -> pl.Expr:
        word = text.str.to_lowercase()
        return pl.when(word.is_in(true)).then(pl.lit(True)).when(word.is_in(false)).then(pl.lit(False))

    return call.attempt(value, read, Kind.YESNO, "flow.not-yes-no", f"yes: {yes}; no: {no}")


@step(
    "words",
    Kind.YESNO,
    _TEXT,
    Parameter("yes", "text"),
    Parameter("no", "text"),
    says="{0} for yes, {1} for no",
    examples=[('{A} -> yesno -> words "Sim" "Não"', ("n",), "Não")],
)
def words(value: Value, call: Call, yes: str, no: str) -> Value:  # noqa: ARG001
    """Writes yes and no as two words, for when a text field is to hold it."""
    return value.map(pl.when(value.expr).then(pl.lit(yes)).when(~value.expr).then(pl.lit(no)), _TEXT)
