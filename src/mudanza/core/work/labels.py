"""Labels that the target has to know before records have them: those that a list uses, and those that the target knows."""

from __future__ import annotations

from pathlib import Path

import polars as pl

from mudanza.core.disk.files import OutFile, Outputs
from mudanza.core.findings.problem import Problem
from mudanza.core.layouts.layout import Field, Layout
from mudanza.core.layouts.rules import any_part, blank_in_file, parts_of
from mudanza.core.sinks.csv_text import QuotedWriter


class Labels:
    """Counts the labels of fields whose labels the target has to know before."""

    def __init__(self, layout: Layout) -> None:
        self.fields = [one for one in layout.fields if one.demands.labels]
        self._layout = layout
        self._parts: list[pl.DataFrame] = []

    def take(self, rows: pl.DataFrame) -> None:
        """Count the labels of further records."""
        for one in self.fields:
            self._parts.append(_counted(one, rows[one.title]))

    def write(self, outputs: Outputs, path: Path) -> OutFile | None:
        """Write each label once, with how many records have it, and, if the layout names a file of those that the target knows, whether it does."""
        if not self.fields:
            return None
        counted = pl.concat(self._parts or [_counted(self.fields[0], pl.Series([], dtype=pl.String))])
        whole = counted.group_by("field", "label").agg(pl.col("records").sum()).sort("field", "label")
        known = {one.title: known_labels(one, self._layout) for one in self.fields}
        if any(labels is not None for labels in known.values()):
            pairs = [(title, label, "yes") for title, labels in known.items() for label in labels or ()]
            there = pl.DataFrame(
                pairs,
                schema=["field", "label", "known"],
                orient="row",
                schema_overrides=dict.fromkeys(("field", "label", "known"), pl.String),
            )
            whole = whole.join(there, on=["field", "label"], how="left").with_columns(pl.col("known").fill_null("no"))
        file = outputs.create(path)
        writer = QuotedWriter(whole.columns)
        file.write(
            writer.head() + writer.rows(whole.with_columns(pl.col("records").cast(pl.String)).sort("field", "label"))
        )
        return file


def _counted(one: Field, texts: pl.Series) -> pl.DataFrame:
    label = pl.col("label")
    frame = texts.alias("label").to_frame().drop_nulls()
    if one.separator is not None:
        frame = frame.select(parts_of(one, label)).explode("label").select(label.str.strip_chars())
    counted = frame.filter(label != "").group_by("label").len("records")
    return counted.select(pl.lit(one.title).alias("field"), "label", pl.col("records").cast(pl.Int64))


def unknown_labels(one: Field, layout: Layout, text: pl.Expr) -> list[Problem]:
    """What is asked of a field whose labels the target has to know: that they are among those that it knows, if the layout names them."""
    known = known_labels(one, layout)
    if known is None:
        return []
    strange = any_part(one, text, lambda label: (label.str.strip_chars() != "") & ~label.str.strip_chars().is_in(known))
    rule = f"among the labels of {one.demands.known_in}"
    return [Problem("label.unknown", one.title, strange, text, rule, unless=blank_in_file(one, text))]


def known_labels(one: Field, layout: Layout) -> list[str] | None:
    """The labels that the target knows, a line each in the file that the layout names; None if it names none, or there is none."""
    if one.demands.known_in is None:
        return None
    path = layout.path.parent / one.demands.known_in
    if not path.is_file():
        return None
    return [line.strip() for line in path.read_text("utf-8-sig").splitlines() if line.strip()]
