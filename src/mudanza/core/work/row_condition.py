"""A condition of the language on the texts of records, as `--where` says it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from datetime import date

import polars as pl

from mudanza.core.documents.errors import LanguageError, MudanzaError, Place
from mudanza.core.findings.problem import flags, gather
from mudanza.core.language.compiling import Compiler
from mudanza.core.language.parameters import Parameters
from mudanza.core.language.parsing import parse_condition
from mudanza.core.language.trying import without_tables
from mudanza.core.language.value import Stages, Value, run_stages
from mudanza.core.layouts.layout import Layout
from mudanza.core.layouts.rules import blank_in_file
from mudanza.core.values.row_columns import LINE

KEY = "--where"


class RowCondition:
    """Which rows meet a condition on `{Heading}` (text) and, where there is a layout, on `{@field}` (typed).

    Raises LanguageError where the condition is wrong.
    """

    def __init__(
        self, text: str, headings: Sequence[str], layout: Layout | None, as_of: date, parameters: Parameters
    ) -> None:
        fields = {one.name: one for one in layout.fields} if layout is not None else {}

        def typed(name: str) -> Value | None:
            if name not in fields:
                return None
            cell = pl.col(fields[name].title)
            filled = pl.when(~blank_in_file(fields[name], cell)).then(cell)
            return Value(fields[name].kind, fields[name].type.read(filled))

        self._stages = Stages()
        headed = {one.title: (one.name, one.kind) for one in fields.values() if one.is_typed}
        around = without_tables(as_of, parameters)
        compiler = Compiler([*headings], around, self._stages, typed, [*fields], headed=headed)
        try:
            self._value = compiler.condition(text, parse_condition(text), None)
        except LanguageError as error:
            place = error.place or Place()
            raise LanguageError(error.what, place=replace(place, key=KEY), hint=error.hint) from None
        #: the columns that it looks at
        self.used = frozenset(compiler.used) | {fields[name].title for name in fields if f"@{name}" in text}

    def of(self, rows: pl.DataFrame, shown: str, error: type[MudanzaError]) -> pl.DataFrame:
        """The rows that meet it. Raises `error` if it cannot be told of one."""
        made = run_stages(rows, self._stages.early)
        if self._value.failed is not None:
            bad = made.filter(self._value.failed).head(1)
            if bad.height:
                told = gather(bad.with_columns(flags(self._value.problems)), self._value.problems, pl.lit(shown))
                value, rule = told.select("value", "rule").row(0) if told.height else (None, None)
                why = f": {value!r} is to be {rule}" if value is not None else ""
                raise error(
                    f"{KEY} cannot be told for this row{why}.",
                    place=Place(shown, bad[LINE][0]),
                    hint="Say in its step how such values are written, or add `or blank` to it.",
                )
        return made.filter(self._value.expr).select(rows.columns)
