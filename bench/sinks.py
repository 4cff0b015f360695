"""Times the writing of records in each form, beside the library alone on the same cells; and a look at chosen records beside the same filter by hand.

    python bench/sinks.py [--rows 200000] [--rounds 3]

Prints a table with the fastest of the rounds, and the ratios.
"""

from __future__ import annotations

import argparse
import io
import json
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import polars as pl
import xlsxwriter

from mudanza.core.layouts.csvw import read_layout
from mudanza.core.layouts.layout import Layout
from mudanza.core.sinks.formats import RecordFile, sink_of

TEXTS, NUMBERS, DATES = 12, 5, 3
BY_HAND = (
    "import sys, polars as pl; print(pl.scan_csv(sys.argv[1], infer_schema=False)"
    ".filter((pl.col('t1') == 'text 8') & (pl.col('t2') > 'text 3')).select('t0', 't1', 'n0').collect())"
)
MUDANZA = str(Path(sys.executable).with_name("mudanza"))


def layout_of(folder: Path, form: str) -> Layout:
    columns: list[dict[str, Any]] = [{"name": f"t{n}"} for n in range(TEXTS)]
    columns += [{"name": f"n{n}", "datatype": "decimal"} for n in range(NUMBERS)]
    columns += [{"name": f"d{n}", "datatype": {"base": "date", "format": "yyyy-MM-dd"}} for n in range(DATES)]
    for one in columns:
        one["urn:mudanza:width"] = 20
    path = folder / "l.json"
    path.write_text(
        json.dumps(
            {"@context": "http://www.w3.org/ns/csvw", "urn:mudanza:form": form, "tableSchema": {"columns": columns}}
        )
    )
    return read_layout(path)


def records(rows: int) -> pl.DataFrame:
    """Records of texts, as builds hand them to sinks."""
    number = pl.int_range(rows)
    texts = [pl.format("text {}", number * (n + 7) % (10 ** (n % 6 + 1))).alias(f"t{n}") for n in range(TEXTS)]
    numbers = [
        ((number * (n + 3)) % 100_000 / 100).round(2).cast(pl.Decimal(18, 2)).cast(pl.String).alias(f"n{n}")
        for n in range(NUMBERS)
    ]
    days = [
        (pl.date(1990, 1, 1) + pl.duration(days=number * (n + 1) % 12_000)).cast(pl.String).alias(f"d{n}")
        for n in range(DATES)
    ]
    return pl.select(*texts, *numbers, *days)


def of_kinds(frame: pl.DataFrame) -> pl.DataFrame:
    """Numbers and dates of their texts."""
    return frame.with_columns(pl.col("^n.*$").cast(pl.Decimal(18, 2)), pl.col("^d.*$").str.to_date("%Y-%m-%d"))


def ours(layout: Layout, frame: pl.DataFrame) -> None:
    file = RecordFile(io.BytesIO(), sink_of(layout).writer(layout, frame.columns))
    for rows in frame.iter_slices(100_000):
        file.write(rows)
    file.close()


def xlsx_alone(frame: pl.DataFrame) -> None:
    """The same cells in the same formats, by XlsxWriter alone."""
    with tempfile.TemporaryFile() as target:
        book = xlsxwriter.Workbook(target, {"constant_memory": True})
        sheet, text, day, number = (
            book.add_worksheet(),
            *(book.add_format({"num_format": f}) for f in ("@", "yyyy-mm-dd", "General")),
        )
        forms = [text] * TEXTS + [number] * NUMBERS + [day] * DATES
        for row, values in enumerate(frame.iter_rows(), start=1):
            for column, (value, form) in enumerate(zip(values, forms, strict=True)):
                if isinstance(value, str):
                    sheet.write_string(row, column, value, form)
                else:
                    sheet.write_number(row, column, value, form)
        book.close()


def fastest(rounds: int, run: Callable[[], object]) -> float:
    found = []
    for _ in range(rounds):
        begun = time.perf_counter()
        run()
        found.append(time.perf_counter() - begun)
    return min(found)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("forms", nargs="*", help="the forms to write (all)")
    parser.add_argument("--rows", type=int, default=200_000)
    parser.add_argument("--rounds", type=int, default=3)
    asked = parser.parse_args()
    frame = records(asked.rows)
    typed = of_kinds(frame)
    days = pl.col(pl.Date)
    cells = typed.with_columns(
        (days - pl.date(1899, 12, 30)).dt.total_days().cast(pl.Float64), pl.col(pl.Decimal).cast(pl.Float64)
    )
    beside: dict[str, Callable[[], object]] = {
        "xlsx": lambda: xlsx_alone(cells),
        "json": lambda: typed.write_json(io.BytesIO()),
        "ndjson": lambda: typed.write_ndjson(io.BytesIO()),
        "parquet": lambda: typed.write_parquet(io.BytesIO()),
        "csv": lambda: frame.write_csv(io.BytesIO()),
    }
    # what sinks are given are texts: to make numbers and dates of them is a part of the work
    from_texts: dict[str, Callable[[], object]] = {
        "json": lambda: of_kinds(frame).write_json(io.BytesIO()),
        "ndjson": lambda: of_kinds(frame).write_ndjson(io.BytesIO()),
        "parquet": lambda: of_kinds(frame).write_parquet(io.BytesIO()),
    }
    with tempfile.TemporaryDirectory() as temporary:
        folder = Path(temporary)
        print(f"{asked.rows:,} rows x {frame.width} columns")
        for form in asked.forms or ("xlsx", "json", "ndjson", "parquet", "csv", "xml", "fixed", "ods"):
            layout = layout_of(folder, form)
            mine = fastest(asked.rounds, lambda layout=layout: ours(layout, frame))
            alone = fastest(asked.rounds, beside[form]) if form in beside else None
            texts = fastest(asked.rounds, from_texts[form]) if form in from_texts else None
            line = f"{form:8} {mine:6.2f} s"
            if alone:
                line += f"   alone {alone:6.2f} s   {mine / alone:5.2f}"
            if texts:
                line += f"   alone, from the same texts {texts:6.2f} s   {mine / texts:5.2f}"
            print(line, flush=True)
        path = folder / "r.csv"
        pl.concat([frame] * max(1, 1_000_000 // asked.rows)).write_csv(path)
        look = [
            MUDANZA,
            "records",
            str(path),
            "--where",
            '{t1} = "text 8" and {t2} > "text 3"',
            "--columns",
            "t0,t1,n0",
        ]
        by_hand = [sys.executable, "-c", BY_HAND, str(path)]
        quiet = {"stdout": subprocess.DEVNULL, "check": True}
        mine, alone = (
            fastest(asked.rounds, lambda command=command: subprocess.run(command, **quiet))
            for command in (look, by_hand)
        )
        print(f"records  {mine:6.2f} s   by hand {alone:6.2f} s   {mine / alone:5.2f}")


if __name__ == "__main__":
    main()
