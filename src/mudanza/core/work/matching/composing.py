"""What one source gives to a field, as a flow: the column that is meant, with those that complete it, and the steps that the values need."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from mudanza.core.layouts.layout import Field
from mudanza.core.layouts.types.text import TextType
from mudanza.core.plans.crosswalk_files import further_columns, heading_of
from mudanza.core.plans.move import Move
from mudanza.core.plans.plan import Plan
from mudanza.core.tables.key_pattern import KeyPattern
from mudanza.core.work.matching.meaning.lexicon import Ideas, of_role
from mudanza.core.work.matching.scoring import SURE, Candidate, Scores
from mudanza.core.work.matching.views import View

_GIVEN, _FAMILY, _NAME = frozenset({"given", "name"}), frozenset({"family", "name"}), frozenset({"name"})
_INFIX, _HOUSE = frozenset({"infix"}), frozenset({"house", "id"})
#: a flow that suits fewer of the values is doubtful, whoever chose the column
_FEW_FIT = 0.5
_WHOLE = (frozenset({"full", "name"}), _NAME)
#: what programs break into several columns
_IN_LINES = frozenset({"name", "description", "note", "heading", "subject", "reason", "purpose"})
#: words of order: the first, the second family name
_ORDER = ("first", "second", "third")


@dataclass(frozen=True)
class Part:
    """What one source gives to a field: a flow, the columns it takes, how likely it is meant (0 to 1), the evidence, and what is doubtful (None if it is
    sure). `crosswalk` is one that the flow needs and the move does not have yet, with its further columns; `rivals` are columns that come next."""

    flow: str
    columns: tuple[str, ...]
    score: float
    evidence: tuple[str, ...]
    doubt: str | None
    crosswalk: tuple[str, tuple[str, ...]] | None = None
    rivals: tuple[tuple[str, float], ...] = ()
    #: whether these are the columns that are meant, whatever may be doubtful about their values
    certain: bool = True


def key_like(pattern: KeyPattern) -> str:
    """An identifier that a key book would give."""
    return f"{pattern.before}{1:0>{pattern.digits}}{pattern.after}"


class Composer:
    """Makes flows of one source's columns, `chosen` for fields by their names. `several`: the list has other sources too."""

    def __init__(
        self,
        move: Move,
        plan: Plan,
        scores: Scores,
        chosen: Mapping[str, Candidate],
        several: bool,
    ) -> None:
        self.move, self.plan, self.chosen, self.several = move, plan, chosen, several
        self.columns, self.asked, self.subject = scores.views, scores.scorer.asked, scores.scorer.subject
        self.taken = {c.view.name for c in chosen.values()}

    def part(self, field: Field) -> Part | None:
        """What the source gives to a field: None if nothing."""
        candidate = self.chosen.get(field.name)
        named = self._name(field, candidate)
        if named is not None or candidate is None:
            return named
        return self._completed(field, candidate) or self._converted(field, candidate)

    def _plain(self, meant: Ideas) -> Ideas:
        """Ideas without those that say whose record it is."""
        return meant - self.subject

    def _find(self, meant: Ideas) -> View | None:
        """The one column that means this and nothing else."""
        found = [
            v for v in self.columns if v.filled and self._plain(v.meaning.ideas) == meant and not v.meaning.inherited
        ]
        return found[0] if len(found) == 1 else None

    def _asks(self, meant: Ideas) -> bool:
        return any(meant <= asked.ideas for asked in self.asked.values())

    # names

    def _name(self, field: Field, candidate: Candidate | None) -> Part | None:
        """A whole name of its parts, or a part of a whole name, where the source has it the other way."""
        own = self._plain(self.asked[field.name].ideas)
        if "name" not in own or not isinstance(field.type, TextType):
            return None
        given, family = self._find(_GIVEN), self._find(_FAMILY)
        if own in _WHOLE and given and family and not self._asks(_GIVEN) and not self._asks(_FAMILY):
            if candidate is not None and candidate.view not in (given, family):
                return None
            infix = self._find(_INFIX)
            parts = [given, *([infix] if infix else []), family]
            return Part(
                f'{_listed(parts)} -> join " "{_squeezed(parts)}',
                tuple(v.name for v in parts),
                SURE,
                ("given and family name make the name",),
                None,
            )
        if given or family or own not in (_GIVEN, _FAMILY):
            return None
        whole = next((v for v in map(self._find, _WHOLE) if v and v.wordy > 0.7), None)
        if whole is None or (candidate and candidate.view is not whole and candidate.score > 0.7):
            return None
        if sum("," in t for t in whole.texts) > 0.8 * len(whole.texts):
            step = 'after ","' if own == _GIVEN else 'before ","'
            evidence = ("the name is written as family, given",)
            return Part(f"{{{whole.name}}} -> {step} -> squeeze", (whole.name,), SURE, evidence, None)
        if sum(" " in t for t in whole.texts) > 0.8 * len(whole.texts):
            step = 'before " "' if own == _GIVEN else 'after " "'
            doubt = "where a name of several words is to be cut is not certain"
            return Part(
                f"{{{whole.name}}} -> squeeze -> {step}", (whole.name,), 0.6, ("part of the whole name",), doubt
            )
        return None

    # joins

    def _completed(self, field: Field, candidate: Candidate) -> Part | None:
        """The column with those that complete it: a house number to a street without one, further lines, a second family name; None if there are none."""
        takes = field.type
        if (
            not isinstance(takes, TextType)
            or takes.permitted is not None
            or takes.pattern
            or self.asked[field.name].is_key
        ):
            return None
        first = candidate.view
        before, house, lines = self._infix(first), self._house(field, first), self._lines(first)
        if not (before or house or lines):
            return None
        head = [*before, first, *house]
        parts = [*head, *lines]
        address = bool(_address(first.meaning.ideas))
        flow = _listed(parts)
        between = ", " if address and lines else " "
        if len(head) > 1 and lines and address:
            flow = f'({_listed(head)} -> join " "), {_listed(lines)}'
        flow += f' -> join "{between}"{_squeezed(parts)}'
        limit = takes.longest
        if limit is not None and sum(v.longest + len(between) for v in parts) - len(between) > limit:
            flow += f" -> fit {limit} words=yes"
        told = (
            "with the house number"
            if house
            else "with what stands before the name"
            if before
            else "its lines are joined"
        )
        # what was a rival is part of it now
        names = tuple(v.name for v in parts)
        score = round(min(1.0, candidate.score + sum(likely for name, likely in candidate.rivals if name in names)), 2)
        rivals = tuple(r for r in candidate.rivals if r[0] not in names)
        certain = candidate.certain or (score >= SURE and not rivals)
        whole = replace(candidate, certain=certain, rivals=rivals)
        return Part(flow, names, score, (*candidate.evidence, told), _doubt(whole), None, rivals, certain)

    def _free(self) -> list[View]:
        return [v for v in self.columns if v.filled and v.name not in self.taken]

    def _infix(self, first: View) -> list[View]:
        if not first.meaning.ideas >= _FAMILY or self._asks(_INFIX):
            return []
        infix = self._find(_INFIX)
        return [infix] if infix and infix.name not in self.taken else []

    def _house(self, field: Field, first: View) -> list[View]:
        """The column of house numbers that belongs to a street without them."""
        if not {"street", "address"} & self.asked[field.name].ideas or not _address(first.meaning.ideas):
            return []
        texts = first.texts
        if sum(any(map(str.isdigit, t)) for t in texts) > 0.5 * len(texts):
            return []
        marks = _marks(first)
        found = [v for v in self._free() if v.meaning.ideas >= _HOUSE and _marks(v) == marks]
        return found[:1] if len(found) == 1 else []

    def _lines(self, first: View) -> list[View]:
        """Columns that go on where the first ends: the same heading with the next number."""
        if first.meaning.number not in (None, "0", "1") and not set(_ORDER[1:]) & first.meaning.ideas:
            return []
        if not _address(first.meaning.ideas) and not first.meaning.ideas & _IN_LINES:
            return []
        own = self._line_of(first)
        lines: list[View] = []
        at = 2
        while True:
            following = [
                v
                for v in self._free()
                if self._line_of(v) == own and _number(v) == at and v.contents.get("town", 0) < 0.6
            ]
            if len(following) != 1 or self._asked_for(following[0], at):
                return lines
            lines += following
            at += 1

    def _line_of(self, view: View) -> object:
        """What a column is a line of."""
        return _line_ideas(view.meaning.ideas | view.meaning.inherited), view.meaning.readings[0].others

    def _asked_for(self, view: View, number: int) -> bool:
        """Whether the layout has a field of its own for a line of this number."""
        own = self._line_of(view)
        return any(
            _numbered(meaning.number, meaning.ideas) == number
            and (_line_ideas(meaning.ideas | meaning.inherited), meaning.readings[0].others) == own
            for asked in self.asked.values()
            for meaning in asked.meanings
        )

    # one column

    def _converted(self, field: Field, candidate: Candidate) -> Part:
        view = candidate.view
        doubt = _doubt(candidate)
        key = self._identifier(field, view) if candidate.given else None
        if key is not None:
            return replace(
                key,
                score=candidate.score,
                evidence=candidate.evidence,
                doubt=doubt,
                rivals=candidate.rivals,
                certain=candidate.certain,
            )
        if candidate.conversion.codes:
            return self._codes(field, candidate, doubt)
        flow = f"{{{view.name}}}{candidate.conversion.steps}"
        return Part(
            flow, (view.name,), candidate.score, candidate.evidence, doubt, None, candidate.rivals, candidate.certain
        )

    def _identifier(self, field: Field, view: View) -> Part | None:
        """A key that has to be made anew, or a reference to one: where a key book's keys are what the field takes, and the values are not."""
        for book, pattern in self.move.key_patterns.items():
            if isinstance(field.type, TextType) and field.type.regex and field.type.takes(key_like(pattern)):
                step = "mint" if field.name in self.plan.layout.primary_key else "key"
                return Part(f"{{#source}}, {{{view.name}}} -> {step} {book}", (view.name,), 0, (), None)
        return None

    def _codes(self, field: Field, candidate: Candidate, doubt: str | None) -> Part:
        """A column of codes through a crosswalk, which knows the source too where there are several."""
        view = candidate.view
        known = self.move.names("crosswalks", ".csv")
        name = next((n for n in (field.name, f"{field.name}s", f"{field.name}es") if n in known), field.name)
        further: tuple[str, ...] = ("source",) if self.several else ()
        missing = None if name in known else (name, further)
        if name in known:
            further = tuple(further_columns(heading_of(self.move.crosswalk_path(name))))
        clean = candidate.conversion.steps
        value = f"{{{view.name}}}{clean}"
        if further:
            value = f"({value}), {{#source}}" if clean else f"{value}, {{#source}}"
        flow = f"{value} -> crosswalk {name}"
        return Part(
            flow, (view.name,), candidate.score, candidate.evidence, doubt, missing, candidate.rivals, candidate.certain
        )


