"""What a shell proposes while people type: lists, columns, codes and keys. It never fails; where nothing can be told, nothing is proposed."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import suppress

import click
from click.shell_completion import CompletionItem

_MOST = 200
Completer = Callable[[click.Context, click.Parameter, str], list[CompletionItem]]


def _completer(
    known: Callable[[click.Context], Sequence[str]], *, several: bool = False, files: bool = False
) -> Completer:
    """A completer of what is known; of several, with commas between them, the last is completed."""

    def complete(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[CompletionItem]:  # noqa: ARG001
        before, sign, last = incomplete.rpartition(",") if several else ("", "", incomplete)
        found: list[CompletionItem] = []
        with suppress(Exception):
            fitting = [one for one in known(ctx) if one.lower().startswith(last.lower())]
            found = [CompletionItem(f"{before}{sign}{one}") for one in fitting[:_MOST]]
        return found or ([CompletionItem(incomplete, type="file")] if files else [])

    return complete


def _lists(ctx: click.Context) -> list[str]:  # noqa: ARG001
    from mudanza.cli.options import here

    return here().names("plans", ".toml")


def _subjects(ctx: click.Context) -> list[str]:
    from mudanza.cli.options import here
    from mudanza.core.plans.plan_reading import load_plan

    move = here()
    names = _lists(ctx)
    return [
        *names,
        *(f"{name}/{one.name}" for name in names for one in load_plan(move, name).sources),
        *(f"{one}:" for one in move.databases),
    ]


def _asked(ctx: click.Context) -> str:
    value = ctx.params.get("subject") or ctx.params.get("list_name") or ctx.params.get("names")
    # behind an option that still wants its value, Click leaves arguments aside
    value = value or (ctx.args[0] if ctx.args else None)
    return str(value[0] if isinstance(value, tuple) else value)


def _columns(ctx: click.Context) -> list[str]:
    from mudanza.cli.options import here_or_none
    from mudanza.core.sources.reader import ReadOptions
    from mudanza.core.work.records.subject import view_of

    return [*view_of(_asked(ctx), ReadOptions(), here_or_none()).headings]


def _keys(ctx: click.Context) -> list[str]:
    from mudanza.cli.options import here
    from mudanza.core.plans.plan_reading import load_plan
    from mudanza.core.sinks.formats import read_built

    move = here()
    names = _lists(ctx)
    found: list[str] = []
    for name in [_asked(ctx)] if _asked(ctx) in names else names:
        layout = load_plan(move, name).layout
        rows = read_built(move, name, layout)
        if rows is not None:
            found += [", ".join(one or "" for one in row) for row in rows.select(layout.key_titles).iter_rows()]
    return found


def _codes(ctx: click.Context) -> list[str]:  # noqa: ARG001
    from mudanza.core.findings.codes import CODES
    from mudanza.core.language.steps import STEPS

    return [*CODES, *STEPS]


def _questions(ctx: click.Context) -> list[str]:  # noqa: ARG001
    from mudanza.cli.options import here

    return here().names("questions", ".toml")


lists = _completer(_lists)
subjects = _completer(_subjects, files=True)
columns = _completer(_columns, several=True)
keys = _completer(_keys)
codes = _completer(_codes)
questions = _completer(_questions)
