"""A picture of what is in the columns of sources: filled, pretending to be filled, blank."""

from __future__ import annotations

from collections.abc import Sequence
from io import BytesIO

from mudanza.core.documents.errors import OutsideError, counted
from mudanza.core.work.survey.surveying import SurveyResult

_FILLED, _PRETENDS, _BLANK = "#1f7a7a", "#e0a030", "#e4e7e7"
_INK, _QUIET = "#20302f", "#6b7a79"
_MOST = 40
KINDS = ("png", "svg", "pdf")


def chart(results: Sequence[SurveyResult], kind: str) -> bytes:
    """A bar for each column of each source, as a picture of the kind png, svg or pdf. Raises OutsideError for another kind."""
    import logging

    import matplotlib

    # it tells of the fonts it gathers when it is used for the first time
    logging.getLogger("matplotlib").setLevel(logging.ERROR)
    matplotlib.use("Agg")
    from matplotlib.figure import Figure
    from matplotlib.layout_engine import ConstrainedLayoutEngine
    from matplotlib.patches import Patch

    if kind not in KINDS:
        raise OutsideError(
            f"a chart cannot be a {kind or 'file without an ending'}.", hint=f"Name it .{', .'.join(KINDS)}."
        )
    heights = [min(len(r.columns), _MOST) for r in results]
    space = sum(heights) * 0.27 + len(results) * 1.0 + 0.6
    figure = Figure(
        figsize=(10, max(3.0, space)),
        dpi=128,
        layout=ConstrainedLayoutEngine(w_pad=0.14, h_pad=0.16, hspace=0.05),
        facecolor="white",
    )
    axes = figure.subplots(len(results), 1, squeeze=False, height_ratios=[max(h, 2) + 1 for h in heights])[:, 0]
    for axis, result in zip(axes, results, strict=True):
        columns = result.columns[:_MOST]
        rows = max(result.rows - result.damaged, 1)
        names = [c.name if len(c.name) <= 28 else f"{c.name[:27]}…" for c in columns]
        pretending = [min(c.pretending, c.filled) for c in columns]
        left = [0.0] * len(columns)
        parts = (
            (_FILLED, [c.filled - p for c, p in zip(columns, pretending, strict=True)]),
            (_PRETENDS, pretending),
            (_BLANK, [rows - c.filled for c in columns]),
        )
        for colour, counts in parts:
            shares = [100 * n / rows for n in counts]
            axis.barh(range(len(columns)), shares, left=left, color=colour, height=0.66)
            left = [a + b for a, b in zip(left, shares, strict=True)]
        axis.set_yticks(range(len(columns)), names, color=_INK, fontsize=9)
        axis.invert_yaxis()
        axis.set_xlim(0, 100)
        axis.set_ylim(len(columns) - 0.5, -0.5)
        axis.set_xticks([0, 25, 50, 75, 100], ["0", "25", "50", "75", "100 %"], color=_QUIET, fontsize=8)
        for at, (column, p) in enumerate(zip(columns, pretending, strict=True)):
            share = 100 * (column.filled - p) / rows
            words = "0 %" if share == 0 else "<1 %" if share < 1 else ">99 %" if 99 <= share < 100 else f"{share:.0f} %"
            axis.text(101, at, words, va="center", fontsize=8, color=_QUIET)
        more = f", the first {_MOST} of {len(result.columns)} columns" if len(result.columns) > _MOST else ""
        axis.set_title(
            f"{result.name}  ({counted(result.rows, 'row')}{more})",
            loc="left",
            fontsize=11,
            color=_INK,
            fontweight="bold",
            pad=8,
        )
        axis.tick_params(length=0)
        for side in ("top", "right", "left", "bottom"):
            axis.spines[side].set_visible(False)
    handles = [
        Patch(color=c, label=w)
        for c, w in ((_FILLED, "filled"), (_PRETENDS, "only pretends to be filled"), (_BLANK, "blank"))
    ]
    figure.legend(handles=handles, loc="outside lower left", ncols=3, frameon=False, fontsize=9)
    picture = BytesIO()
    # no moment in the file: the same survey gives the same bytes
    figure.savefig(
        picture,
        format=kind,
        metadata={"Software": None} if kind == "png" else {"Date": None} if kind == "svg" else {"CreationDate": None},
    )
    return picture.getvalue()
