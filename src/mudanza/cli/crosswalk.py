"""`mudanza crosswalk`."""

from __future__ import annotations

from datetime import date
from typing import TYPE_CHECKING, Any

import click
from rich.text import Text

from mudanza.cli import completing, look
from mudanza.cli.options import answered, here, json_option, run_options
from mudanza.core.work.shapes import crosswalks_shape

if TYPE_CHECKING:
    from mudanza.core.plans.move import Move
    from mudanza.core.work.crosswalks.codes import CodesOf, FoundCode
    from mudanza.core.work.crosswalks.decisions import Decision

_SHOWN = 25


@click.command("crosswalk")
@click.argument("list_name", metavar="LIST", shell_complete=completing.lists)
@click.option("--name", metavar="CROSSWALK", help="Only this crosswalk.")
@click.option("--ask", is_flag=True, help="Go through the codes that nobody has confirmed, one by one.")
@click.option("--review", is_flag=True, help="Go through all codes again, one by one.")
@click.option("--rehearse", is_flag=True, help="Show it and write nothing.")
@run_options
@json_option
@click.pass_context
def command(
    ctx: click.Context,
    list_name: str,
    name: str | None,
    ask: bool,
    review: bool,
    rehearse: bool,
    as_of: date | None,
    parameters: dict[str, str],
    as_json: bool,
) -> None:
    """Find the codes that flow through the crosswalks of LIST, and propose targets for those not covered.

    Proposals are written to the crosswalk as such (state "proposed"); no build uses them before a person confirms them, with --ask or --review, or by
    clearing that word in the file. `mudanza lend LIST --crosswalks` gives them to others in a workbook.

    \b
    Examples:
      mudanza crosswalk owners
      mudanza crosswalk owners --ask
      mudanza crosswalk animals --name species --review
    """
    from mudanza.core.documents.errors import MoveError, unknown
    from mudanza.core.plans.plan_reading import load_plan
    from mudanza.core.work.crosswalks.codes import find_codes, start_crosswalks
    from mudanza.core.work.crosswalks.decisions import propose_entries

    if rehearse and (ask or review):
        raise click.UsageError("--rehearse writes nothing, --ask and --review write what you decide; give one of them.")
    if as_json and (ask or review):
        raise click.UsageError("--ask and --review are for people, --json for programs; give one of them.")
    move = here()
    if not rehearse:
        start_crosswalks(move, load_plan(move, list_name, draft=True))

    def find(given: dict[str, str]) -> list[CodesOf]:
        with look.progress(as_json) as tell:
            return find_codes(move, list_name, as_of=as_of, parameters=given, tell=tell)

    found = answered(find, parameters)
    if name is not None:
        known = [one.name for one in found]
        if name not in known:
            raise MoveError(
                unknown("crosswalk", name, known), hint=f"The plan {list_name} uses: {', '.join(known) or 'none'}."
            )
        found = [one for one in found if one.name == name]
    added = {one.name: 0 if rehearse else propose_entries(move, one) for one in found}
    if as_json:
        look.document(crosswalks_shape(list_name, found, added))
    elif not found:
        look.say(f"no flow of {list_name} uses a crosswalk.")
    for number, one in enumerate(found if not as_json else []):
        if number:
            look.say()
        _show(one, added[one.name])
        if ask or review:
            _go_through(move, one, review)
    ctx.exit(0 if all(one.clean for one in found) else 1)


def _show(one: CodesOf, added: int) -> None:
    covered = len(one.codes) - len(one.open)
    look.heading(one.name, f"for {', '.join(one.fields)}; {covered} of {look.plural(len(one.codes), 'code')} confirmed")
    rows: list[list[str | Text]] = []
    ordered = [*one.open, *(c for c in one.codes if c.entry is not None)]
    for code in ordered[:_SHOWN]:
        told = "" if code.entry is not None else (code.because or "no proposal")
        to = (
            look.shorten(code.entry.to or None, 24)
            if code.entry
            else f"{look.shorten(code.proposal, 24)} ?"
            if code.proposal
            else "?"
        )
        mark = Text("" if code.entry else "open", style="bold")
        rows.append([", ".join(code.values), look.count(code.count), "->", to, mark, Text(told, style="dim")])
    look.columns(rows, heads=[", ".join(one.columns), "rows", "", "to", "", ""], right=(1,), fold=(5,))
    if len(ordered) > _SHOWN:
        look.say(f"  and {len(ordered) - _SHOWN} more, all confirmed or with fewer rows", style="dim")
    if one.unused:
        shown = ", ".join(" ".join((e.code, *e.when)) for e in one.unused[:8])
        look.say(f"  never used: {shown}" + (", …" if len(one.unused) > 8 else ""), style="dim")
    for entry in one.not_permitted:
        look.say(f"  line {entry.line}: {entry.code} -> {entry.to}, which the layout does not permit", style="bold")
    if added:
        look.say(
            f"  {look.plural(added, 'proposal')} written to crosswalks/{one.name}.csv; --ask goes through them",
            style="dim",
        )


def _go_through(move: Move, one: CodesOf, review: bool) -> None:
    """Ask for each code. What was decided until then is kept when one stops."""
    from mudanza.core.work.crosswalks.decisions import decide

    codes = one.codes if review else one.open
    permitted = {t.code for t in one.targets}
    if codes:
        look.say()
        look.say(
            "  Enter takes what is shown, a code of the target sets it, - is blank, ? leaves it open, q stops.",
            style="dim",
        )
    decisions: dict[tuple[str, ...], Decision] = {}
    for code in codes:
        answer = _answer(code, permitted)
        if answer is None:
            break
        if answer is not _OPEN:
            decisions[code.values] = answer
    decide(move, one, decisions)
    look.say(f"  {look.plural(len(decisions), 'entry', 'entries')} of {one.name} confirmed.")


_OPEN: Any = object()


def _answer(code: FoundCode, permitted: set[str]) -> Any:
    """What a person says about a code: a decision, nothing (left open), or None to stop."""
    from mudanza.core.work.crosswalks.decisions import Decision

    now = code.entry.to if code.entry else code.proposal
    note = code.entry.note if code.entry else ""
    because = f", {code.because}" if code.because and not code.entry else ""
    question = f"  {', '.join(code.values)} ({look.plural(code.count, 'row')}{because})"
    while True:
        try:
            said = click.prompt(question, default=now if now is not None else "?", prompt_suffix=" -> ").strip()
        except click.Abort:
            look.say()
            return None
        if said == "q":
            return None
        if said == "?":
            return _OPEN
        to = "" if said == "-" else said
        if to and permitted and to not in permitted:
            look.say(f"    the target has no code {to!r}; it has {', '.join(sorted(permitted)[:12])}.")
            continue
        return Decision(to, note)