def _doubt(candidate: Candidate) -> str | None:
    made = candidate.conversion
    if made.doubt is None and not made.codes and not candidate.given and candidate.view.texts and made.share < _FEW_FIT:
        return f"only {made.share:.0%} of the values can become what the field takes"
    if candidate.conversion.doubt or candidate.certain:
        return candidate.conversion.doubt
    near = [name for name, likely in candidate.rivals if likely >= 0.3]
    return (
        f"{' or '.join(f'{{{name}}}' for name in near[:2])} may be meant"
        if near
        else "another column, or none, may be meant"
    )


def _listed(views: Sequence[View]) -> str:
    return ", ".join(f"{{{v.name}}}" for v in views)


def _squeezed(views: Sequence[View]) -> str:
    return " -> squeeze" if any("  " in v or v != v.strip() for view in views for v in view.values) else ""


def _marks(view: View) -> Ideas:
    meant = view.meaning.ideas | view.meaning.inherited
    return of_role(meant, "mark")


def _address(meant: Ideas) -> Ideas:
    """Whether ideas are of a street or a line of an address."""
    return frozenset() if meant & {"house", "post", "town", "email", "web"} else meant & {"street", "address"}


def _line_ideas(meant: Ideas) -> Ideas:
    if _address(meant):
        meant = meant - {"street", "address", "line"} | {"address"}
    return meant - set(_ORDER)


def _numbered(number: str | None, meant: Ideas) -> int:
    for at, word in enumerate(_ORDER, start=1):
        if word in meant:
            return at
    return int(number) if number and number.isdigit() else 1


def _number(view: View) -> int:
    return _numbered(view.meaning.number, view.meaning.ideas)
