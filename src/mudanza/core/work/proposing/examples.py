"""Whether a drafted layout takes the values that a field list shows as examples."""

from __future__ import annotations

from collections.abc import Sequence

import polars as pl

from mudanza.core.findings.problem import Problem, flags, gather
from mudanza.core.layouts.layout import Layout
from mudanza.core.layouts.rules import blank_in_file, kind_problems, value_problems
from mudanza.core.values.row_columns import LINE
from mudanza.core.work.proposing.facts import Facts


def examples_not_taken(layout: Layout, fields: Sequence[Facts]) -> list[str]:
    """A remark for each example that its field does not take. `fields` are those of the layout, in its order."""
    shown = {
        one.title: facts.example for one, facts in zip(layout.fields, fields, strict=True) if facts.example is not None
    }
    problems: list[Problem] = []
    for one in layout.fields:
        if one.title in shown:
            text = pl.col(one.title)
            value = one.type.read(text) if one.is_typed else text
            problems += [*kind_problems(one, text, value), *value_problems(one, text, value, blank_in_file(one, text))]
    row = pl.DataFrame({LINE: [1], **{title: [example] for title, example in shown.items()}})
    found = gather(row.with_columns(flags(problems)), problems, pl.lit(None))
    return [
        f"{title}: the example {value!r} is not taken; asked is {rule}"
        for title, value, rule in found.select("field", "value", "rule").iter_rows()
    ]
