"""`mudanza handed-over`."""

from __future__ import annotations

from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING

import click
from rich.text import Text

from mudanza.cli import look
from mudanza.cli.options import day_option, here, json_option, short_time, wait_option
from mudanza.core.work.shapes import handed_over_shape, target_shape

if TYPE_CHECKING:
    from mudanza.core.state.in_target import HandOver
    from mudanza.core.work.again.handing_over import HandedOver, TargetList


@click.command("handed-over")
@click.argument("run", required=False)
@click.argument("lists", nargs=-1)
@click.option(
    "--results", metavar="FILE", type=click.Path(path_type=Path), help="What the target said of single records."
)
@click.option(
    "--key", "key", multiple=True, metavar="COLUMN", help="The results' column of the key (as the layout calls it)."
)
@click.option("--outcome", metavar="COLUMN", help="The results' column that says what became of a record.")
@click.option("--taken", multiple=True, metavar="TEXT", help="An outcome that says that it was taken.")
@click.option("--rejected", multiple=True, metavar="TEXT", help="An outcome that says that it was not.")
@click.option("--gave", metavar="COLUMN", help="The results' column of the identifier that the target gave.")
@click.option(
    "--unmentioned",
    type=click.Choice(["taken", "rejected"]),
    default="taken",
    show_default=True,
    help="What became of records that the results do not mention.",
)
@click.option("--whole", is_flag=True, help="The whole list was imported, not what is new, changed and gone.")
@click.option("--anew", is_flag=True, help="The target was emptied before: it holds nothing else.")
@click.option("--on", callback=day_option, metavar="DAY", help="When it was imported (now).")
@click.option("--by", metavar="NAME", help="Who imported it.")
@click.option("--note", metavar="TEXT", help="Whatever else is to be known of it.")
@click.option("--again", is_flag=True, help="Note it although it was noted before.")
@click.option("--take-back", is_flag=True, help="Take the last hand-over of RUN back: it was not so.")
@wait_option
@json_option
def command(
    run: str | None,
    lists: tuple[str, ...],
    results: Path | None,
    key: tuple[str, ...],
    outcome: str | None,
    taken: tuple[str, ...],
    rejected: tuple[str, ...],
    gave: str | None,
    unmentioned: str,
    whole: bool,
    anew: bool,
    on: date | None,
    by: str | None,
    note: str | None,
    again: bool,
    take_back: bool,
    wait: float,
    as_json: bool,
) -> None:
    """Note that the target took in what the build RUN (a number, or last) wrote, of LISTS or of all its lists, or what came of a loan when it was received; or show what the target holds.

    From then on builds tell what is new, changed and gone since (mudanza build --since), and which records leave. A file of
    results may say what became of single records: those rejected are not held by the target.

    \b
    Examples:
      mudanza handed-over
      mudanza handed-over 3 --by "Inês" --on 2026-11-02
      mudanza handed-over 3 owners --results log.csv --outcome Status --gave "Record Id"
      mudanza handed-over 3 --take-back
    """
    from mudanza.core.work.again.handing_over import (
        Telling,
        hand_over,
        last_build,
        take_back_hand_over,
        what_target_holds,
    )
    from mudanza.core.work.again.outcomes import ResultsFile

    move = here(wait)
    if run is not None and run != "last" and not run.isdecimal():
        raise click.UsageError(f"{run!r} is no run; it is a number, or last. `mudanza ledger` lists the runs.")
    if run is None:
        _show_target(what_target_holds(move), as_json)
        return
    of_results = (key, outcome, taken, rejected, gave)
    if results is None and any(of_results):
        raise click.UsageError(
            "--key, --outcome, --taken, --rejected and --gave speak of a file; name it with --results."
        )
    if results is not None and outcome is None and gave is None:
        raise click.UsageError("Say which column of the results tells what became of a record: --outcome COLUMN.")
    build = last_build(move) if run == "last" else int(run)
    if take_back:
        done = take_back_hand_over(move, build, lists)
    else:
        file = None if results is None else ResultsFile(results, key, outcome, gave, taken, rejected)
        telling = Telling(whole, anew, file, unmentioned == "taken", on, by, note, again)
        done = hand_over(move, build, lists, telling)
    if as_json:
        look.document(handed_over_shape(done, taken_back=take_back))
        return
    _show(done, take_back)


def _show(done: HandedOver, taken_back: bool) -> None:
    word = "hand-over taken back" if taken_back else "handed over"
    look.heading(f"run {done.build}", f"{word}, noted as run {done.run}")
    rows: list[list[str | Text]] = []
    for one in done.lists:
        told = [] if taken_back else [f"{look.count(one.taken)} taken"]
        told += [f"{look.count(one.removed)} of them taken out"] if one.removed else []
        told += [f"{look.count(one.rejected)} rejected"] if one.rejected else []
        told += [f"{look.count(one.unmentioned)} not mentioned"] if one.unmentioned else []
        told += [f"{look.plural(one.nameless, 'line')} of the results without a key"] if one.nameless else []
        how = "" if taken_back else one.how
        rows.append([one.list_name, how, ", ".join(told), f"holds {look.plural(one.in_target, 'record')} now"])
    look.columns(rows, fold=(2,))
    if done.without_key:
        look.say(f"  not noted, since their records have no key: {', '.join(done.without_key)}")
    for one in done.lists:
        if one.examples:
            look.say()
            look.heading("rejected", f"{one.list_name}: the target does not have them, or has them as they were")
            look.columns([[Text(key, style="dim"), outcome or ""] for key, outcome in one.examples], fold=(1,))
        if one.unknown:
            look.say()
            few = ", ".join(one.unknown[:5]) + (", …" if len(one.unknown) > 5 else "")
            look.say(f"  {look.plural(len(one.unknown), 'key')} of the results is none that the run sent: {few}")


def _show_target(held: list[TargetList], as_json: bool) -> None:
    if as_json:
        look.document(target_shape(held))
        return
    look.heading("in the target", "as far as hand-overs tell")
    rows: list[list[str | Text]] = []
    for one in held:
        left = f"{look.count(one.left)} of them left" if one.left else ""
        waiting = [] if one.waiting is None else [f"run {one.waiting} is not handed over"]
        waiting += [f"what came of a loan is not (run {run})" for run in one.of_loans]
        rows.append([one.list_name, look.count(one.records), left, Text(", ".join(waiting), style="bold")])
    if not rows:
        look.say("  nothing was built yet.")
        return
    look.columns(rows, heads=["list", "records", "", ""], right=(1,))
    overs = [
        [o.list_name, f"run {o.build}", short_time(o.moment), o.by or "", _told(o), o.note or ""]
        for s in held
        for o in s.overs
    ]
    if overs:
        look.say()
        look.heading("hand-overs")
        look.columns(overs, heads=["list", "build", "when", "by", "", "note"], fold=(4, 5))


def _told(over: HandOver) -> str:
    counts = over.counts
    parts = [f"{over.how}: {look.count(counts.get('taken', 0))} taken"]
    if counts.get("rejected"):
        parts.append(f"{look.count(counts['rejected'])} rejected")
    if over.anew:
        parts.append("the target was emptied before")
    if over.taken_back is not None:
        parts.append(f"taken back by run {over.taken_back}")
    return ", ".join(parts)
