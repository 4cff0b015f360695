"""Mudanza carries records out of old programs into a new one.

The names below are the Python API; each is loaded when it is first used.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

from mudanza.version import __version__

if TYPE_CHECKING:
    from mudanza.core.building.build import build
    from mudanza.core.building.coverage import Coverage, coverage
    from mudanza.core.building.preview import PreviewResult, preview
    from mudanza.core.building.results import BuildResult
    from mudanza.core.checking import CheckResult, check
    from mudanza.core.crosswalking.finding import CodesOf, find_codes
    from mudanza.core.errors import MudanzaError
    from mudanza.core.layouts.model import Layout
    from mudanza.core.layouts.reading import read_layout
    from mudanza.core.loans.comparing import LoanReturn
    from mudanza.core.loans.lend import Loan, lend
    from mudanza.core.loans.receive import receive
    from mudanza.core.matching.drafting import Draft, draft
    from mudanza.core.move import Move, find_move, read_move
    from mudanza.core.sources.opening import open_source
    from mudanza.core.sources.reading import ReadOptions, lazy_rows
    from mudanza.core.survey.surveying import SurveyResult, survey
    from mudanza.core.tracing import Trace, trace

_HOMES = {
    "building.build": ("build",),
    "building.coverage": ("Coverage", "coverage"),
    "building.preview": ("PreviewResult", "preview"),
    "building.results": ("BuildResult",),
    "checking": ("CheckResult", "check"),
    "crosswalking.finding": ("CodesOf", "find_codes"),
    "errors": ("MudanzaError",),
    "layouts.model": ("Layout",),
    "layouts.reading": ("read_layout",),
    "loans.lend": ("Loan", "lend"),
    "loans.comparing": ("LoanReturn",),
    "loans.receive": ("receive",),
    "matching.drafting": ("Draft", "draft"),
    "move": ("Move", "find_move", "read_move"),
    "sources.opening": ("open_source",),
    "sources.reading": ("ReadOptions", "lazy_rows"),
    "survey.surveying": ("SurveyResult", "survey"),
    "tracing": ("Trace", "trace"),
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
