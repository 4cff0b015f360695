"""`mudanza explain`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from mudanza.cli import completing, look
from mudanza.cli.options import here_or_none, json_option
from mudanza.core.work.shapes import code_shape, step_shape

if TYPE_CHECKING:
    from mudanza.core.findings.codes import Code
    from mudanza.core.language.steps.declaring import Step


@click.command("explain")
@click.argument("name", required=False, shell_complete=completing.codes)
@json_option
def command(name: str | None, as_json: bool) -> None:
    """Explain a finding's code or a step; without NAME, or with `steps` or `codes`, list them. In a move folder, its own steps too.

    `meanings` lists what headings can mean to `match`, for the move's words.csv.

    \b
    Examples:
      mudanza explain value.too-long
      mudanza explain fit
      mudanza explain steps
    """
    from mudanza.core.documents.errors import nearest
    from mudanza.core.findings.codes import CODES
    from mudanza.core.language.own_steps import steps_of

    move = here_or_none()
    known_steps = steps_of(move.folder if move else Path(), bool(move and move.own_steps))
    if name in CODES:
        _code(CODES[name], as_json)
    elif name is not None and name in known_steps:
        _step(known_steps[name], as_json)
    elif name in (None, "steps", "codes"):
        steps = [] if name == "codes" else [[s.usage, _first(s.summary)] for s in known_steps.values()]
        codes = [] if name == "steps" else [[c.name, str(c.severity), c.meaning] for c in CODES.values()]
        if as_json:
            look.document(
                {"steps": [s.name for s in known_steps.values()] if steps else [], "codes": [c[0] for c in codes]}
            )
            return
        if steps:
            look.heading("steps", "written after an arrow: {Column} -> step")
            look.columns(steps, fold=(0, 1))
        if codes:
            look.heading("findings")
            look.columns(codes, fold=(2,))
    elif name == "meanings":
        from mudanza.core.work.matching.meaning.lexicon import meanings

        if as_json:
            look.document({"meanings": meanings()})
            return
        look.heading("meanings", "what headings can mean; words.csv of the move adds words: meaning,words")
        look.columns(
            [
                [meaning, ", ".join(words.get("en", [])), look.plural(len(words), "language")]
                for meaning, words in meanings().items()
            ],
            fold=(1,),
        )
    else:
        near = nearest(name, [*CODES, *known_steps, "steps", "codes", "meanings"], least=50)
        hint = f" Did you mean {near!r}?" if near else ""
        raise click.UsageError(f"There is no step or finding {name!r}.{hint} `mudanza explain` lists them.")


def _first(text: str) -> str:
    return text.split(". ")[0].rstrip(".") + "."


def _code(code: Code, as_json: bool) -> None:
    if as_json:
        look.document(code_shape(code))
        return
    look.heading(code.name, str(code.severity))
    look.say(f"  {code.meaning}")
    look.say(f"  What to do: {code.next}")
    look.say()
    example = code.example
    if example.kind == "column":
        look.say(f"  Example: with the column {example.given}")
        look.say(f"  the value {look.shorten(example.value or None)} is a finding.")
    elif example.kind == "flow":
        look.say(f"  Example: in the flow {example.given}")
        look.say(f"  where {{A}} is {look.shorten(example.value)}.")
    elif example.kind == "file":
        look.say("  Example, a file:")
        for line in example.given.replace("\0", "<NUL>").splitlines():
            look.say(f"    {line.encode('utf-8', 'backslashreplace').decode()}")
    else:
        look.say(f"  Example: {example.given}")


def _step(step: Step, as_json: bool) -> None:
    if as_json:
        look.document(step_shape(step))
        return
    takes = "any kind" if len(step.takes) > 5 else " or ".join(step.takes)
    look.heading(
        step.usage,
        f"takes {takes}{', several values' if step.several else ''}; gives {step.gives or 'the kind it makes'}",
    )
    look.say(f"  {step.summary}")
    look.say()
    for example in step.examples:
        given = ", ".join(f"{{{n}}} = {look.shorten(v)}" for n, v in zip("AB", example.given, strict=False))
        look.say(f"  {example.flow}")
        look.say(f"    {given}  gives  {look.shorten(example.gives)}", style="dim")
