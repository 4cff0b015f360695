"""The steps that a column's values need to become what a field takes, found out by trying them."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date
from decimal import Decimal
from functools import lru_cache
from typing import Any

import polars as pl

from mudanza.core.documents.errors import MudanzaError
from mudanza.core.language.trying import try_flow
from mudanza.core.layouts.layout import Field
from mudanza.core.layouts.types.moment import DateType
from mudanza.core.layouts.types.number import NumberType
from mudanza.core.layouts.types.text import TextType
from mudanza.core.values.kinds import Kind
from mudanza.core.values.months import LANGUAGES
from mudanza.core.values.number_format import NumberFormat
from mudanza.core.values.written import DATES, DATES_TOO, NAMED_DATES, TIMES, YES_NO, YES_NO_TOO
from mudanza.core.work.matching.views import View

_PAIRS = [*YES_NO, *YES_NO_TOO]
_UNITS = re.compile(r"^[-+]?[\d.,' ]+\s*([^\d\s.,'()-][^\d]*?)$|^([^\d\s.,'()+-][^\d]*?)\s*[\d.,' ]+$")
#: a month by its name, between day and year
_NAMED = re.compile(r"\d[ .-]*(?:de )?[^\W\d_]{3,}.*\d{2}|[^\W\d_]{3,}.*\d.*\d{2}$")
#: what a date may begin with, if it has no names
_DATE_BEGINS = re.compile(r"\D{0,5}\d{1,4}[-/.] ?\d{1,2}[-/.] ?\d{1,4}|\d{6}(?:\d\d)?$|[2-6]\d{4}(?:[.,]\d+)?$|0+$")
_PIVOT = (date.today().year + 5) % 100


@dataclass(frozen=True)
class Conversion:
    """Steps (` -> number decimal=","`, or none), the share of the values that they suit, and what is not sure about them."""

    steps: str
    share: float
    doubt: str | None = None
    #: the column holds codes of its own that only a crosswalk can translate
    codes: bool = False
    #: how many of the values fit without being padded, cut, having letters or digits thrown away, or lying out of bounds, where that is fewer
    kept: float = 1.0

    @property
    def fit(self) -> float:
        """How many of the values are of the kind that the field takes."""
        return min(self.share, self.kept)


def conversion(field: Field, view: View) -> Conversion:
    """The best steps from a column to a field."""
    clean = _cleaning(view)
    if not view.texts:
        doubt = "the column is blank in the sample" if not view.placeholders else "the column has only placeholders"
        plain = {
            Kind.NUMBER: " -> number",
            Kind.DATE: ' -> date "yyyy-MM-dd"',
            Kind.DATETIME: ' -> date "yyyy-MM-dd HH:mm:ss"',
            Kind.YESNO: " -> yesno",
        }
        return Conversion(plain.get(field.kind, ""), 0.5, doubt)
    match field.kind:
        case Kind.NUMBER:
            return _number(field, view, clean)
        case Kind.DATE | Kind.DATETIME:
            return _date(field, view, clean)
        case Kind.YESNO:
            return _yesno(view, clean)
        case _:
            return _text(field, view, clean)


def _cleaning(view: View) -> str:
    return f" -> blank-if {' '.join(_quoted(p) for p in sorted(view.placeholders))}" if view.placeholders else ""


def _quoted(text: str) -> str:
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"').replace("{", "\\{") + '"'


def _tried(steps: str, texts: Sequence[str]) -> Sequence[str | None]:
    """What becomes of texts; None where it cannot be done."""
    return _tried_once(steps, tuple(texts))


@lru_cache(maxsize=4096)
def _tried_once(steps: str, texts: tuple[str, ...]) -> Sequence[str | None]:
    try:
        return [
            None if codes and made is None else made for made, codes in try_flow(f"{{A}}{steps}", [(t,) for t in texts])
        ]
    except MudanzaError:
        return [None] * len(texts)


def _share(made: Sequence[str | None]) -> float:
    return sum(m is not None for m in made) / len(made) if made else 0.0


# numbers


def _number(field: Field, view: View, clean: str) -> Conversion:
    steps, share, places, doubt = _read_number(tuple(view.texts), clean)
    most = field.type.format.max_fraction if isinstance(field.type, NumberType) else None
    if most is not None and places > most:
        steps += f" -> round {most}"
    kept = 1.0
    if isinstance(field.type, NumberType) and share:
        bounds = field.type.bounds
        kept = _inside([m and Decimal(m) for m in _tried(steps, view.texts)], bounds.low, bounds.high)
    return Conversion(steps, share, doubt, kept=kept)


def _inside(made: Sequence[Any], low: Any, high: Any) -> float:
    """How many of the values that could be made (None: could not) lie between bounds (None: no bound)."""
    values = [m for m in made if m is not None]
    inside = sum((low is None or m >= low) and (high is None or m <= high) for m in values)
    return inside / len(values) if values else 1.0


@lru_cache(maxsize=1024)
def _read_number(texts: tuple[str, ...], clean: str) -> tuple[str, float, int, str | None]:
    """How numbers are read: the steps, the share that they suit, the most decimal places, and what is doubtful."""
    if sum(any(map(str.isdigit, t)) for t in texts) < 0.2 * len(texts):
        return " -> number", 0.0, 0, None
    units = {m.group(1) or m.group(2) for t in texts if (m := _UNITS.match(t))} - {None}
    percent = units == {"%"}
    more = (
        " percent=yes"
        if percent
        else f" unit={_quoted('|'.join(sorted(str(u).strip() for u in units)))}"
        if 0 < len(units) <= 3
        else ""
    )
    if any(t.startswith("(") or t.endswith("-") for t in texts):
        more += " signs=yes"
    bare = [re.sub(r"[^\d.,' +-]", "", t).strip().strip("-").strip() for t in texts]
    best: tuple[float, int, str] = (0.0, 0, "")
    for rank, (decimal, group) in enumerate(
        [(".", None), (",", None), (",", "."), (".", ","), (",", " "), (".", "'"), (".", " ")]
    ):
        form = re.compile(NumberFormat.of(decimal, group).pattern)
        share = sum(form.match(b) is not None for b in bare) / len(bare)
        said = (f' decimal="{decimal}"' if decimal != "." else "") + (f' group="{group}"' if group else "")
        best = max(best, (round(share, 3), -rank, said))
    if not best[0]:
        return " -> number", 0.0, 0, None
    steps = f"{clean} -> number{best[2]}{more}"
    made = _tried(steps, texts)
    doubt = None
    if all(re.fullmatch(r"[+-]?\d{1,3}([.,])\d{3}", b) or b.isdigit() for b in bare) and any(
        re.search(r"[.,]\d{3}$", b) for b in bare
    ):
        doubt = "a sign before three digits may be of decimals or of thousands"
    places = max((len(m.split(".")[1]) for m in made if m and "." in m), default=0)
    return steps, _share(made), places, doubt


# dates


def _date(field: Field, view: View, clean: str) -> Conversion:
    texts = view.texts
    head = texts[:40]
    if sum(_DATE_BEGINS.match(t) is not None or _NAMED.search(t) is not None for t in head) < 0.2 * len(head):
        return Conversion(' -> date "yyyy-MM-dd"', 0.0)
    zero = [t for t in texts if re.fullmatch(r"0{1,4}[-/.]?0{2}[-/.]?0{1,4}|0", t)]
    if zero:
        clean = f" -> blank-if {' '.join(_quoted(p) for p in sorted({*view.placeholders, *zero}))}"
        texts = [t for t in texts if t not in zero] or texts
    timed = sum(":" in t for t in texts) > 0.5 * len(texts)
    options: list[tuple[float, int, str, str]] = []
    languages = (
        ("en", *(one for one in LANGUAGES if one != "en")) if any(_NAMED.search(t) for t in texts[:20]) else ("en",)
    )
    forms = [*DATES, *DATES_TOO, *(NAMED_DATES if len(languages) > 1 else [])]
    fitting = [
        (form, language)
        for form in forms
        for language in (languages if "MMM" in form else ("en",))
        if _near(form, texts)
    ]
    for rank, (form, language) in enumerate(fitting):
        for tail in TIMES if timed else [""]:
            said = f'"{form}{tail}"' + (f" pivot={_PIVOT}" if form.endswith("yy") and not form.endswith("yyyy") else "")
            said += f' language="{language}"' if language != "en" else ""
            share = _share(_tried(f" -> date {said}", texts[:120]))
            if share:
                options.append((round(share, 3), -rank, said, form))
    if len(texts) > 120:
        best = max(options, default=(0.0,))[0]
        options = [
            (round(_share(_tried(f" -> date {said}", texts)), 3), rank, said, form)
            for share, rank, said, form in options
            if share >= best - 0.1
        ]
    options.sort(reverse=True)
    if not options:
        serials = [t for t in texts if re.fullmatch(r"[2-6]\d{4}([.,]\d+)?", t)]
        if len(serials) > 0.9 * len(texts):
            whole = " time=yes" if any(not t.isdigit() for t in serials) else ""
            ending = " -> day" if whole and field.kind is Kind.DATE else ""
            return Conversion(f"{clean} -> serial{whole}{ending}", len(serials) / len(texts))
        return Conversion(' -> date "yyyy-MM-dd"', 0.0)
    share, _, said, form = options[0]
    doubt = None
    rivals = [o for o in options[1:] if o[0] == share and o[3] != form and _turned(o[3], form)]
    if rivals:
        doubt = f"day and month are not told apart by these values ({said} or {rivals[0][2]})"
    ending = " -> day" if timed and field.kind is Kind.DATE else ""
    kept = 1.0
    if isinstance(field.type, DateType):
        low, high = (b and b.isoformat()[:10] for b in (field.type.bounds.low, field.type.bounds.high))
        kept = _inside([m and m[:10] for m in _tried(f" -> date {said}", texts)], low, high)
    return Conversion(f"{clean} -> date {said}{ending}", share, doubt, kept=kept)


def _near(form: str, texts: Sequence[str]) -> bool:
    """Whether a form has the signs of the first values, before it is tried on all."""
    signs = {c for c in form if c in "/-."}
    head = [t.split(" ")[0].split("T")[0] for t in texts[:20]]
    if "MMM" in form:
        return any(_NAMED.search(t) for t in texts[:20])
    return any({c for c in h if c in "/-."} == signs and not h.isalpha() for h in head)


def _turned(one: str, other: str) -> bool:
    return one.replace("d", "?").replace("M", "?") == other.replace("d", "?").replace("M", "?")


# yes and no


def _yesno(view: View, clean: str) -> Conversion:
    found = {t.lower() for t in view.texts}
    if not 0 < len(found) <= 4 or any(sign in word for word in found for sign in '"|'):
        return Conversion(" -> yesno", 0.0)
    shown = [pair for pair in _PAIRS if set(pair) <= found]
    # only what the column shows says which words are a pair: a `ja` may go with `nein`, `nej`, `nei` and `nee`
    pairs = shown or [pair for pair in _PAIRS if set(pair) & found]
    yes, no = ({pair[side] for pair in pairs} for side in (0, 1))
    unclear = (yes & no) | (set() if shown else {w for w in found & yes if any(w == n for _, n in _PAIRS)})
    yes, no = yes - unclear, no - unclear
    open_words = sorted(found - yes - no)
    if found == {"x"}:
        # a cross, or none
        return Conversion(f'{clean} -> default "-" -> yesno yes="x" no="-"', 1.0)
    if not (found - set(open_words)) and open_words:
        # nothing tells which is which; whoever reads the draft decides
        yes, no = set(open_words[:1]), set(open_words[1:])
    steps = f'{clean} -> yesno yes="{_either(yes)}"' + (f' no="{_either(no)}"' if no else "")
    if open_words:
        doubt = f"what {', '.join(open_words)} means is open"
        return Conversion(steps, 0.8 * (1 - len(open_words) / len(found)), doubt)
    return Conversion(steps, 1.0)


def _either(words: set[str]) -> str:
    return "|".join(word for word in dict.fromkeys(w for pair in _PAIRS for w in pair) if word in words) or "|".join(
        sorted(words)
    )


# text


def _text(field: Field, view: View, clean: str) -> Conversion:
    spaces = (
        " -> squeeze"
        if any("  " in v or "\n" in v for v in view.values)
        else " -> trim"
        if any(v != v.strip() for v in view.values)
        else ""
    )
    takes = field.type if isinstance(field.type, TextType) else TextType()
    if takes.permitted is not None:
        return _permitted(takes.permitted, view, clean, spaces)
    if takes.pattern is not None and takes.regex is not None and field.separator is None:
        return _pattern(takes.pattern, takes.regex, view, clean, spaces)
    steps = clean + spaces
    limit = takes.longest
    kept = 1.0
    if limit is not None and view.longest > limit:
        kept = sum(len(t) <= limit for t in view.texts) / len(view.texts)
        steps += f" -> fit {limit} words=yes"
    return Conversion(steps, 1.0, kept=kept)


def _permitted(permitted: Sequence[str], view: View, clean: str, spaces: str) -> Conversion:
    codes = set(view.texts)
    exact = len(codes & set(permitted)) / len(codes)
    if exact >= 0.95:
        return Conversion(clean + (spaces and " -> trim"), exact)
    for steps, turned in ((" -> upper", str.upper), (" -> lower", str.lower), (" -> sentence", str.capitalize)):
        if {turned(c) for c in codes} <= set(permitted):
            return Conversion(clean + (spaces and " -> trim") + steps, 1.0)
    folded = {p.lower() for p in permitted}
    alike = sum(c.lower() in folded for c in codes) / len(codes)
    few = len(codes) <= max(30, 4 * len(permitted))
    return Conversion(
        "", max(alike, 0.5 if few else 0.05), None if few else "it has many values for a list of codes", codes=True
    )


def _pattern(asked: str, regex: str, view: View, clean: str, spaces: str) -> Conversion:
    pattern = pl.lit(regex)
    lengths = [int(n) for n in re.findall(r"\{(\d+)\}", asked)]
    digits = sum(lengths)
    tried = [spaces, " -> trim", " -> upper", " -> lower", ' -> without " .-/"', " -> digits", " -> code"]
    if digits and sum(any(map(str.isdigit, t)) for t in view.texts) > 0.5 * len(view.texts):
        tried += [f" -> digits -> last {digits}", f" -> digits -> pad {digits}"]
    texts = view.texts[:150]
    best, kept = (0.0, spaces), 0.0
    for steps in tried:
        made = _tried(steps, texts)
        fits = pl.Series(made, dtype=pl.String).to_frame("t").select(pl.col("t").str.contains(pattern).fill_null(False))
        good = fits["t"].to_list()
        kept = max(
            kept, sum(g and _signs(t) == _signs(m) for g, t, m in zip(good, texts, made, strict=True)) / len(texts)
        )
        if (share := sum(good) / len(texts)) > best[0] + 0.02:
            best = (share, steps)
    doubt = None if best[0] >= 0.9 else f"only {best[0]:.0%} of the values match {asked}"
    return Conversion(clean + best[1], best[0], doubt, kept=kept)


def _signs(text: str | None) -> str:
    """The letters and digits of a text alone."""
    return "".join(filter(str.isalnum, (text or "").upper()))
