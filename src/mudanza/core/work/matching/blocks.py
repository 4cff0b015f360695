"""Fields and columns that stand together: the parts of one address, one contact. What the first of them says of all is known for the rest."""

from __future__ import annotations

from collections.abc import Sequence

from mudanza.core.work.matching.meaning.lexicon import Ideas, of_role

#: the parts of an address, in which one mark (mailing, delivery) stands for all
_ADDRESS = frozenset(
    {"address", "street", "house", "flat", "floor", "line", "post", "town", "district", "region", "country"}
)
#: no marks
_NONE: Ideas = frozenset()


def marks_of(meanings: Sequence[Ideas]) -> list[Ideas]:
    """For the ideas of headings in their order, the marks that each takes over from the block it stands in; none for one that is marked itself."""
    found: list[Ideas] = []
    block: Ideas = _NONE
    seen: set[str] = set()
    for meant in meanings:
        parts = meant & _ADDRESS
        marks = of_role(meant, "mark")
        if not parts:
            block, seen = _NONE, set()
            found.append(_NONE)
        elif marks:
            block, seen = marks, (seen | parts if marks == block else set(parts))
            found.append(_NONE)
        else:
            if parts & seen - {"address", "line"}:
                # the same part once more begins another address
                block, seen = _NONE, set()
            seen |= parts
            found.append(block)
    return found
