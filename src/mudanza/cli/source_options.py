"""How a source is read, where the guess is wrong: options of commands that look at exports."""

from __future__ import annotations

import functools
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

import click

from mudanza.cli.options import pairs

if TYPE_CHECKING:
    from mudanza.core.sources.reader import ReadOptions

_SAID = ("delimiter", "encoding", "heading", "sheet")


def source_options(command: Callable[..., Any]) -> Callable[..., Any]:
    """--delimiter, --encoding, --heading, --sheet and --how; the command gets `options`, as readers take them."""

    @functools.wraps(command)
    def with_options(*args: Any, how: dict[str, str], **more: Any) -> Any:
        said = {name: value for name in _SAID if (value := more.pop(name)) is not None}
        return command(*args, options=_options({**said, **how}), **more)

    for option in (
        click.option(
            "--how",
            multiple=True,
            callback=pairs,
            metavar="KEY=VALUE",
            help="Any other setting that a plan's source can have.",
        ),
        click.option("--sheet", metavar="NAME", help="The sheet of a workbook, if the guess is wrong."),
        click.option("--heading", metavar="N", help="The line of the heading; 0 if there is none."),
        click.option("--encoding", metavar="NAME", help="The file's encoding, if the guess is wrong."),
        click.option("--delimiter", metavar="C", help="What stands between values, if the guess is wrong."),
    ):
        with_options = option(with_options)
    return with_options


def _options(said: dict[str, str]) -> ReadOptions:
    from mudanza.core.sources.settings import said_options

    def fail(what: str, key: str, hint: str | None) -> Exception:
        return click.BadParameter(f"{what} {hint or ''}".strip(), param_hint=f"--{key}" if key in _SAID else "--how")

    return said_options(said, fail)
