"""Steps that read text as another kind, and write other kinds as text."""

from __future__ import annotations

import polars as pl

from mudanza.core.kinds import SCALE, Kind
from mudanza.core.language.steps.declaring import Call, Parameter, step
from mudanza.core.language.values import Value
from mudanza.core.layouts.formats import DateFormat, NumberFormat

_TEXT, _NUMBER = Kind.TEXT, Kind.NUMBER


@step(
    "number", _TEXT, _NUMBER, Parameter("decimal", "text", ".", option=True), Parameter("group", "text", None, option=True),
    examples=[
        ("{A} -> number", ("12.50",), "12.5"),
        ('{A} -> number decimal="," group="."', ("-1.234,50",), "-1234.5"),
    ],
)  # fmt: skip
def number(value: Value, call: Call, decimal: str, group: str | None) -> Value:
    """Reads a text as an exact number, with up to twelve decimal places. `decimal` is the decimal sign, `group`
    the sign between thousands; a number with other signs in it is a finding."""
    try:
        form = NumberFormat.of(None, decimal, group)
    except ValueError:
        raise call.fail(
            "decimal= and group= take one character each, and differ.", 'Write decimal="," group=".".'
        ) from None
    rule = f"a number, decimal sign {decimal!r}" + (f", thousands {group!r}" if group else "")
    return call.attempt(value, form.read, _NUMBER, "flow.not-a-number", rule)


@step(
    "round", _NUMBER, _NUMBER, Parameter("places", "number"), Parameter("mode", "text", "half up", option=True),
    examples=[
        ("{A} -> number -> round 1", ("2.25",), "2.3"),
        ('{A} -> number -> round 1 mode="half even"', ("2.25",), "2.2"),
    ],
)  # fmt: skip
def round_(value: Value, call: Call, places: int, mode: str) -> Value:
    """Rounds to so many decimal places: "half up" (away from zero) or "half even"."""
    modes = {"half up": "half_away_from_zero", "half even": "half_to_even"}
    if mode not in modes or not 0 <= places <= SCALE:
        raise call.fail(f'round takes 0 to {SCALE} places and mode "half up" or "half even".', None)
    return value.map(value.expr.round(places, mode=modes[mode]))  # type: ignore[arg-type]


@step(
    "date", _TEXT, None, Parameter("pattern", "text", many=True),
    examples=[
        ('{A} -> date "dd/MM/yyyy"', ("5/3/2021",), "2021-03-05"),
        ('{A} -> date "yyyy-MM-dd" "dd.MM.yyyy"', ("05.03.2021",), "2021-03-05"),
        ('{A} -> date "dd/MM/yyyy HH:mm"', ("05/03/2021 14:30",), "2021-03-05T14:30:00"),
    ],
)  # fmt: skip
def date(value: Value, call: Call, *pattern: str) -> Value:
    """Reads a text as a date, or with hours in the pattern as a date-time. Several patterns are tried in order.
    Patterns are those of Unicode (UTS 35): d day, M month, y year, H hour, m minute, s second."""
    forms = []
    for text in pattern:
        try:
            forms.append(DateFormat.of(text))
        except ValueError as error:
            raise call.fail(
                f"{error}.", "dd is the day, MM the month, yyyy the year, HH the hour, mm the minute."
            ) from None
        if not forms[-1].has_date:
            raise call.fail(f"the pattern {text!r} lacks a day, month or year.", 'A whole date is "dd/MM/yyyy".')
    kinds = {form.kind for form in forms}
    if len(kinds) > 1:
        raise call.fail("some of the patterns have a time and some have none.", "Use patterns of one kind.")
    return call.attempt(
        value,
        lambda text: pl.coalesce([form.read(text, lenient=True) for form in forms]),
        kinds.pop(),
        "flow.not-a-date",
        "a date as " + " or ".join(pattern),
    )


@step(
    "yesno", _TEXT, Kind.YESNO, Parameter("yes", "text", "yes|y|true|1|x", option=True),
    Parameter("no", "text", "no|n|false|0", option=True),
    examples=[("{A} -> yesno", ("Y",), "yes"), ('{A} -> yesno yes="sim|s" no="não|n"', ("Não",), "no")],
)  # fmt: skip
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
    "write", (_NUMBER, Kind.DATE, Kind.DATETIME), _TEXT, Parameter("pattern", "text"),
    examples=[
        ('{A} -> date "dd/MM/yyyy" -> write "yyyy"', ("05/03/2021",), "2021"),
        ('{A} -> number -> write "0.00"', ("7.5",), "7.50"),
    ],
)  # fmt: skip
def write(value: Value, call: Call, pattern: str) -> Value:
    """Writes a date, date-time or number as text by a Unicode pattern, for when a text field is to hold it."""
    try:
        if value.kind is not _NUMBER:
            return value.map(DateFormat.of(pattern).render(value.expr), _TEXT)
        form = NumberFormat.of(pattern)
    except ValueError as error:
        raise call.fail(f"{error}.", None) from None
    before = call.stages.hold(value)
    result = before.map(form.render(before.expr), _TEXT)
    return call.note(result, form.loses(before.expr), "flow.too-exact", form.text, before.expr.cast(pl.String))
