"""`mudanza demo`."""

from __future__ import annotations

from pathlib import Path

import click

from mudanza.cli.options import json_option


@click.command("demo")
@click.argument("folder", type=click.Path(path_type=Path), default=Path("practice"))
@click.option("--again", is_flag=True, help="Throw away an earlier demo in that folder first.")
@click.option("--only-create", is_flag=True, help="Create the move and do not walk through it.")
@json_option
@click.pass_context
def command(ctx: click.Context, folder: Path, again: bool, only_create: bool, as_json: bool) -> None:
    """Create the example of two clinics in FOLDER (practice) and walk through the whole journey.

    Each command is printed before its output. Everything in it is invented.

    \b
    Examples:
      mudanza demo
      mudanza demo try-out --only-create
    """
    from mudanza.demo.create import create_demo
    from mudanza.demo.tour import walk

    files = create_demo(folder, again)
    if as_json:
        from mudanza.cli import look

        look.document({"folder": str(folder), "files": files})
        return
    if only_create:
        click.echo(f"The demo move is in {folder}.")
        return
    ctx.exit(walk(folder))
