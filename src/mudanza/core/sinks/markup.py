"""Texts in XML 1.0: what must be escaped, and what cannot stand there at all."""

from __future__ import annotations

import polars as pl

#: characters that no XML document can hold (XML 1.0, section 2.2, production 2)
FORBIDDEN = r"[\x00-\x08\x0B\x0C\x0E-\x1F\x{FFFE}\x{FFFF}]"
RULE = "no control characters, which XML cannot hold"

_TEXT = {"&": "&amp;", "<": "&lt;", ">": "&gt;", "\r": "&#13;"}
# readers make spaces of these (section 3.3.3)
_ATTRIBUTE = {**_TEXT, '"': "&quot;", "\n": "&#10;", "\t": "&#9;"}


def escaped(text: pl.Expr) -> pl.Expr:
    """A text as it stands in an element."""
    return text.str.replace_many(list(_TEXT), list(_TEXT.values()))


def escaped_attribute(text: pl.Expr) -> pl.Expr:
    """A text as it stands in an attribute, between double quotes."""
    return text.str.replace_many(list(_ATTRIBUTE), list(_ATTRIBUTE.values()))


def escaped_alone(text: str) -> str:
    """One text as it stands in an attribute or an element."""
    return "".join(_ATTRIBUTE.get(sign, sign) for sign in text)
