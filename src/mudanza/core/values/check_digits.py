"""Check digits by published standards, computed for whole columns of texts.

Sources: ISO/IEC 7064:2003 (pure and hybrid systems), ISO/IEC 7812-1 annex B (Luhn), GS1 General Specifications section 7.9 (GTIN and other numbers with a modulo 10 digit), ISO 13616-1
(IBAN), and J. Verhoeff, "Error Detecting Decimal Codes" (1969).
"""

from __future__ import annotations

import string
from collections.abc import Callable
from dataclasses import dataclass
from functools import partial

import numpy as np
import numpy.typing as npt
import polars as pl

Numbers = npt.NDArray[np.int64]

_DIGITS, _LETTERS = string.digits, string.ascii_uppercase
_BOTH = _DIGITS + _LETTERS
#: longer texts are no identifiers
_LONGEST = 64
#: signs that part the groups of an identifier, and count for nothing
SEPARATORS = r"[-./ ]"


@dataclass(frozen=True)
class Scheme:
    """A way to make check characters: the characters that it takes, how many it makes, and how: from their numbers (-1 beyond a text's end) and the lengths of the texts,
    the number of the check, which is written in `written` characters to the base of their number. `behind` is where they stand: so many characters after the beginning, or at the end (None)."""

    takes: str
    makes: int
    work: Callable[[Numbers, Numbers], Numbers]
    written: str
    behind: int | None = None


def _pure(numbers: Numbers, _: Numbers, *, modulus: int, radix: int, makes: int) -> Numbers:
    """ISO 7064, pure systems."""
    sums = np.zeros(len(numbers), dtype=np.int64)
    for column in numbers.T:
        sums = np.where(column >= 0, (sums + column) * radix % modulus, sums)
    check: Numbers = (1 - sums * radix ** (makes - 1)) % modulus
    return check


def _expanded(numbers: Numbers, _: Numbers) -> Numbers:
    """ISO 7064 MOD 97-10, where a letter stands for a number of two digits."""
    sums = np.zeros(len(numbers), dtype=np.int64)
    for column in numbers.T:
        sums = np.where(column >= 0, (sums * np.where(column > 9, 100, 10) + column) % 97, sums)
    return 98 - sums * 100 % 97


def _hybrid(numbers: Numbers, _: Numbers, *, modulus: int) -> Numbers:
    """ISO 7064, hybrid systems (modulus + 1, modulus)."""
    product = np.full(len(numbers), modulus, dtype=np.int64)
    for column in numbers.T:
        sums = (product + column) % modulus
        sums = np.where(sums == 0, modulus, sums)
        product = np.where(column >= 0, sums * 2 % (modulus + 1), product)
    return (modulus + 1 - product) % modulus


def _from_right(numbers: Numbers, lengths: Numbers, position: int) -> Numbers:
    """The numbers so many places from the end of each text, -1 where it is shorter."""
    at = lengths - 1 - position
    found = numbers[np.arange(len(numbers)), np.maximum(at, 0)] if numbers.shape[1] else np.zeros_like(at)
    return np.where(at >= 0, found, -1)


def _luhn(numbers: Numbers, lengths: Numbers) -> Numbers:
    sums = np.zeros(len(numbers), dtype=np.int64)
    for position in range(numbers.shape[1]):
        digits = _from_right(numbers, lengths, position)
        doubled = digits if position % 2 else digits * 2 - 9 * (digits > 4)
        sums += np.where(digits >= 0, doubled, 0)
    return -sums % 10


def _gtin(numbers: Numbers, lengths: Numbers) -> Numbers:
    sums = np.zeros(len(numbers), dtype=np.int64)
    for position in range(numbers.shape[1]):
        digits = _from_right(numbers, lengths, position)
        sums += np.where(digits >= 0, digits * (1 if position % 2 else 3), 0)
    return -sums % 10


def _dihedral() -> tuple[Numbers, Numbers, Numbers]:
    """The multiplication of the dihedral group D5, Verhoeff's permutations, and the inverses."""
    i, j = np.indices((10, 10))
    turned = np.where(i < 5, i + j, i - j) % 5
    product = turned + 5 * ((i < 5) != (j < 5))
    first = np.array([1, 5, 7, 6, 2, 8, 3, 0, 9, 4])
    turns = [np.arange(10), first]
    while len(turns) < 8:
        turns.append(turns[-1][first])
    return product, np.array(turns), np.array([0, 4, 3, 2, 1, 5, 6, 7, 8, 9])


def _verhoeff(numbers: Numbers, lengths: Numbers) -> Numbers:
    product, turns, inverse = _dihedral()
    check = np.zeros(len(numbers), dtype=np.int64)
    for position in range(numbers.shape[1]):
        digits = _from_right(numbers, lengths, position)
        turned = turns[(position + 1) % 8][np.maximum(digits, 0)]
        check = np.where(digits >= 0, product[check, turned], check)
    return inverse[check]


