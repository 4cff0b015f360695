"""The least that a check of the demo's owners can be: the same questions in one Polars query, which tells how many cells are wrong and not where.

python bench/by_hand_check.py FILE
"""

import sys

import polars as pl

PATTERNS = {
    "Owner code": "OW-[0-9]{6,}",
    "Postcode": "[0-9]{4}-[0-9]{3}",
    "Phone": "[0-9]{9}",
    "E-mail": r"[^@ ]+@[^@ ]+\.[a-z]+",
    "Balance": r"-?[0-9]+\.[0-9]{2}",
}
LENGTHS = {"Name": 60, "Street": 40, "Town": 30, "E-mail": 80}
WORDS = {"Branch": ["NOR", "HAR"], "Standing": ["clear", "debtor", "sleeping"], "Sends letters": ["Y", "N"]}
NEEDED = ["Owner code", "Name", "Branch", "Standing"]

rows = pl.scan_csv(sys.argv[1], infer_schema=False)
since, last = (pl.col(name).str.to_date("%Y-%m-%d", strict=False) for name in ("Client since", "Last visit"))
balance = pl.col("Balance").cast(pl.Decimal(38, 12), strict=False)
wrong = [
    *(~pl.col(name).str.contains(f"^(?:{pattern})$") for name, pattern in PATTERNS.items()),
    *(pl.col(name).str.len_chars() > most for name, most in LENGTHS.items()),
    *(~pl.col(name).is_in(words) for name, words in WORDS.items()),
    *(pl.col(name).is_null() for name in NEEDED),
    since.is_null() & pl.col("Client since").is_not_null(),
    last.is_null() & pl.col("Last visit").is_not_null(),
    since < pl.date(1980, 1, 1),
    balance < 0,
    pl.col("Owner code").is_duplicated(),
]
counts = rows.select(one.sum().alias(str(number)) for number, one in enumerate(wrong)).collect(engine="in-memory")
print(counts.row(0))
