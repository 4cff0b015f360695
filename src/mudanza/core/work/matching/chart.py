"""A picture of a list: its fields, the columns of its sources, and which fills which."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from io import BytesIO
from typing import TYPE_CHECKING

from mudanza.core.documents.errors import OutsideError
from mudanza.core.language.asking import columns_of
from mudanza.core.plans.plan import Plan
from mudanza.core.work.matching.drafting import Draft

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_SURE, _UNSURE, _WRITTEN, _INK, _QUIET = "#1f7a7a", "#b5651d", "#7d8b8a", "#20302f", "#6b7a79"
#: inches for a row
_ROW = 0.24
KINDS = ("png", "svg", "pdf")


@dataclass(frozen=True)
class Line:
    """A field filled from a column of a source (None: of each that has it): `sure`, `unsure` or `written` before."""

    field: str
    source: str | None
    column: str
    how: str


def lines_of(plan: Plan, draft: Draft, unsure: Collection[str] = ()) -> list[Line]:
    """All lines of a list: those of its plan (some of them `unsure`, as a draft wrote them), and those of its draft."""
    found = [
        Line(name, None, column, "unsure" if name in unsure else "written")
        for name, flow in plan.flows.items()
        for column in columns_of(flow)
    ]
    for name, by_source in draft.parts.items():
        for source, part in by_source.items():
            found += [Line(name, source, column, "unsure" if part.doubt else "sure") for column in part.columns]
    return found


def chart(
    name: str,
    fields: Sequence[tuple[str, bool]],
    columns: Mapping[str, Sequence[tuple[str, str | None]]],
    lines: Sequence[Line],
    kind: str,
) -> bytes:
    """A picture of the kind png, svg or pdf. `fields` are names with whether a record must have them; `columns` are by source, with what each seems to
    hold. Raises OutsideError for another kind."""
    import logging

    import matplotlib

    logging.getLogger("matplotlib").setLevel(logging.ERROR)
    matplotlib.use("Agg")
    from matplotlib.figure import Figure

    if kind not in KINDS:
        raise OutsideError(
            f"a chart cannot be a {kind or 'file without an ending'}.", hint=f"Name it .{', .'.join(KINDS)}."
        )
    right = [(source, *column) for source, of_source in columns.items() for column in of_source]
    several = len(columns) > 1
    height = max(len(fields), len(right) + (len(columns) if several else 0)) * _ROW + 1.1
    figure = Figure(figsize=(10, max(height, 2.5)), dpi=128, facecolor="white")
    axis = figure.add_axes((0.0, 0.0, 1.0, 1.0))
    axis.set_xlim(0, 10)
    axis.set_ylim(max(height, 2.5), 0)
    axis.axis("off")
    axis.text(0.3, 0.35, name, fontsize=12, fontweight="bold", color=_INK, va="center")
    _legend(axis)
    # the shorter side spreads over the height of the longer
    step = max(_ROW, min(0.4, (height - 1.1) / max(1, len(fields))))
    left_at = {field: 0.95 + at * step for at, (field, _) in enumerate(fields)}
    hows = {line.field: line.how for line in sorted(lines, key=lambda line: line.how == "unsure")}
    for field, must in fields:
        y = left_at[field]
        how = hows.get(field)
        mark = {"unsure": "? "}.get(how or "", "")
        axis.text(
            3.1, y, f"{mark}{_cut(field)}{' *' if must else ''}", ha="right", va="center", fontsize=8.5,
            color=_INK if how else _QUIET, fontweight="bold" if must and not how else "normal",
        )  # fmt: skip
        _dot(axis, 3.25, y, how)
    y = 0.95
    for source, of_source in columns.items():
        if several:
            axis.text(6.55, y, source, va="center", fontsize=8.5, color=_QUIET, fontstyle="italic")
            y += _ROW
        for column, looks in of_source:
            mine = [line for line in lines if line.column == column and line.source in (None, source)]
            taken = bool(mine)
            told = f"   {looks}" if looks and not taken else ""
            axis.text(6.9, y, _cut(column), va="center", fontsize=8.5, color=_INK if taken else _QUIET)
            axis.text(9.75, y, told, va="center", ha="right", fontsize=7.5, color=_QUIET, fontstyle="italic")
            _dot(axis, 6.75, y, mine[0].how if mine else None)
            for line in mine:
                if line.field in left_at:
                    _join(axis, left_at[line.field], y, line.how)
            y += _ROW
    out = BytesIO()
    with matplotlib.rc_context({"svg.hashsalt": "mudanza"}):
        # the bytes depend on the move alone
        figure.savefig(out, format=kind, metadata={"Date": None} if kind != "png" else {"Software": None})
    return out.getvalue()


def _cut(name: str) -> str:
    return name if len(name) <= 34 else f"{name[:33]}…"


def _style(how: str | None) -> tuple[str, str, float]:
    return {"sure": (_SURE, "-", 1.5), "unsure": (_UNSURE, "--", 1.5), "written": (_WRITTEN, "-", 0.8)}.get(
        how or "", (_QUIET, "-", 0.8)
    )


def _dot(axis: Axes, x: float, y: float, how: str | None) -> None:
    colour, _, _ = _style(how)
    full = how in ("sure", "written")
    axis.plot([x], [y], "o", ms=4.5, color=colour, mfc=colour if full else "white", mew=1.1, zorder=3)


def _join(axis: Axes, left: float, right: float, how: str) -> None:
    from matplotlib.patches import PathPatch
    from matplotlib.path import Path

    colour, dashes, width = _style(how)
    curve = Path(
        [(3.25, left), (4.9, left), (5.1, right), (6.75, right)], [Path.MOVETO, Path.CURVE4, Path.CURVE4, Path.CURVE4]
    )
    axis.add_patch(PathPatch(curve, fill=False, edgecolor=colour, linestyle=dashes, linewidth=width, alpha=0.85))


def _legend(axis: Axes) -> None:
    for x, how, words in ((4.0, "sure", "sure"), (5.3, "unsure", "unsure ?"), (6.9, "written", "written before")):
        colour, dashes, width = _style(how)
        axis.plot([x, x + 0.5], [0.35, 0.35], color=colour, linestyle=dashes, linewidth=width)
        axis.text(x + 0.62, 0.35, words, va="center", fontsize=8, color=_QUIET)
    axis.text(8.6, 0.35, "* must be filled", va="center", fontsize=8, color=_QUIET)
