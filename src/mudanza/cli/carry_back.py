"""`mudanza carry-back`."""

from __future__ import annotations

from datetime import date

import click
from rich.text import Text

from mudanza.cli import completing, look
from mudanza.cli.options import answered, here, json_option, run_options, wait_option
from mudanza.core.work.shapes import carried_back_shape

_SHOWN = 40


@click.command("carry-back")
@click.argument("name", metavar="LIST", shell_complete=completing.lists)
@run_options
@wait_option
@json_option
@click.pass_context
def command(
    ctx: click.Context, name: str, as_of: date | None, parameters: dict[str, str], wait: float, as_json: bool
) -> None:
    """Turn what was accepted from loans into the old program's own columns and codes.

    The plan is read backwards: crosswalks, dates, numbers, joined and composed texts. Each value is then tried forward; only what
    gives just the accepted value, and changes nothing else of the record, is written. The rest is listed, to be done by hand.

    \b
    Examples:
      mudanza carry-back owners
      mudanza carry-back owners --json
    """
    from mudanza.core.work.going_back.carrying import carry_back

    move = here(wait)
    done = answered(lambda given: carry_back(move, name, as_of=as_of, parameters=given), parameters)
    if as_json:
        look.document(carried_back_shape(done))
        ctx.exit(1 if done.by_hand else 0)
    said = [f"{look.plural(len(done.carried), 'value')} carried back", f"{look.count(len(done.by_hand))} by hand"]
    if done.there:
        said.append(f"{look.count(done.there)} in the sources already")
    look.heading(name, "; ".join(said))
    rows: list[list[str | Text]] = []
    for one in done.carried[:_SHOWN]:
        for column, (before, after) in one.columns.items():
            rows.append(
                [
                    one.key,
                    one.field,
                    f"{one.standing.source} {one.standing.line}",
                    column,
                    look.shorten(before, 24),
                    "->",
                    Text(look.shorten(after, 24), style="bold"),
                ]
            )
    if rows:
        look.columns(rows, heads=["key", "field", "row", "column", "holds", "", "is to hold"], fold=(4, 6))
    if done.by_hand:
        look.say()
        look.heading("by hand")
        hands = [
            [one.key, one.field, look.shorten(one.after, 24), one.why, ", ".join(one.columns)]
            for one in done.by_hand[:_SHOWN]
        ]
        look.columns(hands, heads=["key", "field", "is to be", "why", "made of"], fold=(3, 4))
    look.say()
    if done.files:
        look.heading("files")
        look.columns([[one.path, look.size(one.size)] for one in done.files], right=(1,))
    ctx.exit(1 if done.by_hand else 0)
