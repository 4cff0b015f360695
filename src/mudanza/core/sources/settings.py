"""The settings of a source, as a plan or a person writes them: what each may be, and how it is asked for."""

from __future__ import annotations

import tomllib
from collections.abc import Callable, Mapping
from typing import Any

from mudanza.core.documents.errors import few, nearest
from mudanza.core.sources.opening import FORMATS, Setting
from mudanza.core.sources.reader import ReadOptions

_TEXT, _WHOLE = (str,), (int,)
#: The settings that more than one format knows.
COMMON: dict[str, Setting] = {
    "format": Setting(_TEXT, "a text", '"report"'),
    "encoding": Setting(_TEXT, "a text", '"cp1252"'),
    "delimiter": Setting(_TEXT, "a text", '";"'),
    "quote": Setting(_TEXT, "a text", "'\"'"),
    "escape": Setting(_TEXT, "a text", "'\\'"),
    "heading": Setting(_WHOLE, "a whole number", "1"),
    "heading_rows": Setting(_WHOLE, "a whole number", "2"),
    "below": Setting(_WHOLE, "a whole number", "1"),
    "sheet": Setting(_TEXT, "a text", '"People"'),
    "inside": Setting(_TEXT, "a text", '"clients.csv"'),
    "rename": Setting((dict,), "a table", '{ "Tel." = "Phone" }'),
    "blanks": Setting((list,), "a list of texts", '["n/a", "-"]'),
}
SETTINGS: dict[str, Setting] = {**COMMON, **{n: s for one in FORMATS.values() for n, s in one.settings.items()}}

#: raises an error about a setting: what, key, hint
Fail = Callable[[str, str, str | None], Exception]


def read_options(settings: Mapping[str, Any], fail: Fail) -> ReadOptions:
    """Settings as options. `fail` makes the error for one that is wrong, which is raised."""
    for key, value in settings.items():
        if key not in SETTINGS:
            near = nearest(key, list(SETTINGS))
            hint = f"Did you mean {near!r}?" if near else f"There are: {few(list(SETTINGS), 30)}."
            raise fail(f"there is no setting {key!r}.", key, hint)
        known = SETTINGS[key]
        if not isinstance(value, known.types) or isinstance(value, bool):
            raise fail(f"{key} must be {known.words}.", key, f"Write {key} = {known.example}.")
        items = value if isinstance(value, list) else value.values() if isinstance(value, dict) else ()
        if not all(isinstance(item, str) for item in items):
            raise fail(f"{key} holds texts.", key, f"Write {key} = {known.example}.")
    if settings.get("format", "delimited") not in FORMATS:
        raise fail(f"there is no format {settings['format']!r}.", "format", f"There are: {few(list(FORMATS))}.")
    _signs(settings, fail)
    common = {k: v for k, v in settings.items() if k in COMMON}
    common["quote"] = settings.get("quote", '"') or None
    common["blanks"] = tuple(settings.get("blanks", ()))
    common["rename"] = dict(settings.get("rename", {}))
    return ReadOptions(**common, own={k: v for k, v in settings.items() if k not in COMMON})


def _signs(settings: Mapping[str, Any], fail: Fail) -> None:
    delimiter = settings.get("delimiter")
    if delimiter is not None and (not delimiter or len(delimiter) > 10 or "\n" in delimiter):
        raise fail("delimiter must be one character or a few.", "delimiter", 'A tab is written "\\t".')
    for key in ("quote", "escape"):
        value = settings.get(key, "")
        if len(value) > 1 or not value.isascii():
            raise fail(f"{key} must be one plain character, or empty for none.", key, None)
    for key in ("heading", "heading_rows", "below"):
        if settings.get(key, 1) < (1 if key == "heading_rows" else 0):
            raise fail(f"{key} cannot be {settings[key]}.", key, f"Write {key} = {COMMON[key].example}.")


def said_options(pairs: Mapping[str, str], fail: Fail) -> ReadOptions:
    """Settings written as `key=value` on a command line: the value as in a plan, or plainly where it is a text."""
    settings: dict[str, Any] = {}
    for key, text in pairs.items():
        known = SETTINGS.get(key)
        if known is not None and known.types == _TEXT and not (text[:1] in "\"'" and len(text) > 1):
            settings[key] = {"\\t": "\t", "tab": "\t"}.get(text, text) if key == "delimiter" else text
            continue
        if known is not None and known.types == (list,) and not text.startswith("["):
            settings[key] = [item.strip() for item in text.split(",")]
            continue
        try:
            settings[key] = tomllib.loads(f"value = {text}")["value"]
        except tomllib.TOMLDecodeError:
            settings[key] = text
    return read_options(settings, fail)
