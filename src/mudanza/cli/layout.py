"""`mudanza layout`."""

from __future__ import annotations

import click

from mudanza.cli import look
from mudanza.cli.check import find_layout
from mudanza.cli.options import json_option
from mudanza.core.work.shapes import layout_shape


@click.group("layout")
def command() -> None:
    """The target's import layouts.

    \b
    Examples:
      mudanza layout show owners
      mudanza layout show layouts/owners.json --json
    """


@command.command("show")
@click.argument("name", metavar="FILE|NAME")
@json_option
def show(name: str, as_json: bool) -> None:
    """Show a layout as a table: heading, name in plans, kind and limits.

    \b
    Example:
      mudanza layout show owners
    """
    layout = find_layout(name)
    if as_json:
        look.document(layout_shape(layout))
        return
    d = layout.dialect
    ends = {"\r\n": "CRLF", "\n": "LF"}[d.line_end]
    look.heading(name, f"{look.plural(len(layout.fields), 'field')}; {d.encoding}, delimiter {d.delimiter!r}, {ends}")
    rows = []
    for field in layout.fields:
        marks = ["key"] if field.name in layout.primary_key else []
        marks += ["required"] if field.required and field.default is None else []
        marks += [f"blank becomes {field.default}"] if field.default is not None else []
        rows.append([field.title, field.name, str(field.kind), field.rule, ", ".join(marks)])
    look.columns(rows, heads=["heading", "name", "kind", "takes", ""], fold=(3, 4))
    for reference in layout.references:
        look.say(
            f"  {', '.join(reference.fields)} refers to {', '.join(reference.columns)} of {reference.resource}",
            style="dim",
        )
