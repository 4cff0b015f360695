"""What a code of findings is: what it means, how bad it is, what to do, and an example of it."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum


class Severity(StrEnum):
    """How bad a finding is: `stop` keeps a row or file from being imported, `warn` wants a look."""

    STOP = "stop"
    WARN = "warn"
    NOTE = "note"


@dataclass(frozen=True)
class Example:
    """A case in which a code appears; the tests run it.

    `kind` says what `given` is: `column` (a CSVW column description, as JSON, with `value` the cell), `flow`
    (an expression on the value `{A}`), `file` (the text of a file), `told` (a situation in words).
    """

    kind: str
    given: str
    value: str = ""


@dataclass(frozen=True)
class Code:
    """One kind of finding: its name, severity, meaning, what to do, and an example of it."""

    name: str
    severity: Severity
    meaning: str
    next: str
    example: Example


S, W, N = Severity.STOP, Severity.WARN, Severity.NOTE


def told(text: str) -> Example:
    """An example in words."""
    return Example("told", text)


def column(given: str, value: str) -> Example:
    """An example of a cell that a column of a layout does not permit."""
    return Example("column", given, value)
