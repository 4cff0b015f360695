"""The 30 fields of mapping.py as somebody would write them by hand in Polars, without any checks: by_hand_mapping.py SOURCE TARGET"""

import sys

import polars as pl

c = pl.col
PLAIN = {
    "ø": "o",
    "Ø": "O",
    "ł": "l",
    "Ł": "L",
    "ß": "ss",
    "æ": "ae",
    "Æ": "AE",
    "œ": "oe",
    "Œ": "OE",
    "đ": "d",
    "Đ": "D",
    "ð": "d",
    "Ð": "D",
    "þ": "th",
    "Þ": "Th",
    "ı": "i",
    "ħ": "h",
    "Ħ": "H",
    "ŋ": "n",
}


def trim(e):
    return e.str.strip_chars()


def squeeze(e):
    return e.str.replace_all(r"\s{2,}|[^\S ]", " ").str.strip_chars()


def digits(e):
    return e.str.replace_all(r"[^0-9]", "")


def unaccent(e):
    return e.str.normalize("NFKD").str.replace_all(r"\p{M}", "").str.replace_many(list(PLAIN), list(PLAIN.values()))


def prefix(e, text):
    return pl.when(e.is_null() | (e.str.strip_chars() == "")).then(e).otherwise(pl.lit(text) + e)


def join(separator, *parts):
    return pl.concat_str([pl.when(trim(p) != "").then(p) for p in parts], separator=separator, ignore_nulls=True)


def blank_if(e, *texts):
    return pl.when(~trim(e).is_in(list(texts))).then(e)


def filled(e):
    return pl.when(e != "").then(e)


def before(e, sign):
    return filled(e.str.replace(rf"(?s){sign}.*$", "").str.strip_chars())


def after(e, sign):
    return filled(e.str.extract(rf"(?s){sign}(.*)$", 1).str.strip_chars())


def day(e):
    return trim(e).str.to_date("%d/%m/%Y", strict=False)


def number(e):
    return (
        trim(e)
        .str.replace_all(".", "", literal=True)
        .str.replace(",", ".", literal=True)
        .cast(pl.Decimal(38, 12), strict=False)
    )


def decimals(e, places):
    return e.round(places, mode="half_away_from_zero").cast(pl.Decimal(38, places)).cast(pl.String)


FIELDS = [
    digits(trim(c("Client No"))).str.pad_start(8, "0"),
    prefix(trim(c("Client No")).str.tail(4), "N-"),
    trim(c("Title")).str.replace(r"\s*\.\s*$", "").str.to_uppercase(),
    unaccent(squeeze(c("First name")).str.to_lowercase()),
    squeeze(c("Surname")).str.to_titlecase().str.head(20),
    squeeze(pl.concat_str(c("First name").fill_null(""), pl.lit(" "), c("Surname").fill_null("")))
    .str.to_titlecase()
    .str.head(60),
    squeeze(join(", ", c("Surname"), c("First name"))).str.to_uppercase().str.head(60),
    trim(squeeze(join(", ", c("Address 1"), c("Address 2"))).str.head(50)),
    squeeze(c("Address 1")).str.to_uppercase().str.replace_all("RUA", "R.", literal=True),
    squeeze(after(c("Address 1"), " ")).str.to_uppercase(),
    trim(c("Address 2")).str.to_uppercase().fill_null("-"),
    before(trim(c("Postcode")), "-").str.pad_start(4, "0"),
    prefix(digits(trim(c("Postcode"))), "PT"),
    unaccent(squeeze(c("Town")).str.to_uppercase()),
    trim(c("Town")).str.to_lowercase().str.head(3).str.to_uppercase(),
    digits(blank_if(c("Phone"), "n/a", "-")).str.tail(9),
    prefix(digits(blank_if(c("Phone"), "n/a").str.replace(r"^\s*(?:\+351|00351)\s*", "")), "+351"),
    before(trim(c("E-mail")).str.to_lowercase(), "@"),
    before(after(trim(c("E-mail")).str.to_lowercase(), "@"), r"\."),
    day(c("Since")).dt.strftime("%Y"),
    day(c("Since")).dt.truncate("1mo").cast(pl.String),
    day(blank_if(c("Last seen"), "00/00/0000")).dt.strftime("%Y%m%d"),
    prefix(trim(c("Status")).str.to_uppercase(), "S"),
    pl.when(c("Status") == "A")
    .then(pl.lit("active"))
    .when(c("Status").is_in(["I", "D"]))
    .then(pl.lit("inactive"))
    .otherwise(trim(c("Status")).str.to_lowercase()),
    decimals(number(c("Balance")), 1),
    decimals(number(c("Balance")) * pl.lit("1.23").cast(pl.Decimal(38, 12)), 2),
    prefix(trim(c("Mailing")).fill_null("N").str.to_uppercase(), "M"),
    unaccent(join("/", c("Client No"), c("Town")).str.to_uppercase()),
    squeeze(pl.coalesce(c("First name"), c("Surname"))).str.head(1).str.to_uppercase(),
    join("", c("Title"), c("Status"), c("Mailing")).str.to_uppercase().str.pad_end(6, "."),
]

if __name__ == "__main__":
    rows = pl.read_csv(sys.argv[1], separator=";", infer_schema=False)
    made = rows.lazy().select(pl.when(e.str.strip_chars() != "").then(e).alias(f"f{i}") for i, e in enumerate(FIELDS))
    made.collect().write_csv(sys.argv[2])
