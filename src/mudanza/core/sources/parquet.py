"""Apache Parquet: typed columns as text. What lies within a column has a dot in its name; several values stand in one column."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

import polars as pl

from mudanza.core.documents.errors import Place, SourceError
from mudanza.core.sources.headings import tell_apart
from mudanza.core.sources.reader import Batch, FileFacts, ReadOptions, WithoutCells, shorter
from mudanza.core.values.row_columns import LINE

_BLOCK, _FIRST = 100_000, 2_000
_BETWEEN = "; "
_BYTES = "(binary, {} bytes)"


def open_file(path: Path, options: ReadOptions, known_as: Path) -> ParquetFile:
    """The reader of a Parquet file. Raises SourceError where it is damaged."""
    file = ParquetFile(path, options, known_as)
    _ = file.columns
    return file


@dataclass(frozen=True)
class ParquetFile(WithoutCells):
    """A Parquet file opened for reading. `#line` is the number of the record."""

    path: Path
    options: ReadOptions
    known_as: Path

    @cached_property
    def columns(self) -> dict[str, pl.Expr]:
        """The plain columns, and what each is as text."""
        try:
            schema = pl.read_parquet_schema(self.path)
        except Exception as error:  # the library raises whatever it stumbles over
            raise self._damaged(error) from error
        between = str(self.options.own.get("texts", _BETWEEN))
        return {
            name: _text(expr, kind, between)
            for top, whole in schema.items()
            for name, expr, kind in _plain(top, pl.col(top), whole)
        }

    def _damaged(self, error: BaseException) -> SourceError:
        why = shorter(str(error).splitlines()[0], 160) if str(error) else type(error).__name__
        return SourceError(
            f"the Parquet file cannot be read ({why}).",
            place=Place(str(self.known_as)),
            hint="Have it written again; it may have been cut off.",
        )

    @property
    def raw_headings(self) -> tuple[str, ...]:
        return tuple(self.columns)

    @cached_property
    def headings(self) -> tuple[str, ...]:
        return tuple(tell_apart(self.raw_headings))

    @cached_property
    def facts(self) -> FileFacts:
        return FileFacts(
            path=self.known_as, format="Parquet", size=self.path.stat().st_size, heading_line=0, unit="record"
        )

    def batches(self, *, first: bool = False) -> Iterator[Batch]:
        """The records, in file order. Raises SourceError where a part of the file is damaged."""
        size = _FIRST if first else _BLOCK
        texts = [expr.alias(name) for name, expr in zip(self.headings, self.columns.values(), strict=True)]
        try:
            whole = pl.scan_parquet(self.path)
            count = int(whole.select(pl.len()).collect().item())
            for start in range(0, max(count, 1), size):
                rows = whole.slice(start, size).select(texts).collect()
                text = pl.col(pl.String)
                filled = rows.with_columns(pl.when(text.str.len_bytes() > 0).then(text).name.keep())
                numbered = filled.with_columns(
                    pl.int_range(start + 1, start + 1 + rows.height, dtype=pl.Int64).alias(LINE)
                )
                yield Batch(numbered, share=min(1.0, (start + size) / count) if count else None)
        except (pl.exceptions.PolarsError, OSError) as error:
            raise self._damaged(error) from error


def _plain(name: str, column: pl.Expr, kind: pl.DataType) -> Iterator[tuple[str, pl.Expr, pl.DataType]]:
    """The plain columns that a column is, with what lies within it."""
    if isinstance(kind, pl.Struct):
        for within in kind.fields:
            yield from _plain(f"{name}.{within.name}", column.struct.field(within.name), within.dtype)  # type: ignore[arg-type]
    else:
        yield name, column, kind


def _text(column: pl.Expr, kind: pl.DataType, between: str) -> pl.Expr:
    """A value as text: numbers with a point and without zeros at their end, moments as ISO 8601 has them."""
    if isinstance(kind, pl.List | pl.Array):
        inner = kind.inner
        if isinstance(inner, pl.Struct | pl.List | pl.Array):
            return pl.struct(column.alias("v")).struct.json_encode().str.strip_prefix('{"v":').str.strip_suffix("}")
        listed = column if isinstance(kind, pl.List) else column.arr.to_list()
        return listed.list.eval(_text(pl.element(), inner, between).fill_null("")).list.join(between)  # type: ignore[arg-type]
    if isinstance(kind, pl.Decimal):
        text = column.cast(pl.String)
        return text.str.strip_chars_end("0").str.strip_chars_end(".") if kind.scale else text
    if isinstance(kind, pl.Datetime):
        moment = column.dt.strftime("%Y-%m-%d %H:%M:%S%.f")
        return moment + column.dt.strftime("%:z") if kind.time_zone else moment
    if kind == pl.Binary:
        return pl.format(_BYTES, column.bin.size())
    return column.cast(pl.String)
