"""What to do about kinds that do not fit, in words."""

from __future__ import annotations

import re

from mudanza.core.values.kinds import Kind

_NUMBER, _DAY = re.compile(r"-?[0-9]+(\.[0-9]+)?"), re.compile("[0-9]{4}-[0-9]{2}-[0-9]{2}")
_NOT_ALIKE = "Both sides must be of one kind."


def listed(kinds: tuple[Kind, ...]) -> str:
    return " or ".join(kinds)


def conversion(kind: Kind, wanted: tuple[Kind, ...]) -> str | None:
    """How a value of one kind becomes one of the kinds wanted."""
    if Kind.TEXT in wanted and kind in (Kind.NUMBER, Kind.DATE, Kind.DATETIME):
        return 'Write it as text first: -> write "pattern".'
    if Kind.TEXT in wanted and kind is Kind.TEXTS:
        return 'Make one text of them: -> join " ", or -> pick 1.'
    if Kind.TEXT in wanted and kind is Kind.YESNO:
        return 'Use cases: "Y" when {...}; "N" otherwise.'
    if kind is Kind.DATE and wanted == (Kind.DATETIME,):
        return 'Read it with its time: -> date "dd/MM/yyyy HH:mm".'
    if kind is not Kind.TEXT:
        return None
    readings = {
        Kind.NUMBER: "-> number",
        Kind.DATE: '-> date "dd/MM/yyyy"',
        Kind.YESNO: "-> yesno",
        Kind.TEXTS: '-> split ";"',
    }
    return next((f"Read the text first: {readings[k]}." for k in wanted if k in readings), None)


def comparison_hint(left: Kind, right: Kind, column: str | None, text: str | None) -> str:
    """What to do where values of two kinds are compared: `column` is the one that is text, or else what stands there in quotes is (`text`)."""
    if Kind.TEXT not in (left, right):
        return _NOT_ALIKE
    other = right if left is Kind.TEXT else left
    if text is not None:
        if other is Kind.NUMBER and _NUMBER.fullmatch(text):
            return f"A number has no quotes: {text}."
        if other is Kind.YESNO:
            return "A yes/no is a condition by itself: leave the comparison out, or put not before it."
        if other is Kind.NUMBER:
            return "Compare a number with a number, such as 27, or leave -> number out."
        day = text if _DAY.fullmatch(text) else "2024-01-31"
        return f'Write the day as ("{day}" -> date "yyyy-MM-dd").' if other is Kind.DATE else _NOT_ALIKE
    form = {Kind.NUMBER: "number", Kind.DATE: 'date "dd/MM/yyyy"', Kind.YESNO: "yesno"}.get(other)
    return f"Read the text first: ({{{column or 'Column'}}} -> {form})." if form is not None else _NOT_ALIKE
