"""`mudanza match`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click
from rich.text import Text

from mudanza.cli import look
from mudanza.cli.options import here, json_option
from mudanza.core.work.shapes import draft_shape

if TYPE_CHECKING:
    from mudanza.core.work.matching.drafting import Draft


@click.command("match")
@click.argument("list_name", metavar="LIST")
@click.option(
    "--source", "sources", metavar="FILE", multiple=True, help="Start the plan with this source; may be repeated."
)
@click.option(
    "--layout", "layout_name", metavar="NAME", help="The layout of a plan that is started (as the list is called)."
)
@click.option("--rehearse", is_flag=True, help="Show the proposals and write nothing.")
@json_option
def command(list_name: str, sources: tuple[str, ...], layout_name: str | None, rehearse: bool, as_json: bool) -> None:
    """Draft the plan of LIST: propose a source column, and the steps it needs, for every field that has no flow.

    The proposals are written into the plan, each below a comment with its score and evidence; those that are not sure say so. What stands in the plan
    already is left as it is. More words for headings can be given in the move's words.csv (meaning,words).

    \b
    Examples:
      mudanza match owners --rehearse
      mudanza match animals --source incoming/animals.csv
    """
    from mudanza.core.engine.intake import open_sources
    from mudanza.core.plans.plan_reading import load_plan
    from mudanza.core.work.matching.drafted_plan import new_plan, write_draft
    from mudanza.core.work.matching.drafting import draft_plan

    move = here()
    if sources:
        plan = new_plan(
            move, list_name, layout_name or list_name, [_from_folder(move.folder, file) for file in sources]
        )
    else:
        plan = load_plan(move, list_name, draft=True)
    made = draft_plan(move, plan, open_sources(plan, move))
    written = [] if rehearse else write_draft(move, plan, made)
    if as_json:
        look.document(draft_shape(made, written))
        return
    _show(made)
    look.say()
    if rehearse:
        look.say("nothing was written (--rehearse).", style="dim")
    elif written:
        look.say(
            f"written: {', '.join(written)}; read it, correct it, and look at it with `mudanza preview {list_name}`."
        )
    else:
        look.say("the plan has a flow for every field that one was found for; nothing was written.")


def _from_folder(folder: Path, file: str) -> str:
    """A path as seen from the move folder."""
    path = Path(file).resolve()
    return str(path.relative_to(folder)) if path.is_relative_to(folder) else file


def _show(made: Draft) -> None:
    sure = sum(p.doubt is None for p in made.proposals)
    look.heading(
        made.name,
        f"{look.plural(len(made.proposals), 'proposal')}, {sure} of them sure; {len(made.written)} written before",
    )
    rows: list[list[str | Text]] = []
    for proposal in made.proposals:
        mark = "" if proposal.doubt is None else "?"
        flow = " ".join(proposal.flow.split())
        rows.append([proposal.field.name, Text(mark, style="bold"), f"{proposal.score:.2f}", flow])
        told = ", ".join(proposal.evidence)
        rows.append(["", "", "", Text(f"{told}; {proposal.doubt}" if proposal.doubt else told, style="dim")])
    look.columns(rows, right=(2,), fold=(3,))
    if made.without:
        look.say()
        look.heading("no column was found for")
        look.columns(
            [[f.name, "required" if f.required and f.default is None else "", f.rule] for f in made.without], fold=(2,)
        )
    if made.unused:
        look.say()
        look.heading("not used yet", "use them, or leave them behind with a reason")
        look.columns(
            [
                [one.column, ", ".join(one.sources), f"{look.count(one.values)} values in the first rows", one.looks or ""]
                for one in made.unused
            ]
        )
