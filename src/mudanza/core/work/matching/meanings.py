"""What headings mean: their words, by a table of field names in several languages that a move can extend."""

from __future__ import annotations

import csv
import re
import unicodedata
from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass
from functools import cache
from importlib.resources import files
from pathlib import Path

from rapidfuzz import fuzz

from mudanza.core.documents.errors import MoveError, Place, nearest

#: a move's own words, in the same shape as the shipped table
OWN_WORDS = "words.csv"
#: words that say little by themselves
_LITTLE = {"name": 0.45, "date": 0.4, "id": 0.4, "type": 0.5, "amount": 0.6, "1": 0.15, "status": 0.8}
#: whose record it is says little about which of its fields is meant
_WHOSE = 0.45
#: what two unknown words beside a known one count
_UNKNOWN = 0.4
_ENTITIES = {
    "client",
    "owner",
    "patient",
    "animal",
    "member",
    "student",
    "employee",
    "supplier",
    "product",
    "invoice",
    "order",
    "company",
    "contact",
}
_JOINING = {
    "of",
    "the",
    "de",
    "da",
    "do",
    "del",
    "della",
    "di",
    "du",
    "des",
    "la",
    "le",
    "van",
    "von",
    "der",
    "das",
    "and",
    "e",
    "y",
    "et",
    "und",
    "en",
    "a",
    "o",
    "in",
    "for",
    "para",
    "fur",
    "d",
    "l",
    "on",
    "am",
    "op",
    "em",
    "il",
}


@dataclass(frozen=True)
class Meaning:
    """A heading understood: the ideas that its words stand for, the words that stand for nothing known, and each word with its ideas."""

    text: str
    ideas: frozenset[str]
    others: tuple[str, ...]
    number: str | None
    words: tuple[tuple[str, frozenset[str]], ...] = ()

    @property
    def weight(self) -> float:
        return sum(_weight(i) for i in self.ideas) + 0.9 * len(self.others)


def _weight(idea: str) -> float:
    return _WHOSE if idea in _ENTITIES else _LITTLE.get(idea, 1.0)


def words_of(text: str) -> list[str]:
    """A heading as plain small words: `KundenNr.`, `client_no` and `CLIENT NO` alike."""
    spaced = re.sub(r"(?<=[a-zà-ÿ])(?=[A-ZÀ-Þ])", " ", text)
    spaced = re.sub(r"(?<=[A-Za-zÀ-ÿ])(?=[0-9])|(?<=[0-9])(?=[A-Za-zÀ-ÿ])", " ", spaced)
    plain = unicodedata.normalize("NFKD", spaced.replace("ß", "ss").replace("º", " ").replace("ª", " "))
    letters = "".join(c for c in plain if not unicodedata.combining(c)).lower()
    return [w for w in re.split(r"[^a-z0-9α-ωа-я]+", letters) if w]


def _core(words: list[str]) -> list[str]:
    """Words without those that only join others, if others are left."""
    return [w for w in words if w not in _JOINING] or words


def meanings() -> dict[str, str]:
    """The meanings that the shipped table knows, with their words."""
    return dict(_shipped()[1:])


def _shipped() -> list[tuple[str, str]]:
    text = files("mudanza.core.work.matching").joinpath("vocabulary.csv").read_text("utf-8")
    return [(row[0], row[1]) for row in csv.reader(text.splitlines())]


