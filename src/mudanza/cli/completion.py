"""`mudanza completion`."""

from __future__ import annotations

import click
from click.shell_completion import get_completion_class

_SHELLS = ("bash", "zsh", "fish")


@click.command("completion")
@click.argument("shell", type=click.Choice(_SHELLS))
@click.pass_context
def command(ctx: click.Context, shell: str) -> None:
    """Print what makes a shell complete commands, lists, columns, codes and keys.

    \b
    Examples:
      mudanza completion bash > ~/.local/share/bash-completion/completions/mudanza
      mudanza completion zsh > ~/.zfunc/_mudanza
      mudanza completion fish > ~/.config/fish/completions/mudanza.fish
    """
    kind = get_completion_class(shell)
    assert kind is not None, "Click knows the shells that are named here"
    click.echo(kind(ctx.find_root().command, {}, "mudanza", "_MUDANZA_COMPLETE").source())
