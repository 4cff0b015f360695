"""What may have stood in the columns of a flow, for it to give a value. These are proposals: whether they give it is tried, forward."""

from __future__ import annotations

import itertools
import re
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from datetime import date, datetime
from decimal import Decimal

from mudanza.core.language.nodes import Case, Chain, Flow, Node, Reference, StepCall, Template, Text, Word
from mudanza.core.tables.crosswalk import ANY, Crosswalk
from mudanza.core.values.months import ENGLISH
from mudanza.core.values.written import NO_WORDS, YES_WORDS

#: a value as a flow gives it: of the field's kind, or a text
Native = str | Decimal | date | datetime | bool | None
#: texts by the columns that hold them
Proposal = dict[str, str]
_MOST = 200


@dataclass(frozen=True)
class Around:
    """What flows may be turned round with: the crosswalks by their names, and what each row holds now."""

    crosswalk: Callable[[str], Crosswalk]
    row: dict[str, str | None]


def proposals(flow: Flow, value: Native, around: Around) -> list[Proposal]:
    """What may have to stand in columns for a flow to give a value, the likelier first; nothing where it cannot be told."""
    found: list[Proposal] = []
    for case in flow.cases:
        for one in itertools.islice(_of_case(case, value, around), _MOST):
            if one and one not in found:
                found.append(one)
    return found


def _of_case(case: Case, value: Native, around: Around) -> Iterator[Proposal]:
    yield from _of_node(case.chain, value, around)


def _of_node(node: Node, value: Native, around: Around) -> Iterator[Proposal]:
    if isinstance(node, Reference):
        if not node.name.startswith(("@", "#")):
            yield {node.name: _plain(value)}
        elif node.name.startswith("#") and (around.row.get(node.name) or "") == _plain(value):
            # what the file itself says stays as it is
            yield {}
    elif isinstance(node, Template):
        yield from _of_template(node, _plain(value))
    elif isinstance(node, Chain):
        yield from _of_chain(node, value, around)


def _of_template(template: Template, text: str) -> Iterator[Proposal]:
    """A text taken apart by what stands between its columns."""
    pattern, names = "", []
    for part in template.parts:
        if isinstance(part, Text):
            pattern += re.escape(part.value)
        elif part.name.startswith(("@", "#")):
            return
        else:
            names.append(part.name)
            pattern += "(.*?)"
    for greedy in (pattern, pattern.replace("(.*?)", "(.*)")):
        if match := re.fullmatch(greedy, text, re.DOTALL):
            made = dict(zip(names, match.groups(), strict=True))
            if all(made[name] == group for name, group in zip(names, match.groups(), strict=True)):
                yield made


def _of_chain(chain: Chain, value: Native, around: Around) -> Iterator[Proposal]:
    values: list[list[Native]] = [[value]]
    for step in reversed(chain.steps):
        if step.name == "join" and len(chain.values) > 1:
            values = [
                parts for (one,) in values for parts in _parted(_plain(one), _argument(step, 0, " "), len(chain.values))
            ]
            continue
        if step.name == "crosswalk" and len(chain.values) > 1:
            values = [parts for (one,) in values for parts in _of_codes(step, one, chain, around)]
            continue
        values = [[before] for (one, *_) in values for before in _before(step, one, around)]
    for parts in values:
        if len(parts) == len(chain.values):
            yield from _all_of(chain.values, parts, around)
        elif len(parts) == 1:
            # the first that is filled, or one of several: each alone
            for node in chain.values:
                yield from _of_node(node, parts[0], around)


def _all_of(nodes: Sequence[Node], parts: Sequence[Native], around: Around) -> Iterator[Proposal]:
    choices = [list(itertools.islice(_of_node(node, part, around), 8)) for node, part in zip(nodes, parts, strict=True)]
    for combination in itertools.product(*choices):
        made: Proposal = {}
        for one in combination:
            if any(made.get(name, text) != text for name, text in one.items()):
                break
            made |= one
        else:
            yield made


