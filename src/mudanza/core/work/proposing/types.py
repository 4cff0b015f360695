"""What words of a field list say of the values that a field takes."""

from __future__ import annotations

import re
from dataclasses import replace

from mudanza.core.values.written import YES_NO, YES_NO_TOO
from mudanza.core.work.proposing.facts import Takes
from mudanza.core.work.proposing.words import date_pattern, type_word

_SIZES = re.compile(r"(\d{1,9})(?:\s*[,.;]\s*(\d{1,2}))?")
_IN_BRACKETS = re.compile(r"[(\[]([^)\]]*)[)\]]")
_REGULAR = re.compile(r"[\[\\^{]|\(\?|\.\*")
_CODE = re.compile(r"^\s*(\S{1,20})\s*(?:=|:|–|—| - )\s*(\S.*)$")
#: a text that is so long for a choice is a sentence
_LONGEST_CHOICE = 60
_MOST_DIGITS = 26


def takes_of(
    kind: str = "",
    length: str = "",
    decimals: str = "",
    values: str = "",
    form: str = "",
    low: str = "",
    high: str = "",
) -> tuple[Takes, list[str]]:
    """What a field takes, by the words of its line, and what could not be understood of them."""
    remarks: list[str] = []
    base = type_word(kind) if kind else None
    if kind and base is None and (pattern := date_pattern(kind)):
        base, form = ("dateTime" if "H" in pattern else "date"), form or kind
    if kind and base is None:
        remarks.append(f"the type {kind!r} is not known")
    sizes = _SIZES.search(length) or (_SIZES.search(kind) if base in ("string", "integer", "decimal", None) else None)
    size, places = (int(sizes[1]), sizes[2]) if sizes else (None, None)
    places = decimals.strip() if decimals.strip().isdigit() else places
    takes = _sized(Takes(base, minimum=low.strip() or None, maximum=high.strip() or None), size, places)
    for said in (form, *_IN_BRACKETS.findall(kind)):
        if said and (made := _formed(takes, said)) is not None:
            takes = made
        elif said and said == form:
            remarks.append(f"the format {form!r} is not understood")
    choices, why = choices_of(values)
    if why:
        remarks.append(why)
    if len(choices) == 2 and (takes.base == "boolean" or is_yes_no(choices)):
        return words_for_yes_no(choices), remarks
    if choices:
        # a list of values says what a field takes better than the word for its type
        takes = replace(takes, permitted=choices, base="string", form=None, places=None, minimum=None, maximum=None)
    return takes, remarks


def _sized(takes: Takes, size: int | None, places: str | None) -> Takes:
    if takes.base in ("decimal", "integer"):
        whole = takes.base == "integer" or (takes.base == "decimal" and size is not None and places == "0")
        if places is not None and int(places) > 0 and takes.base == "decimal":
            takes = replace(takes, places=int(places))
        elif whole:
            takes = replace(takes, base="integer")
        if size is not None and size <= _MOST_DIGITS and takes.maximum is None:
            digits = size - (takes.places or 0)
            behind = "." + "9" * takes.places if takes.places else ""
            most = ("9" * digits or "0") + behind
            takes = replace(takes, maximum=most, minimum=takes.minimum if takes.minimum is not None else f"-{most}")
        return takes
    if size is not None and takes.base in ("string", None):
        return replace(takes, base="string", max_length=size)
    return takes


def _formed(takes: Takes, said: str) -> Takes | None:
    """What a field takes with a format, or None if that is none."""
    pattern = date_pattern(said)
    if pattern is not None and takes.base in ("date", "dateTime", "time", None):
        dated, timed = "d" in pattern, "H" in pattern
        return replace(takes, base="dateTime" if dated and timed else "date" if dated else "time", form=pattern)
    if takes.base in ("string", None) and _REGULAR.search(said):
        return replace(takes, base="string", form=said.strip().removeprefix("^").removesuffix("$"))
    if takes.base == "boolean" and len(pair := re.split(r"[/|]", said.strip())) == 2 and all(pair):
        return replace(takes, form="|".join(pair))
    if takes.base in ("decimal", None) and (match := re.fullmatch(r"[#9Xx0.,]*?([.,])([09#Xx]{1,6})", said.strip())):
        return replace(takes, base="decimal", places=len(match[2]))
    return None


def choices_of(text: str) -> tuple[tuple[str, ...], str | None]:
    """The permitted values in a cell: a line each, or with a sign between them; of `D = dog` the code alone. And what is wrong, if it is no list."""
    text = text.strip().strip("[]{}").strip()
    if not text:
        return (), None
    for sign in ("\n", ";", "|", ",", "/"):
        parts = [part.strip().strip("\"'").strip() for part in text.split(sign)]
        parts = [part for part in parts if part]
        if len(parts) > 1:
            break
    else:
        return (), f"the values {text[:60]!r} are no list"
    if any(len(part) > _LONGEST_CHOICE for part in parts):
        return (), f"the values {text[:60]!r} are no list"
    codes = [_CODE.match(part) for part in parts]
    if all(codes):
        parts = [match[1] for match in codes if match]
    return tuple(dict.fromkeys(parts)), None


def is_yes_no(values: tuple[str, ...]) -> bool:
    """Whether two values mean yes and no, and hardly anything else."""
    plain = tuple(value.lower() for value in values)
    return plain in YES_NO or plain[::-1] in YES_NO


def words_for_yes_no(values: tuple[str, ...]) -> Takes:
    """What a field with two such values takes."""
    return Takes("boolean", form="|".join(_yes_first(values)))


def _yes_first(pair: tuple[str, ...]) -> tuple[str, ...]:
    backwards = (pair[1].lower(), pair[0].lower()) in {*YES_NO, *YES_NO_TOO}
    return pair[::-1] if backwards else pair