def _iban(numbers: Numbers, lengths: Numbers) -> Numbers:
    """The country goes to the end."""
    return _expanded(np.concatenate([numbers[:, 2:], numbers[:, :2]], axis=1), lengths)


#: every scheme by the name that flows and key patterns use
SCHEMES: dict[str, Scheme] = {
    "luhn": Scheme(_DIGITS, 1, _luhn, _DIGITS),
    "gtin": Scheme(_DIGITS, 1, _gtin, _DIGITS),
    "verhoeff": Scheme(_DIGITS, 1, _verhoeff, _DIGITS),
    "iban": Scheme(_BOTH, 2, _iban, _DIGITS, behind=2),
    "mod 11-2": Scheme(_DIGITS, 1, partial(_pure, modulus=11, radix=2, makes=1), _DIGITS + "X"),
    "mod 37-2": Scheme(_BOTH, 1, partial(_pure, modulus=37, radix=2, makes=1), _BOTH + "*"),
    "mod 97-10": Scheme(_BOTH, 2, _expanded, _DIGITS),
    "mod 661-26": Scheme(_LETTERS, 2, partial(_pure, modulus=661, radix=26, makes=2), _LETTERS),
    "mod 1271-36": Scheme(_BOTH, 2, partial(_pure, modulus=1271, radix=36, makes=2), _BOTH),
    "mod 11,10": Scheme(_DIGITS, 1, partial(_hybrid, modulus=10), _DIGITS),
    "mod 27,26": Scheme(_LETTERS, 1, partial(_hybrid, modulus=26), _LETTERS),
    "mod 37,36": Scheme(_BOTH, 1, partial(_hybrid, modulus=36), _BOTH),
}


def check_characters(texts: pl.Series, scheme: str, *, known_only: bool = False) -> pl.Series:
    """The check characters of texts (separators count for nothing); null where a text is blank or has other characters than the scheme takes, unless `known_only` says that these
    count for nothing either."""
    how = SCHEMES[scheme]
    other = f"[^{how.takes}]" if known_only else SEPARATORS
    plain = texts.str.to_uppercase().str.replace_all(other, "")
    good = plain.str.contains(f"^[{how.takes}]{{{max(1, how.behind or 0)},{_LONGEST}}}$").fill_null(False)
    if how.behind is not None:
        good &= plain.str.contains("^[A-Z]{2}[0-9A-Z]").fill_null(False)
    numbers, lengths = _numbers(plain.filter(good), how.takes)
    check = how.work(numbers, lengths)
    made, base = np.array(list(how.written)), len(how.written)
    parts = [made[check // base**place % base] for place in reversed(range(how.makes))]
    found = parts[0]
    for part in parts[1:]:
        found = np.char.add(found, part)
    # back to the rows of those that had a number
    places = np.flatnonzero(good.to_numpy())
    whole = np.full(texts.len(), None, dtype=object)
    whole[places] = found
    return pl.Series(texts.name, whole.tolist(), dtype=pl.String)


def _numbers(texts: pl.Series, takes: str) -> tuple[Numbers, Numbers]:
    """The numbers of the characters of texts, -1 beyond their ends, and their lengths."""
    lengths = texts.str.len_chars().to_numpy().astype(np.int64)
    longest = int(lengths.max()) if len(lengths) else 0
    if not longest:
        return np.zeros((len(lengths), 0), dtype=np.int64), lengths
    signs = np.array(texts.to_numpy(), dtype=f"U{longest}").view(np.uint32).reshape(len(lengths), longest)
    value = np.full(128, -1, dtype=np.int64)
    value[[ord(sign) for sign in takes]] = range(len(takes))
    return value[signs], lengths


def with_check_characters(text: pl.Expr, scheme: str) -> pl.Expr:
    """A text with its check characters; null where they cannot be made."""
    check = text.map_batches(partial(check_characters, scheme=scheme), return_dtype=pl.String)
    behind = SCHEMES[scheme].behind
    if behind is None:
        return pl.concat_str(text, check)
    return pl.concat_str(text.str.head(behind), check, text.str.slice(behind))


def check_is_right(text: pl.Expr, scheme: str) -> pl.Expr:
    """Whether the check characters of a text are right; false where it has none."""
    how = SCHEMES[scheme]
    plain = text.str.to_uppercase().str.replace_all(SEPARATORS, "")
    if how.behind is None:
        rest, given = plain.str.head(-how.makes), plain.str.tail(how.makes)
    else:
        given = plain.str.slice(how.behind, how.makes)
        rest = pl.concat_str(plain.str.head(how.behind), plain.str.slice(how.behind + how.makes))
    made = rest.map_batches(partial(check_characters, scheme=scheme), return_dtype=pl.String)
    return (made == given).fill_null(False)
