"""A workbook as the library reads it: its sheets as text, and what goes wrong there in words."""

from __future__ import annotations

import struct
import zipfile
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from xml.etree.ElementTree import ParseError

import fastexcel
import polars as pl
from defusedxml import DefusedXmlException

from mudanza.core.documents.errors import Place, SourceError
from mudanza.core.sources.far_cells import FarCells, without_far_cells
from mudanza.core.sources.guard import guard_workbook
from mudanza.core.sources.reader import shorter

_MANY_PLACES = r"^-?\d+\.\d{7,}$"


@dataclass(frozen=True)
class Book:
    """A workbook's file, of which perhaps one `sheet` is wanted; `unreadable` are the sheets that cannot be read, with the reason."""

    path: Path
    known_as: Path
    sheet: str | None = None
    unreadable: dict[str, SourceError] = field(default_factory=dict)

    @cached_property
    def kind(self) -> str:
        """Which workbook it is: xlsx, xlsb, ods or xls."""
        return guard_workbook(self.path)

    @cached_property
    def thinned(self) -> FarCells:
        """The workbook without cells that lie far away from all others."""
        with self.damaged(None):
            return without_far_cells(self.path, self.kind, self.known_as)

    @cached_property
    def library(self) -> fastexcel.ExcelReader:
        """The library's own reader."""
        kind, path = self.kind, self.thinned.path
        named = {"xlsm": "xlsx"}.get(ending := path.suffix.lower().removeprefix("."), ending)
        with self._told("the workbook"):
            # a file that is not what its name says is read as what it is
            return fastexcel.read_excel(str(path) if named == kind else path.read_bytes())

    @contextmanager
    def damaged(self, sheet: str | None) -> Iterator[None]:
        """What the sheet's own markup raises where it is damaged, in words."""
        try:
            yield
        except (
            ParseError,
            DefusedXmlException,
            zipfile.BadZipFile,
            zlib.error,
            struct.error,
            LookupError,
            ValueError,
        ) as error:
            raise SourceError(
                f"the sheet's own parts are damaged ({_first_line(error)}).",
                place=Place(file=str(self.known_as), sheet=sheet),
                hint="Open it with a spreadsheet program and save it again as .xlsx.",
            ) from error

    @contextmanager
    def _told(self, what: str, sheet: str | None = None) -> Iterator[None]:
        """What the reading library raises, in words."""
        try:
            yield
        except BaseException as error:
            # damage can also make the library panic, which is no Exception
            if not isinstance(error, fastexcel.FastExcelError | OSError) and type(error).__name__ != "PanicException":
                raise
            why = _first_line(error)
            password = "password" in why.lower() or "encrypt" in why.lower()
            if "cell limit" in why.lower():
                raise SourceError(
                    "a cell stands so far away from the table that all between would take more room than there is.",
                    place=Place(file=str(self.known_as), sheet=sheet),
                    hint="Go to the last cell of each sheet (Ctrl+End), take out what stands there, and save it again.",
                ) from error
            raise SourceError(
                "the workbook is protected by a password." if password else f"{what} cannot be read ({why}).",
                place=Place(file=str(self.known_as), sheet=sheet),
                hint="Open it with a spreadsheet program and save it again as .xlsx.",
            ) from error

    @cached_property
    def sheets(self) -> dict[str, tuple[pl.DataFrame, bool]]:
        """Every sheet as a frame of text without a heading, and whether it is visible."""
        sheets = {}
        book = self.library
        for name in book.sheet_names:
            try:
                with self._told(f"the sheet {name!r}", name):
                    sheet = book.load_sheet(name, header_row=None, skip_rows=0, dtypes="string")
                    # the library leaves blank columns at the left out; with them, positions are those of the sheet
                    columns = sheet.available_columns()
                    left = range(columns[0].absolute_index if columns else 0)
                    blank = [pl.lit(None, dtype=pl.String).alias(f"left {i}") for i in left]
                    sheets[name] = (sheet.to_polars().select(*blank, pl.all()), sheet.visible == "visible")
            except SourceError as error:
                # sheets of charts cannot be read, and need not be
                self.unreadable[name] = error
        if self.unreadable and (not sheets or self.sheet in self.unreadable):
            raise self.unreadable.get(self.sheet or "") or next(iter(self.unreadable.values()))
        return sheets

    def exactly(self, name: str, sheet: pl.DataFrame) -> pl.DataFrame:
        """A sheet with its fractions to the fifteen digits that cells hold; the library gives them to nine places.

        A text that only looks like a number is the same number as it says, and stays as it stands; one that was rounded is another.
        """
        texts = sheet.select(pl.all().str.contains(_MANY_PLACES).any()).row(0) if sheet.height else ()
        for at in (at for at, many in enumerate(texts) if many):
            with self._told(f"the sheet {name!r}", name):
                column = self.library.load_sheet(name, header_row=None, skip_rows=0, use_columns=[at], dtypes="float")
                floats = column.to_polars()
            if floats.height != sheet.height or floats.width != 1:
                continue
            title = sheet.columns[at]
            number, text, exact = pl.col("number"), pl.col(title), pl.col("exact")
            made = pl.DataFrame([sheet[title], floats.to_series().alias("number")])
            made = made.with_columns(number.round_sig_figs(15).cast(pl.String).alias("exact"))
            rounded = text.str.contains(_MANY_PLACES) & (number != text.cast(pl.Float64, strict=False))
            plain = rounded & ~exact.str.contains("e", literal=True)
            sheet = sheet.with_columns(made.select(pl.when(plain).then(exact).otherwise(text).alias(title)).to_series())
        return sheet


def _first_line(error: BaseException) -> str:
    # of a damaged file the library may quote all of what it stumbled over
    return shorter(str(error).splitlines()[0], 160) if str(error) else type(error).__name__
