"""The steps of the language. A step is one function with its declaration; see `declaring`. A module of steps is named here."""

from mudanza.core.language.steps import (  # noqa: F401
    blanks,
    dates,
    identifiers,
    letters,
    looking_up,
    numbers,
    readings,
    several,
    texts,
)
from mudanza.core.language.steps.declaring import STEPS

__all__ = ["STEPS"]
