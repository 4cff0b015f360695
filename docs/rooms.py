"""Draws the rooms of the core, from the imports as they are: `python docs/rooms.py` writes docs/rooms.svg.

An arrow would always lead down, so none is drawn: beside each room stands what it knows. The order is that of the contract in pyproject.toml.
"""

from __future__ import annotations

import ast
import tomllib
from pathlib import Path

HERE = Path(__file__).parent
CORE = HERE.parent / "src/mudanza/core"
WIDTH, HEIGHT, GAP, LEFT = 980, 46, 8, 20


def order() -> list[str]:
    """The rooms, the lowest first."""
    settings = tomllib.loads((HERE.parent / "pyproject.toml").read_text("utf-8"))
    contract = settings["tool"]["importlinter"]["contracts"][0]
    return list(reversed(contract["layers"]))


def facts(room: str) -> tuple[str, set[str]]:
    """What a room says of itself, and the rooms that it knows."""
    known: set[str] = set()
    for file in (CORE / room).rglob("*.py"):
        for node in ast.walk(ast.parse(file.read_text("utf-8"))):
            if isinstance(node, ast.ImportFrom) and (node.module or "").startswith("mudanza.core."):
                known.add((node.module or "").split(".")[2])
    said = ast.get_docstring(ast.parse((CORE / room / "__init__.py").read_text("utf-8"))) or ""
    return said.splitlines()[0], known - {room}


def drawing() -> str:
    """The picture as SVG."""
    rooms = order()
    height = len(rooms) * (HEIGHT + GAP) + 40
    parts = [
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {WIDTH} {height}" font-family="sans-serif" font-size="13">',
        f'<rect width="{WIDTH}" height="{height}" fill="white"/>',
        f'<text x="{LEFT}" y="22" fill="#5b6770">Each room of the core knows only rooms below it.</text>',
    ]
    for number, room in enumerate(reversed(rooms)):
        said, known = facts(room)
        top = 36 + number * (HEIGHT + GAP)
        names = ", ".join(name for name in reversed(rooms) if name in known) or "none"
        parts += [
            f'<rect x="{LEFT}" y="{top}" width="{WIDTH - 2 * LEFT}" height="{HEIGHT}" fill="#eef4f4" stroke="#2f7f86"/>',
            f'<text x="{LEFT + 12}" y="{top + 28}" font-weight="bold" fill="#1d5b61">{room}</text>',
            f'<text x="{LEFT + 112}" y="{top + 19}">{_escaped(said)}</text>',
            f'<text x="{LEFT + 112}" y="{top + 37}" fill="#5b6770">knows {names}</text>',
        ]
    return "\n".join([*parts, "</svg>", ""])


def _escaped(text: str) -> str:
    return text.replace("&", "&amp;").replace("<", "&lt;")


if __name__ == "__main__":
    (HERE / "rooms.svg").write_text(drawing(), encoding="utf-8")
