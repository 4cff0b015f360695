"""How alike two headings are in what they mean."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache

from rapidfuzz import fuzz

from mudanza.core.work.matching.meaning.headings import Meaning, Reading
from mudanza.core.work.matching.meaning.lexicon import Ideas, kinship, of_role, weight
from mudanza.core.work.matching.meaning.tokens import shortens, words_of


@dataclass(frozen=True)
class Likeness:
    """How alike two headings are in what they mean. `share` of the ideas of both, `asked` of those of the first, `given` of those of the second, all 0 to
    1; `telling`, how much of it says more than number, name or date; `marks`, how many marks (home, work) only one has; `number`, whether they have
    different numbers; `certainty` of the readings; `same`, whether they are written alike."""

    share: float = 0.0
    asked: float = 0.0
    given: float = 0.0
    telling: float = 0.0
    marks: float = 0.0
    number: bool = False
    certainty: float = 0.0
    same: bool = False
    #: both say something that tells much, and nothing of it is alike
    apart: bool = False
    ideas: Ideas = frozenset()

    @property
    def score(self) -> float:
        return self.share * (0.4 + 0.6 * self.certainty) + (0.1 if self.same else 0.0)


def likeness(one: Meaning, other: Meaning, subject: Ideas = frozenset(), free: Ideas = frozenset()) -> Likeness:
    """How alike two headings are, by the readings of both that agree best. `subject` are ideas of what the list is about, which hardly tell fields apart;
    `free` are ideas that need not be said (date, where the values are dates)."""
    same = words_of(one.text) == words_of(other.text)
    best = Likeness(same=same)
    for mine in one.in_place:
        for theirs in other.in_place:
            certain = mine.certainty * theirs.certainty
            if certain < best.share * (0.4 + 0.6 * best.certainty) - 0.6:
                continue
            best = max(best, _alike(mine, theirs, subject, free, certain, same), key=lambda like: like.score)
    return best


def _alike(one: Reading, other: Reading, subject: Ideas, free: Ideas, certain: float, same: bool) -> Likeness:
    def heavy(idea: str) -> float:
        return 0.25 if idea in subject else weight(idea)

    asked = {i: heavy(i) for i in one.ideas}
    given = {i: heavy(i) for i in other.ideas}
    shared_asked = sum(w * kinship(i, other.ideas) for i, w in asked.items())
    shared_given = sum(w * kinship(i, one.ideas) for i, w in given.items())
    for idea in free:
        # what the values tell need not be said by both
        if (idea in asked) != (idea in given):
            shared_asked += asked.get(idea, 0.0)
            shared_given += given.get(idea, 0.0)
    telling = sum(weight(i) for i in one.ideas & other.ideas if weight(i) > 0.5 or i in subject)
    others = _others(one.others, other.others)
    total_asked = sum(asked.values()) + 0.9 * len(one.others)
    total_given = sum(given.values()) + 0.9 * len(other.others)
    shared_asked, shared_given, telling = shared_asked + others, shared_given + others, telling + others
    total = total_asked + total_given
    marks = _marks(one.ideas, other.ideas) | _marks(other.ideas, one.ideas)
    differs = bool({one.number, other.number} - {None, "1"}) and one.number != other.number
    if same:
        shared_asked, shared_given, telling = total_asked, total_given, max(telling, 1.0)
    return Likeness(
        (shared_asked + shared_given) / total if total else float(same),
        min(1.0, shared_asked / total_asked) if total_asked else 0.0,
        min(1.0, shared_given / total_given) if total_given else 0.0,
        telling,
        float(len(marks)),
        differs,
        1.0 if same else certain,
        same,
        not same and not others and _apart(one.ideas - subject, other.ideas - subject),
        one.ideas & other.ideas,
    )


def _apart(mine: Ideas, theirs: Ideas) -> bool:
    """Whether both have ideas that tell much, and none of one is, or often stands for, one of the other."""
    own, other = of_role(mine, ""), of_role(theirs, "")
    return bool(own and other) and not any(kinship(i, theirs) for i in own) and not any(kinship(i, mine) for i in other)


def _marks(mine: Ideas, theirs: Ideas) -> set[str]:
    """The marks that only one has, without those that often stand for one of the other."""
    return {i for i in of_role(mine - theirs, "mark") if not kinship(i, theirs)}


@cache
def _others(mine: tuple[str, ...], theirs: tuple[str, ...]) -> float:
    """What words that mean nothing known have in common: letters, or that one shortens the other."""
    shared = 0.0
    left = list(theirs)
    for word in mine:
        best = max(left, key=lambda o: fuzz.ratio(word, o), default=None)
        if best is None:
            break
        alike = fuzz.ratio(word, best) / 100
        if word != best and (shortens(word, best) or shortens(best, word)) and min(len(word), len(best)) >= 3:
            alike = max(alike, 0.8)
        if alike >= 0.75 and (min(len(word), len(best)) >= 4 or word == best or alike == 0.8):
            shared += 0.9 * alike
            left.remove(best)
    return shared


def said(like: Likeness) -> str:
    """In words, what two headings share."""
    if like.same:
        return "same heading"
    return f"both mean {' '.join(sorted(like.ideas))}" if like.ideas else "alike in letters"
