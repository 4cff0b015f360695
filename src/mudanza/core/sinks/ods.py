"""Spreadsheets in OpenDocument 1.2 (part 1, sections 9 and 19): kinds as kinds, codes as text, words to choose from, headings that stay in sight and can be filtered.

They are written whole: how many bytes they have is known at their end. The rows go to the disk one after the other.
"""

from __future__ import annotations

import zipfile
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

import polars as pl

from mudanza.core.documents.errors import MudanzaError
from mudanza.core.findings.problem import Problem
from mudanza.core.layouts.layout import Field, Layout
from mudanza.core.sinks import sheet_cells
from mudanza.core.sinks.markup import escaped, escaped_alone
from mudanza.core.sinks.native import as_layout_writes, unwritable
from mudanza.core.sinks.reading import read_as
from mudanza.core.sinks.sheet_cells import (
    MOST_ROWS,
    choices_of,
    number_format,
    sheet_cell,
    sheet_name,
    width_of,
)
from mudanza.core.sinks.sheet_columns import too_many
from mudanza.core.sinks.spool import new_spool, pieces_of_spool
from mudanza.core.sources.cells import column_letters
from mudanza.core.sources.reader import ReadOptions
from mudanza.core.values.held import Held, Hold
from mudanza.core.values.kinds import Kind

_TYPE = "application/vnd.oasis.opendocument.spreadsheet"
_SPACES = {
    "office": "office", "table": "table", "text": "text", "style": "style", "number": "datastyle", "fo": "xsl-fo-compatible",
    "config": "config", "manifest": "manifest",
}  # fmt: skip
_NAMES = " ".join(
    f'xmlns:{short}="urn:oasis:names:tc:opendocument:xmlns:{long}:1.0"' for short, long in _SPACES.items()
)
_XML = '<?xml version="1.0" encoding="UTF-8"?>\n'
_MANIFEST = (
    f'{_XML}<manifest:manifest {_NAMES} manifest:version="1.2"><manifest:file-entry manifest:full-path="/" manifest:media-type="{_TYPE}"/>'
    '<manifest:file-entry manifest:full-path="content.xml" manifest:media-type="text/xml"/>'
    '<manifest:file-entry manifest:full-path="settings.xml" manifest:media-type="text/xml"/></manifest:manifest>'
)
_TEXT_STYLE = '<number:text-style style:name="nt"><number:text-content/></number:text-style>'
_YEAR, _TIME = (
    '<number:year number:style="long"/><number:text>-</number:text><number:month number:style="long"/><number:text>-</number:text><number:day number:style="long"/>',
    '<number:text> </number:text><number:hours number:style="long"/><number:text>:</number:text><number:minutes number:style="long"/><number:text>:</number:text>'
    '<number:seconds number:style="long"/>',
)
_HEAD_STYLE = (
    '<style:style style:name="head" style:family="table-cell"><style:table-cell-properties fo:background-color="#E7ECEF" fo:border-bottom="0.75pt solid #000000"/>'
    '<style:text-properties fo:font-weight="bold"/></style:style>'
)


_UNSEEN_STYLE = '<style:style style:name="unseen" style:family="table"><style:table-properties table:display="false"/></style:style>'


@dataclass(frozen=True)
class Page:
    """A further sheet of texts, one below the other, that is perhaps not seen."""

    name: str
    lines: Sequence[str]
    seen: bool = True


