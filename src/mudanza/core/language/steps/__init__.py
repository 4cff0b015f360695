"""The steps of the language. A step is one function with its declaration; see `declaring`. A module of steps is named here, in the order of the
reference."""

from mudanza.core.language.steps import texts, letters, several, blanks, readings, numbers, dates, tables  # noqa: F401, I001
from mudanza.core.language.steps.declaring import STEPS

__all__ = ["STEPS"]
