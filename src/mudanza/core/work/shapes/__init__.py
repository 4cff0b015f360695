"""The public JSON shapes: what commands print with --json, and what stands in run.json. They are described in docs/commands.md, and stable."""

from mudanza.core.work.shapes.building import build_shape, check_shape, coverage_shape, preview_shape, said_shape
from mudanza.core.work.shapes.common import digest_shape, error_shape, finding_shape, findings_shape, group_shape
from mudanza.core.work.shapes.drafting import (
    code_shape,
    crosswalks_shape,
    draft_shape,
    layout_shape,
    reasons_shape,
    step_shape,
    survey_shape,
)
from mudanza.core.work.shapes.loans import (
    codes_return_shape,
    decision_loan_shape,
    loan_shape,
    mapping_return_shape,
    return_shape,
)
from mudanza.core.work.shapes.remembering import (
    entered_shape,
    found_keys_shape,
    handed_over_shape,
    key_books_shape,
    ledger_shape,
    loans_shape,
    run_shape,
    taken_back_shape,
    target_shape,
    trace_shape,
)

__all__ = [
    "build_shape",
    "check_shape",
    "code_shape",
    "codes_return_shape",
    "coverage_shape",
    "crosswalks_shape",
    "decision_loan_shape",
    "digest_shape",
    "draft_shape",
    "entered_shape",
    "error_shape",
    "finding_shape",
    "findings_shape",
    "found_keys_shape",
    "group_shape",
    "handed_over_shape",
    "key_books_shape",
    "layout_shape",
    "ledger_shape",
    "loan_shape",
    "loans_shape",
    "mapping_return_shape",
    "preview_shape",
    "reasons_shape",
    "return_shape",
    "run_shape",
    "said_shape",
    "step_shape",
    "survey_shape",
    "taken_back_shape",
    "target_shape",
    "trace_shape",
]
