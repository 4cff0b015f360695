"""Options that several commands share."""

from __future__ import annotations

import dataclasses
import sys
from collections.abc import Callable, Sequence
from datetime import date, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from mudanza.core.plans.move import SETTINGS, Move
from mudanza.core.plans.move_settings import find_move

if TYPE_CHECKING:
    from mudanza.core.disk.files import Outputs
    from mudanza.core.language.parameters import Declared

_LONGEST_WAIT = 86_400
F = TypeVar("F", bound=Callable[..., Any])

json_option = click.option("--json", "as_json", is_flag=True, help="Print one JSON document, and nothing else.")


def _seconds(ctx: click.Context, param: click.Parameter, value: float) -> float:  # noqa: ARG001
    if not 0 <= value <= _LONGEST_WAIT:
        raise click.BadParameter(f"{value} is not a number of seconds from 0 to {_LONGEST_WAIT:,}.")
    return value


wait_option = click.option(
    "--wait",
    default=30.0,
    callback=_seconds,
    show_default=True,
    metavar="SECONDS",
    help="How long to wait for another run to finish.",
)


_OVERWRITE = "mudanza.overwrite"


def _overwrites(ctx: click.Context, param: click.Parameter, value: bool) -> None:  # noqa: ARG001
    ctx.meta[_OVERWRITE] = value or ctx.meta.get(_OVERWRITE, False)


overwrite_option = click.option(
    "--overwrite",
    is_flag=True,
    expose_value=False,
    callback=_overwrites,
    help="Replace a file that this command did not write; never one that records are read from.",
)


def _by_its_old_name(ctx: click.Context, param: click.Parameter, value: bool) -> None:
    if value:
        click.echo("--over is called --overwrite now.", err=True)
    _overwrites(ctx, param, value)


#: understood until the next version
over_option = click.option("--over", is_flag=True, expose_value=False, hidden=True, callback=_by_its_old_name)


def day_option(ctx: click.Context, param: click.Parameter, value: str | None) -> date | None:  # noqa: ARG001
    if value is None:
        return None
    try:
        return date.fromisoformat(value)
    except ValueError:
        raise click.BadParameter(f"{value!r} is no date; write it as 2026-01-31.") from None


def pairs(ctx: click.Context, param: click.Parameter, value: tuple[str, ...]) -> dict[str, str]:  # noqa: ARG001
    found = {}
    for item in value:
        name, sign, text = item.partition("=")
        if not sign or not name:
            raise click.BadParameter(f"{item!r} is not written NAME=VALUE.")
        found[name] = text
    return found


set_option = click.option(
    "--set", "parameters", multiple=True, callback=pairs, metavar="NAME=VALUE", help="A value for :NAME in flows."
)


_KEEP = "mudanza.keep_values"


def _keeps(ctx: click.Context, param: click.Parameter, value: bool) -> None:  # noqa: ARG001
    ctx.meta[_KEEP] = value


def run_options(command: F) -> F:
    """--as-of, --set and --keep-values, for commands that run flows."""
    command = click.option(
        "--keep-values",
        is_flag=True,
        expose_value=False,
        callback=_keeps,
        help="Keep what --set gives for eight hours, for commands that only look; without --set, keep nothing any more.",
    )(command)
    command = click.option(
        "--as-of", callback=day_option, metavar="DAY", help="The day that `within N days` counts from (today)."
    )(command)
    return set_option(command)


T = TypeVar("T")


def answered(run: Callable[[dict[str, str]], T], given: dict[str, str], *, kept: bool = True) -> T:
    """What `run` gives for the values given at run time, and, if `kept`, those that are kept, which is told. At a terminal, one that is missing is asked for, if the
    settings have a question."""
    from mudanza.core.documents.errors import MoveError
    from mudanza.core.language.parameters import MissingParameterError

    move = here()
    at_hand = _kept(move, given, used=kept)
    # for what the settings know a kept value goes before theirs; another may be of another list
    for name in at_hand.keys() & move.parameters.keys():
        given = {**given, name: at_hand.pop(name)}
    while True:
        try:
            return run(given)
        except MissingParameterError as missing:
            declared = missing.declared
            if declared.name in at_hand:
                given = {**given, declared.name: at_hand.pop(declared.name)}
                continue
            if not (sys.stdin.isatty() and sys.stderr.isatty()):
                raise

            def checked(text: str, declared: Declared = declared) -> str:
                try:
                    declared.value(text)
                except MoveError as error:
                    raise click.UsageError(f"{error.what} {error.hint}") from None
                return text

            question = declared.question or f"{declared.name} ({declared.kind})"
            proposed = declared.default if declared.follows else None
            given = {**given, declared.name: click.prompt(question, default=proposed, value_proc=checked, err=True)}


def _kept(move: Move, given: dict[str, str], *, used: bool) -> dict[str, str]:
    """The values that are kept and not given anew, if they are to be used; what is given is kept, if that is asked for."""
    from mudanza.core.state.kept_values import keep_values, kept_values

    if click.get_current_context().meta.get(_KEEP):
        keep_values(move, given)
        words = f"kept for eight hours: {_listed(given)}" if given else "no values are kept any more"
        click.echo(words, err=True)
        return {}
    if not used:
        return {}
    found = kept_values(move)
    values = {name: value for name, value in found.values.items() if name not in given}
    if values and found.until is not None:
        until = short_time(found.until.isoformat())
        click.echo(f"with values that are kept until {until}: {_listed(values)}", err=True)
    return values


def _listed(values: dict[str, str]) -> str:
    return ", ".join(f"{name}={value}" for name, value in values.items())


def here(wait: float = 30) -> Move:
    """The move that the command was started in."""
    move = dataclasses.replace(find_move(Path.cwd()), wait=wait)
    if not may_overwrite():
        return move
    from mudanza.core.plans.plan_reading import source_files

    return dataclasses.replace(move, overwrite=True, protected=source_files(move))


def may_overwrite() -> bool:
    """Whether --overwrite was given."""
    context = click.get_current_context(silent=True)
    return context is not None and bool(context.meta.get(_OVERWRITE))


def named_outputs(command: str, inputs: Sequence[Path] = ()) -> Outputs:
    """What a command writes into files that its user named; `inputs` are those that it reads."""
    from mudanza.core.disk.files import Outputs

    move = here_or_none()
    return Outputs(
        move.files if move is not None else None, command=command, overwrite=may_overwrite(), protected=inputs
    )


def here_or_none() -> Move | None:
    """The move that the command was started in, if any."""
    folder = Path.cwd()
    if not any((f / SETTINGS).is_file() for f in (folder, *folder.parents)):
        return None
    return here()


def short_time(moment: str) -> str:
    """A moment of the ledger for people, by their own clock."""
    return datetime.fromisoformat(moment).astimezone().strftime("%Y-%m-%d %H:%M")
