"""The words of headings in many languages: `ideas.csv` says which ideas there are, `words/LANGUAGE.csv` how a language calls them.

The tables are data that whoever speaks a language can read and correct. A line of `words/` has an idea, or several that make one (`birth date`), and the
words for it with `|` between them, in the language's own spelling; the line `-` has the words that only join others (of, the, for).
"""

from __future__ import annotations

import csv
from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass, replace
from functools import cache, cached_property, lru_cache
from importlib.resources import files
from importlib.resources.abc import Traversable
from pathlib import Path

from mudanza.core.documents.errors import MoveError, Place, nearest
from mudanza.core.plans.own_tables import own_rows
from mudanza.core.work.matching.meaning.tokens import folded, words_of

#: a move's own words, in the shape of a table of words
OWN_WORDS = "words.csv"
WORDS_HEADING = ("meaning", "words")
#: the language of a move's own words
OWN = "own"
#: how much an idea of each role says about which field is meant
_WEIGHTS = {"": 1.0, "mark": 0.9, "little": 0.45, "whose": 0.45}
#: how much of an idea a related one is
_KIN = 0.6

Ideas = frozenset[str]


@dataclass(frozen=True)
class Idea:
    """What a part of a heading can mean. `role`: `little` says little by itself (name, date), `whose` tells whose record it is, `mark` tells one of
    several such fields from the others (home, work). `kin` are ideas that often stand for it; `contents` what its values look like, `hints` what they often
    look like."""

    name: str
    role: str
    kin: Ideas
    contents: Ideas
    hints: Ideas

    @property
    def weight(self) -> float:
        return _WEIGHTS[self.role]


@cache
def ideas() -> Mapping[str, Idea]:
    """All ideas, by name."""
    rows = csv.DictReader(_shipped("ideas.csv").read_text("utf-8").splitlines())
    found = {}
    for row in rows:
        looks = row["contents"].split()
        hints = frozenset(what[1:] for what in looks if what.startswith("?"))
        contents = frozenset(what for what in looks if not what.startswith("?"))
        found[row["idea"]] = Idea(row["idea"], row["role"], frozenset(row["kin"].split()), contents, hints)
    return found


def weight(idea: str) -> float:
    """How much an idea says about which field is meant, to 1. One that a move made counts whole."""
    known = ideas().get(idea)
    return known.weight if known else 1.0


@cache
def _relatives() -> Mapping[str, Ideas]:
    """For each idea those that often stand for it, and those that it often stands for."""
    found: dict[str, set[str]] = {name: set() for name in ideas()}
    for idea in ideas().values():
        for other in idea.kin:
            found[idea.name].add(other)
            found[other].add(idea.name)
    return {name: frozenset(others) for name, others in found.items()}


def kinship(idea: str, others: Collection[str]) -> float:
    """How much of an idea is among others: 1 if it is one of them, something if a related one is."""
    if idea in others:
        return 1.0
    return _KIN if _relatives().get(idea, frozenset()) & frozenset(others) else 0.0


@lru_cache(maxsize=20_000)
def of_role(meant: Ideas, role: str) -> Ideas:
    """Those ideas that have a role (blank: none)."""
    known = ideas()
    return frozenset(i for i in meant if i in known and known[i].role == role)


