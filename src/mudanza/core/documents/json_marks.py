"""Where each key and item of a JSON text stands."""

from __future__ import annotations

import json
import re

from mudanza.core.documents.marks import KeyPath, Mark

_TOKEN = re.compile(r'"(?:[^"\\]|\\.)*"|[{}\[\]:,]|[^\s{}\[\]:,"]+')


def json_marks(text: str) -> dict[KeyPath, Mark]:
    """The place of every key and item of valid JSON, by its path from the root."""
    found: dict[KeyPath, Mark] = {}
    path: list[str | int] = []
    kinds: list[str] = []
    tokens = list(_TOKEN.finditer(text))
    awaiting_key = False
    for at, token in enumerate(tokens):
        piece = token.group()
        if kinds and kinds[-1] == "[" and piece not in ",]" and not awaiting_key and tuple(path) not in found:
            found[tuple(path)] = Mark(token.start(), token.end(), token.start())
        if piece in "{[":
            kinds.append(piece)
            path.append("" if piece == "{" else 0)
            awaiting_key = piece == "{"
        elif piece in "}]":
            kinds.pop()
            path.pop()
            awaiting_key = False
        elif piece == ",":
            if kinds[-1] == "[":
                path[-1] = int(path[-1]) + 1
            else:
                awaiting_key = True
        elif awaiting_key and piece.startswith('"'):
            path[-1] = json.loads(piece)
            value = tokens[at + 2].start() if at + 2 < len(tokens) else token.end()
            found[tuple(path)] = Mark(token.start(), token.end(), value)
            awaiting_key = False
    return found
