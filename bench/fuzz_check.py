"""Checks spoiled files against spoiled layouts, and drafts layouts from spoiled templates, lists and schemas, for as long as one likes.

    python bench/fuzz_check.py [--minutes 20] [--seed 1]

Nothing but the program's own errors may come up, and nothing may take longer than ten seconds. Each case runs in a process of its own family, so that one
that dies is told too; what went wrong is printed with the seed of its case.
"""

from __future__ import annotations

import argparse
import io
import json
import multiprocessing
import random
import resource
import tempfile
import time
import zipfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

LONGEST = 10.0
MEMORY = 1 << 30
SIGNS = [
    '"',
    ",",
    ";",
    "\n",
    "\r",
    "\0",
    "\t",
    "'",
    "\ufeff",
    "\u202e",
    "é",
    "\x1c",
    "0",
    "-",
    "E",
    "∞",
    "😀",
    "=",
    "<",
    "&",
    "]]>",
    "%s",
    "{",
    "\\",
]
WORDS = [
    "INF",
    "NaN",
    "-1e60",
    "1E+999999",
    "base64",
    "idna",
    "x)|(?:.*",
    "(a{1000}){1000}",
    "[a&&b]",
    "utf-16",
    "\\u{110000}",
    "[",
    "#",
    "",
    " ",
    "_:",
    "0,00",
    "#,##0.00",
    "HH:mm:ss.SSSSSSSSSSSSS",
]


def spoiled_bytes(chance: random.Random, data: bytes) -> bytes:
    """Bytes with some taken out, put in, doubled, or cut off."""
    made = bytearray(data)
    for _ in range(chance.randrange(1, 8)):
        at = chance.randrange(len(made) + 1)
        match chance.randrange(6):
            case 0:
                del made[at : at + chance.randrange(1, 40)]
            case 1:
                made[at:at] = chance.choice(SIGNS).encode() * chance.choice([1, 1, 1, 3, 500])
            case 2:
                made[at:at] = made[at : at + chance.randrange(1, 200)]
            case 3:
                made[at : at + 1] = bytes([chance.randrange(256)])
            case 4:
                del made[at:]
            case _:
                made[at:at] = bytes(chance.randrange(256) for _ in range(chance.randrange(1, 9)))
    return bytes(made)


def spoiled_value(chance: random.Random, value: Any, depth: int = 0) -> Any:
    """A JSON value with something in it put wrong."""
    if isinstance(value, dict) and value and chance.random() < 0.85:
        made = dict(value)
        key = chance.choice(list(made))
        match chance.randrange(5):
            case 0:
                del made[key]
            case 1:
                made[chance.choice([*WORDS, "format", "minimum", "titles", "tables", "urn:mudanza:oneOf"])] = made[key]
            case _:
                made[key] = spoiled_value(chance, made[key], depth + 1)
        return made
    if isinstance(value, list) and value and chance.random() < 0.85:
        made_list = list(value)
        at = chance.randrange(len(made_list))
        made_list[at] = spoiled_value(chance, made_list[at], depth + 1)
        return made_list
    odd = [None, True, 5, -1, 1e400, 10**30, [], {}, [5], ["x"], {"a": 1}, "9" * 5000]
    return chance.choice([*odd, *WORDS, *WORDS])


def spoiled_workbook(chance: random.Random, data: bytes, folder: Path) -> bytes:
    """A workbook (XLSX or ODS) with one of its parts spoiled, or the archive itself."""
    if chance.random() < 0.2:
        return spoiled_bytes(chance, data)
    source, target = folder / "in.zip", folder / "out.zip"
    source.write_bytes(data)
    with zipfile.ZipFile(source) as old, zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED) as new:
        names = old.namelist()
        hit = chance.choice([name for name in names if name.endswith((".xml", ".rels"))])
        for name in names:
            content = old.read(name)
            if name == hit:
                content = far_out(chance, content) if chance.random() < 0.2 else spoiled_bytes(chance, content)
            new.writestr(name, content)
    return target.read_bytes()


def far_out(chance: random.Random, markup: bytes) -> bytes:
    """A sheet's markup with a cell far away from the others, or with cells said to be repeated very often."""
    times = chance.choice([b"16384", b"1048576", b"4294967296", b"-1", b"x"])
    return (
        markup.replace(b'r="A2"', b'r="XFD1048576"')
        .replace(b'-columns-repeated="2"', b'-columns-repeated="' + times + b'"')
        .replace(b'-rows-repeated="2"', b'-rows-repeated="' + times + b'"')
    )


