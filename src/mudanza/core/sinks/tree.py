"""Headings that lie within each other, as a tree."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TypeAlias, Union

#: by name, what lies within: a further branch, or the heading of a column
Branch: TypeAlias = Mapping[str, Union["Branch", str]]


def tree_of(ways: Mapping[str, tuple[str, ...]]) -> Branch:
    """The tree of headings, of the way to each, in their order."""
    tree: dict[str, object] = {}
    for title, way in ways.items():
        branch = tree
        for name in way[:-1]:
            within = branch.setdefault(name, {})
            assert isinstance(within, dict), "a heading lies within another that is a value"
            branch = within
        branch[way[-1]] = title
    return tree  # type: ignore[return-value]