def _parted(text: str, separator: str, count: int) -> Iterator[list[Native]]:
    """A text taken apart into so many parts; blanks were left out when it was joined."""
    pieces = text.split(separator) if text else []
    if len(pieces) > count:
        pieces = [*pieces[: count - 1], separator.join(pieces[count - 1 :])]
    for places in itertools.combinations(range(count), len(pieces)):
        parts: list[Native] = [None] * count
        for place, piece in zip(places, pieces, strict=True):
            parts[place] = piece
        yield parts


def _of_codes(step: StepCall, value: Native, chain: Chain, around: Around) -> Iterator[list[Native]]:
    """The codes that a crosswalk translates to a value, with the further values that they ask for."""
    table = around.crosswalk(_name(step))
    now = [around.row.get(node.name) if isinstance(node, Reference) else None for node in chain.values[1:]]
    for entry in table.entries:
        if entry.to == _plain(value) and entry.code != ANY and not entry.upto:
            yield [entry.code, *(when if when != ANY else there for when, there in zip(entry.when, now, strict=False))]


def _before(step: StepCall, value: Native, around: Around) -> Iterator[Native]:
    """What may have come into a step for a value to come out."""
    if step.name == "crosswalk":
        for entry in around.crosswalk(_name(step)).entries:
            if entry.to == _plain(value) and entry.code != ANY and not entry.upto:
                yield entry.code
    elif step.name == "date" and isinstance(value, date):
        for argument in step.arguments:
            if argument.option is None and isinstance(argument.value, Text):
                yield _dated(value, argument.value.value)
    elif step.name == "number" and isinstance(value, Decimal):
        yield _digits(value).replace(".", _option(step, "decimal", "."))
    elif step.name == "yesno" and isinstance(value, bool):
        words = _option(step, "yes", YES_WORDS) if value else _option(step, "no", NO_WORDS)
        for word in words.split("|"):
            yield from (word.strip(), word.strip().upper(), word.strip().capitalize())
    elif step.name == "words":
        yield _plain(value) == _argument(step, 0, "")
    elif step.name == "times" and isinstance(value, Decimal):
        factor = Decimal(_argument(step, 0, "1"))
        if factor:
            yield value / factor
    else:
        # most steps leave a value as it is that is right already
        yield value


def _dated(value: date, pattern: str) -> str:
    """A date as a pattern writes it."""
    moment = value if isinstance(value, datetime) else datetime(value.year, value.month, value.day)
    letters = {
        "yyyy": f"{moment.year:04}", "yy": f"{moment.year % 100:02}", "MMMM": f"{moment:%B}", "MMM": ENGLISH[moment.month - 1], "MM": f"{moment.month:02}", "M": str(moment.month),
        "dd": f"{moment.day:02}", "d": str(moment.day), "HH": f"{moment.hour:02}", "H": str(moment.hour), "mm": f"{moment.minute:02}", "ss": f"{moment.second:02}",
    }  # fmt: skip
    return re.sub(
        r"'([^']*)'|y{4}|yy|M{1,4}|d{1,2}|H{1,2}|mm|ss", lambda m: m[1] if m[1] is not None else letters[m[0]], pattern
    )


def _digits(value: Decimal) -> str:
    text = f"{value:f}"
    return text.rstrip("0").rstrip(".") if "." in text else text


def _plain(value: Native) -> str:
    if value is None:
        return ""
    return _digits(value) if isinstance(value, Decimal) else str(value)


def _argument(step: StepCall, number: int, otherwise: str) -> str:
    own = [one.value for one in step.arguments if one.option is None]
    return str(getattr(own[number], "value", otherwise)) if len(own) > number else otherwise


def _option(step: StepCall, name: str, otherwise: str) -> str:
    return next(
        (str(getattr(one.value, "value", otherwise)) for one in step.arguments if one.option == name), otherwise
    )


def _name(step: StepCall) -> str:
    return next((one.value.name for one in step.arguments if isinstance(one.value, Word)), "")
