"""Where each key, table and item of a TOML text stands (TOML 1.0)."""

from __future__ import annotations

import re
import tomllib

from mudanza.core.documents.marks import KeyPath, Mark

_SPACE = re.compile(r"(?:[ \t\r\n]|#[^\n]*)*")
_BLANK = re.compile(r"[ \t]*")
_KEY = re.compile(r"""[A-Za-z0-9_-]+|"(?:[^"\\]|\\.)*"|'[^']*'""")
_STRING = re.compile(
    r'''"""(?:[^\\]|\\.)*?"{3,5}|"(?:[^"\\\n]|\\.)*"''' + r"""|'''(?:.|\n)*?'{3,5}|'[^'\n]*'""", re.DOTALL
)
_PLAIN = re.compile(r"[^,\]}#\r\n]*")


def toml_marks(text: str) -> dict[KeyPath, Mark]:
    """The place of every key, table heading and item of valid TOML, by its path from the root."""
    return _Scan(text).run()


class _Scan:
    def __init__(self, text: str) -> None:
        self.text, self.at = text, 0
        self.found: dict[KeyPath, Mark] = {}
        self.counts: dict[KeyPath, int] = {}

    def run(self) -> dict[KeyPath, Mark]:
        table: KeyPath = ()
        self._skip(_SPACE)
        while self.at < len(self.text):
            if self.text[self.at] == "[":
                table = self._heading()
            else:
                self._pair(table)
            self._skip(_SPACE)
        return self.found

    def _skip(self, pattern: re.Pattern[str]) -> str:
        match = pattern.match(self.text, self.at)
        assert match is not None
        self.at = match.end()
        return match.group()

    def _heading(self) -> KeyPath:
        start, several = self.at, self.text.startswith("[[", self.at)
        self.at += 2 if several else 1
        path: KeyPath = ()
        parts = self._key()
        for number, part in enumerate(parts, start=1):
            path = (*path, part)
            if several and number == len(parts):
                self.counts[path] = self.counts.get(path, -1) + 1
            if path in self.counts:
                path = (*path, self.counts[path])
        self.at += 2 if several else 1
        for length in range(1, len(path) + 1):
            self.found.setdefault(path[:length], Mark(start, self.at, start))
        return path

    def _key(self) -> list[str]:
        parts = []
        while True:
            self._skip(_BLANK)
            piece = self._skip(_KEY)
            parts.append(tomllib.loads(f"key = {piece}")["key"] if piece[0] in "\"'" else piece)
            self._skip(_BLANK)
            if not self.text.startswith(".", self.at):
                return parts
            self.at += 1

    def _pair(self, table: KeyPath) -> None:
        start = self.at
        path = (*table, *self._key())
        end = start + len(self.text[start : self.at].rstrip())
        self.at += 1
        self._skip(_BLANK)
        for length in range(len(table) + 1, len(path)):
            self.found.setdefault(path[:length], Mark(start, end, start))
        self.found[path] = Mark(start, end, self.at)
        self._value(path)

    def _value(self, path: KeyPath) -> None:
        sign = self.text[self.at]
        if sign == "[":
            self._items(path)
        elif sign == "{":
            self._inline(path)
        elif sign in "\"'":
            self._skip(_STRING)
        else:
            self._skip(_PLAIN)

    def _items(self, path: KeyPath) -> None:
        self.at += 1
        number = 0
        while True:
            self._skip(_SPACE)
            if self.text[self.at] == "]":
                self.at += 1
                return
            start = self.at
            self._value((*path, number))
            self.found[(*path, number)] = Mark(start, start + len(self.text[start : self.at].rstrip()), start)
            number += 1
            self._skip(_SPACE)
            if self.text[self.at] == ",":
                self.at += 1

    def _inline(self, path: KeyPath) -> None:
        self.at += 1
        while True:
            self._skip(_SPACE)
            if self.text[self.at] == "}":
                self.at += 1
                return
            self._pair(path)
            self._skip(_SPACE)
            if self.text[self.at] == ",":
                self.at += 1
