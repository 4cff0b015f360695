"""Mudanza carries records out of old programs into a new one.

The names below are the Python API; each is loaded when it is first used.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

from mudanza.version import __version__

if TYPE_CHECKING:
    from mudanza.core.documents.errors import MudanzaError
    from mudanza.core.layouts.csvw import read_layout
    from mudanza.core.layouts.layout import Layout
    from mudanza.core.plans.move import Move
    from mudanza.core.plans.move_settings import find_move, read_move
    from mudanza.core.sources.opening import open_source
    from mudanza.core.sources.reader import ReadOptions, lazy_rows
    from mudanza.core.work.build import build
    from mudanza.core.work.check import CheckResult, check
    from mudanza.core.work.coverage import Coverage, coverage
    from mudanza.core.work.crosswalks.codes import CodesOf, find_codes
    from mudanza.core.work.loans.lend import Loan, lend
    from mudanza.core.work.loans.outcome import LoanReturn
    from mudanza.core.work.loans.receive import receive
    from mudanza.core.work.matching.drafting import Draft, draft
    from mudanza.core.work.preview import PreviewResult, preview
    from mudanza.core.work.results import BuildResult
    from mudanza.core.work.survey.surveying import SurveyResult, survey
    from mudanza.core.work.trace import Trace, trace

_HOMES = {
    "work.build": ("build",),
    "work.coverage": ("Coverage", "coverage"),
    "work.preview": ("PreviewResult", "preview"),
    "work.results": ("BuildResult",),
    "work.check": ("CheckResult", "check"),
    "work.crosswalks.codes": ("CodesOf", "find_codes"),
    "documents.errors": ("MudanzaError",),
    "layouts.layout": ("Layout",),
    "layouts.csvw": ("read_layout",),
    "work.loans.lend": ("Loan", "lend"),
    "work.loans.comparison": ("LoanReturn",),
    "work.loans.receive": ("receive",),
    "work.matching.drafting": ("Draft", "draft"),
    "plans.move": ("Move",),
    "plans.move_settings": ("find_move", "read_move"),
    "sources.opening": ("open_source",),
    "sources.reader": ("ReadOptions", "lazy_rows"),
    "work.survey.surveying": ("SurveyResult", "survey"),
    "work.trace": ("Trace", "trace"),
}
_HOME = {name: home for home, names in _HOMES.items() for name in names}

__all__ = [
    "BuildResult", "CheckResult", "CodesOf", "Coverage", "Draft", "Layout", "Loan", "LoanReturn", "Move", "MudanzaError", "PreviewResult",
    "ReadOptions", "SurveyResult", "Trace", "__version__", "build", "check", "coverage", "draft", "find_codes", "find_move", "lazy_rows", "lend", "open_source", "preview",
    "read_layout", "read_move", "receive", "survey", "trace",
]  # fmt: skip


def __getattr__(name: str) -> Any:
    if name in _HOME:
        return getattr(import_module(f"mudanza.core.{_HOME[name]}"), name)
    raise AttributeError(f"module 'mudanza' has no attribute {name!r}")