class Words:
    """The table of words. `own` is a move's file of further ones, for meanings of the table or for words of some headings."""

    def __init__(self, own: Path | None = None, headings: Iterable[str] = ()) -> None:
        self._phrases: dict[tuple[str, ...], frozenset[str]] = {}
        self._take(map(list, _shipped()), None)
        if own is not None and own.is_file():
            known = {idea for ideas in self._phrases.values() for idea in ideas}
            known |= {word for heading in headings for word in words_of(heading)}
            self._take(csv.reader(own.read_text("utf-8-sig").splitlines()), own, known)
        self._longest = max(len(p) for p in self._phrases)
        self._single = {p[0]: ideas for p, ideas in self._phrases.items() if len(p) == 1}

    def _take(self, rows: Iterable[list[str]], path: Path | None, known: Collection[str] | None = None) -> None:
        for number, row in enumerate(rows, start=1):
            if number == 1 or not row:
                continue
            if len(row) != 2:
                raise MoveError(
                    "a line has a meaning and its words, with | between them.",
                    place=Place(str(path), number),
                    hint="As in: chip,chip|microchip|transponder",
                )
            ideas = frozenset(words_of(row[0]))
            if known is not None and (strange := next((i for i in sorted(ideas) if i not in known), None)):
                near = nearest(strange, sorted(known), least=75)
                raise MoveError(
                    f"there is no meaning {strange!r}, and no field has it in its title.",
                    place=Place(str(path), number),
                    hint=(f"Did you mean {near!r}? " if near else "") + "`mudanza explain meanings` lists them.",
                )
            for phrase in (row[0], *row[1].split("|")):
                # the first that claims a word keeps it; a move's own words go before
                if words := tuple(_core(words_of(phrase))):
                    if path is not None:
                        self._phrases[words] = ideas
                    else:
                        self._phrases.setdefault(words, ideas)

    @cache  # noqa: B019 - as many as there are headings
    def meaning(self, heading: str) -> Meaning:
        """What a heading means."""
        words = _core(self._words(heading))
        ideas: set[str] = set()
        others: list[str] = []
        by_word: list[tuple[str, frozenset[str]]] = []
        number: str | None = None
        at = 0
        while at < len(words):
            for size in range(min(self._longest, len(words) - at), 0, -1):
                found = self._phrases.get(tuple(words[at : at + size]))
                if found is not None:
                    ideas |= found
                    by_word += [(word, found) for word in words[at : at + size]]
                    at += size
                    break
            else:
                word = words[at]
                if word.isdigit():
                    number = word
                else:
                    parts = self._parts(word)
                    by_word.append((word, parts or frozenset()))
                    if parts is None:
                        others.append(word)
                    else:
                        ideas |= parts
                at += 1
        if "name" in ideas and ideas & {"given", "family", "full"}:
            ideas -= _ENTITIES - {"company"}
        return Meaning(heading, frozenset(ideas), tuple(others), number, tuple(by_word))

    def _words(self, heading: str) -> list[str]:
        """The words of a heading; one with a capital inside (`MwSt`) is only taken apart if it is not known as it stands."""
        found: list[str] = []
        for piece in re.split(r"[^\w]+|_", heading):
            whole = re.sub(r"\d+$", "", "".join(words_of(piece)))
            found += [whole, *re.findall(r"\d+$", piece)] if whole in self._single else words_of(piece)
        return found

    def _parts(self, word: str) -> frozenset[str] | None:
        """A word written together of two known ones, shortened, or misspelt by a letter."""
        for cut in range(3, len(word) - 1):
            first, rest = word[:cut], word[cut:]
            for other in (rest, rest.removeprefix("s")):
                if first in self._single and other in self._single and len(other) > 1:
                    return self._single[first] | self._single[other]
        for cut in range(len(word) - 2, 2, -1):
            if (second := self._single.get(word[cut:])) is not None and (
                first_ideas := self._shortened(word[:cut], part=True)
            ) is not None:
                return first_ideas | second
        if (short := self._shortened(word)) is not None:
            return short
        if word[:-2] in self._single and len(word) >= 5:
            return self._single[word[:-2]]
        if len(word) >= 6:
            near = [
                ideas
                for known, ideas in self._single.items()
                if abs(len(known) - len(word)) <= 1 and fuzz.ratio(known, word) >= 88
            ]
            if len(set(near)) == 1:
                return near[0]
        return None

    def _shortened(self, word: str, part: bool = False) -> frozenset[str] | None:
        """The ideas of the one known word that a short one stands for: its beginning, or some of its letters in their order. A `part` of a word (`ord` of
        `ordno`) may begin several; the shortest is meant."""
        if len(word) < 3:
            return None
        starts = {ideas for known, ideas in self._single.items() if known.startswith(word) and len(known) > len(word)}
        if len(starts) == 1 and len(word) >= 4:
            return next(iter(starts))
        if starts and part:
            return self._single[min((known for known in self._single if known.startswith(word)), key=len)]
        if starts:
            return None
        some = {ideas for known, ideas in self._single.items() if abbreviates(word, known)}
        return next(iter(some)) if len(some) == 1 else None


