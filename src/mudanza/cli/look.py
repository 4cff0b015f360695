"""How things look, in one place: quiet, aligned, one accent colour, readable at 80 columns and without colour."""

from __future__ import annotations

import dataclasses
import json
import re
import sys
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click
from rich.console import Console
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from mudanza.core.disk.effects import effects
from mudanza.core.documents.errors import FaultError, MudanzaError, OutsideError, Place, counted
from mudanza.core.documents.secrets import may_quote, without_addresses
from mudanza.core.work.shapes import error_shape

if TYPE_CHECKING:
    from mudanza.core.findings.finding import Finding
    from mudanza.core.findings.tally import Group
    from mudanza.core.work.progress import Tell

#: a teal that can be read on white and on black
ACCENT = "color(30)"
_PLAIN_WIDTH = 100

#: signs that make a terminal do something, or that turn the order of others round
_CONTROLS = re.compile("[\x00-\x08\x0b-\x1f\x7f-\x9f\u202a-\u202e\u2066-\u2069]")


def harmless(text: str) -> str:
    """A text as it can be shown: control signs are seen, and do nothing."""
    return _CONTROLS.sub(lambda sign: "\\e" if sign[0] == "\x1b" else ascii(sign[0])[1:-1], text)


def message(text: str) -> str:
    """A text that is none of the data, as it can be shown: harmless, and without credentials."""
    return harmless(without_addresses(text))


def _made(thing: Any, way: Callable[[str], str]) -> Any:
    if isinstance(thing, str):
        return way(thing)
    if isinstance(thing, Text) and (plain := way(thing.plain)) != thing.plain:
        return Text(plain, style=thing.style)
    return thing


class _Console(Console):
    """Whatever is shown goes through here. What goes to standard output is data, and shown as it is; messages hold no
    credential."""

    def print(self, *objects: Any, **how: Any) -> None:
        super().print(*(_made(one, message if self.stderr else harmless) for one in objects), **how)


out = _Console(highlight=False, soft_wrap=False, width=None if sys.stdout.isatty() else _PLAIN_WIDTH)
err = _Console(stderr=True, highlight=False, width=None if sys.stderr.isatty() else _PLAIN_WIDTH)


def say(text: str = "", *, style: str | None = None) -> None:
    """A line for the reader."""
    out.print(Text(text, style=style or ""))


def together(lists: Sequence[str]) -> None:
    """That rows of some lists can keep rows from going, so that a look at these alone does not tell all."""
    if lists:
        say(
            f"  goes together with {', '.join(lists)}: whether all of it can go, a build tells (--rehearse)",
            style="dim",
        )


def heading(text: str, note: str = "") -> None:
    """A heading with a quiet note behind it."""
    out.print(Text.assemble((text, f"bold {ACCENT}"), ("  " + note if note else "", "dim")))


#: how narrow a column may become
_LEAST = 12


