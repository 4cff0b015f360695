"""The entry point. Starting is fast: a command's module is loaded when the command is called."""

from __future__ import annotations

import contextlib
import importlib
import io
import os
import signal
import sys
import threading
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import click

from mudanza.version import __version__

# nothing here multiplies matrices; the threads that stand by for it would cost as much as starting
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

#: command → what it does, in the order people work. The module of the same name in this package has it.
COMMANDS = {
    "init": "Start a move folder with commented, valid files.",
    "survey": "Look at an old export: is it whole, what is in each column.",
    "records": "Look at chosen records and columns of anything, and write them anywhere.",
    "layout": "Show the target's import layout.",
    "match": "Draft a plan: propose where each field comes from.",
    "crosswalk": "Find the codes that a plan translates, and propose targets.",
    "preview": "Show rows as they would be written, and what the plan covers.",
    "build": "Write a list's import file, with the balance of all rows.",
    "trace": "Tell one record's whole story, from its source row to the runs it went out in.",
    "check": "Validate any file against a layout.",
    "keys": "Look into key books; enter what the target gave.",
    "lend": "Lend records out in a workbook for others to correct.",
    "receive": "Take a workbook back: every change, and the import files of it.",
    "carry-back": "Turn what was accepted from loans into the old program's own columns.",
    "handed-over": "Note that the target took a build in; show what it holds.",
    "ledger": "Show runs, identifiers given out, and loans.",
    "explain": "Explain a finding or a step of the language.",
    "completion": "Print what makes a shell complete commands, lists, columns, codes and keys.",
    "demo": "Create the example of two clinics and walk through it.",
}

EPILOG = """\b
Exit status: 0 done and clean; 1 done, but rows were held back or findings say stop;
2 the command, a plan or a layout is wrong; 3 something outside failed."""


class _Commands(click.Group):
    def list_commands(self, ctx: click.Context) -> list[str]:  # noqa: ARG002
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:  # noqa: ARG002
        if cmd_name not in COMMANDS:
            return None
        command: click.Command = importlib.import_module(f"mudanza.cli.{cmd_name.replace('-', '_')}").command
        return command

    def resolve_command(self, ctx: click.Context, args: list[str]) -> Any:
        if args and args[0] not in COMMANDS and not args[0].startswith("-"):
            from mudanza.core.documents.errors import nearest

            near = nearest(args[0], list(COMMANDS))
            hint = f" Did you mean {near!r}?" if near else " `mudanza --help` lists the commands."
            raise click.UsageError(f"There is no command {args[0]!r}.{hint}", ctx)
        return super().resolve_command(ctx, args)

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:  # noqa: ARG002
        with formatter.section("Commands, in the order of the work"):
            formatter.write_dl(list(COMMANDS.items()))


@click.group(
    cls=_Commands,
    epilog=EPILOG,
    context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100},
)
@click.version_option(__version__, message="%(prog)s %(version)s")
@click.option("-C", "folder", metavar="DIR", type=click.Path(path_type=Path), help="Work as if started in DIR.")
@click.option("--debug", is_flag=True, help="Show the whole trace of an error.")
@click.pass_context
def cli(ctx: click.Context, folder: Path | None, debug: bool) -> None:
    """Carry an organisation's records out of old programs into a new one.

    A move is a folder with a mudanza.toml: plans say how old exports become the files that the new system imports,
    layouts what it takes. Start with `mudanza demo`, or with `mudanza init FOLDER`.
    """
    ctx.obj = {"debug": debug}
    if folder is not None:
        try:
            os.chdir(folder)
        except OSError as error:
            raise click.UsageError(f"-C {folder}: {error.strerror}.") from error


#: an impatient user presses Ctrl-C again; so many times, and the command ends without tidying up, which the next one
#: does
_PATIENCE = 4


#: how often this command was interrupted
_interruptions: list[int] = []


