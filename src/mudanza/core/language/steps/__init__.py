"""The steps of the language. A step is one function with its declaration; see `declaring`. A module of steps is named here."""

from mudanza.core.language.steps import blanks, dates, letters, looking_up, numbers, readings, several, texts  # noqa: F401
from mudanza.core.language.steps.declaring import STEPS

__all__ = ["STEPS"]
