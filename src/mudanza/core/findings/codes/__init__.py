"""The codes of findings: what each means, how bad it is, what to do, and an example of it."""

from __future__ import annotations

from mudanza.core.findings.codes import of_files, of_flows, of_reading, of_survey, of_target
from mudanza.core.findings.codes.code import Code, Example, Severity

#: every code by its name
CODES: dict[str, Code] = {
    code.name: code for part in (of_reading, of_survey, of_files, of_flows, of_target) for code in part.CODES
}

__all__ = ["CODES", "Code", "Example", "Severity"]