def _interrupted(number: int, _: object) -> None:
    _interruptions.append(number)
    if len(_interruptions) == 1:
        raise KeyboardInterrupt
    if len(_interruptions) >= _PATIENCE:
        os.write(2, f"interrupted; {_effects()}.\n".encode())
        os._exit(130)


def _end_like_ctrl_c() -> None:
    """Let other ways of being ended do what Ctrl-C does, unless whoever started us has them ignored.

    A second one does not disturb what the first has begun to end.
    """
    _interruptions.clear()
    if threading.current_thread() is not threading.main_thread():
        return
    for name, usual in (
        ("SIGINT", signal.default_int_handler),
        ("SIGTERM", signal.SIG_DFL),
        ("SIGHUP", signal.SIG_DFL),
    ):
        number = getattr(signal, name, None)
        if number is not None and signal.getsignal(number) == usual:
            signal.signal(number, _interrupted)


def _let_go() -> None:
    """Close what the command had open; it is over, and nothing disturbs that any more."""
    if (module := sys.modules.get("mudanza.core.state.ledger")) is not None:
        from mudanza.core.disk.files import uninterrupted

        with contextlib.suppress(KeyboardInterrupt), uninterrupted():
            module.close_ledgers()


def _effects() -> str:
    """What this process has changed, as a part of a sentence."""
    module = sys.modules.get("mudanza.core.disk.effects")
    return module.effects.sentence() if module is not None else "nothing was changed"


def main(arguments: Sequence[str] | None = None) -> int:
    """Run one command (that of the process, if none is given) and give its exit status."""
    try:
        status = _run(list(sys.argv[1:] if arguments is None else arguments))
        _let_go()
        sys.stdout.flush()
        return status
    except OSError as error:
        # what is left to be printed goes nowhere
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        if isinstance(error, BrokenPipeError):
            # the reader of our output went away, as `| head` does
            return 0
        click.echo(
            f"error: standard output takes nothing more: {error.strerror}.\n  Before that: {_effects()}. "
            "Print to another place, and look with `mudanza ledger`.",
            err=True,
        )
        return 3


def _run(given: list[str]) -> int:
    """Run one command. Raises OSError where its output cannot be printed."""
    wants_json = "--json" in given
    _end_like_ctrl_c()
    if (module := sys.modules.get("mudanza.core.disk.effects")) is not None:
        # of another command in this process
        module.effects.clear()
    try:
        status = cli.main(given, prog_name="mudanza", standalone_mode=False)
        return status if isinstance(status, int) else 0
    except click.exceptions.Exit as stop:
        return stop.exit_code
    except (click.Abort, KeyboardInterrupt):
        click.echo(f"interrupted; {_effects()}.", err=True)
        return 130
    except click.ClickException as error:
        from mudanza.cli.look import message

        shown = io.StringIO()
        error.show(shown)
        click.echo(message(shown.getvalue()), err=True, nl=False)
        if wants_json:
            from mudanza.cli.look import document
            from mudanza.core.documents.errors import MudanzaError
            from mudanza.core.work.shapes import error_shape

            document(error_shape(MudanzaError(message(error.format_message()))))
        return error.exit_code
    except (BrokenPipeError, SystemExit):
        raise
    # a panic of the engine below is no Exception
    except BaseException as error:
        from mudanza.cli.look import show_error

        if "--debug" in given:
            import traceback

            from mudanza.cli.look import message

            click.echo("\n".join(map(message, traceback.format_exc().splitlines())), err=True)
        return show_error(_explained(error), wants_json)


def _explained(error: BaseException) -> BaseException:
    """The error; of what nobody foresaw, the one that says that the ledger is damaged, if it is."""
    from mudanza.core.documents.errors import MudanzaError

    if isinstance(error, (MudanzaError, OSError, MemoryError)):
        return error
    try:
        from mudanza.cli.options import here_or_none
        from mudanza.core.state.soundness import damage

        move = here_or_none()
        return (damage(move) if move is not None else None) or error
    except Exception:  # then it is what it was
        return error
