"""The public JSON shapes of records that are asked for."""

from __future__ import annotations

from typing import TYPE_CHECKING

from mudanza.core.work.shapes.common import Shape, of

if TYPE_CHECKING:
    from mudanza.core.work.records.answering import RecordAnswer
    from mudanza.core.work.records.writing import WrittenAnswer


def answer_shape(found: RecordAnswer) -> Shape:
    """Chosen records, by their headings."""
    return {
        "subject": found.shown,
        "columns": list(found.headings),
        "records": found.rows.select(found.headings).to_dicts(),
        **of(found, "found looked_at damaged"),
        "near": {column: list(values) for column, values in found.near.items()},
    }


def written_answer_shape(written: WrittenAnswer) -> Shape:
    """Records that were written to a file."""
    return {"written": str(written.path), **of(written, "form rows columns run")}
