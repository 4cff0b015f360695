"""Headings understood: which languages they are in, and what each can mean."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property, partial
from itertools import islice, pairwise, product

from rapidfuzz import fuzz

from mudanza.core.work.matching.meaning.lexicon import OWN, Ideas, Lexicon
from mudanza.core.work.matching.meaning.tokens import contracts, inflects, shortens, shortens_phrase, words_of

#: English words stand in programs of every country
_ENGLISH = 0.35
#: a language that is less likely than this is not asked for shortened words
_LIKELY = 0.3
#: how certain a word is that was not found as it stands
_INFLECTED, _COMPOUND, _IN_PART, _MISSPELT, _SHORTENED, _INITIALS = 0.92, 0.92, 0.75, 0.85, 0.75, 0.6
#: a word of so few letters may as well be a longer one cut short
_SHORT = 6
#: a word that is understood so well is looked at no further
_ENOUGH = 0.5
#: a language that is less likely has no say on words that the likely ones lack
_FOREIGN = 0.15
#: of fewer headings the language cannot be told
_TO_TELL = 8
#: as many readings of a heading are kept
_READINGS = 8
#: a meaning that a word has beside its usual one
_BESIDE = 0.85
#: words that stand at the end of many, in short: codes and numbers
_ENDINGS = {"nr": "id", "no": "id", "id": "id", "kod": "id", "cd": "id"}


@dataclass(frozen=True)
class Reading:
    """One way to understand a heading: its ideas, the words that are none, the number in it, and how certain this is (0 to 1)."""

    ideas: Ideas
    others: tuple[str, ...]
    number: str | None
    certainty: float


@dataclass(frozen=True)
class Meaning:
    """A heading and the ways to understand it, the likeliest first; and the marks that it takes over from those it stands with."""

    text: str
    readings: tuple[Reading, ...]
    inherited: Ideas = frozenset()

    @property
    def ideas(self) -> Ideas:
        """The ideas of the likeliest reading."""
        return self.readings[0].ideas

    @property
    def number(self) -> str | None:
        return self.readings[0].number

    @cached_property
    def in_place(self) -> tuple[Reading, ...]:
        """The readings with the marks that it takes over."""
        return tuple(replace(one, ideas=one.ideas | self.inherited) for one in self.readings)


Senses = dict[Ideas, float]


class Headings:
    """Understands headings that stand together (those of a source, of a layout), by a lexicon. `asked` are ideas that are looked for: a shortened word
    rather stands for one of them."""

    def __init__(self, lexicon: Lexicon, together: Iterable[str], asked: Iterable[Ideas] = ()) -> None:
        self.lexicon = lexicon
        together = list(together)
        self.likely = likely_languages(lexicon, together)
        self._few = len(together) < _TO_TELL
        self.asked = frozenset(asked)
        self._asked_ideas = frozenset(idea for meant in self.asked for idea in meant)
        self._joining = frozenset(
            word for language, words in lexicon.joining.items() if self.likely[language] >= 0.6 for word in words
        )
        self._phrases: dict[str, list[tuple[tuple[str, ...], Ideas, float]]] = {}
        for language, phrases in lexicon.by_language.items():
            if (likely := self.likely[language]) >= _LIKELY:
                for phrase, meant in phrases.items():
                    self._phrases.setdefault(phrase[0][0], []).append((phrase, meant[0], likely))
        self._meanings: dict[str, Meaning] = {}

    def meaning(self, heading: str) -> Meaning:
        """What a heading can mean."""
        if heading not in self._meanings:
            self._meanings[heading] = self._understood(heading)
        return self._meanings[heading]

    def _understood(self, heading: str) -> Meaning:
        words = _pieces(heading, self.lexicon)
        number: str | None = None
        spans: list[tuple[str, Senses]] = []
        at = 0
        while at < len(words):
            size, senses = self._longest(words, at)
            if senses and size == 1 and max(senses.values()) <= 0.5:
                # a word of a language that is hardly that of the others may as well be short for one of theirs
                senses = {**self._unknown(words[at]), **senses}
            if senses:
                spans.append((" ".join(words[at : at + size]), senses))
            elif words[at].isdigit():
                number = words[at].lstrip("0") or "0"
            elif words[at] not in self._joining:
                spans.append((words[at], self._unknown(words[at])))
            at += size
        return Meaning(heading, self._readings(spans, number))

    def _longest(self, words: Sequence[str], at: int) -> tuple[int, Senses]:
        """The longest phrase that begins at a word and is known, written apart or in one, with its senses."""
        for size in range(min(self.lexicon.longest, len(words) - at), 0, -1):
            phrase = tuple(words[at : at + size])
            found = self._senses(phrase)
            if not found and size == 2 and not phrase[1].isdigit():
                found = self._senses(("".join(phrase),))
            if not found and 2 <= size <= 3:
                found = self._cut_short(phrase)
            if found and not (size == 1 and phrase[0] in self._joining and max(found.values()) < 0.5):
                return size, found
        return 1, {}

    def _cut_short(self, words: tuple[str, ...]) -> Senses:
        """A known phrase of which each word may be cut short, if not all are as they stand (`str mesto`, `dekl priimek`)."""
        found: Senses = {}
        for phrase, meant, likely in self._starting(words[0]):
            if len(phrase) == len(words) and all(
                short == word or (len(short) >= 3 and word.startswith(short))
                for short, word in zip(words, phrase, strict=True)
            ):
                told = sum(map(len, words)) / sum(map(len, phrase))
                found[meant] = max(found.get(meant, 0.0), (_SHORTENED + 0.2 * told) * likely)
        return found

    def _senses(self, phrase: tuple[str, ...]) -> Senses:
        """The senses of a phrase as it stands, by how likely their languages are."""
        found: Senses = {}
        for language, several in self.lexicon.senses.get(phrase, {}).items():
            for rank, meant in enumerate(several):
                found[meant] = max(found.get(meant, 0.0), self.likely[language] * (_BESIDE if rank else 1))
        if not found:
            return found
        # a word of one single language is that word, however little else speaks for the language
        best = max(found.values())
        alone = len(found) == 1 and len("".join(phrase)) >= 4
        least = max(best, (0.85 if best >= _FOREIGN or self._few else 0.5) if alone else 0.5)
        return {meant: likely / best * least for meant, likely in found.items() if likely >= 0.25 * best}

    def _unknown(self, word: str) -> Senses:
        """What a word may mean that is not known as it stands."""
        found: Senses = {}
        ways: tuple[Callable[[str], Senses], ...] = (
            partial(self._compound, whole=True),
            self._inflected,
            self._compound,
            self._misspelt,
            self._shortened,
            self._in_part,
        )
        for way in ways:
            for meant, certain in way(word).items():
                found[meant] = max(found.get(meant, 0.0), certain)
            if found and max(found.values()) >= _ENOUGH and (len(word) > _SHORT or way == self._shortened):
                break
        best = sorted(found.items(), key=lambda one: (-one[1], sorted(one[0])))[:4]
        return dict(best)

    def _starting(self, word: str) -> list[tuple[tuple[str, ...], Ideas, float]]:
        return self._phrases.get(word[0], [])

    def _inflected(self, word: str) -> Senses:
        found: Senses = {}
        for phrase, meant, likely in self._starting(word):
            if len(phrase) == 1 and inflects(word, phrase[0]):
                nearness = 1 - 0.06 * abs(len(word) - len(phrase[0]))
                found[meant] = max(found.get(meant, 0.0), _INFLECTED * likely * nearness)
        return found

    def _exact(self, part: str) -> Senses:
        if part in _ENDINGS:
            return {frozenset({_ENDINGS[part]}): 0.9}
        found: Senses = {}
        for language, several in self.lexicon.senses.get((part,), {}).items():
            if self.likely[language] >= _LIKELY:
                for rank, meant in enumerate(several):
                    found[meant] = max(found.get(meant, 0.0), self.likely[language] * (_BESIDE if rank else 1))
        return found

    def _compound(self, word: str, whole: bool = False) -> Senses:
        """A word written together of known ones, with a letter or two between that only bind; the first may be shortened, unless they are to be `whole`."""
        found: Senses = {}
        for cut in range(2, len(word) - 1):
            first, rest = word[:cut], word[cut:]
            heads = self._exact(first) if len(first) >= 3 else {}
            if not heads and len(first) > 4:
                heads = {m: c * 0.95 for end in (1, 2) for m, c in self._exact(first[:-end]).items()}
            if not heads and len(first) >= 3 and not whole:
                heads = {m: c * 0.8 for m, c in self._begins(first).items()}
            if not heads:
                continue
            tails = self._exact(rest)
            if not tails and len(rest) >= 5:
                tails = {m: c * 0.95 for m, c in self._inflected(rest).items()} or self._compound(rest, whole=True)
            for (one, sure), (other, sure_too) in product(heads.items(), tails.items()):
                certain = _COMPOUND * min(sure, sure_too) * (1 if len(first) > 2 and len(rest) > 2 else 0.9)
                found[one | other] = max(found.get(one | other, 0.0), certain)
        return found

    def _begins(self, part: str) -> Senses:
        """A part of a word as the beginning of known ones; those that are asked for rather than others."""
        found: Senses = {}
        for phrase, meant, likely in self._starting(part):
            if len(phrase) == 1 and len(phrase[0]) > len(part) and phrase[0].startswith(part):
                found[meant] = max(found.get(meant, 0.0), likely * self._wanted(meant))
        return found

    def _wanted(self, meant: Ideas) -> float:
        """How well ideas suit what is asked for."""
        return 1.0 if not self.asked or meant in self.asked else 0.85 if meant <= self._asked_ideas else 0.6

    def _misspelt(self, word: str) -> Senses:
        if len(word) < 6:
            return {}
        found: Senses = {}
        for phrase, meant, likely in self._starting(word):
            if (
                len(phrase) == 1
                and abs(len(phrase[0]) - len(word)) <= 1
                and (alike := fuzz.ratio(phrase[0], word)) >= 86
            ):
                found[meant] = max(found.get(meant, 0.0), _MISSPELT * likely * alike / 100)
        return found

    def _shortened(self, word: str) -> Senses:
        """A word cut short, without its vowels, or made of the beginnings of several."""
        found: Senses = {}
        for phrase, meant, likely in self._starting(word):
            if phrase[0] in self.lexicon.joined:
                # it is looked at word by word
                continue
            if len(phrase) == 1 and shortens(word, phrase[0]):
                told = _SHORTENED + 0.25 * len(word) / len(phrase[0]) - (0.2 if len(word) == 2 else 0.0)
            elif len(phrase) == 1 and contracts(word, phrase[0]):
                told = _SHORTENED
            elif len(phrase) > 1 and shortens_phrase(word, phrase):
                told = _INITIALS + 0.3 * len(word) / sum(map(len, phrase))
            else:
                continue
            found[meant] = max(found.get(meant, 0.0), told * likely * self._wanted(meant))
        return found

    def _in_part(self, word: str) -> Senses:
        """A long word of which only the end, or the beginning, is known."""
        found: Senses = {}
        for cut in range(1, len(word) - 3):
            for meant, certain in self._exact(word[cut:]).items():
                found[meant] = max(found.get(meant, 0.0), _IN_PART * certain)
            if found:
                break
        if not found:
            for cut in range(len(word) - 1, 4, -1):
                for meant, certain in self._exact(word[:cut]).items():
                    found[meant] = max(found.get(meant, 0.0), 0.8 * _IN_PART * certain)
                if found:
                    break
        return found

    def _readings(self, spans: Sequence[tuple[str, Senses]], number: str | None) -> tuple[Reading, ...]:
        choices: list[list[tuple[str, Ideas | None, float]]] = []
        for word, senses in spans:
            options: list[tuple[str, Ideas | None, float]] = [(word, meant, c) for meant, c in senses.items()]
            options.sort(key=lambda one: (-one[2], sorted(one[1] or ())))
            if not options or options[0][2] < 0.6:
                options.append((word, None, 0.35 if options else 1.0))
            choices.append(options[:4])
        found: dict[tuple[Ideas, tuple[str, ...]], float] = {}
        for picked in islice(product(*choices), 64):
            meant = frozenset(idea for _, some, _ in picked for idea in some or ())
            others = tuple(word for word, some, _ in picked if some is None)
            certain = min((c for *_, c in picked), default=1.0)
            found[meant, others] = max(found.get((meant, others), 0.0), certain)
        ranked = sorted(found.items(), key=lambda one: (-one[1], sorted(one[0][0]), one[0][1]))
        return tuple(Reading(meant, others, number, certain) for (meant, others), certain in ranked[:_READINGS])


def _pieces(heading: str, lexicon: Lexicon) -> list[str]:
    """The words of a heading; one with a capital inside (`MwSt`) is only taken apart if it is not known as it stands."""
    found: list[str] = []
    for piece in heading.replace("_", " ").split():
        parts = words_of(piece)
        bare = "".join(p for p in parts if not p.isdigit())
        if len(parts) > 1 and (bare,) in lexicon.senses and piece.rstrip(".:0123456789").isalnum():
            found += [bare, *(p for p in parts if p.isdigit())]
        else:
            found += parts
    return found


def likely_languages(lexicon: Lexicon, headings: Sequence[str]) -> Mapping[str, float]:
    """How likely it is that headings are in each language, the likeliest 1. A word that few languages have says more; a letter that a language does not
    write speaks against it."""
    known = dict.fromkeys(lexicon.languages, 0.0)
    for heading in headings:
        words = words_of(heading)
        for word in (*words, *(a + b for a, b in pairwise(words))):
            having = set(lexicon.senses.get((word,), {})) - {OWN}
            for language in having:
                known[language] += min(1.0, len(word) / 5) / len(having)
        letters = {c for c in heading.lower() if not c.isascii() and c.isalpha()}
        for language in known if letters else ():
            known[language] += 0.5 if letters <= lexicon.letters[language] else -0.5
    best = max(0.0, *known.values()) if known else 0.0
    share = {language: max(0.05, (told + 0.5) / (best + 0.5)) ** 2 for language, told in known.items()}
    return {**share, "en": max(share.get("en", 0.0), _ENGLISH), OWN: 1.0}