def columns(
    rows: Sequence[Sequence[str | Text]],
    *,
    heads: Sequence[str] | None = None,
    right: Sequence[int] = (),
    fold: Sequence[int] = (),
    indent: int = 2,
) -> None:
    """Rows in aligned columns. `right` are those with numbers, `fold` those that may break over lines."""
    if not rows:
        return
    rows = [[_made(cell, harmless) for cell in row] for row in rows]
    table = Table(box=None, pad_edge=False, show_header=heads is not None, header_style="dim", padding=(0, 2, 0, 0))
    wide = [max(len(row[i]) for row in [*rows, *([heads] if heads else [])]) + 2 for i in range(len(rows[0]))]
    # a number that is cut is another number, so what is no number gives way
    room = out.width - indent - sum(wide[i] for i in right) - sum(min(wide[i], _LEAST) for i in fold)
    cut = [i for i in range(len(wide)) if i not in fold and i not in right]
    limit = max(_LEAST, room // len(cut)) - 2 if sum(wide[i] for i in cut) > room and cut else None
    for i in range(len(rows[0])):
        table.add_column(
            heads[i] if heads else "",
            justify="right" if i in right else "left",
            no_wrap=i not in fold,
            overflow="fold" if i in fold else "ellipsis",
            max_width=limit if i not in fold and i not in right else None,
        )
    for row in rows:
        table.add_row(*(cell if isinstance(cell, Text) else Text(cell) for cell in row))
    with out.capture() as captured:
        out.print(Padding(table, (0, 0, 0, indent)))
    # no spaces at line ends, so that what is piped or copied stays clean
    for line in Text.from_ansi(captured.get()).split("\n"):
        line.rstrip()
        out.print(line)


def document(value: Any) -> None:
    """One JSON document on standard output."""
    text = json.dumps(value, indent=2, ensure_ascii=False, default=str)
    click.echo(_CONTROLS.sub(lambda sign: f"\\u{ord(sign[0]):04x}", text))


def count(number: int) -> str:
    return f"{number:,}"


def size(number: int) -> str:
    """Bytes in words."""
    value = float(number)
    for unit in ("B", "kB", "MB"):
        if value < 1000:
            return f"{value:.0f} {unit}" if unit == "B" else f"{value:.1f} {unit}"
        value /= 1000
    return f"{value:.1f} GB"


def plural(number: int, one: str, many: str | None = None) -> str:
    return counted(number, one, many)


def shorten(text: str | None, most: int = 44) -> str:
    """A value as it is shown: on one line, in quotes, cut if long."""
    if text is None:
        return "(blank)"
    plain = text.replace("\r", "").replace("\n", "⏎")
    return f'"{plain}"' if len(plain) <= most else f'"{plain[: most - 1]}…"'


def standing(finding: Finding) -> str:
    """Where a finding stands: file name and line or cell."""
    name = (finding.file or "").rsplit("/", 1)[-1]
    if finding.cell:
        return f"{name} {finding.cell}"
    return f"{name} line {finding.line}" if finding.line else name


#: so many groups of findings are shown; more are no help to anybody's eyes
_GROUPS = 100


def groups(found: Sequence[Group], *, with_file: bool = False) -> None:
    """Findings grouped by code and field, each with a count and one example."""
    rows: list[list[str | Text]] = []
    for group in found[:_GROUPS]:
        example = group.example
        parts = [] if example.value is None and not example.rule else [shorten(example.value, 36)]
        if example.rule:
            parts.append(f"asked: {example.rule}")
        words = "; ".join(parts)
        place = (
            f"{example.file} line {example.line}"
            if with_file and example.line
            else example.file
            if with_file
            else standing(example)
        )
        detail = Text(f"{place}: {words}" if words else str(place), style="dim")
        weight = "bold" if group.severity == "stop" else ""
        rows.append(
            [
                Text(str(group.severity), style=weight),
                count(group.count),
                group.code,
                group.subject or "",
                detail,
            ]
        )
    if rows:
        say()
        heading("findings", "one example of each; `mudanza explain CODE` tells more")
        columns(rows, heads=["", "count", "code", "field", "for example"], right=(1,), fold=(4,))
    if len(found) > _GROUPS:
        say(f"  … and {count(len(found) - _GROUPS)} more such lines; --json has all of them.", style="dim")


#: seconds after which work shows how far it is
_SOON = 0.5


@contextmanager
def progress(quiet: bool) -> Iterator[Tell]:
    """On standard error, if that is a terminal: what is being done, how much of it, and the time that is left, as long as it goes on."""
    from mudanza.core.work.progress import Progress, quietly

    if quiet or not sys.stderr.isatty():
        yield quietly
        return
    from threading import Timer

    from rich.progress import BarColumn, TextColumn
    from rich.progress import Progress as Bar

    bar = Bar(
        TextColumn("{task.description}"),
        BarColumn(bar_width=20, pulse_style=ACCENT, complete_style=ACCENT),
        TextColumn("{task.fields[said]}"),
        TextColumn("{task.elapsed:.0f} s"),
        console=err,
        transient=True,
    )
    task = bar.add_task("opening", total=None, said="")
    began = time.monotonic()
    phase = ""

    def step(now: Progress) -> None:
        nonlocal began, phase
        if now.phase != phase:
            phase, began = now.phase, time.monotonic()
        parts = [plural(now.rows, "row")] if now.rows else []
        if now.share and now.share < 1:
            parts.append(f"{now.share:.0%}")
            left = (time.monotonic() - began) * (1 - now.share) / now.share
            parts.append(f"about {max(1, round(left))} s left")
        share = None if now.share is None else 1.0
        bar.update(task, description=phase, total=share, completed=now.share or 0, said=", ".join(parts))

    # what is done in no time needs none
    later = Timer(_SOON, bar.start)
    later.start()
    try:
        yield step
    finally:
        later.cancel()
        later.join()
        bar.stop()


def _without_addresses_in(value: Any) -> Any:
    if isinstance(value, dict):
        return {key: _without_addresses_in(one) for key, one in value.items()}
    if isinstance(value, list):
        return [_without_addresses_in(one) for one in value]
    return without_addresses(value) if isinstance(value, str) else value


def show_error(error: BaseException, wants_json: bool) -> int:
    """Say what is wrong, where, why and what next; gives the exit status."""
    if isinstance(error, OSError) and not isinstance(error, MudanzaError):
        error = OutsideError(
            f"{error.strerror or error}.",
            place=Place(str(error.filename or "standard output, or a temporary file")),
            hint="Mend it and run again.",
        )
    if isinstance(error, MemoryError):
        error = OutsideError(
            "there is not enough memory for this.",
            hint="Name fewer lists in one command, close other programs, or take a machine with more memory.",
        )
    if not isinstance(error, MudanzaError):
        error = FaultError.of(error)
    word = "fault: " if isinstance(error, FaultError) else "error: "
    err.print(Text.assemble((word, "bold"), message(error.what)))
    place = error.place
    if place is not None and str(place):
        err.print(Text(f"  {_from_here(place)}", style=ACCENT), soft_wrap=True)
    if place is not None and place.text is not None:
        number = str(place.line or "")
        shown, start, end = _window(place)
        if not may_quote(place.file or "", place.text):
            shown, start, end = "(not shown, for it may hold a credential)", 0, 0
        err.print(Text(f"  {number} | {shown}"), soft_wrap=True)
        gap, caret = f"  {' ' * len(number)} | {' ' * start}", "^" * max(1, end - start)
        err.print(Text.assemble(gap, (caret, f"bold {ACCENT}")), soft_wrap=True)
    if error.hint:
        err.print(Text(f"  {error.hint}"))
    if effects.any:
        err.print(Text(f"  Before that: {effects.sentence()}."))
    if wants_json:
        document(_without_addresses_in(error_shape(error)))
    return error.status


def _from_here(place: Place) -> Place:
    """The place with its file as seen from the current folder, if it lies below."""
    path = Path(place.file or "")
    if path.is_absolute() and path.is_relative_to(Path.cwd()):
        return dataclasses.replace(place, file=str(path.relative_to(Path.cwd())))
    return place


def _window(place: Place) -> tuple[str, int, int]:
    """The part of a long line around its caret."""
    text = (place.text or "").replace("\t", " ")
    start, end = place.start, min(place.end, len(text.rstrip()) + 1)
    width = max(40, err.width - 12)
    if len(text) <= width:
        return text, start, end
    left = max(0, min(start - width // 3, len(text) - width))
    cut = text[left : left + width]
    return ("…" + cut[1:] if left else cut), start - left, min(end - left, width)
