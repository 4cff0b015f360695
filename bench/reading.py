"""Times the reading of workbooks and databases beside the bare libraries.

    python bench/reading.py [--rounds 3]

A workbook of 200,000 rows x 15 columns against what the reading library alone takes, and a table of 1,000,000 rows in PostgreSQL against a
plain COPY to CSV of that table. Prints the fastest of the rounds and the ratios. The database is that of the environment
variable BENCH_POSTGRESQL (postgresql://127.0.0.1/test); without a server that part is left out.
"""

from __future__ import annotations

import argparse
import os
import random
import sys

from run import DATA, timed

OURS = "import sys; from pathlib import Path; import mudanza; print(sum(b.rows.height for b in mudanza.open_source(Path(sys.argv[1])).batches()))"
LIBRARY = (
    "import sys, fastexcel; s = fastexcel.read_excel(sys.argv[1]).load_sheet(0, header_row=None, dtypes='string');"
    "print(s.to_polars().shape)"
)
OUR_TABLE = (
    "import sys; from mudanza.core.sources.address import Database; from mudanza.core.sources.database import open_database;"
    "from mudanza.core.sources.reader import ReadOptions;"
    "r = open_database(Database('bench', address=sys.argv[1], user_from='BENCH_USER'), ReadOptions(own={'table': 'bench_clients'}));"
    "print(sum(b.rows.height for b in r.batches()))"
)
COPY = (
    "import sys, os, psycopg; c = psycopg.connect(sys.argv[1], user=os.environ['BENCH_USER']); f = open(sys.argv[2], 'wb')\n"
    "with c.cursor().copy('COPY bench_clients TO STDOUT (FORMAT csv)') as copy:\n    for piece in copy: f.write(piece)"
)


def write_workbook(path: str, rows: int) -> None:
    import xlsxwriter

    book = xlsxwriter.Workbook(path, {"constant_memory": True})
    sheet = book.add_worksheet("Clients")
    zeros, day = book.add_format({"num_format": "00000"}), book.add_format({"num_format": "dd/mm/yyyy"})
    sheet.write_row(0, 0, [f"Column {i}" for i in range(15)])
    chance = random.Random(1)
    for row in range(1, rows + 1):
        sheet.write_number(row, 0, row, zeros)
        for column in range(1, 8):
            sheet.write_string(row, column, f"text {chance.randint(0, 100_000)}")
        for column in range(8, 14):
            sheet.write_number(row, column, chance.randint(0, 100_000) / 100)
        sheet.write_number(row, 14, 40_000 + row % 5000, day)
    book.close()


def write_table(address: str, rows: int) -> bool:
    import psycopg

    try:
        connection = psycopg.connect(address, user=os.environ["BENCH_USER"], autocommit=True, connect_timeout=3)
    except psycopg.OperationalError as error:
        print(f"no PostgreSQL here ({str(error).splitlines()[0]}); that part is left out")
        return False
    connection.execute("DROP TABLE IF EXISTS bench_clients")
    connection.execute(
        "CREATE TABLE bench_clients AS SELECT i AS id, 'C' || lpad(i::text, 7, '0') AS code, 'First ' || i % 977 AS first,"
        " 'Sur, name ' || i % 1009 AS last, 'Street ' || i % 5003 AS street, lpad((i % 9999)::text, 4, '0') AS zip,"
        " 'Town ' || i % 31 AS town, 900000000 + i AS phone, 'c' || i || '@example.org' AS mail,"
        " date '2000-01-01' + i % 9000 AS since, now()::timestamp(0) AS seen, (i % 100000)::numeric(12,2) / 7 AS owed,"
        " i % 3 = 0 AS letters, CASE WHEN i % 5 = 0 THEN NULL ELSE 'note' END AS note, i % 7 AS state"
        f" FROM generate_series(1, {rows}) AS i"
    )
    connection.execute("ALTER TABLE bench_clients ADD PRIMARY KEY (id)")
    connection.execute("VACUUM ANALYZE bench_clients")
    return True


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--rows", type=int, default=200_000, help="of the workbook; the table has five times as many")
    arguments = parser.parse_args()
    rounds, rows = arguments.rounds, arguments.rows
    os.environ.setdefault("BENCH_USER", os.environ.get("USER", "root"))
    address = os.environ.get("BENCH_POSTGRESQL", "postgresql://127.0.0.1/test")
    DATA.mkdir(exist_ok=True)
    workbook = str(DATA / "clients.xlsx")
    write_workbook(workbook, rows)
    python = sys.executable
    pairs = {
        f"workbook of {rows:,} rows / the reading library": (
            [python, "-c", OURS, workbook],
            [python, "-c", LIBRARY, workbook],
            1.3,
        )
    }
    if write_table(address, 5 * rows):
        pairs[f"PostgreSQL table of {5 * rows:,} rows / COPY to CSV"] = (
            [python, "-c", OUR_TABLE, address],
            [python, "-c", COPY, address, str(DATA / "table.csv")],
            1.5,
        )
    print("\n| ratio | ours, s | bare, s | measured | goal |\n| --- | ---: | ---: | ---: | ---: |")
    for name, (ours, bare, goal) in pairs.items():
        both = [(timed(ours).seconds, timed(bare).seconds) for _ in range(rounds)]
        mine, other = min(a for a, _ in both), min(b for _, b in both)
        print(f"| {name} | {mine:.2f} | {other:.2f} | {mine / other:.2f} | at most {goal} |")


if __name__ == "__main__":
    main()
