"""Whether the keys of a file are filled, and each stands once."""

from __future__ import annotations

import polars as pl

from mudanza.core.engine.repeats import SeenKeys
from mudanza.core.findings.problem import Problem, flags, gather
from mudanza.core.layouts.layout import Field, Layout
from mudanza.core.layouts.rules import blank_in_file, same_value
from mudanza.core.values.row_columns import INNER, LINE, key_text, shown_key
from mudanza.core.work.checking.headings import Headings
from mudanza.core.work.checking.opened import Opened

#: where a key stood first; files may have columns of any other name
_FIRST = f"{INNER}first"


class KeyCheck:
    """Looks at the keys of batches in the order of the file. Keys are compared as values, and as the target compares them."""

    def __init__(self, opened: Opened, layout: Layout, headings: Headings, shown: str) -> None:
        columns = headings.columns
        keys = [one for one in layout.fields if one.name in layout.primary_key]
        self.fields: list[tuple[Field, str]] = []
        if keys and all(one.title in columns for one in keys):
            self.fields = [(one, columns[one.title]) for one in keys]
        self.rule, self.shown, self.opened = layout.key_rule, shown, opened
        self.title = ", ".join(one.title for one, _ in self.fields)
        self.seen = SeenKeys()

    def findings(self, rows: pl.DataFrame) -> list[pl.DataFrame]:
        """What is wrong with the keys of a batch: those that are blank, and those that an earlier row has."""
        if not self.fields:
            return []
        texts = [pl.col(column) for _, column in self.fields]
        blank = pl.all_horizontal([blank_in_file(one, pl.col(column)) for one, column in self.fields])
        cell = None
        if self.opened.in_sheet:
            letters = self.opened.reader.letters.get(self.fields[0][1], "")
            cell = pl.format("{}!{}{}", pl.lit(self.opened.reader.facts.sheet), pl.lit(letters), "line")
        found = []
        empty = Problem("key.blank", self.title, pl.col(_FIRST), shown_key(key_text(texts)), "filled in")
        # a required field of a key says for itself that it is blank, and has no twin
        required = [blank_in_file(one, pl.col(column)) for one, column in self.fields if one.required]
        untold = pl.any_horizontal(required) if required else pl.lit(False)
        keyed = (
            rows.select(LINE, *{column: None for _, column in self.fields})
            .filter(~untold)
            .with_columns(blank.alias(_FIRST))
        )
        if keyed[_FIRST].any():
            found.append(gather(keyed.with_columns(flags([empty])), [empty], pl.lit(self.shown), cell))
            keyed = keyed.filter(~pl.col(_FIRST))
        keyed = keyed.drop(_FIRST)
        compared = [self.rule.part(same_value(one, pl.col(column))) for one, column in self.fields]
        hashed = SeenKeys.prepare(keyed, compared, texts).with_columns(keyed[LINE].alias("where"))
        first = self.seen.first_seen(hashed)
        if first is not None:
            rule = pl.concat_str(pl.lit("unique; first in line "), pl.col(_FIRST))
            repeated = pl.col(_FIRST).is_not_null()
            problem = Problem("key.repeated", self.title, repeated, shown_key(key_text(texts)), rule)
            flagged = keyed.with_columns(first["first"].alias(_FIRST)).with_columns(flags([problem]))
            found.append(gather(flagged, [problem], pl.lit(self.shown), cell))
            hashed = hashed.filter(first["first"].is_null())
        self.seen.add(hashed)
        return found
