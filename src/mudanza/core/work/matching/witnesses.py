"""What speaks for a column and a field belonging together, and what against it, as figures."""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import cached_property

from mudanza.core.layouts.layout import Field
from mudanza.core.layouts.types.number import NumberType
from mudanza.core.layouts.types.text import TextType
from mudanza.core.values.kinds import Kind
from mudanza.core.work.matching.conversions import Conversion
from mudanza.core.work.matching.meaning.headings import Meaning
from mudanza.core.work.matching.meaning.lexicon import Ideas, ideas
from mudanza.core.work.matching.meaning.likeness import Likeness
from mudanza.core.work.matching.views import View

#: contents that hardly anything else looks like: a column of them is meant for a field that wants them
PLAIN = (
    "email",
    "web",
    "iban",
    "bic",
    "isbn",
    "vin",
    "tax",
    "barcode",
    "title",
    "gender",
    "country",
    "currency",
    "phone",
    "date",
    "time",
    "weekday",
    "marital",
)
#: contents that no number is
NAMED = frozenset({"given", "family", "full", "town"})
#: contents that are seldom numbers
_IN_WORDS = NAMED | {"street", "company", "job", "text", "thing", "country"}
#: ideas whose numbers have a form of their own
_NUMBERED = frozenset({"tax", "national", "social", "phone", "mobile", "fax", "post", "barcode", "vin"})


@dataclass(frozen=True)
class Asked:
    """A field as it is looked for: what its name and title mean, what its values should look like, and what it is in its layout."""

    field: Field
    meanings: tuple[Meaning, ...]
    is_key: bool = False
    is_reference: bool = False
    #: a key book of the move gives what it takes
    is_given: bool = False

    @cached_property
    def ideas(self) -> Ideas:
        return frozenset(idea for meaning in self.meanings for idea in meaning.ideas)

    @cached_property
    def wants(self) -> Ideas:
        """What the values should look like, by the ideas of the field."""
        return self._looks(hints=True)

    @cached_property
    def needs(self) -> Ideas:
        """What the values must look like; those that look otherwise speak against a column."""
        return self._looks(hints=False)

    def _looks(self, hints: bool) -> Ideas:
        if "id" in self.ideas and not self.ideas & _NUMBERED:
            return frozenset()
        known = [ideas()[i] for i in sorted(self.ideas) if i in ideas()]
        by_own: set[str] = set()
        by_others: set[str] = set()
        for idea in known:
            into = by_others if idea.role in ("whose", "little") else by_own
            into |= idea.contents | (idea.hints if hints else frozenset())
        return frozenset(by_own or by_others)


#: the figures by name, with words for each; learned weights are kept by these names
NAMES = {
    "share": "what name and heading mean is shared",
    "asked": "what the field is called is in the heading",
    "given": "what the heading says is in the field's name",
    "telling": "what they share says more than number, name or date",
    "marks": "only one is of home, work, mailing and the like",
    "other number": "they have different numbers",
    "same heading": "they are written alike",
    "little in common": "they share little",
    "nothing in common": "they share nothing",
    "apart": "each says something else",
    "content fits": "the values look like what the field is for",
    "content does not fit": "the values do not look like what the field is for",
    "content alone": "the values look so, whatever the heading says",
    "content and share": "the values look so, and the heading says so",
    "other content": "the values look like something else",
    "converts": "the values can be converted",
    "converts not": "values cannot be converted",
    "converts and share": "the values can be converted, and the heading says so",
    "codes fit": "the values are permitted codes, or could be",
    "codes do not fit": "the values are no permitted codes",
    "pattern fits": "the values match the field's pattern",
    "pattern does not fit": "the values do not match the field's pattern",
    "key identifies": "the values identify the rows",
    "key repeats": "the values do not identify the rows",
    "key unlike": "the values are no identifiers",
    "reference": "the heading says that they are identifiers",
    "born": "the dates are of births",
    "not born": "the dates are, or are not, of births",
    "decimals": "the numbers have decimals",
    "words for a number": "the values are no numbers",
    "number for words": "the values are numbers",
    "too long": "the values are too long",
    "blank": "there are no values in the sample",
    "id for words": "the values are words, no identifiers",
}


def witnesses(asked: Asked, view: View, like: Likeness, converted: Conversion, habit: bool = False) -> dict[str, float]:
    """The figures for a field and a column, by name; what is not named is 0."""
    field, told = asked.field, view.contents
    share = 1.0 if habit else like.score
    fits = max((told.get(what, 0.0) for what in asked.wants), default=0.0)
    plain = max((told.get(what, 0.0) for what in PLAIN if what not in asked.wants), default=0.0)
    filled = bool(view.texts)
    found = {
        "share": share,
        "asked": 1.0 if habit else like.asked * like.certainty,
        "given": 1.0 if habit else like.given * like.certainty,
        "telling": 1.0 if habit else min(like.telling, 1.5) * like.certainty,
        "marks": 0.0 if habit else min(like.marks, 2.0),
        "other number": float(like.number),
        "same heading": float(like.same),
        "little in common": float(0 < share < 0.45),
        "nothing in common": float(share <= 0.05),
        "apart": like.certainty * like.apart,
        "blank": float(not filled),
    }
    if filled and asked.wants:
        found |= {
            "content fits": fits,
            "content does not fit": (1 - fits) * bool(asked.needs),
            "content alone": fits * (share < 0.3),
            "content and share": fits * share,
        }
    if filled and field.kind is Kind.TEXT:
        found["other content"] = max(0.0, plain - fits) if plain > 0.6 else 0.0
        found["number for words"] = float(view.numeric > 0.8 and bool(asked.wants & _IN_WORDS))
        found["id for words"] = float("id" in asked.ideas and view.wordy > 0.8 and not asked.is_reference)
    elif filled:
        found |= {
            "converts": converted.fit,
            "converts not": 1 - converted.fit,
            "converts and share": converted.fit * share,
        }
    if filled and isinstance(field.type, NumberType):
        found["words for a number"] = float(view.numeric < 0.3)
        most = field.type.format.max_fraction
        found["decimals"] = float(most == 0 and view.decimal > 0.3)
    if filled and isinstance(field.type, TextType):
        if field.type.permitted is not None:
            found |= {"codes fit": converted.fit, "codes do not fit": 1 - converted.fit}
        elif particular(field.type) and not asked.is_given:
            found |= {"pattern fits": converted.fit, "pattern does not fit": 1 - converted.fit}
        limit = field.type.longest
        if limit is not None and view.longest > 1.5 * limit:
            found["too long"] = sum(len(t) > 1.5 * limit for t in view.texts) / len(view.texts)
    if asked.is_key:
        is_id = "id" in view.meaning.ideas
        found |= {
            "key identifies": float(view.unique) * (1 if is_id else 0.6),
            "key repeats": float(not view.unique),
            "key unlike": float(view.unique and view.wordy > 0.6),
        }
    elif asked.is_reference:
        found["reference"] = float("id" in view.meaning.ideas)
    if field.kind in (Kind.DATE, Kind.DATETIME) and view.years:
        births = view.years[len(view.years) // 2] < 2003 and view.years[0] < 1985
        found["born"] = float(births and "birth" in asked.ideas)
        found["not born"] = float(births != ("birth" in asked.ideas)) * (1.0 if "birth" in asked.ideas else 0.5)
    return found


def particular(takes: TextType) -> bool:
    """Whether the pattern of a text says more than how long it is."""
    return len(re.sub(r"[\[\]{}()?*+.\\,0-9-]", "", takes.pattern or "")) >= 2 or bool(
        takes.pattern and re.search(r"\{\d+\}", takes.pattern)
    )
