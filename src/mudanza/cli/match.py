"""`mudanza match`."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import click
from rich.text import Text

from mudanza.cli import completing, look
from mudanza.cli.options import here, json_option, named_outputs, overwrite_option
from mudanza.core.work.shapes import draft_shape, reasons_shape

if TYPE_CHECKING:
    from mudanza.core.plans.move import Move
    from mudanza.core.plans.plan import Plan
    from mudanza.core.work.matching.answers import Answer
    from mudanza.core.work.matching.drafting import Draft
    from mudanza.core.work.matching.reasons import Reason


@click.command("match")
@click.argument("list_name", metavar="LIST", shell_complete=completing.lists)
@click.option(
    "--source", "sources", metavar="FILE", multiple=True, help="Start the plan with this source; may be repeated."
)
@click.option(
    "--layout", "layout_name", metavar="NAME", help="The layout of a plan that is started (as the list is called)."
)
@click.option("--rehearse", is_flag=True, help="Show the proposals and write nothing.")
@click.option("--ask", is_flag=True, help="Ask what is unsure, field by field; the answers are kept in answers.csv.")
@click.option("--why", metavar="FIELD", help="Show all that speaks for and against the columns of a field.")
@click.option(
    "--chart",
    "chart_file",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="Draw which column fills which field (.png, .svg, .pdf).",
)
@overwrite_option
@json_option
def command(
    list_name: str,
    sources: tuple[str, ...],
    layout_name: str | None,
    rehearse: bool,
    ask: bool,
    why: str | None,
    chart_file: Path | None,
    as_json: bool,
) -> None:
    """Draft the plan of LIST: propose a source column, and the steps it needs, for every field that has no flow.

    The proposals are written into the plan, each below a comment with how likely it is and its evidence; those that are not sure say so. What stands in
    the plan already is left as it is; --ask goes through what stands there unsure, too. More words for headings can be given in the move's words.csv
    (meaning,words).

    \b
    Examples:
      mudanza match owners --rehearse
      mudanza match animals --source incoming/animals.csv
      mudanza match owners --ask
      mudanza match owners --why phone2
    """
    from mudanza.core.plans.plan_reading import load_plan
    from mudanza.core.work.matching.drafted_plan import new_plan

    if ask and as_json:
        raise click.UsageError("--ask asks a person; leave --json out.")
    if why is not None and (ask or rehearse or chart_file):
        raise click.UsageError("--why only shows; leave --ask, --rehearse and --chart out.")
    move = here()
    if sources:
        plan = new_plan(
            move, list_name, layout_name or list_name, [_from_folder(move.folder, file) for file in sources]
        )
    else:
        plan = load_plan(move, list_name, draft=True)
    if why is not None:
        _why(move, plan, why, as_json)
    else:
        _draft(move, plan, rehearse, ask, chart_file, as_json)


def _draft(move: Move, plan: Plan, rehearse: bool, ask: bool, chart_file: Path | None, as_json: bool) -> None:
    from mudanza.core.engine.intake import open_sources
    from mudanza.core.work.matching.answers import ANSWERS, answers_text, read_answers, with_answers
    from mudanza.core.work.matching.drafted_plan import unsure_fields, write_draft
    from mudanza.core.work.matching.drafting import propose, weigh
    from mudanza.core.work.matching.questions import with_words

    intake = open_sources(plan, move)
    again = unsure_fields(plan) if ask else []
    open_plan = replace(plan, flows={f: flow for f, flow in plan.flows.items() if f not in again})
    answers, answered = read_answers(move.folder), set[str]()
    new: list[Answer] = []
    words: list[tuple[str, str]] = []
    with look.progress(as_json) as tell:
        scores = weigh(move, open_plan, intake, tell=tell)
        made = propose(move, open_plan, intake, scores, answers, tell)
    if ask:
        from mudanza.cli.match_asking import ask as asked
        from mudanza.cli.match_asking import learn
        from mudanza.core.work.matching.questions import settled_fields, standing_columns

        def drafted(said: list[Answer]) -> Draft:
            return propose(move, open_plan, intake, scores, said)

        standing = standing_columns(plan, again)
        answers, new = asked(plan.name, scores, answers, standing, drafted)
        made = drafted(answers)
        words = learn(scores, new)
        answered = {answer.field for answer in new} | settled_fields(made, standing)

    def beside() -> dict[Path, str]:
        texts = dict([with_words(move.folder, words)]) if words else {}
        if new:
            # those that are there now, which may be more than at the start
            texts[move.folder / ANSWERS] = answers_text(with_answers(read_answers(move.folder), new))
        return texts

    written = [] if rehearse else write_draft(move, plan, made, answered, beside)
    if chart_file is not None:
        _chart(open_plan, made, {s: [(v.name, v.looks) for v in one.views] for s, one in scores.items()}, chart_file)
    if as_json:
        look.document(draft_shape(made, written))
        return
    _show(made)
    look.say()
    if chart_file is not None:
        look.say(f"drawn: {chart_file}")
    if rehearse:
        look.say("nothing was written (--rehearse).", style="dim")
    elif written:
        look.say(
            f"written: {', '.join(written)}; read it, correct it, and look at it with `mudanza preview {plan.name}`."
        )
    else:
        look.say("the plan has a flow for every field that one was found for; nothing was written.")


def _from_folder(folder: Path, file: str) -> str:
    """A path as seen from the move folder."""
    path = Path(file).resolve()
    return str(path.relative_to(folder)) if path.is_relative_to(folder) else file


def _chart(plan: Plan, made: Draft, columns: dict[str, list[tuple[str, str | None]]], path: Path) -> None:
    from mudanza.core.work.matching.chart import chart, lines_of
    from mudanza.core.work.matching.drafted_plan import unsure_fields

    fields = [(f.name, f.required and f.default is None) for f in plan.layout.fields]
    drawn = chart(
        plan.name, fields, columns, lines_of(plan, made, unsure_fields(plan)), path.suffix.lstrip(".").lower()
    )
    with named_outputs("match") as outputs:
        outputs.create_named(path).write(drawn)
        outputs.publish()


def _show(made: Draft) -> None:
    sure = sum(p.doubt is None and p.broken is None for p in made.proposals)
    look.heading(
        made.name,
        f"{look.plural(len(made.proposals), 'proposal')}, {sure} of them sure; {len(made.written)} written before",
    )
    rows: list[list[str | Text]] = []
    for proposal in made.proposals:
        mark = "" if proposal.doubt is None and proposal.broken is None else "?"
        flow = " ".join(proposal.flow.split())
        rows.append([proposal.field.name, Text(mark, style="bold"), f"{proposal.score:.2f}", flow])
        told = [", ".join(proposal.evidence)]
        if proposal.broken is not None:
            told.append(f"cannot be written: {proposal.broken}")
        told += [proposal.doubt] if proposal.doubt else []
        near = [f"{{{column}}} {score:.2f}" for column, score in proposal.rivals if proposal.doubt]
        told += [f"next: {', '.join(near)}"] if near else []
        rows.append(["", "", "", Text("; ".join(filter(None, told)), style="dim")])
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
                [
                    one.column,
                    ", ".join(one.sources),
                    f"{look.count(one.values)} values in the first rows",
                    f"looks like {one.looks}" if one.looks else "",
                ]
                for one in made.unused
            ]
        )


def _why(move: Move, plan: Plan, name: str, as_json: bool) -> None:
    from mudanza.core.documents.errors import nearest
    from mudanza.core.engine.intake import open_sources
    from mudanza.core.work.matching.answers import read_answers
    from mudanza.core.work.matching.drafting import weigh
    from mudanza.core.work.matching.reasons import reasons

    fields = {f.name: f for f in plan.layout.fields}
    if name not in fields:
        near = nearest(name, list(fields), least=50)
        raise click.UsageError(f"The layout has no field {name!r}." + (f" Did you mean {near!r}?" if near else ""))
    with look.progress(as_json) as tell:
        scores = weigh(move, plan, open_sources(plan, move), tell=tell)
        found = reasons(scores, plan.name, name, read_answers(move.folder))
    if as_json:
        look.document(reasons_shape(plan.name, name, found))
        return
    field = fields[name]
    look.heading(f"{plan.name}: {name}", field.rule)
    for number, reason in enumerate(found, start=1):
        look.say()
        _show_reason(number, reason, len(scores) > 1)


def _show_reason(number: int, reason: Reason, several: bool) -> None:
    where = f"source {reason.source}, " if several else ""
    look.heading(f"{number}  {reason.column}", f"{where}{reason.score:.2f}")
    if reason.values:
        look.say("   " + " · ".join(look.shorten(v, 24) for v in reason.values), style="dim")
    if reason.answer:
        answered = {"right": "this column is right", "wrong": "this column is wrong", "none": "no column is right"}
        look.say(f"   answered before: {answered[reason.answer]}")
    rows: list[list[str | Text]] = [[f"{points:+.1f}", words] for words, points in (*reason.alone, *reason.among)]
    look.columns(rows, right=(0,), fold=(1,))
