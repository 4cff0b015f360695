"""`mudanza completion`."""

from __future__ import annotations

import click
from click.shell_completion import get_completion_class

from mudanza.cli import look
from mudanza.cli.options import json_option

_SHELLS = ("bash", "zsh", "fish")


@click.command("completion")
@click.argument("shell", type=click.Choice(_SHELLS))
@json_option
@click.pass_context
def command(ctx: click.Context, shell: str, as_json: bool) -> None:
    """Print what makes a shell complete commands, lists, columns, codes and keys.

    \b
    Examples:
      mudanza completion bash > ~/.local/share/bash-completion/completions/mudanza
      mudanza completion zsh > ~/.zfunc/_mudanza
      mudanza completion fish > ~/.config/fish/completions/mudanza.fish
    """
    kind = get_completion_class(shell)
    assert kind is not None, "Click knows the shells that are named here"
    script = kind(ctx.find_root().command, {}, "mudanza", "_MUDANZA_COMPLETE").source()
    if as_json:
        look.document({"shell": shell, "script": script})
    else:
        click.echo(script)
