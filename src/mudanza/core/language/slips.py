"""Slips of the hand that people make in flows and conditions, and what they are told."""

from __future__ import annotations

import re
from dataclasses import dataclass

_STEP = r"(?P<step>[a-z][a-z-]*)"


@dataclass(frozen=True)
class Slip:
    """A slip is told by what stands before its place (a pattern for its end) and from it on. In the words, {name} stands for the pattern's group of that name."""

    before: str
    rest: str
    what: str
    hint: str


_CASES = "Cases are written: value when condition; value otherwise."
SLIPS = [
    Slip(r"\w=", r"(?P<word>[A-Za-z]\S*)", "a text stands in double quotes here.", 'Write "{word}".'),
    Slip(
        r"[^-=]",
        rf"=?>\s*{_STEP}\b(?!\s*\()(?=\s*(?:$|->|\"|\d|;))",
        "steps are joined by an arrow.",
        "Write -> {step}.",
    ),
    Slip(r"[)}]", rf"\.\s*{_STEP}", "steps are joined by an arrow.", "Write -> {step}."),
    Slip(
        r"-> *expect",
        r"(?P<sign>[<>=!]=?)",
        "the condition of an expect begins with what is looked at.",
        "Write it {sign} …: `it` is the value that comes in.",
    ),
    Slip(
        r"->\s*[a-z-]+( \w+)?",
        r"[/.:]\w",
        "a text, such as a pattern, stands in double quotes.",
        'Write it so: date "dd/MM/yyyy".',
    ),
    Slip(
        r"",
        r"[+*/%](?!\S*\")",
        "there are no signs for calculating.",
        "Numbers are calculated with by steps: ({A} -> number), ({B} -> number) -> sum; others are difference, product, quotient.",
    ),
    Slip(
        r"\}",
        r"or\s*(?P<other>\{[^}]*\})",
        "the first of several that is filled is chosen by a step.",
        "Write them with a comma: …, {other} -> first-filled.",
    ),
    Slip(r"", r"if\b", "`if` is not used here.", _CASES),
    Slip(r"", r"else\b", "`else` is not used here.", _CASES),
    Slip(r"\bis", r"(?:empty|null|none|nothing|missing)\b", "what is not filled is called blank.", "Write is blank."),
    Slip(
        r"\bis", r"(?:filled|there|present|set|given)\b", "what is filled is called not blank.", "Write is not blank."
    ),
    Slip(
        r"\bis not",
        r"(?:empty|null|none|nothing|missing)\b",
        "what is not filled is called blank.",
        "Write is not blank.",
    ),
    Slip(r"\bis not", r"(?P<value>\"[^\"]*\"|\d+)", "two values are told apart by a sign.", "Write != {value}."),
    Slip(r"\bis", r"(?P<value>\"[^\"]*\"|\d+)", "two values are compared by a sign.", "Write = {value}."),
    Slip(
        r"",
        r"(?:null|none|nil|empty)\b",
        "what is not filled is called blank.",
        "Write blank, or in a condition is blank.",
    ),
    Slip(
        r"",
        r"like\b",
        "`like` is not used here.",
        'Write contains "x", starts with "x", ends with "x", or matches "…" for a regular expression.',
    ),
    Slip(r"\bin", r"[\"\d{]", "the values that it may be stand in brackets.", 'Write in ("A", "B").'),
    Slip(r"\bbetween [^;]*", r",", "the two ends are joined by and.", "Write between 1 and 9."),
    Slip(r"\bwhen\b[^;]*", r",?\s*[\"{(][^;]*\b(?:when|otherwise)\b", "a case ends with a semicolon.", _CASES),
    Slip(r"\d", r",\s?\d", "decimals are written with a point here.", "Write 2.5; a comma stands between values."),
    Slip(r"^", rf"{_STEP}\s*\((?P<value>\{{[^{{}}]*\}})", "steps come after an arrow.", "Write {value} -> {step}."),
    Slip(
        r"^|[,;(]",
        r"(?P<word>[A-Za-z][\w .-]*?)\s*(?:->|,|=|!|<|is\b|in\b|$)",
        "a column stands in braces.",
        "Write {{{word}}}.",
    ),
]


def slip_at(text: str, at: int) -> tuple[str, str] | None:
    """What to say about a slip at a place of a text: what is wrong, and what to write. None if it is none that is known."""
    before, rest = text[:at].rstrip(), text[at:]
    for slip in SLIPS:
        behind = re.search(rf"(?:{slip.before})$", before)
        found = re.match(slip.rest, rest)
        if behind is not None and found is not None:
            named = {name: value for name, value in found.groupdict().items() if value is not None}
            hint = slip.hint
            for name, value in named.items():
                hint = hint.replace(f"{{{name}}}", value)
            return slip.what, hint.replace("{{", "{").replace("}}", "}")
    return None
