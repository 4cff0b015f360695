"""What may be called something: a name never leads out of the folder that it is a file in."""

from __future__ import annotations

import re

from mudanza.core.documents.errors import MoveError, Place

_NAME = re.compile(r"[\w-]+(?:\.[\w-]+)*")
#: what to do about a text that is none
NAME_RULE = "A name has letters, digits, - and _, and dots inside it."


def is_name(text: str) -> bool:
    """Whether a text is a name: letters, digits, `-`, `_`, and `.` between them."""
    return _NAME.fullmatch(text) is not None


def checked_name(text: str, kind: str, place: Place | None = None) -> str:
    """The name of something of a kind. Raises MoveError for a text that is none."""
    if not is_name(text):
        raise MoveError(f"{text!r} cannot be the name of a {kind}.", place=place, hint=NAME_RULE)
    return text
