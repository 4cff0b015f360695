"""What the values of a column look like, whatever its heading says: by check digits and formats of published standards, by lists of known values, and by
how names, towns and streets are written."""

from __future__ import annotations

import csv
import re
from collections.abc import Callable, Mapping, Sequence
from functools import cache
from importlib import import_module
from importlib.resources import files

import numpy as np
import numpy.typing as npt

from mudanza.core.values.written import DATE_LIKE, NUMBER_LIKE
from mudanza.core.work.matching.looks.ngrams import SIZE, features
from mudanza.core.work.matching.meaning.tokens import folded

#: as many values are looked at
_SAMPLE = 60
#: numbers of persons and firms with check digits, by country (modules of python-stdnum, which name the law or standard each follows)
_TAX = [
    "at.uid",
    "at.vnr",
    "be.nn",
    "be.vat",
    "bg.egn",
    "bg.vat",
    "br.cnpj",
    "br.cpf",
    "ch.ssn",
    "ch.uid",
    "cz.dic",
    "cz.rc",
    "de.idnr",
    "de.vat",
    "dk.cpr",
    "dk.cvr",
    "ee.ik",
    "ee.kmkr",
    "ee.registrikood",
    "es.cif",
    "es.dni",
    "es.nif",
    "fi.hetu",
    "fi.ytunnus",
    "fr.nir",
    "fr.siren",
    "fr.siret",
    "fr.tva",
    "gb.nhs",
    "gb.vat",
    "gr.amka",
    "gr.vat",
    "hr.oib",
    "hu.anum",
    "ie.pps",
    "it.codicefiscale",
    "it.iva",
    "lt.asmens",
    "lt.pvm",
    "lv.pvn",
    "nl.bsn",
    "nl.btw",
    "no.fodselsnummer",
    "no.orgnr",
    "pl.nip",
    "pl.pesel",
    "pl.regon",
    "pt.cc",
    "pt.nif",
    "ro.cnp",
    "ro.cui",
    "ru.inn",
    "se.orgnr",
    "se.personnummer",
    "si.ddv",
    "si.emso",
    "sk.dph",
    "sk.rc",
    "tr.tckimlik",
    "tr.vkn",
]

_SHAPES = {
    "email": re.compile(r"[^@\s]+@[^@\s]+\.\w{2,}"),
    "web": re.compile(
        r"(?:https?://|www\.)\S+|[\w-]+(?:\.[\w-]+)*\.(?:com|org|net|eu|info|[a-z]{2})(?:/\S*)?", re.IGNORECASE
    ),
    "phone": re.compile(r"(?:\+|00)\d[\d\s()/.-]{6,20}|0\d[\d\s()/.-]{5,16}|\d{2,4}(?:[ /.-]\d{2,5}){1,5}|\d{8,11}"),
    "vin": re.compile(r"(?=.*\d)(?=.*[A-Z])[A-HJ-NPR-Z0-9]{17}"),  # ISO 3779
    "year": re.compile(r"(?:19|20)\d{2}"),
    "time": re.compile(r"(?:[01]?\d|2[0-3])[:.h][0-5]\d(?::[0-5]\d)?"),
    "coordinate": re.compile(r"-?\d{1,3}[.,]\d{3,}"),
    "date": DATE_LIKE,
    "number": NUMBER_LIKE,
    "code": re.compile(r"[A-Z0-9_./+-]{1,6}"),
    "text": re.compile(r"(?s)(?=(?:\S+\s+){3,}\S).*"),
}
#: post codes as countries write them: those that nothing else looks like, and those that are a number only
_POST = re.compile(
    r"\d{3} \d{2}|\d{2}-\d{3}|\d{4}-\d{3}|\d{5}-\d{3}|\d{4} ?[A-Z]{2}|[A-Z]{1,2}\d[A-Z\d]? \d[A-Z]{2}|(?:[A-Z]{1,2}-)\d{4,5}|[A-Z]\d[A-Z] \d[A-Z]\d"
)
_POST_TOO = re.compile(r"\d{4,6}|\d{3}")
_DIGITS = re.compile(r"(?:[A-Z]{2,3})?[\dA-Z .+/-]{8,32}")


#: what contents are called, those that say most first
LOOKS = {
    "email": "e-mail addresses", "web": "web addresses", "iban": "IBANs", "bic": "BICs", "isbn": "ISBNs", "vin": "vehicle identification numbers",
    "tax": "numbers of persons or firms with check digits", "barcode": "bar codes", "phone": "telephone numbers", "date": "dates", "time": "times",
    "year": "years", "gender": "genders", "title": "titles", "marital": "marital statuses", "country": "countries", "currency": "currencies",
    "language": "languages", "weekday": "days of the week", "colour": "colours", "unit": "units", "full": "names of people", "given": "given names",
    "family": "family names", "town": "towns", "street": "streets", "company": "firms", "job": "occupations", "post": "post codes",
    "coordinate": "coordinates", "text": "sentences", "number": "numbers", "code": "codes",
}  # fmt: skip


