"""`mudanza build`."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date
from typing import TYPE_CHECKING

import click
from rich.text import Text

from mudanza.cli import completing, look
from mudanza.cli.options import answered, here, json_option, run_options, wait_option
from mudanza.core.work.shapes import build_shape

if TYPE_CHECKING:
    from mudanza.core.engine.summary import Balance
    from mudanza.core.work.difference import ChangedField, Compared
    from mudanza.core.work.results import BuildResult, ControlTotal, ListResult, ToTarget


@click.command("build")
@click.argument("lists", nargs=-1, shell_complete=completing.lists)
@click.option("--rehearse", is_flag=True, help="Do everything and write nothing, not even identifiers.")
@click.option("--compare", is_flag=True, help="Tell which records and fields differ from the build before.")
@click.option("--fewer", is_flag=True, help="Write far fewer records than the build before: it is meant.")
@click.option(
    "--new-identities", is_flag=True, help="Give new identifiers though hardly any known one comes back: it is meant."
)
@click.option(
    "--since",
    metavar="RUN",
    is_flag=False,
    flag_value="handed-over",
    help="Write what is new, changed and gone beside the whole lists: since what was handed over, or since RUN.",
)
@run_options
@click.option(
    "--kept", is_flag=True, help="Use the values that --keep-values has kept; a build does not do so by itself."
)
@wait_option
@json_option
@click.pass_context
def command(
    ctx: click.Context,
    lists: tuple[str, ...],
    rehearse: bool,
    compare: bool,
    fewer: bool,
    new_identities: bool,
    since: str | None,
    as_of: date | None,
    parameters: dict[str, str],
    kept: bool,
    wait: float,
    as_json: bool,
) -> None:
    """Write the import files of LISTS, or of all that have a plan.

    A list comes behind those that it looks up, whose identifiers it asks for, and that its layout refers to.

    Every row that is read ends as skipped, merged, held back or written, and the balance is checked. Beside
    out/LIST.csv stand the rows held back, all findings, and the file's metadata.

    What the target holds by the hand-overs so far (see handed-over) and this build no longer writes is told: leavers. With
    --since, LIST.additions.csv, LIST.changes.csv and LIST.removals.csv bring the target from there to here, and
    LIST.undo-… back.

    \b
    Examples:
      mudanza build owners --rehearse
      mudanza build --since
      mudanza build owners --since 4 --rehearse
      mudanza build owners --rehearse --compare
      mudanza build owners --as-of 2026-10-31
      mudanza build --json
    """
    from mudanza.core.work.again.against import HANDED_OVER
    from mudanza.core.work.build import build

    if since not in (None, HANDED_OVER) and not str(since).isdecimal():
        # what stands behind --since and is no run is a list
        lists, since = (str(since), *lists), HANDED_OVER
    move = here(wait)

    def run(given: dict[str, str]) -> BuildResult:
        with look.progress(as_json) as tell:
            return build(
                move,
                lists,
                rehearse=rehearse,
                as_of=as_of,
                parameters=given,
                tell=tell,
                compare=compare,
                fewer=fewer,
                new_identities=new_identities,
                since=int(since) if since is not None and since.isdecimal() else since,
            )

    result = answered(run, parameters, kept=kept)
    if as_json:
        look.document(build_shape(result))
    else:
        if result.values:
            look.say(f"with {', '.join(f'{name} {value}' for name, value in result.values.items())}", style="dim")
        for one in result.lists:
            _show(one, result.run)
            if compare:
                _show_compared(one.compared)
        if result.cascades:
            look.say()
            look.heading("cascade", "rows that are held back because of rows of other lists")
            rows: list[list[str | Text]] = [
                [
                    c.list_name,
                    look.count(c.rows),
                    f"refer to {c.because_of} that are {'held back' if c.held_back else 'left out'}",
                ]
                for c in result.cascades
            ]
            look.columns(rows, right=(1,))
    ctx.exit(0 if all(one.clean for one in result.lists) else 1)


def _show(one: ListResult, run: int | None) -> None:
    look.heading(one.name, f"run {run}" if run is not None else "rehearsal: nothing is written")
    names = list(one.by_source)
    several = len(names) > 1
    sides: list[Balance] = [*one.by_source.values(), one.balance] if several else [one.balance]
    heads = ["", *(names if several else []), "total" if several else "rows", ""]
    rules = ", ".join(f"{look.count(n)} {rule}" for rule, n in one.balance.skipped.items())
    held = f"see out/{one.name}.held-back.csv" if one.balance.held_back and run is not None else ""
    rows = [
        ["read", *(look.count(b.read) for b in sides), ""],
        ["skipped", *(look.count(b.skipped_total) for b in sides), f"by rule: {rules}" if rules else ""],
        ["merged", *(look.count(b.merged) for b in sides), "same record twice" if one.balance.merged else ""],
        ["held back", *(look.count(b.held_back) for b in sides), held],
        ["written", *(look.count(b.written) for b in sides), ""],
    ]
    look.columns(rows, heads=heads, right=range(1, len(sides) + 1))
    total = one.balance
    parts = [total.skipped_total, total.merged, total.held_back, total.written]
    look.say(f"  balance  {look.count(total.read)} = {' + '.join(look.count(p) for p in parts)}", style="dim")
    if one.identities:
        word = "would be given out" if run is None else "given out"
        look.say()
        look.heading("identifiers", f"{look.plural(sum(one.keys_given.values()), 'new identifier')} {word}")
        rows = [
            [i.source, i.book, look.count(i.known), look.count(i.new), look.count(i.missing)] for i in one.identities
        ]
        look.columns(rows, heads=["source", "key book", "known", "new", "missing"], right=(2, 3, 4))
    for total_of in one.totals:
        _show_total(total_of)
    if one.to_target is not None:
        _show_to_target(one.to_target)
    look.groups(one.findings)
    if run is not None:
        look.say()
        look.heading("files")
        look.columns([[f.path, look.size(f.size), f"sha256 {f.sha256[:12]}…"] for f in one.files], right=(1,))


def _show_total(total_of: ControlTotal) -> None:
    from mudanza.core.engine.totals import Amount
    from mudanza.core.work.control_totals import places_of

    look.say()
    look.heading("totals", total_of.title)
    names = list(total_of.by_source)
    several = len(names) > 1
    sides = [*total_of.by_source.values(), total_of.total] if several else [total_of.total]
    sums = [amount.sum for side in sides for amount in side.values()]
    sums += [total_of.left.sum] if total_of.left is not None else []
    places = max((places_of(one) for one in sums), default=0)
    rows: list[list[str | Text]] = []
    for end in ("read", "skipped", "merged", "held_back", "written", "added", "changed"):
        if end not in total_of.total and end not in ("read", "written"):
            continue
        amounts = [side.get(end, Amount()) for side in sides]
        missing = amounts[-1].rows - amounts[-1].numbers
        notes = [f"{look.plural(missing, 'row')} without a number"] if missing else []
        agreed = [one for one in total_of.agreed if one.end == end]
        notes += [f"{one.source or 'all'} as {'printed' if one.printed else 'said'}" for one in agreed]
        said = "; ".join(notes)
        word = {"added": "  of it new", "changed": "  of it changed"}.get(end, end.replace("_", " "))
        rows.append([word, *(f"{amount.sum:,.{places}f}" for amount in amounts), Text(said, style="dim")])
    if total_of.left is not None:
        blank = [""] * (len(sides) - 1)
        rows.append(
            [
                "leavers",
                *blank,
                f"{total_of.left.sum:,.{places}f}",
                Text(look.plural(total_of.left.rows, "record"), style="dim"),
            ]
        )
    look.columns(
        rows, heads=["", *(names if several else []), "total" if several else "sum", ""], right=range(1, len(sides) + 1)
    )


def _show_to_target(told: ToTarget) -> None:
    look.say()
    look.heading("in the target", f"since {told.against}")
    changed = f"{look.count(told.last)} of them for the last time" if told.last else ""
    rows = [
        ["same", look.count(told.same), ""],
        ["new", look.count(told.added), _few(told.added_keys, told.added)],
        ["changed", look.count(told.changed + told.last), changed],
        ["leavers", look.count(told.marked + told.removed + told.left + told.last), ""],
    ]
    look.columns([[*row[:2], Text(row[2], style="dim")] for row in rows], right=(1,))
    written = told.same + told.added + told.changed + told.last
    parts = (told.same, told.added, told.changed + told.last)
    look.say(f"  balance  written {look.count(written)} = {' + '.join(map(look.count, parts))}", style="dim")
    if told.told_before:
        look.say(f"  {look.plural(told.told_before, 'record')} left before, and the target was told", style="dim")
    if told.files and not told.added + told.changed + told.last + told.marked + told.removed:
        look.say("  Nothing has changed for the target: the files have headings alone.")
    if told.fields:
        look.say()
        _show_fields(told.fields)
    if told.leavers:
        look.say()
        look.heading("leavers", "the target holds them, and this build does not write them")
        for one in told.leavers:
            what = Text(one.what, style="" if one.said else "bold")
            lines: list[list[str | Text]] = [[look.count(one.count), one.why, what]]
            look.columns(lines, right=(0,), fold=(2,))
            if one.rule:
                look.columns([[Text(one.rule, style="dim")]], fold=(0,), indent=6)
            look.columns(
                [[Text(key, style="dim"), changed or ""] for key, changed in one.examples], fold=(1,), indent=6
            )


def _few(keys: Sequence[str], count: int) -> str:
    return "; ".join(keys) + ("; …" if count > len(keys) else "")


def _show_fields(fields: Sequence[ChangedField]) -> None:
    """Fields that came out otherwise, with examples."""
    rows: list[list[str | Text]] = []
    for one in fields:
        for number, (key, before, after) in enumerate(one.examples):
            first = [one.field, look.count(one.count)] if number == 0 else ["", ""]
            was, now = look.shorten(before, 26), Text(look.shorten(after, 26), style="bold")
            rows.append([*first, Text(key, style="dim"), was, "->", now])
    look.columns(rows, heads=["field", "records", "for example", "before", "", "now"], right=(1,))


def _show_compared(compared: Compared | None) -> None:
    look.say()
    if compared is None:
        look.heading("compared", "there is no build before to compare with")
        return
    look.heading("compared", f"with {compared.file} as it was")
    rows = [
        ["same", look.count(compared.same), ""],
        ["changed", look.count(compared.changed), ""],
        ["new", look.count(compared.added), ", ".join(compared.added_keys)],
        ["gone", look.count(compared.removed), ", ".join(compared.removed_keys)],
    ]
    look.columns([[*row[:2], Text(row[2], style="dim")] for row in rows], right=(1,))
    if compared.fields:
        look.say()
        _show_fields(compared.fields)
