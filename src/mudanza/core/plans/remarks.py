"""What the business said about a field, as comments of the plan: `# status: agreed` and `# remark: …` above the field's line."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass

from mudanza.core.documents.toml_texts import without_controls

_ABOVE = re.compile(r"\s*#\s*(status|remark):\s?(.*)")
_APART = re.compile(r"\s*#\s*(status|remark) of ([\w-]+):\s?(.*)")
_KEY = re.compile(r"\s*(?:\"([^\"]+)\"|'([^']+)'|([\w-]+))\s*=")


@dataclass(frozen=True)
class Remark:
    """A status and a remark; blank where there is none."""

    status: str = ""
    text: str = ""

    def lines(self, of: str = "") -> list[str]:
        """The comment lines; `of` names the field where it has no line of its own."""
        named = f" of {of}" if of else ""
        found = [f"# status{named}: {self.status}"] if self.status else []
        return found + ([f"# remark{named}: {_escaped(self.text)}"] if self.text else [])


def _escaped(text: str) -> str:
    return without_controls(text.replace("\\", "\\\\").replace("\n", "\\n"))


def _unescaped(text: str) -> str:
    return re.sub(r"\\(.)", lambda m: "\n" if m.group(1) == "n" else m.group(1), text)


def _lines(text: str) -> Iterator[tuple[int, str, str | None, bool]]:
    """The lines of [fields]: number, text, the field that begins there, and whether it stands inside a text of several lines."""
    inside, quote = False, None
    for number, line in enumerate(text.split("\n")):
        if quote is None and line.strip().startswith("["):
            inside = line.split("#")[0].strip() == "[fields]"
            continue
        if inside:
            match = _KEY.match(line) if quote is None else None
            yield number, line, next((g for g in match.groups() if g), None) if match else None, quote is not None
        # a comment may say what it likes
        comment = quote is None and line.lstrip().startswith("#")
        for mark in () if comment else re.findall(r"'''|\"\"\"", line):
            quote = None if quote == mark else quote or mark


def read_remarks(text: str) -> dict[str, Remark]:
    """The remarks of a plan's text, by field."""
    found: dict[str, dict[str, str]] = {}
    waiting: dict[str, str] = {}
    for _, line, key, within in _lines(text):
        if within:
            continue
        if key is not None:
            if waiting:
                found[key] = waiting
            waiting = {}
        elif apart := _APART.match(line):
            found.setdefault(apart.group(2), {})[apart.group(1)] = _unescaped(apart.group(3))
        elif above := _ABOVE.match(line):
            waiting[above.group(1)] = _unescaped(above.group(2))
    return {name: Remark(said.get("status", ""), said.get("remark", "")) for name, said in found.items()}


def write_remarks(text: str, remarks: Mapping[str, Remark]) -> str:
    """The plan's text with these remarks in the place of those that the same fields have."""
    places = list(_lines(text))
    if not places:
        return text
    lines = text.split("\n")
    drop: set[int] = set()
    insert: dict[int, list[str]] = {}
    waiting: list[int] = []
    keys: set[str] = set()
    last = places[0][0] - 1
    for number, line, key, within in places:
        if line.strip():
            last = number
        if within:
            continue
        if key is not None:
            keys.add(key)
            if key in remarks:
                drop.update(waiting)
                insert[number] = remarks[key].lines()
            waiting = []
        elif (apart := _APART.match(line)) and apart.group(2) in remarks:
            drop.add(number)
        elif _ABOVE.match(line):
            waiting.append(number)
    apart_lines = [line for name, said in remarks.items() if name not in keys for line in said.lines(name)]
    written = []
    for number, line in enumerate(lines):
        if number in insert:
            written += insert[number]
        if number not in drop:
            written.append(line)
        if number == last:
            written += apart_lines
    return "\n".join(written)
