"""Where each key of a JSON document stands, so that an error can name its line."""

from __future__ import annotations

import json
import re

_TOKEN = re.compile(r'"(?:[^"\\]|\\.)*"|[{}\[\]:,]|[^\s{}\[\]:,"]+')

Path = tuple[str | int, ...]


def lines_of(text: str) -> dict[Path, int]:
    """The line (from 1) of every key and array item of valid JSON, by its path from the root."""
    found: dict[Path, int] = {(): 1}
    path: list[str | int] = []
    kinds: list[str] = []
    awaiting_key = False
    line, at = 1, 0
    for token in _TOKEN.finditer(text):
        line += text.count("\n", at, token.start())
        at = token.start()
        piece = token.group()
        if piece in "{[":
            kinds.append(piece)
            path.append("" if piece == "{" else 0)
            awaiting_key = piece == "{"
            if piece == "[":
                found[tuple(path)] = line
        elif piece in "}]":
            kinds.pop()
            path.pop()
        elif piece == ",":
            if kinds[-1] == "[":
                path[-1] = int(path[-1]) + 1
                following = _TOKEN.search(text, token.end())
                if following:
                    found[tuple(path)] = line + text.count("\n", at, following.start())
            else:
                awaiting_key = True
        elif awaiting_key and kinds and kinds[-1] == "{" and piece.startswith('"'):
            path[-1] = json.loads(piece)
            found[tuple(path)] = line
            awaiting_key = False
    return found


def shown(path: Path) -> str:
    """A path as people write it: tableSchema.columns[2].datatype."""
    words = ""
    for part in path:
        words += f"[{part}]" if isinstance(part, int) else (f".{part}" if words else part)
    return words
