"""Texts from anywhere, as TOML may hold them (TOML 1.0: no control characters but tabs and line ends)."""

from __future__ import annotations

import json
import re

_CONTROLS = re.compile("[\x00-\x08\x0b-\x1f\x7f]")


def control_in(text: str) -> str | None:
    """The first control character of a text, as it is written in Python; None if it has none.

    A return before a line end is a part of that.
    """
    found = _CONTROLS.search(text.replace("\r\n", "\n"))
    return None if found is None else ascii(found[0])[1:-1]


def without_controls(text: str) -> str:
    """A text without control characters."""
    return _CONTROLS.sub("", text)


def on_one_line(text: str) -> str:
    """A text as it can stand in a comment: on one line, without control characters."""
    return without_controls(re.sub(r"\s*[\r\n]+\s*", " ", text))


def toml_text(text: str) -> str:
    """A text as TOML writes it, in double quotes."""
    return _CONTROLS.sub(lambda sign: f"\\u{ord(sign[0]):04x}", json.dumps(text, ensure_ascii=False))
