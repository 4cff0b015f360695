"""Targets proposed for source codes: by case and accents, by meaning, by how they begin, by spelling."""

from __future__ import annotations

import csv
import unicodedata
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from functools import cache
from importlib.resources import files

from rapidfuzz import fuzz

from mudanza.core.tables.crosswalk import Entry

_ALIKE = 82
_FORM = 88
#: letters that may stand beside any pair: unknown, diverse, other
_BESIDE = frozenset("uxdo")


@dataclass(frozen=True)
class TargetCode:
    """A code of the target, and what it means there, as far as it is known."""

    code: str
    meaning: str


@dataclass(frozen=True)
class Targets:
    """The target's codes. They are `closed` if there are no others."""

    known: list[TargetCode]
    closed: bool


def fold(text: str) -> str:
    """A text without capitals, accents and signs."""
    plain = unicodedata.normalize("NFKD", text.casefold())
    return " ".join("".join(c if c.isalnum() else " " for c in plain if not unicodedata.combining(c)).split())


@cache
def _groups() -> tuple[frozenset[str], ...]:
    """Words that mean the same, from a shipped table."""
    text = files("mudanza.core.work.crosswalks").joinpath("synonyms.csv").read_text("utf-8")
    return tuple(frozenset(fold(word) for word in row) for row in csv.reader(text.splitlines()))


@cache
def _letters() -> tuple[Mapping[str, str], ...]:
    """Pairs of letters that stand for two meanings in some language, from a shipped table: what a letter means depends on the one beside it (`M` and `F`,
    `H` and `M`, `F` and `N`)."""
    text = files("mudanza.core.work.crosswalks").joinpath("letters.csv").read_text("utf-8")
    meanings, *pairs = csv.reader(text.splitlines())
    return tuple({fold(letter): meaning for letter, meaning in zip(pair, meanings, strict=True)} for pair in pairs)


def _by_letter(code: str, beside: Collection[str], texts: Sequence[tuple[TargetCode, set[str]]]) -> set[str] | None:
    """The targets that a letter may mean among the letters beside it; None where no pair of letters has a say."""
    if len(code) != 1:
        return None
    letters = {one for one in map(fold, beside) if len(one) == 1 and one.isalpha()} | {code}
    fitting = [pair for pair in _letters() if code in pair and set(pair) <= letters <= set(pair) | _BESIDE]
    wanted = {m: {t.code for t, folded in texts if folded & _synonyms(m)} for pair in fitting for m in pair.values()}
    if not fitting or not all(wanted.values()):
        return None
    return {target for pair in fitting for target in wanted[pair[code]]}


@cache
def _synonyms(word: str) -> frozenset[str]:
    return next(group for group in _groups() if word in group)


def propose(
    values: tuple[str, ...], targets: Targets, entries: Sequence[Entry], beside: Collection[str] = ()
) -> tuple[str | None, str | None]:
    """The target code for a source code, and why; None where nothing speaks for one, or for two alike. `beside` are the other codes of the column. What a
    number stands for is not guessed."""
    code = fold(values[0])
    texts = [(target, {fold(t) for t in (target.code, target.meaning) if t}) for target in targets.known]
    same = [t.code for t, folded in texts if code and code in folded]
    # before all else: a letter that the target has too may mean something else beside these
    by_letter = _by_letter(code, beside, texts)
    if by_letter is not None and by_letter != set(same):
        return (by_letter.pop(), "by meaning") if len(by_letter) == 1 else (None, None)
    if len(same) == 1:
        return same[0], "written alike" if fold(same[0]) == code else "means the same in the target"
    elsewhere = {e.to for e in entries if fold(e.code) == code and e.to}
    if len(elsewhere) == 1:
        return elsewhere.pop(), "so it is elsewhere in this crosswalk"
    if code.replace(" ", "").isdigit():
        return None, None
    meanings = [group for group in _groups() if code in group]
    by_meaning = {t.code for t, folded in texts for group in meanings if folded & group}
    if len(by_meaning) == 1:
        return by_meaning.pop(), "by meaning"
    shortened = {
        t.code
        for t, folded in texts
        for group in _groups()
        if folded & group and len(code) >= 3 and any(w.startswith(code) for w in group)
    }
    if len(shortened) == 1 and not by_meaning:
        return shortened.pop(), "by meaning, shortened"
    # another form of a word: of a woman, of several
    forms = {
        t.code
        for t, folded in texts
        for group in _groups()
        if folded & group
        and len(code) >= 5
        and any(fuzz.ratio(code, word) >= _FORM for word in group if len(word) >= 5)
    }
    if len(forms) == 1 and not by_meaning:
        return forms.pop(), "by meaning, written otherwise"
    begins = [
        t.code
        for t, folded in texts
        if code and any(f.startswith(code) or (len(f) >= 2 and code.startswith(f)) for f in folded)
    ]
    if len(begins) == 1 and (not by_meaning or begins[0] in by_meaning):
        return begins[0], "begins alike"
    scored = sorted(
        ((max((fuzz.ratio(code, f) for f in folded), default=0), t.code) for t, folded in texts), reverse=True
    )
    if scored and scored[0][0] >= _ALIKE and (len(scored) == 1 or scored[0][0] - scored[1][0] >= 5):
        return scored[0][1], "spelt alike"
    return None, None
