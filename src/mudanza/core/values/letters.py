"""The letters beyond ASCII of languages, with how often they stand (per ten thousand letters, roughly): what encodings are told apart by."""

from __future__ import annotations

_LATIN = {
    "Czech": "á224 č95 ď2 é134 ě165 í327 ň8 ó3 ř121 š80 ť4 ú10 ů69 ý107 ž99",
    "Slovak": "á180 ä10 č110 ď20 é80 í110 ľ40 ĺ1 ň20 ó10 ô20 ŕ1 š80 ť60 ú80 ý100 ž90",
    "Polish": "ą99 ć40 ę111 ł182 ń20 ó85 ś66 ź6 ż83",
    "Hungarian": "á337 é352 í64 ó95 ö105 ő88 ú26 ü58 ű21",
    "Romanian": "ă240 â90 î140 ş110 ţ110 ș20 ț20",
    "Croatian": "č100 ć60 đ25 š90 ž50",
    "Turkish": "ç118 ğ112 ı511 ö77 ş178 ü185 İ25 â5 î2",
    "Latvian": "ā400 č10 ē180 ģ12 ī170 ķ15 ļ35 ņ45 š90 ū45 ž25",
    "Lithuanian": "ą30 č40 ę20 ė160 į60 š130 ų130 ū45 ž85",
    "Estonian": "ä105 õ100 ö25 ü65 š2 ž1",
    "German": "ä54 ö30 ü65 ß37 é2",
    "French": "é190 è35 à50 ê22 ç9 ù6 â5 î4 ô5 û5 ë1 ï1 œ2",
    "Spanish": "á50 é43 í70 ó85 ú17 ñ31 ü1 ¿3 ¡1 º2 ª1",
    "Portuguese": "ã73 á40 ç53 é50 í20 ó30 ê45 õ4 â10 à8 ú15 ô6 ü1 º3 ª2",
    "Italian": "à64 è26 é3 ì3 ò2 ù17",
    "Dutch": "é10 ë10 ï5 ö2 ü2 è2 ê1 á1 ó1",
    "Swedish": "å134 ä180 ö130 é5 ü1",
    "Danish": "æ87 ø94 å119 é5 ö1",
    "Norwegian": "æ18 ø54 å150 é4 ò1",
    "Finnish": "ä358 ö44 å3 š1",
    "Icelandic": "á180 ð439 é65 í157 ó99 ú61 ý23 þ145 æ87 ö78",
    "Catalan": "à60 ç10 è40 é50 í40 ï5 ó50 ò20 ú15 ü5",
}
_OTHERS = {
    "Greek": "α1000 ά120 β80 γ180 δ180 ε700 έ120 ζ40 η380 ή100 θ120 ι620 ί170 κ420 λ300 μ320 ν620 ξ40 ο800 ό150 π400 ρ420 ς380 σ400 τ800 υ320 ύ90 φ80 χ120 ψ20 ω160 ώ70 ϊ2 ΐ1 ϋ1",
    "Russian": "о1097 е845 а801 и735 н670 т626 с547 р473 в454 л440 к349 м321 д298 п281 у262 я201 ы190 ь174 г170 з165 б159 ч144 й121 х97 ж94 ш73 ю64 ц48 щ36 э32 ф26 ъ4 ё10 №2",
    "Ukrainian": "о940 а720 н650 и610 і575 в540 т530 е480 р450 с410 к360 л360 у340 д310 м300 п290 я200 з220 ь180 г160 ч140 б160 й130 х110 ц80 ж80 ї65 ю70 є61 ш60 щ30 ф30 ґ1 №2",
    "Bulgarian": "а1180 и870 о890 е850 т740 н730 р500 с480 в440 л340 к330 д320 п290 м240 з210 я170 г150 ъ150 у150 б140 ч130 ц70 й60 ж60 щ60 ш40 х60 ф20 ю10 ь10 №2",
    "Serbian": "а1150 о900 и980 е850 н560 р500 с480 т430 ј380 у400 в370 к360 л330 д370 м370 п290 з180 г160 б150 ш90 ч80 ц70 ж60 х60 њ80 љ50 ћ70 ф20 ђ20 џ5",
    "Hebrew": " ".join(f"{chr(c)}400" for c in range(0x5D0, 0x5EB)),
    "Arabic": " ".join(
        f"{chr(c)}{n}"
        for c, n in zip(
            (*range(0x621, 0x63B), *range(0x641, 0x64B)),
            (
                40,
                20,
                130,
                20,
                100,
                30,
                1100,
                330,
                250,
                400,
                80,
                120,
                150,
                100,
                300,
                60,
                450,
                80,
                330,
                130,
                100,
                80,
                130,
                30,
                370,
                50,
                200,
                300,
                250,
                800,
                600,
                600,
                500,
                550,
                130,
                650,
            ),
            strict=True,
        )
    ),
    "Thai": " ".join(f"{chr(c)}150" for c in (*range(0xE01, 0xE3B), *range(0xE40, 0xE4E))),
}
#: signs that stand in texts of any language: quotes, dashes, spaces, units, fractions
SIGNS = "’‘“”„–—…€£°ºª§«»·©®½¼¾²³\u00a0±µ•´`"
_CAPITALS = 0.2


def _shares(table: str) -> dict[str, float]:
    given = {piece[0]: float(piece[1:]) for piece in table.split()}
    shares: dict[str, float] = {}
    for letter, times in given.items():
        capital = letter.upper()
        alike = capital == letter or len(capital) > 1
        shares[letter] = shares.get(letter, 0) + (times if alike else times * (1 - _CAPITALS))
        if not alike:
            shares[capital] = shares.get(capital, 0) + times * _CAPITALS
    total = sum(shares.values())
    return {letter: share / total for letter, share in shares.items()}


#: for each language the share of each letter, capitals too, among its letters beyond ASCII
LETTERS: dict[str, dict[str, float]] = {name: _shares(table) for name, table in {**_LATIN, **_OTHERS}.items()}
#: languages that are written in letters beyond ASCII alone
OTHER_SCRIPTS = frozenset(_OTHERS)