class OdsWriter:
    """Writes records into a sheet below their headings, the first of which have `notes`. The column of the `hidden` heading is not seen; further `pages` stand behind the records."""

    def __init__(
        self,
        layout: Layout,
        titles: Sequence[str],
        hidden: str | None = None,
        pages: Sequence[Page] = (),
        notes: Sequence[str] = (),
    ) -> None:
        self._hidden, self._pages, self._notes = hidden, pages, notes
        by_title = {one.title: one for one in layout.fields}
        self._fields = [by_title[title] for title in titles]
        self._name = sheet_name(layout.form.sheet or layout.name)
        self._headed = layout.dialect.header
        self._file = new_spool()
        self._archive = zipfile.ZipFile(self._file, "w")
        self._put("mimetype", _TYPE, zipfile.ZIP_STORED)
        self._put("META-INF/manifest.xml", _MANIFEST)
        self._put(
            "settings.xml",
            _settings(self._name)
            if self._headed
            else f'{_XML}<office:document-settings {_NAMES} office:version="1.2"/>',
        )
        # packed at the end, in pieces that do not depend on how the records came
        self._content = new_spool()
        self._content.write(self._before().encode())
        self._held = Held()
        cells = [_cell(one, number, self._held.hold) for number, one in enumerate(self._fields)]
        self._line = pl.concat_str([pl.lit("<table:table-row>"), *cells, pl.lit("</table:table-row>\n")])
        self._row = int(self._headed)

    def head(self) -> bytes:
        """Nothing can be handed on before the end."""
        return b""

    def rows(self, frame: pl.DataFrame) -> bytes:
        """Take the records of a frame. Raises MudanzaError where a sheet is full."""
        if self._row + frame.height > MOST_ROWS:
            raise too_many(self._name)
        if frame.height:
            self._content.write(self._held.select(frame, [self._line]).to_series().str.join("").item().encode())
        self._row += frame.height
        return b""

    def tail(self) -> Iterator[bytes]:
        """The whole file."""
        last = f"{column_letters(len(self._fields) - 1)}{max(self._row, 1)}"
        area = f"'{self._name}'.A1:'{self._name}'.{last}"
        filters = (
            f'<table:database-ranges><table:database-range table:name="records" table:target-range-address="{escaped_alone(area)}" table:display-filter-buttons="true"/></table:database-ranges>'
            if self._headed
            else ""
        )
        self._content.write(
            f"</table:table>{''.join(map(_page, self._pages))}{filters}</office:spreadsheet></office:body></office:document-content>\n".encode()
        )
        with self._archive.open(_entry("content.xml"), "w", force_zip64=True) as packed:
            for piece in pieces_of_spool(self._content):
                packed.write(piece)
        self._archive.close()
        yield from pieces_of_spool(self._file)

    def _put(self, name: str, text: str, packing: int = zipfile.ZIP_DEFLATED) -> None:
        self._archive.writestr(_entry(name, packing), text)

    def _before(self) -> str:
        """What stands before the records: styles, words to choose from, columns and headings."""
        widths = [width_of(one.title, _longest(one)) for one in self._fields]
        styles = [_TEXT_STYLE, _HEAD_STYLE, _UNSEEN_STYLE]
        for number, (one, width) in enumerate(zip(self._fields, widths, strict=True)):
            styles.append(
                f'<style:style style:name="co{number}" style:family="table-column"><style:table-column-properties style:column-width="{width * 0.2:.2f}cm"/></style:style>'
            )
            styles.append(_data_style(number, one))
            styles.append(
                f'<style:style style:name="ce{number}" style:family="table-cell" style:data-style-name="{"nt" if _as_text(one) else f"n{number}"}"/>'
            )
        rules = [_choices(number, choices_of(one)) for number, one in enumerate(self._fields) if choices_of(one)]
        columns = "".join(
            f'<table:table-column table:style-name="co{n}"{_collapsed(one, self._hidden)} table:default-cell-style-name="ce{n}"/>'
            for n, one in enumerate(self._fields)
        )
        cells = "".join(
            f'<table:table-cell table:style-name="head" office:value-type="string">{_annotation(note)}<text:p>{escaped_alone(one.title)}</text:p></table:table-cell>'
            for one, note in zip(self._fields, [*self._notes, *[""] * len(self._fields)], strict=False)
        )
        heading = (
            f"<table:table-header-rows><table:table-row>{cells}</table:table-row></table:table-header-rows>"
            if self._headed
            else ""
        )
        validations = f"<table:content-validations>{''.join(rules)}</table:content-validations>" if rules else ""
        return (
            f'{_XML}<office:document-content {_NAMES} office:version="1.2"><office:automatic-styles>{"".join(styles)}</office:automatic-styles>'
            f"<office:body><office:spreadsheet>{validations}"
            f'<table:table table:name="{escaped_alone(self._name)}">{columns}{heading}\n'
        )


def _annotation(note: str) -> str:
    """A note on a cell (OpenDocument 1.3, part 3, section 14.1)."""
    lines = "".join(f"<text:p>{escaped_alone(line)}</text:p>" for line in note.splitlines())
    return f"<office:annotation>{lines}</office:annotation>" if lines else ""


def _page(page: Page) -> str:
    rows = "".join(
        f'<table:table-row><table:table-cell office:value-type="string"><text:p>{escaped_alone(line)}</text:p></table:table-cell></table:table-row>'
        for line in page.lines
    )
    seen = "" if page.seen else ' table:style-name="unseen"'
    return f'<table:table table:name="{escaped_alone(page.name)}"{seen}><table:table-column/>{rows}</table:table>'


def _collapsed(field: Field, hidden: str | None) -> str:
    return ' table:visibility="collapse"' if field.title == hidden else ""


def _entry(name: str, packing: int = zipfile.ZIP_DEFLATED) -> zipfile.ZipInfo:
    """An entry of the archive that does not say when it was written."""
    entry = zipfile.ZipInfo(name, (1980, 1, 1, 0, 0, 0))
    entry.compress_type = packing
    return entry


def _as_text(field: Field) -> bool:
    return number_format(field) == "@"


def _longest(field: Field) -> int:
    """How many characters the values of a field have, as far as the layout tells."""
    words = choices_of(field)
    longest = getattr(field.type, "longest", None)
    return max(map(len, words)) if words else 19 if field.kind is Kind.DATETIME else longest or 12


def _data_style(number: int, field: Field) -> str:
    """How the cells of a field are shown."""
    shown, name = number_format(field), f'style:name="n{number}"'
    if shown == "@":
        return ""
    if shown.startswith("y"):
        return f"<number:date-style {name}>{_YEAR}{_TIME if ':' in shown else ''}</number:date-style>"
    if shown == "General":
        return f'<number:number-style {name}><number:number number:min-integer-digits="1"/></number:number-style>'
    places = f'<number:number number:decimal-places="{shown.count("0") - 1}" number:min-integer-digits="1"/>'
    share = shown.endswith("%")
    kind = "percentage" if share else "number"
    return (
        f"<number:{kind}-style {name}>{places}{'<number:text>%</number:text>' if share else ''}</number:{kind}-style>"
    )


