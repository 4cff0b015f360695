"""What to do about kinds that do not fit, in words."""

from __future__ import annotations

from mudanza.core.values.kinds import Kind


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


def comparison_hint(left: Kind, right: Kind) -> str | None:
    if Kind.TEXT in (left, right):
        other = right if left is Kind.TEXT else left
        return conversion(Kind.TEXT, (other,)) and {
            Kind.NUMBER: "Read the text first: ({Column} -> number).",
            Kind.DATE: 'Read the text first: ({Column} -> date "dd/MM/yyyy"), or ("2024-01-31" -> date "yyyy-MM-dd").',
            Kind.YESNO: "Read the text first: ({Column} -> yesno).",
        }.get(other)
    return "Both sides must be of one kind."
