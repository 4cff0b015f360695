"""Opening a source with the reader of its format. A new format is its module and one entry in `FORMATS`."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from importlib import import_module
from pathlib import Path
from typing import Any, TypeVar

from mudanza.core.documents.errors import MoveError, MudanzaError, OutsideError, Place, SourceError, few, unknown
from mudanza.core.sources.guard import guard_columns, kind_of_archive
from mudanza.core.sources.reader import Reader, ReadOptions
from mudanza.core.sources.sniff import is_plain_table
from mudanza.core.sources.trees import TooManyKeysError
from mudanza.core.sources.unpacking import packing_of, unpack

T = TypeVar("T")


@dataclass(frozen=True)
class Setting:
    """A setting that only one format knows: the types its value may have, what it is in words, and how it is written."""

    types: tuple[type, ...]
    words: str
    example: str


@dataclass(frozen=True)
class Format:
    """A format: the module that reads it, the endings and first bytes that files of it have, and its own settings.

    The module has `open_file(path, options, known_as)`, which gives a Reader, and, if one source can hold several tables,
    `parts(path, options, known_as)`, which gives the options that read each.
    """

    module: str
    endings: tuple[str, ...] = ()
    begins: tuple[bytes, ...] = ()
    settings: Mapping[str, Setting] = field(default_factory=dict)


_TEXT, _LIST, _TABLE, _NUMBER = (str,), (list,), (dict,), (int,)

#: what a format is called in a plan → how it is read; the first is what a file is taken for if nothing says otherwise
FORMATS: dict[str, Format] = {
    "delimited": Format("delimited", (".csv", ".tsv", ".tab", ".psv")),
    "workbook": Format(
        "workbook",
        (".xlsx", ".xlsm", ".xls", ".xlsb", ".ods"),
        (b"\xd0\xcf\x11\xe0", b"\x09\x08\x10\x00\x00\x06\x05\x00", b"\x09\x08\x08\x00\x00\x05\x05\x00"),
    ),
    "report": Format(
        "report",
        settings={
            "groups": Setting(_TABLE, "a table of column = what its lines begin with", '{ "Owner" = "Owner:" }'),
            "totals": Setting(_LIST, "a list of what total lines begin with", '["Subtotal", "Total"]'),
            "pass_over": Setting(_LIST, "a list of what lines without records begin with", '["Page "]'),
            "decimal": Setting(_TEXT, "the decimal sign of the printed numbers", '","'),
        },
    ),
    "tagged": Format(
        "tagged",
        settings={
            "type": Setting(_TEXT, "the tag of the record type that is read", '"ITEM"'),
            "marker": Setting(_TEXT, "what stands in front of a tag where a line gives that type's columns", '"#"'),
            "parents": Setting(_LIST, "a list of record types above this one", '["VISIT"]'),
        },
    ),
    "json": Format(
        "json_text",
        (".json", ".ndjson", ".jsonl", ".geojson"),
        settings={
            "records": Setting(_TEXT, "the path of the records", '"data.clients"'),
            "texts": Setting(_TEXT, "what stands between several texts in one column", '"; "'),
        },
    ),
    "xml": Format(
        "xml_text",
        (".xml",),
        (b"<?xml",),
        settings={
            "records": Setting(_TEXT, "the path of the records", '"export.clients.client"'),
            "texts": Setting(_TEXT, "what stands between several texts in one column", '"; "'),
        },
    ),
    "fixed": Format(
        "fixed",
        settings={
            "positions": Setting(_TABLE, "a table of column = first-last", '{ "Code" = "1-5", "Name" = "6-30" }')
        },
    ),
    "parquet": Format(
        "parquet",
        (".parquet",),
        (b"PAR1",),
        settings={"texts": Setting(_TEXT, "what stands between several texts in one column", '"; "')},
    ),
    "vcard": Format("vcard", (".vcf", ".vcard"), (b"BEGIN:VCARD", b"begin:vcard", b"\xef\xbb\xbfBEGIN:VCARD")),
    "database": Format(
        "database",
        (".sqlite", ".sqlite3", ".db", ".db3"),
        (b"SQLite format 3\0",),
        settings={
            "table": Setting(_TEXT, "the table that is read", '"clients"'),
            "columns": Setting(_LIST, "a list of the columns to read", '["id", "name"]'),
            "query": Setting(_TEXT, "a query that is read instead of a table", '"select id, name from clients"'),
            "sums": Setting(_LIST, "a list of number columns whose sums are compared with the database's", '["owed"]'),
        },
    ),
}
#: formats that are only recognised by a look inside, in this order
_RECOGNISED = ("tagged", "report", "fixed")
_SEVERAL = ("tagged", "json", "xml", "database")

_REFUSED = {
    b"%PDF": "a PDF; ask for the records as CSV or workbook, or copy its tables into one.",
    b"<!doctype html": "a web page; open it in a spreadsheet program and save it as .xlsx.",
    b"<html": "a web page; open it in a spreadsheet program and save it as .xlsx.",
    b"7z\xbc\xaf": "a 7z archive; unpack it.",
    b"Rar!": "a RAR archive; unpack it.",
    b"\x89PNG": "a picture.",
    b"\xff\xd8\xff": "a picture.",
    b"GIF8": "a picture.",
    b"\x00\x01\x00\x00Stan": "an Access database; export its tables as CSV.",
    b"{\\rtf": "a word processor's text; save its table as CSV or workbook.",
}


def open_source(path: Path, options: ReadOptions | None = None) -> Reader:
    """Open a file. Raises SourceError if it is missing, a folder, unreadable, or of a format not read."""
    options = options or ReadOptions()
    content, name = _content(path, options)
    try:
        reader: Reader = _module(name).open_file(content, options, path)
        guard_columns(len(reader.raw_headings), path)
    except (RecursionError, TooManyKeysError) as error:
        raise _no_table(path, error) from error
    except MudanzaError as error:
        if content != path and error.place is not None and error.place.file == str(content):
            # where it was unpacked is of no interest
            raise error.moved(replace(error.place, file=str(path))) from error
        raise
    return reader


def _no_table(path: Path, error: Exception) -> SourceError:
    why = "is nested too deeply" if isinstance(error, RecursionError) else "has too many different keys"
    return SourceError(
        f"what is in the file {why} to be a table of records.", place=Place(str(path)), hint="Is it the right file?"
    )


def parts(path: Path, options: ReadOptions) -> list[ReadOptions]:
    """The options that read each table of a source: the ones given, unless it holds several and they choose none."""
    content, name = _content(path, options)
    if name not in _SEVERAL:
        return [options]
    try:
        found: list[ReadOptions] = _module(name).parts(content, replace(options, format=name), path)
    except (RecursionError, TooManyKeysError) as error:
        raise _no_table(path, error) from error
    return found


def recognise(path: Path, options: ReadOptions) -> ReadOptions:
    """The options with the format that a text or workbook plainly has beyond a mere table, if they say none.

    Only for a look at a source: what a plan reads, it says itself. Raises as `open_source` does.
    """
    content, name = _content(path, options)
    if (
        options.format is not None
        or options.own
        or name not in ("delimited", "workbook")
        or options.heading is not None
    ):
        return options
    if name == "delimited" and is_plain_table(content, options):
        return options
    for format_ in _RECOGNISED:
        if _module(format_).recognises(content, options):
            return replace(options, format=format_)
    return options


def files_of(path: Path) -> list[Path]:
    """The files that a path names, by name: itself, or those that match it as a pattern (`2024-*.csv`).

    Raises SourceError if a pattern matches none.
    """
    if path.exists() or not set(path.name) & set("*?["):
        return [path]
    found = sorted(one for one in path.parent.glob(path.name) if one.is_file())
    if not found:
        beside = sorted(p.name for p in path.parent.iterdir() if p.is_file()) if path.parent.is_dir() else []
        raise SourceError(
            "no file matches the pattern.",
            place=Place(file=str(path)),
            hint=f"The folder has: {few(beside, 8)}." if beside else "Look at the path, from the move folder.",
        )
    return found


def format_of(path: Path, options: ReadOptions | None = None) -> str:
    """What the format of a file is called. Raises as `open_source` does."""
    return _content(path, options or ReadOptions())[1]


def _module(name: str) -> Any:
    return import_module(f"mudanza.core.sources.{FORMATS[name].module}")


def _content(path: Path, options: ReadOptions) -> tuple[Path, str]:
    """Where the bytes of a file stand, unpacked if need be, and its format."""
    place = Place(file=str(path))
    if re.match(r"[A-Za-z][A-Za-z0-9+.-]+:/", str(path)) and not path.exists():
        raise MoveError(
            "an address is not given here.",
            place=place,
            hint="Describe the database in mudanza.toml ([databases.NAME]), with credentials from the environment, "
            "and name NAME:TABLE.",
        )
    if path.is_symlink() and not path.exists():
        raise SourceError(f"this is {kind_of_path(path)}.", place=place, hint="Put the file itself there.")
    if not path.exists():
        beside = sorted(p.name for p in path.parent.iterdir() if p.is_file()) if path.parent.is_dir() else []
        hint = f"The folder has: {', '.join(beside[:8])}." if beside else "Look at the path, from the move folder."
        raise SourceError("the file does not exist.", place=place, hint=hint)
    if path.is_dir():
        raise SourceError("this is a folder; a file is needed.", place=place, hint="Name one file in it.")
    if not path.is_file():
        raise SourceError(f"this is {kind_of_path(path)}, and not a file.", place=place, hint="Name a file.")
    try:
        start = _start(path)
        packing = packing_of(start)
        if packing is not None and not (packing == "zip" and _is_workbook(path, options)):
            path = unpack(path, packing, options.inside)
            start = _start(path)
    except PermissionError as error:
        raise OutsideError("the file may not be read.", place=place, hint="Look at its permissions.") from error
    return path, _format(path, start, options, place)


def kind_of_path(path: Path) -> str:
    """What a path is that is neither a file nor a folder."""
    if path.is_symlink() and not path.exists():
        return f"a broken link (to {path.readlink()})"
    kinds = {
        path.is_fifo: "a pipe",
        path.is_socket: "a socket",
        path.is_char_device: "a device",
        path.is_block_device: "a device",
    }
    return next((words for is_it, words in kinds.items() if is_it()), "something else")


def _start(path: Path) -> bytes:
    with path.open("rb") as file:
        return file.read(32)


def _is_workbook(path: Path, options: ReadOptions) -> bool:
    # what is named or said to be a workbook is refused as a damaged one, with the reason
    named = options.format == "workbook" or path.suffix.lower() in FORMATS["workbook"].endings
    return named or kind_of_archive(path) is not None


def _format(path: Path, start: bytes, options: ReadOptions, place: Place) -> str:
    if options.format is not None:
        if options.format not in FORMATS:
            raise SourceError(
                unknown("format", options.format, list(FORMATS)), place=place, hint=f"There are: {few(list(FORMATS))}."
            )
        return options.format
    for bytes_, words in _REFUSED.items():
        if start.lstrip().startswith(bytes_) or start.lstrip().lower().startswith(bytes_):
            raise SourceError(f"the file is {words}", place=place, hint="Mudanza cannot read it as it is.")
    own = next((name for name, one in FORMATS.items() if set(options.own) & set(one.settings)), None)
    if own is not None and own not in ("json", "xml"):
        return own
    for name, one in FORMATS.items():
        if start.startswith(one.begins) if one.begins else False:
            return name
    if start.startswith(b"PK\x03\x04"):
        return "workbook"
    suffix = path.suffix.lower()
    by_ending = next((name for name, one in FORMATS.items() if suffix in one.endings), None)
    if by_ending in ("xml", "database", "vcard") and start.strip():
        # none of these begins like this
        by_ending = "xml" if start.lstrip(b"\xef\xbb\xbf\xff\xfe \r\n\t\0").startswith(b"<") else "delimited"
    return by_ending or own or "delimited"


def share_of_all(paths: Sequence[Path], number: int, of_file: float | None) -> float | None:
    """How much of some files, read one after the other, is read with a share of the one of that number; None where that cannot be told, as of a database."""
    sizes = [path.stat().st_size if path.is_file() else 0 for path in paths]
    if of_file is None or not all(sizes):
        return None
    return (sum(sizes[:number]) + of_file * sizes[number]) / sum(sizes)
