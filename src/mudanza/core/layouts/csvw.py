"""Reading layouts: CSV on the Web metadata (W3C, "Metadata Vocabulary for Tabular Data"), strictly.

Whatever the standard does not know, or Mudanza would not obey, is an error with its place.
"""

from __future__ import annotations

import copy
import json
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from mudanza.core.documents.document import Document, read_json
from mudanza.core.documents.errors import LayoutError, Place, few, nearest
from mudanza.core.layouts.form import TSV
from mudanza.core.layouts.layout import Layout
from mudanza.core.layouts.metadata import LANGUAGE, Metadata
from mudanza.core.layouts.table import INHERITED, TABLE, Within, layout_of_table

CONTEXT = "http://www.w3.org/ns/csvw"
#: what a group says for all its tables (section 5.3.2)
_FROM_GROUP = INHERITED | {"dialect", "tableDirection", "tableSchema"}
_GROUP = {"@context", "@id", "@type", "tables", "notes", "transformations", *_FROM_GROUP}
#: stands between a file and the table of it that is meant
MARK = "#"
#: what the description of one file is called behind that file's own name ("Model for Tabular Data", section 5)
BESIDE = "-metadata.json"
#: and that of all files in a folder
DESCRIPTION = "csv-metadata.json"


def read_layout(path: Path) -> Layout:
    """Read a layout file, or `FILE#TABLE` of one that describes several tables. Raises LayoutError with the line and key of what is wrong."""
    file, table = path, None
    if not path.is_file() and MARK in path.name:
        name, _, table = path.name.rpartition(MARK)
        file = path.with_name(name)
    layouts = read_layouts(file)
    if table is None and len(layouts) == 1:
        return layouts[0]
    names = [one.name for one in layouts]
    if table is None or table not in names:
        near = nearest(table, names) if table is not None else None
        raise LayoutError(
            f"the file describes {len(layouts)} tables"
            + (f", and {table!r} is none of them." if table is not None else "."),
            place=Place(file=str(file)),
            hint=f"Say which is meant: {file.name}{MARK}{near or names[0]}. There are: {few(names, 8)}.",
        )
    return layouts[names.index(table)]


def read_layouts(path: Path) -> tuple[Layout, ...]:
    """Read every table that a layout file describes. Raises LayoutError with the line and key of what is wrong."""
    return layouts_from(read_json(metadata_text(path), path))


def metadata_text(path: Path) -> str:
    """The text of a layout, or of another JSON file that people write. Raises LayoutError where it is none, or far too long."""
    try:
        if path.exists() and not path.is_file():
            raise IsADirectoryError("it is no plain file")
        if path.stat().st_size > _LARGEST_FILE:
            raise LayoutError(
                f"the layout is larger than {_LARGEST_FILE >> 20} MiB.",
                place=Place(file=str(path)),
                hint="Is this the right file?",
            )
        return path.read_text(encoding="utf-8-sig")
    except FileNotFoundError:
        beside = sorted(p.stem for p in path.parent.glob("*.json")) if path.parent.is_dir() else []
        near = nearest(path.stem, beside)
        raise LayoutError(
            "the layout does not exist.",
            place=Place(file=str(path)),
            hint=f"Did you mean {near!r}?" if near else "`mudanza init` makes an example of one.",
        ) from None
    except (UnicodeDecodeError, IsADirectoryError) as error:
        raise LayoutError(
            f"the layout is no text in UTF-8 ({error}).",
            place=Place(file=str(path)),
            hint="Is this the right file?",
        ) from error


_LARGEST_FILE = 64 << 20


def layouts_from(document: Document) -> tuple[Layout, ...]:
    """The layouts of CSVW metadata: of a table, or of each table of a group."""
    metadata, node = Metadata(document), document.content
    if not isinstance(node, dict) or "tables" not in node:
        table = metadata.known(node, (), TABLE, "a table", "Table")
        return (
            layout_of_table(
                metadata, table, Within(document.path, _name_of(document.path), _language(metadata, table))
            ),
        )
    group = metadata.known(node, (), _GROUP, "a group of tables", "TableGroup")
    language = _language(metadata, group)
    tables = group["tables"]
    if not isinstance(tables, list) or not tables:
        raise metadata.fail(("tables",), "tables must be a list of at least one table.")
    parts = [Metadata(document, ("tables", number)) for number in range(len(tables))]
    nodes = [part.known(table, (), TABLE, "a table", "Table") for part, table in zip(parts, tables, strict=True)]
    names = _names(parts, nodes, document.path)
    schemas = _schemas(nodes, group)
    layouts = []
    for part, table, name in zip(parts, nodes, names, strict=True):
        whole = {"@context": group.get("@context"), **{k: v for k, v in group.items() if k in _FROM_GROUP}, **table}
        within = Within(document.path, name, language, {k: v for k, v in group.items() if k in _FROM_GROUP}, schemas)
        layouts.append(layout_of_table(part, whole, within))
    return tuple(layouts)