def abbreviates(short: str, word: str) -> bool:
    """Whether a word may be shortened so: first letter, then consonants in their order, the last sounding one too (`qty`, `wgt`, `itm`)."""
    if (
        not 3 <= len(short) < len(word) <= 2.5 * len(short) + 1
        or short[0] != word[0]
        or (len(short) == 3 and any(c in "aeiou" for c in short[1:]))
    ):
        return False
    letters = iter(word)
    return all(c in letters for c in short) and short[-1] in word[-2:] and short[-1] not in "aeiou"


def likeness(one: Meaning, other: Meaning) -> float:
    """How alike two headings are in what they mean, 0 to 1."""
    plain = " ".join(words_of(one.text)), " ".join(words_of(other.text))
    if plain[0] == plain[1]:
        return 1.0
    shared = sum(_weight(i) for i in one.ideas & other.ideas)
    shared += _others(one, other)
    total = one.weight + other.weight
    by_idea = 2 * shared / total if total else 0.0
    # what one heading says more is less of a difference than what each says otherwise
    smaller, larger = sorted((one, other), key=lambda m: m.weight)
    if smaller.weight and shared / smaller.weight >= 0.95 and shared >= 0.9:
        # a word more that is not known may say anything: Emergency phone is not Phone
        by_idea = max(by_idea, (0.45 if larger.others else 0.6) + 0.35 * by_idea)
    by_letters = fuzz.token_sort_ratio(*plain) / 100
    if by_letters >= 0.88:
        by_idea = max(by_idea, by_letters - 0.05)
    if one.number != other.number and by_idea and {one.number, other.number} - {None, "1"}:
        by_idea *= 0.72
    return min(by_idea, 0.99)


def _others(one: Meaning, other: Meaning) -> float:
    """What words that are not known by themselves have in common: letters, or that one shortens the other."""
    shared = 0.0
    left = list(other.others)
    for word in one.others:
        best = max(left, key=lambda o: fuzz.ratio(word, o), default=None)
        if best is not None and (alike := fuzz.ratio(word, best) / 100) >= 0.75:
            shared += 0.9 * alike
            left.remove(best)
    if left and len(left) == len(other.others) and one.others and one.ideas & other.ideas:
        # what neither table nor letters tell may be the same in two languages
        shared += _UNKNOWN
    for here, there in ((one, other), (other, one)):
        for word in here.others:
            if (pieces := _pieces(word, there.words)) is not None:
                # what the whole word stands for weighs as much as all that it stands for
                shared += (
                    0.9 * max(0.9, sum(_weight(idea) for idea in {i for n in pieces for i in there.words[n][1]})) / 2
                )
                shared += 0.45 * here.weight / max(1, len(here.words))
    return shared


def _pieces(word: str, words: Sequence[tuple[str, frozenset[str]]], start: int = 0) -> list[int] | None:
    """Which words a short one is made of, piece by piece in their order (`untprc`: unit price); None if it is not."""
    if not word:
        return []
    for number in range(start, len(words)):
        full = words[number][0]
        if word == full:
            return [number]
        for size in range(len(word), 0, -1):
            piece = word[:size]
            if (
                _stands_for(piece, full, words[number][1])
                and (rest := _pieces(word[size:], words, number + 1)) is not None
            ):
                if start == 0 and not rest and size < 2:
                    continue
                return [number, *rest]
    return None


def _stands_for(piece: str, full: str, ideas: frozenset[str]) -> bool:
    if piece[0] != full[0] and piece not in ("no", "nr", "id", "cd"):
        return False
    if "id" in ideas and piece in ("no", "nr", "id", "cd", "num"):
        return True
    if full.startswith(piece):
        return True
    letters = iter(full)
    consonants = not any(c in "aeiou" for c in piece[1:])
    return len(piece) >= 2 and (consonants or len(piece) >= 4) and all(c in letters for c in piece)


def tells(one: Meaning, other: Meaning) -> bool:
    """Whether two headings share more than such words as number, date or name, which stand in many."""
    if words_of(one.text) == words_of(other.text) or one.others or other.others:
        return True
    return sum(_weight(idea) for idea in one.ideas & other.ideas) > _LITTLE["amount"]


def said(one: Meaning, other: Meaning) -> str:
    """In words, what two headings share."""
    if words_of(one.text) == words_of(other.text):
        return "same heading"
    shared = sorted(one.ideas & other.ideas)
    return f"both mean {' '.join(shared)}" if shared else "alike in letters"
