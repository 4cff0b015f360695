"""Names of months and how they are shortened, by language (Unicode CLDR). The first three letters count too."""

from __future__ import annotations

import polars as pl

ENGLISH = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"]
_NAMES = {
    "de": "januar februar märz|mrz|maerz april mai juni juli august september oktober november dezember",
    "en": "january february march april may june july august september|sept october november december",
    "es": "enero febrero marzo abril mayo junio julio agosto septiembre|setiembre|sept octubre noviembre diciembre",
    "fr": "janvier|janv février|fevrier|févr mars avril|avr mai juin juillet|juil août|aout septembre|sept octobre novembre décembre|decembre|déc",
    "it": "gennaio febbraio marzo aprile maggio giugno luglio agosto settembre|sett ottobre novembre dicembre",
    "nl": "januari februari maart|mrt april mei juni juli augustus september|sept oktober november december",
    "pl": "stycznia|styczeń lutego|luty marca|marzec kwietnia|kwiecień maja|maj czerwca|czerwiec lipca|lipiec sierpnia|sierpień września|wrzesień października|październik listopada|listopad grudnia|grudzień",
    "pt": "janeiro fevereiro março|marco abril maio junho julho agosto setembro outubro novembro dezembro",
}
LANGUAGES = tuple(_NAMES)


def in_english(text: pl.Expr, language: str | None = None) -> pl.Expr:
    """Months by their names in a language, or in any, as the English short ones."""
    table: dict[str, str] = {}
    for one in LANGUAGES if language is None else (language,):
        table |= _table(one)
    longest = sorted(table, key=lambda name: (-len(name), name))
    return text.str.to_lowercase().str.replace_many(longest, [table[name] for name in longest], leftmost=True)


def _table(language: str) -> dict[str, str]:
    table: dict[str, str] = {}
    for number, names in enumerate(_NAMES[language].split(" ")):
        known = names.split("|")
        # June and July share three letters in some languages, May has no more than three
        short = {name[:3] for name in known if len({n.split("|")[0][:3] for n in _NAMES[language].split(" ")}) == 12}
        for name in {*known, *short}:
            for form in (name, f"{name}."):
                table[form] = ENGLISH[number]
    return table