def _name_of(path: Path) -> str:
    """What the one layout of a file is called: as the file is, or as the one that it describes."""
    return Path(path.name.removesuffix(BESIDE)).stem


def _names(parts: list[Metadata], nodes: list[Mapping[str, Any]], path: Path) -> list[str]:
    """What the tables of a group are called: by their addresses."""
    names: list[str] = []
    for part, table in zip(parts, nodes, strict=True):
        url = part.typed(table, "url", str, ())
        if not url:
            raise part.fail(
                ("url",) if "url" in table else (), "a table of a group needs a url.", 'Write "url": "owners.csv".'
            )
        name = Path(url.split("?")[0]).stem or path.stem
        if name in names:
            raise part.fail(("url",), f"there are two tables {name!r} in the group.")
        names.append(name)
    return names


def _schemas(nodes: list[Mapping[str, Any]], group: Mapping[str, Any]) -> dict[str, str]:
    """The addresses of schemas, and the table that each is of."""
    found: dict[str, str] = {}
    for table in nodes:
        schema = table.get("tableSchema", group.get("tableSchema"))
        if isinstance(schema, dict) and isinstance(schema.get("@id"), str):
            found.setdefault(schema["@id"], str(table["url"]))
    return found


def _language(metadata: Metadata, node: Mapping[str, Any]) -> str | None:
    """The language of a document, of its context (section 5.2)."""
    context, at = node.get("@context"), ("@context",)
    if context == CONTEXT:
        return None
    if not isinstance(context, list) or not context or context[0] != CONTEXT or len(context) > 2:
        raise metadata.fail(at, f'"@context" must be "{CONTEXT}".', f'Add "@context": "{CONTEXT}" as the first line.')
    if len(context) == 1:
        return None
    more = context[1]
    if not isinstance(more, dict) or not more or set(more) - {"@base", "@language"}:
        raise metadata.fail((*at, 1), "beside the address, @context holds @base and @language alone.")
    for key in more:
        metadata.typed(more, key, str, (*at, 1))
    language = more.get("@language")
    if language is not None and not LANGUAGE.fullmatch(language):
        raise metadata.fail((*at, 1, "@language"), f"{language!r} is no language.", 'Write "pt" or "en-GB".')
    return language


def metadata_of(layout: Layout, file_name: str) -> str:
    """The metadata that stands beside a written file, as JSON. It depends on nothing but the layout.

    References lead into other tables, so that only the description of all has them ("Metadata Vocabulary", section 5.5.2.1).
    """
    return _written({"@context": CONTEXT, **_described(layout, file_name, {})})


def metadata_of_all(written: Mapping[str, tuple[Layout, str]]) -> str:
    """The metadata of several written files, by what their tables are called: a group, with the references between them. Those that lead to none of them are left out."""
    by_resource = {
        resource: name
        for name, (one, file) in written.items()
        for resource in (one.url, f"{name}.csv", file)
        if resource
    }
    files = {resource: written[name][1] for resource, name in by_resource.items()}
    known = {resource: {one.name for one in written[name][0].fields} for resource, name in by_resource.items()}
    tables = []
    for layout, file in written.values():
        leading = {
            r.resource: files[r.resource]
            for r in layout.references
            if r.resource in files and {*r.columns} <= known[r.resource]
        }
        tables.append(_described(layout, file, leading))
    return _written({"@context": CONTEXT, "tables": tables})


def _described(layout: Layout, file_name: str, leading: Mapping[str, str]) -> dict[str, Any]:
    """A table's description with those references whose resources lead somewhere, to files."""
    node: dict[str, Any] = {"url": file_name}
    node.update({k: v for k, v in layout.metadata.items() if k not in ("url", "@context") and v is not None})
    node = _understood_by_all(copy.deepcopy(node))
    if layout.form.format == TSV:
        node.setdefault("dialect", {}).setdefault("delimiter", layout.dialect.delimiter)
    schema = node["tableSchema"]
    keys = []
    for one, reference in zip(schema.pop("foreignKeys", []), layout.references, strict=True):
        if reference.resource in leading:
            there = {"resource": leading[reference.resource], "columnReference": one["reference"]["columnReference"]}
            keys.append({"columnReference": one["columnReference"], "reference": there})
    if keys:
        schema["foreignKeys"] = keys
    return node


def _written(node: Mapping[str, Any]) -> str:
    return json.dumps(node, indent=2, ensure_ascii=False) + "\n"


def _understood_by_all(node: dict[str, Any]) -> dict[str, Any]:
    """The metadata without number patterns in signs of their own, which programs read in different ways; the signs themselves they all know."""
    for one in (node, node["tableSchema"], *node["tableSchema"].get("columns", [])):
        form = one["datatype"].get("format") if isinstance(one.get("datatype"), dict) else None
        if isinstance(form, dict) and form.get("decimalChar", ".") != ".":
            form.pop("pattern", None)
    return node