def open_document() -> bytes:
    """A small spreadsheet in OpenDocument, of cells of all kinds."""
    cell = '<table:table-cell office:value-type="{}"{}><text:p>{}</text:p></table:table-cell>'
    rows = [
        cell.format("float", f' office:value="{n}.5" table:formula="of:=1+{n}"', f"{n},5")
        + cell.format("string", "", f"x{n}")
        + cell.format("date", f' office:date-value="2024-01-{n % 28 + 1:02}"', "1/1")
        + '<table:table-cell table:number-columns-repeated="2"/>'
        for n in range(60)
    ]
    names = "".join(
        f' xmlns:{short}="urn:oasis:names:tc:opendocument:xmlns:{short}:1.0"' for short in ("office", "table", "text")
    )
    heading = "".join(cell.format("string", "", title) for title in ("a", "b", "c"))
    content = (
        f'<?xml version="1.0"?><office:document-content{names}><office:body><office:spreadsheet><table:table table:name="S">'
        f"<table:table-row>{heading}</table:table-row>"
        + "".join(f"<table:table-row>{row}</table:table-row>" for row in rows)
        + '<table:table-row table:number-rows-repeated="2"><table:table-cell/></table:table-row>'
        "</table:table></office:spreadsheet></office:body></office:document-content>"
    )
    made = io.BytesIO()
    with zipfile.ZipFile(made, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("mimetype", "application/vnd.oasis.opendocument.spreadsheet")
        archive.writestr("META-INF/manifest.xml", "<manifest/>")
        archive.writestr("content.xml", content)
    return made.getvalue()


def marked_up() -> bytes:
    """A small XML file with nested and repeated elements, attributes and an entity."""
    rows = "".join(
        f'<r id="{n}"><a>{n}</a><b>x &amp; y</b><b>two</b><c><d lang="de">ä</d></c><e><![CDATA[<q>]]></e></r>'
        for n in range(60)
    )
    return f'<?xml version="1.0" encoding="UTF-8"?><!-- all --><all xmlns:q="urn:q">{rows}</all>'.encode()


def seeds_in(folder: Path) -> tuple[list[tuple[str, bytes]], list[Any], list[Any]]:
    """Files, layouts and schemas to spoil."""
    from mudanza.demo.create import create_demo

    create_demo(folder / "demo")
    files = [
        path
        for path in (folder / "demo").rglob("*")
        if path.suffix in (".csv", ".xlsx", ".json", ".txt") and "layouts" not in path.parts
    ]
    layouts = [json.loads(path.read_text()) for path in (folder / "demo/layouts").glob("*.json")]
    column = {
        "name": "a",
        "titles": {"en": "A", "pt": ["B"]},
        "datatype": {
            "base": "decimal",
            "format": {"pattern": "#.##0,00", "decimalChar": ",", "groupChar": "."},
            "minimum": 1,
        },
        "null": ["-"],
        "separator": "|",
    }
    odd = {
        "name": "b",
        "datatype": {"base": "dateTime", "format": "dd/MM/yyyy HH:mm:ss.SSS XXX", "maximum": "2024-01-31T10:00:00Z"},
        "urn:mudanza:requiredWhen": {"a": True},
    }
    key = {"columnReference": "a", "reference": {"resource": "b.csv", "columnReference": "a"}}
    schema = {
        "columns": [column, odd],
        "primaryKey": ["a"],
        "foreignKeys": [key],
        "urn:mudanza:oneOf": [["a", "b"]],
        "urn:mudanza:rowLength": 9,
    }
    dialect = {
        "skipRows": 1,
        "headerRowCount": 1,
        "commentPrefix": "#",
        "trim": True,
        "lineTerminators": ["\n"],
        "encoding": "utf-8",
        "delimiter": ";",
    }
    layouts.append(
        {
            "@context": "http://www.w3.org/ns/csvw",
            "tables": [{"url": "x.csv", "tableSchema": schema, "dialect": dialect}],
            "null": "n",
        }
    )
    record = {
        "type": "object",
        "required": ["a"],
        "properties": {
            "a": {"type": "string", "pattern": "^x", "maxLength": 3},
            "b": {"$ref": "#/$defs/c"},
            "d": {"oneOf": [{"const": 1}]},
        },
    }
    lines = "".join(json.dumps({"a": n, "b": ["x", n], "c": {"d": None}}) + "\n" for n in range(60))
    made = [("made.ods", open_document()), ("made.xml", marked_up()), ("made.ndjson", lines.encode())]
    return (
        [*((path.name, path.read_bytes()) for path in files), *made * 3],
        layouts,
        [{"$schema": "x", **record, "$defs": {"c": {"type": "number", "multipleOf": 0.01}}}],
    )


def run_case(seed: int, folder: Path, files: list[tuple[str, bytes]], layouts: list[Any], schemas: list[Any]) -> None:
    """One case. Whatever is none of the program's own errors comes up."""
    from mudanza.core.documents.errors import MudanzaError
    from mudanza.core.layouts.csvw import read_layout, read_layouts
    from mudanza.core.plans.move import Move
    from mudanza.core.work.annotating import annotate
    from mudanza.core.work.check import check
    from mudanza.core.work.fixing import fix
    from mudanza.core.work.layout_draft import Given, draft_layout

    chance = random.Random(seed)
    name, data = chance.choice(files)
    path, layout_path = folder / name, folder / "layout.json"
    changed = chance.choice([False, True, True])
    path.write_bytes(
        (spoiled_workbook(chance, data, folder) if name.endswith((".xlsx", ".ods")) else spoiled_bytes(chance, data))
        if changed
        else data
    )
    whole = chance.choice(layouts)
    for _ in range(chance.randrange(0, 3)):
        whole = spoiled_value(chance, whole)
    text = json.dumps(whole)
    layout_path.write_bytes(spoiled_bytes(chance, text.encode()) if chance.random() < 0.1 else text.encode())
    try:
        layout = read_layouts(layout_path)[0]
    except MudanzaError:
        layout = None
        layout_path.write_text(json.dumps(chance.choice(layouts)))
    for work in (
        lambda: check(path, layout or read_layout(layout_path), limit=chance.choice([None, 3])),
        lambda: annotate(
            path, layout or read_layout(layout_path), check(path, layout or read_layout(layout_path)), folder / "a.xlsx"
        ),
        lambda: fix(path, layout or read_layout(layout_path), folder / "f.csv"),
        lambda: draft_layout(Move(folder, "fuzz"), "made", [Given(path)], replace=True),
        lambda: _schema(chance, folder, schemas, draft_layout, Given, Move),
    ):
        try:
            work()
        except MudanzaError as error:
            assert error.what and len(error.what) < 2000, "an error without words, or with too many"


def _schema(chance: random.Random, folder: Path, schemas: list[Any], draft_layout: Any, given: Any, move: Any) -> None:
    path = folder / "schema.json"
    path.write_text(json.dumps(spoiled_value(chance, chance.choice(schemas))))
    draft_layout(move(folder, "fuzz"), "schema", [given(path, "schema")], replace=True)


def work(seeds: Iterator[int], until: float, told: Any) -> None:
    """Run cases until it is time, telling which one is under way."""
    resource.setrlimit(resource.RLIMIT_AS, (8 << 30, 8 << 30))
    with tempfile.TemporaryDirectory() as temporary:
        folder = Path(temporary)
        seeds_of = seeds_in(folder)
        for seed in seeds:
            if time.time() > until:
                return
            told.value = seed
            begun, worked = time.time(), time.process_time()
            before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
            try:
                run_case(seed, folder, *seeds_of)
            except BaseException as error:
                print(f"seed {seed}: {type(error).__name__}: {str(error)[:300]}", flush=True)
            # a machine that does something else beside makes no case slow
            took = min(time.time() - begun, time.process_time() - worked)
            if took > LONGEST:
                print(f"seed {seed}: took {took:.1f} s", flush=True)
            grown = (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) * 1024
            if grown > MEMORY:
                print(f"seed {seed}: took {grown >> 20} MiB more", flush=True)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--minutes", type=float, default=20)
    parser.add_argument("--seed", type=int, default=1)
    asked = parser.parse_args()
    until, seed, died = time.time() + asked.minutes * 60, asked.seed, 0
    context = multiprocessing.get_context("spawn")
    while time.time() < until:
        told = context.Value("l", seed)
        process = context.Process(target=work, args=(range(seed, seed + 500), until, told))
        process.start()
        process.join()
        if process.exitcode:
            died += 1
            print(f"seed {told.value}: the process died ({process.exitcode})", flush=True)
            seed = told.value + 1
        else:
            seed += 500
    print(f"{told.value - asked.seed} cases, {died} died")


if __name__ == "__main__":
    main()