def contents(values: Sequence[str]) -> Mapping[str, float]:
    """What the values look like: for each kind of content the share, 0 to 1, of the values that are so. `values` are different, without blanks."""
    sample = values[:_SAMPLE]
    if not sample:
        return {}
    found = {what: _share(sample, shape.fullmatch) for what, shape in _SHAPES.items()}
    found |= _numbers(sample)
    post, too = _share(sample, _POST.fullmatch), _share(sample, _POST_TOO.fullmatch)
    one_length = len({len(v) for v in sample}) == 1 and len(sample) > 2
    found["post"] = post if post > 0.5 else 0.6 * too * one_length
    plain = [folded(v).strip(". ") for v in sample]
    for what, known in _known().items():
        found[what] = _share(plain, known.__contains__)
    if found["phone"] and (found["date"] > 0.5 or found.get("tax", 0) > 0.5 or found["barcode"] > 0.5):
        found["phone"] *= 0.2
    if found["phone"] and not any(v.startswith(("+", "0")) or " " in v for v in sample):
        found["phone"] *= 0.5
    if _share(sample, lambda v: sum(map(str.isalpha, v)) >= 0.5 * len(v)) > 0.6 and found["email"] + found["web"] < 0.5:
        written = _written(sample)
        if found["town"] >= 0.5:
            # names that are known to be of towns are not of people
            written |= {what: written[what] * (1 - found["town"]) for what in ("given", "family") if what in written}
        found |= written | {"town": max(found["town"], written.get("town", 0.0))}
    return {what: round(share, 3) for what, share in found.items() if share > 0.02}


def _share(values: Sequence[str], fits: Callable[[str], object]) -> float:
    return sum(map(bool, map(fits, values))) / len(values)


def _numbers(sample: Sequence[str]) -> dict[str, float]:
    """Numbers that carry check digits."""
    found = {"barcode": 0.0}
    if _share(sample, lambda v: _DIGITS.fullmatch(v.upper()) is not None and any(map(str.isdigit, v))) < 0.6:
        return found
    checked = [("iban", "iban"), ("bic", "bic"), ("barcode", "ean"), ("isbn", "isbn")]
    for what, module in checked:
        found[what] = _valid(module, sample)
    if not found["barcode"]:
        # numbers of its length that are made up for in-house labels carry no check digit
        found["barcode"] = 0.7 * _share(
            sample, lambda v: re.fullmatch(r"\d{13}|\d{12}|\d{8}", v) is not None and len(sample) > 1
        )
    if max(found.values()) < 0.75:
        found["tax"] = max(_valid(module, sample) for module in _TAX)
    return found


def _valid(module: str, sample: Sequence[str]) -> float:
    """The share of values that are valid by a standard; 0 if hardly any of the first is."""
    is_valid = _validity(module)
    first = sample[:6]
    if sum(map(is_valid, first)) < 0.6 * len(first):
        return 0.0
    return _share(sample, is_valid)


@cache
def _validity(module: str) -> Callable[[str], bool]:
    is_valid: Callable[[str], bool] = import_module(f"stdnum.{module}").is_valid
    return is_valid


@cache
def _known() -> Mapping[str, frozenset[str]]:
    """Lists of known values: countries, currencies, languages (ISO 3166, 4217, 639, and their names), titles, genders and so on."""
    found: dict[str, set[str]] = {}
    text = files("mudanza.core.work.matching.looks").joinpath("known_values.csv").read_text("utf-8")
    for what, values in list(csv.reader(text.splitlines()))[1:]:
        found.setdefault(what, set()).update(folded(v).strip(". ") for v in values.split("|"))
    return {what: frozenset(values) for what, values in found.items()}


# how names, towns and streets are written


@cache
def _weights() -> tuple[list[str], npt.NDArray[np.float32]]:
    with files("mudanza.core.work.matching.looks").joinpath("ngrams.npz").open("rb") as file, np.load(file) as kept:
        return [str(n) for n in kept["classes"]], kept["weights"].astype(np.float32) * float(kept["scale"])


def _written(sample: Sequence[str]) -> dict[str, float]:
    """Which of given name, family name, whole name, town, street, firm, job, description, text the values are, by the groups of letters in them. Learned
    on invented records of many countries (`bench/contents_learning.py`)."""
    classes, weights = _weights()
    told = np.zeros(len(classes))
    for value in sample:
        at = np.array(features(value), dtype=np.intp)
        scores = weights[at % SIZE].sum(axis=0) / np.sqrt(len(at))
        odds = np.exp(scores - scores.max())
        # one strange value does not outvote the others
        told += np.log(odds / odds.sum() + 0.02)
    shared = np.exp((told - told.max()) / np.sqrt(len(sample)))
    return dict(zip(classes, (shared / shared.sum()).tolist(), strict=True))
