"""`mudanza init`."""

from __future__ import annotations

from pathlib import Path

import click

from mudanza.cli import look
from mudanza.cli.options import json_option


@click.command("init")
@click.argument("folder", type=click.Path(path_type=Path))
@json_option
def command(folder: Path, as_json: bool) -> None:
    """Start a move in FOLDER: settings, and a small list that works, to be changed into your own.

    \b
    Example:
      mudanza init our-move
    """
    from mudanza.core.work.starting import start_move

    files = start_move(folder)
    if as_json:
        look.document({"folder": str(folder), "files": files})
        return
    look.heading(str(folder), "a new move")
    look.columns([[f] for f in files])
    look.say()
    look.say(f"  Try it: cd {folder}, then mudanza preview people and mudanza build people.", style="dim")
