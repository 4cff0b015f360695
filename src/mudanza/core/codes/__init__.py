"""The codes of findings: what each means, how bad it is, what to do, and an example of it."""

from __future__ import annotations

from mudanza.core.codes import files, flows, reading, survey
from mudanza.core.codes.model import Code, Example, Severity

#: every code by its name
CODES: dict[str, Code] = {code.name: code for part in (reading, survey, files, flows) for code in part.CODES}

__all__ = ["CODES", "Code", "Example", "Severity"]