def _choices(number: int, words: Sequence[str]) -> str:
    listed = ";".join('"' + word.replace('"', '""') + '"' for word in words)
    condition = escaped_alone(f"of:cell-content-is-in-list({listed})")
    return f'<table:content-validation table:name="v{number}" table:condition="{condition}" table:allow-empty-cell="true" table:display-list="unsorted"/>'


def _cell(field: Field, number: int, hold: Hold) -> pl.Expr:
    """A cell as markup, with its style and what may be typed into it."""
    cell = sheet_cell(field, hold)
    chosen = f' table:content-validation-name="v{number}"' if choices_of(field) else ""
    start = f'<table:table-cell table:style-name="ce{number}"{chosen}'
    paragraphs = hold(_paragraphs(cell.text))
    text = pl.lit(f'{start} office:value-type="string">') + paragraphs + pl.lit("</table:table-cell>")
    if cell.number is None or cell.value is None:
        return text.fill_null(f"{start}/>")
    made = pl.when(cell.number.is_not_null()).then(_valued(field, cell.value, start, paragraphs)).otherwise(text)
    return made.fill_null(f"{start}/>")


def _valued(field: Field, value: pl.Expr, start: str, paragraphs: pl.Expr) -> pl.Expr:
    """A cell that holds a number (as digits) or a moment."""
    if field.kind is Kind.NUMBER:
        share = number_format(field).endswith("%")
        kind, attribute = "percentage" if share else "float", "value"
    else:
        iso = "%Y-%m-%d" if field.kind is Kind.DATE else "%Y-%m-%dT%H:%M:%S"
        kind, attribute, value = "date", "date-value", value.dt.strftime(iso)
    held = pl.lit(f'{start} office:value-type="{kind}" office:{attribute}="') + value + pl.lit('">') + paragraphs
    return held + pl.lit("</table:table-cell>")


def _paragraphs(text: pl.Expr) -> pl.Expr:
    """A text as paragraphs, one for each line, with its spaces and tabs."""
    plain = escaped(text).str.replace_all("\t", "<text:tab/>", literal=True)
    # each space that readers would drop is said
    spaced = plain.str.replace_all(r"(?m)^ | $", "<text:s/>").str.replace_all("  ", " <text:s/>", literal=True)
    return pl.lit("<text:p>") + spaced.str.replace_all("\n", "</text:p><text:p>", literal=True) + pl.lit("</text:p>")


def _settings(sheet: str) -> str:
    """The settings in which the row of headings stays in sight."""
    items = {
        "HorizontalSplitMode": ("short", 0),
        "VerticalSplitMode": ("short", 2),
        "VerticalSplitPosition": ("int", 1),
        "PositionBottom": ("int", 1),
    }
    said = "".join(
        f'<config:config-item config:name="{name}" config:type="{kind}">{value}</config:config-item>'
        for name, (kind, value) in items.items()
    )
    entry = f'<config:config-item-map-entry config:name="{escaped_alone(sheet)}">{said}</config:config-item-map-entry>'
    tables = f'<config:config-item-map-named config:name="Tables">{entry}</config:config-item-map-named>'
    view = f'<config:config-item-map-indexed config:name="Views"><config:config-item-map-entry><config:config-item config:name="ViewId" config:type="string">view1</config:config-item>{tables}</config:config-item-map-entry></config:config-item-map-indexed>'
    return f'{_XML}<office:document-settings {_NAMES} xmlns:ooo="http://openoffice.org/2004/office" office:version="1.2"><office:settings><config:config-item-set config:name="ooo:view-settings">{view}</config:config-item-set></office:settings></office:document-settings>'


def writer(layout: Layout, titles: Sequence[str]) -> OdsWriter:
    """A writer of records with these headings."""
    return OdsWriter(layout, titles)


def problems(field: Field, layout: Layout, text: pl.Expr) -> list[Problem]:  # noqa: ARG001
    """Texts that no cell holds; and those with tabs, which the library that reads such files drops."""
    tabs = unwritable(
        field,
        text,
        lambda one: one.str.contains("\t", literal=True),
        "no tabs, which are lost when such a file is read",
    )
    return [*sheet_cells.problems(field, text), tabs]


def options(layout: Layout) -> ReadOptions:
    """How such a file is read again."""
    sheet = sheet_name(layout.form.sheet or layout.name)
    return ReadOptions(format="workbook", sheet=sheet, heading=int(layout.dialect.header), exact=True)


#: The text that the layout has for what a reader gives.
layout_text = as_layout_writes


def read(path: Path, layout: Layout, shown: str, error: type[MudanzaError] = MudanzaError) -> pl.DataFrame:
    """A whole file; see `Sink.read`."""
    return read_as(path, layout, shown, options(layout), error)
