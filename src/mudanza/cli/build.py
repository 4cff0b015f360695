"""`mudanza build`."""

from __future__ import annotations

from datetime import date
from typing import TYPE_CHECKING

import click
from rich.text import Text

from mudanza.cli import look
from mudanza.cli.options import answered, here, json_option, run_options, wait_option
from mudanza.core.work.shapes import build_shape

if TYPE_CHECKING:
    from mudanza.core.engine.summary import Balance
    from mudanza.core.work.difference import Compared
    from mudanza.core.work.results import BuildResult, ListResult


@click.command("build")
@click.argument("lists", nargs=-1)
@click.option("--rehearse", is_flag=True, help="Do everything and write nothing, not even identifiers.")
@click.option("--compare", is_flag=True, help="Tell which records and fields differ from the build before.")
@click.option("--fewer", is_flag=True, help="Write far fewer records than the build before: it is meant.")
@click.option(
    "--new-identities", is_flag=True, help="Give new identifiers though hardly any known one comes back: it is meant."
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

    \b
    Examples:
      mudanza build owners --rehearse
      mudanza build owners --rehearse --compare
      mudanza build owners --as-of 2026-10-31
      mudanza build --json
    """
    from mudanza.core.work.build import build

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
            )

    result = answered(run, parameters, kept=kept)
    if as_json:
        look.document(build_shape(result))
    else:
        for one in result.lists:
            _show(one, result.run)
            if compare:
                _show_compared(one.compared)
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
    look.groups(one.findings)
    if run is not None:
        look.say()
        look.heading("files")
        look.columns([[f.path, look.size(f.size), f"sha256 {f.sha256[:12]}…"] for f in one.files], right=(1,))


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
        examples: list[list[str | Text]] = []
        for one in compared.fields:
            for number, (key, before, after) in enumerate(one.examples):
                first = [one.field, look.count(one.count)] if number == 0 else ["", ""]
                examples.append(
                    [
                        *first,
                        Text(key, style="dim"),
                        look.shorten(before, 26),
                        "->",
                        Text(look.shorten(after, 26), style="bold"),
                    ]
                )
        look.columns(examples, heads=["field", "records", "for example", "before", "", "now"], right=(1,))
