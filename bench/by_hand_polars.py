"""The benchmark's list made by a hand-written Polars script: the same import file, and nothing else."""

import sys

import polars as pl


def blank(expr: pl.Expr) -> pl.Expr:
    return expr.str.strip_chars().str.len_bytes().fill_null(0) == 0


def main(source: str, target: str) -> None:
    c = pl.col
    # the export is in a Windows encoding, which the lazy reader does not know
    rows = pl.read_csv(source, separator=";", infer_schema=False, encoding="cp1252").lazy()
    rows = rows.filter((c("Status") != "I") | ~blank(c("Last seen")))
    squeeze = lambda e: e.str.replace_all(r"\s+", " ").str.strip_chars()  # noqa: E731
    name = squeeze(c("First name").fill_null("") + " " + c("Surname").fill_null("")).str.to_titlecase()
    street = squeeze(pl.concat_str("Address 1", "Address 2", separator=", ", ignore_nulls=True))
    at_word = street.str.head(41).str.replace(r"\s+\S*$", "")
    street = (
        pl.when(street.str.len_chars() > 40)
        .then(pl.when(at_word.str.len_chars() <= 40).then(at_word).otherwise(street.str.head(40)).str.strip_chars_end())
        .otherwise(street)
    )
    phone = pl.when(~c("Phone").str.strip_chars().is_in(["n/a", "-"])).then(c("Phone"))
    seen = pl.when(c("Last seen") != "00/00/0000").then(c("Last seen"))
    balance = c("Balance").str.replace_all(".", "", literal=True).str.replace(",", ".", literal=True)
    made = rows.select(
        pl.lit("").alias("Owner code"),
        name.alias("Name"),
        street.alias("Street"),
        c("Postcode").str.strip_chars(),
        c("Town").str.strip_chars(),
        phone.str.replace_all(r"[^0-9]", "").str.tail(9).alias("Phone"),
        c("E-mail").str.strip_chars().str.to_lowercase(),
        c("Since").str.to_date("%d/%m/%Y", strict=False).alias("Client since"),
        seen.str.to_date("%d/%m/%Y", strict=False).alias("Last visit"),
        balance.cast(pl.Decimal(38, 2), strict=False).fill_null(0).alias("Balance"),
        pl.lit("NOR").alias("Branch"),
        c("Status").replace_strict({"A": "clear", "I": "sleeping", "D": "debtor"}, default=None).alias("Standing"),
        c("Mailing").replace_strict({"S": "Y", "N": "N"}, default=None).alias("Sends letters"),
        c("Client No"),
    )
    good = (
        ~blank(c("Name"))
        & (c("Name").str.len_chars() <= 60)
        & c("Postcode").str.contains(r"^\d{4}-\d{3}$")
        & (c("Town").str.len_chars() <= 30)
        & (c("Phone").is_null() | c("Phone").str.contains(r"^\d{9}$"))
        & (c("E-mail").is_null() | c("E-mail").str.contains(r"^[^@ ]+@[^@ ]+\.[a-z]+$"))
        & (c("Client since") >= pl.date(1980, 1, 1))
        & (c("Balance") >= 0)
        & c("Standing").is_not_null()
    )
    made.filter(good).unique("Client No", keep="first", maintain_order=True).with_columns(
        pl.format("OW-{}", pl.int_range(1, pl.len() + 1).cast(pl.String).str.zfill(6)).alias("Owner code")
    ).drop("Client No").sink_csv(target, line_terminator="\r\n")


if __name__ == "__main__":
    main(*sys.argv[1:])