@dataclass(frozen=True)
class Lexicon:
    """Words and what they may mean. `senses` has for each phrase (its words) its languages with the ideas in each, the usual ones first; `joining` the
    words that only join others, by language; `letters` the letters with accents that a language writes; `joined` the phrases of several words written in
    one."""

    senses: Mapping[tuple[str, ...], Mapping[str, tuple[Ideas, ...]]]
    joining: Mapping[str, frozenset[str]]
    letters: Mapping[str, frozenset[str]]
    joined: frozenset[str] = frozenset()

    @property
    def languages(self) -> list[str]:
        return list(self.joining)

    @cached_property
    def longest(self) -> int:
        return max(map(len, self.senses))

    @cached_property
    def by_language(self) -> Mapping[str, Mapping[tuple[str, ...], tuple[Ideas, ...]]]:
        """The phrases of each language."""
        found: dict[str, dict[tuple[str, ...], tuple[Ideas, ...]]] = {language: {} for language in (*self.joining, OWN)}
        for phrase, senses in self.senses.items():
            for language, meant in senses.items():
                found[language][phrase] = meant
        return found

    def with_own(self, path: Path, headings: Iterable[str]) -> Lexicon:
        """This lexicon with the words of a move, for ideas of the table or for words of some headings (those of the layout). A word of the move means
        nothing else. Raises MoveError for a line that is none, and for an idea that there is not."""
        strange_too = {word for heading in headings for word in words_of(heading)}
        known = set(ideas()) | strange_too
        senses = dict(self.senses)
        for line, (meaning, words) in own_rows(path, WORDS_HEADING):
            if not meaning or not words:
                raise MoveError(
                    "a line has a meaning and its words, with | between them.",
                    place=Place(str(path), line),
                    hint="As in: chip,chip|microchip|transponder",
                )
            meant = self._meant(meaning, known, Place(str(path), line))
            phrases = [*words.split("|"), *([meaning] if meant <= strange_too else [])]
            for phrase in filter(None, map(words_of, phrases)):
                senses[phrase] = {OWN: (meant,)}
        return replace(self, senses=senses)

    def _meant(self, text: str, known: Collection[str], place: Place) -> Ideas:
        """The ideas that a line is for: named as in the table, or by any word that the table has for them."""
        found: set[str] = set()
        for name in (n for n in text.split() if n):
            plain = folded(name)
            if name in known or plain in known:
                found.add(name if name in known else plain)
            elif (english := self.senses.get((plain,), {}).get("en")) is not None:
                found |= english[0]
            else:
                near = nearest(name, sorted(known), least=75)
                raise MoveError(
                    f"there is no meaning {name!r}, and no field has it in its title.",
                    place=place,
                    hint=(f"Did you mean {near!r}? " if near else "") + "`mudanza explain meanings` lists them.",
                )
        return frozenset(found)


def _shipped(name: str) -> Traversable:
    return files("mudanza.core.work.matching.meaning").joinpath(name)


def tables() -> dict[str, list[tuple[int, Ideas | None, list[str]]]]:
    """The tables of words by language: the number of each line, its ideas (None for joining words) and its words."""
    found = {}
    for table in sorted(_shipped("words").iterdir(), key=lambda one: one.name):
        if not table.name.endswith(".csv"):
            continue
        lines = list(csv.reader(table.read_text("utf-8").splitlines()))[1:]
        found[table.name.removesuffix(".csv")] = [
            (number, None if row[0] == "-" else frozenset(row[0].split()), row[1].split("|"))
            for number, row in enumerate(lines, start=2)
        ]
    return found


@cache
def lexicon() -> Lexicon:
    """All shipped words."""
    senses: dict[tuple[str, ...], dict[str, tuple[Ideas, ...]]] = {}
    joining: dict[str, frozenset[str]] = {}
    letters: dict[str, frozenset[str]] = {}
    single: set[str] = set()
    for language, lines in tables().items():
        joins = frozenset(
            word for _, meant, texts in lines if meant is None for text in texts for word in words_of(text)
        )
        joining[language] = joins
        letters[language] = frozenset(
            c for _, _, texts in lines for c in set("".join(texts).lower()) if not c.isascii()
        )
        for _, meant, texts in lines:
            if meant is None:
                continue
            for text in texts:
                single.update(words_of(text))
                for phrase in _forms(text, joins):
                    known = senses.setdefault(phrase, {})
                    if meant not in known.get(language, ()):
                        known[language] = (*known.get(language, ()), meant)
    apart = {"".join(phrase) for phrase in senses if len(phrase) > 1}
    return Lexicon(senses, joining, letters, frozenset(apart - single))


_TWO_LETTERS = str.maketrans({"ä": "ae", "ö": "oe", "ü": "ue", "ø": "oe", "å": "aa", "Ä": "Ae", "Ö": "Oe", "Ü": "Ue"})


def _forms(text: str, joins: frozenset[str]) -> list[tuple[str, ...]]:
    """How a phrase may be written: as it is, without joining words, in one, with two letters for one that has an accent."""
    texts = [text] if text.isascii() else list(dict.fromkeys((text, text.translate(_TWO_LETTERS))))
    found: dict[tuple[str, ...], None] = {}
    for one in texts:
        whole = words_of(one)
        if len(whole) == 1:
            found |= {whole: None} if not whole[0].isdigit() else {}
            continue
        bare = tuple(w for w in whole if w not in joins) or whole
        found |= dict.fromkeys(p for p in (whole, bare, ("".join(bare),)) if p and not all(map(str.isdigit, p)))
    return list(found)


@cache
def meanings() -> dict[str, dict[str, list[str]]]:
    """The words for each meaning by language, the meanings in the order of the English table."""
    found: dict[str, dict[str, list[str]]] = {}
    by_language = tables()
    for language in ("en", *(one for one in by_language if one != "en")):
        for _, meant, texts in by_language[language]:
            if meant is not None:
                found.setdefault(" ".join(sorted(meant)), {}).setdefault(language, []).extend(texts)
    return found
