"""Letters of other alphabets in Latin ones. Cyrillic as in the romanisation of passports (ICAO 9303) with plain vowels, Greek as ISO 843 type 2."""

from __future__ import annotations

STRAIGHT = {"ø": "o", "Ø": "O", "ł": "l", "Ł": "L", "ß": "ss", "æ": "ae", "Æ": "AE", "œ": "oe", "Œ": "OE", "đ": "d", "Đ": "D", "ð": "d", "Ð": "D", "þ": "th", "Þ": "Th", "ı": "i", "ħ": "h", "Ħ": "H", "ŋ": "n"}  # fmt: skip
GERMAN = {"ä": "ae", "ö": "oe", "ü": "ue", "Ä": "Ae", "Ö": "Oe", "Ü": "Ue"}


def _pairs(table: str) -> dict[str, str]:
    """`д=d` and so on, with the capitals."""
    small = dict(pair.split("=") for pair in table.split())
    return {**small, **{old.upper(): new.capitalize() for old, new in small.items() if old.upper() != old}}


CYRILLIC = _pairs(
    "а=a б=b в=v г=g д=d е=e ё=e ж=zh з=z и=i й=i к=k л=l м=m н=n о=o п=p р=r с=s т=t у=u ф=f х=kh ц=ts ч=ch ш=sh щ=shch ъ= ы=y ь= э=e ю=iu "
    "я=ia є=ie і=i ї=i ґ=g ђ=dj ј=j љ=lj њ=nj ћ=c џ=dz ў=u"
)
GREEK = _pairs(
    "ου=ou ού=ou αυ=av αύ=av ευ=ev εύ=ev α=a ά=a β=v γ=g δ=d ε=e έ=e ζ=z η=i ή=i θ=th ι=i ί=i ϊ=i ΐ=i κ=k λ=l μ=m ν=n ξ=x ο=o ό=o π=p ρ=r σ=s "
    "ς=s τ=t υ=y ύ=y ϋ=y ΰ=y φ=f χ=ch ψ=ps ω=o ώ=o"
)
