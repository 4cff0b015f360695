"""Writes docs/steps.md and docs/findings.md from the steps and codes themselves.

python docs/reference.py
"""

from __future__ import annotations

from pathlib import Path

from mudanza.core.findings.codes import CODES
from mudanza.core.language.parsing import TABLES, parser_tables
from mudanza.core.language.steps import STEPS
from mudanza.core.language.steps.declaring import Step

HERE = Path(__file__).parent


ORDER = {
    "texts": "Text: clean, cut, fill, replace", "letters": "Letters: capitals, alphabets, codes", "several": "Several values and texts", "blanks": "Blanks and checks",
    "readings": "Reading numbers and yes or no", "numbers": "Numbers", "dates": "Dates and times", "identifiers": "Identifiers: check digits, UUIDs",
    "looking_up": "Crosswalks, lookups, identifiers",
}  # fmt: skip


def steps() -> str:
    parts = ["# Steps\n\nMade by `python docs/reference.py` from the steps themselves. Every example is tested.\n"]
    ordered = sorted(STEPS.values(), key=lambda step: list(ORDER).index(_module(step)))
    said = ""
    for step in ordered:
        if _module(step) != said:
            said = _module(step)
            parts.append(f"## {ORDER[said]}\n")
        takes = "any kind" if len(step.takes) > 5 else " or ".join(step.takes)
        several = ", several values at once" if step.several else ""
        gives = step.gives or "the kind it makes"
        parts.append(f"### {step.name}\n\n`{step.usage}` takes {takes}{several}; gives {gives}.\n\n{step.summary}\n")
        rows = ["| flow | given | gives |", "| --- | --- | --- |"]
        for example in step.examples:
            given = ", ".join(f"{n} = {_shown(v)}" for n, v in zip("AB", example.given, strict=False))
            rows.append(f"| `{_cell(example.flow)}` | {given} | {_shown(example.gives)} |")
        parts.append("\n".join(rows) + "\n")
    return "\n".join(parts)


def _module(step: Step) -> str:
    return step.work.__module__.rsplit(".", 1)[-1]


def findings() -> str:
    parts = [
        "# Findings\n\nMade by `python docs/reference.py` from the codes themselves. **stop** keeps a row or file from being imported, "
        "**warn** wants a look, **note** is for your information. `mudanza explain CODE` shows an example.\n",
        "| code | severity | meaning | what to do |\n| --- | --- | --- | --- |",
    ]
    rows = [f"| `{c.name}` | {c.severity} | {_cell(c.meaning)} | {_cell(c.next)} |" for c in CODES.values()]
    return "\n".join([*parts, *rows]) + "\n"


def _cell(text: str) -> str:
    return text.replace("|", "\\|")


def _shown(value: str | None) -> str:
    return "blank" if value is None else f"`{_cell(value)}`"


if __name__ == "__main__":
    (HERE / "steps.md").write_text(steps(), encoding="utf-8")
    (HERE / "findings.md").write_text(findings(), encoding="utf-8")
    (HERE.parent / "src/mudanza/core/language" / TABLES).write_bytes(parser_tables())
