"""Steps on several texts: joined, split, sorted, chosen among."""

from __future__ import annotations

import polars as pl

from mudanza.core.language.steps.declaring import Call, Parameter, step
from mudanza.core.language.value import Value, combined
from mudanza.core.values.kinds import DECIMAL, Kind, is_blank, plain_text

_TEXT, _TEXTS = Kind.TEXT, Kind.TEXTS
_ANY = tuple(Kind)


@step(
    "join",
    _ANY,
    _TEXT,
    Parameter("separator", "text", " ", required=False),
    several=True,
    says="joined with {0}",
    examples=[
        ('{A}, {B} -> join ", "', ("Rua 1", "Esq."), "Rua 1, Esq."),
        ('{A}, {B} -> join ", "', ("Rua 1", None), "Rua 1"),
    ],
)
def join(values: list[Value], call: Call, separator: str) -> Value:  # noqa: ARG001
    """Makes one text of several, with the separator between them. Blanks are left out."""
    parts = []
    for value in values:
        text = plain_text(value.expr, value.kind) if value.kind is not _TEXTS else value.expr.list.join(separator)
        parts.append(pl.when(~is_blank(text, _TEXT)).then(text))
    return combined(values, pl.concat_str(parts, separator=separator, ignore_nulls=True), _TEXT)


@step(
    "split",
    _TEXT,
    _TEXTS,
    Parameter("separator", "text"),
    says="split at {0}",
    examples=[('{A} -> split ";" -> pick 2', ("a; b",), "b")],
)
def split(value: Value, call: Call, separator: str) -> Value:
    """Makes several texts of one, cut at the separator, without spaces around them."""
    if not separator:
        raise call.fail("the separator is empty.", 'Write the sign between the parts, as in split ";".')
    parts = value.expr.str.split(separator).list.eval(pl.element().str.strip_chars())
    return value.map(pl.when(~is_blank(value.expr, _TEXT)).then(parts), _TEXTS)


@step(
    "gather",
    (_TEXT, _TEXTS),
    _TEXTS,
    several=True,
    says="all of them",
    examples=[
        ('{A}, ({B} -> split ",") -> gather -> join "+"', ("a", "b,c"), "a+b+c"),
        ('{A}, {B} -> gather -> join "+"', (None, "b"), "b"),
    ],
)
def gather(values: list[Value], call: Call) -> Value:  # noqa: ARG001
    """Makes several texts of all that comes in, blanks left out."""
    lists = [v.expr if v.kind is _TEXTS else pl.concat_list(v.expr) for v in values]
    lists = [one.fill_null(pl.lit([], dtype=pl.List(pl.String))) for one in lists]
    filled = pl.concat_list(lists).list.eval(pl.element().filter(pl.element().str.strip_chars().str.len_bytes() > 0))
    return combined(values, filled, _TEXTS)


@step("sort", _TEXTS, _TEXTS, says="in order", examples=[('{A} -> split "," -> sort -> join ","', ("b,c,a",), "a,b,c")])
def sort(value: Value, call: Call) -> Value:  # noqa: ARG001
    """Several texts in the order of their characters."""
    return value.map(value.expr.list.sort())


@step(
    "distinct",
    _TEXTS,
    _TEXTS,
    says="each once",
    examples=[('{A} -> split "," -> distinct -> join ","', ("b,a,b",), "b,a")],
)
def distinct(value: Value, call: Call) -> Value:  # noqa: ARG001
    """Each of several texts once, where it stands first."""
    return value.map(value.expr.list.unique(maintain_order=True))


@step("count", _TEXTS, Kind.NUMBER, says="how many", examples=[('{A} -> split "," -> count', ("a,b,,c",), "3")])
def count(value: Value, call: Call) -> Value:  # noqa: ARG001
    """How many of several texts are filled."""
    filled = value.expr.list.eval(pl.element().str.len_bytes() > 0).list.sum()
    return value.map(filled.cast(DECIMAL), Kind.NUMBER)


@step(
    "pick",
    _TEXTS,
    _TEXT,
    Parameter("position", "number"),
    says="part {0}",
    examples=[
        ('{A} -> split "-" -> pick 1', ("a-b-c",), "a"),
        ('{A} -> split "-" -> pick -1', ("a-b-c",), "c"),
    ],
)
def pick(value: Value, call: Call, position: int) -> Value:
    """One of several texts by its position: 1 is the first, -1 the last. Fewer parts are a finding."""
    if position == 0:
        raise call.fail("positions begin with 1.", "Write pick 1 for the first, pick -1 for the last.")
    index = position - 1 if position > 0 else position
    return call.attempt(
        value,
        lambda texts: texts.list.get(index, null_on_oob=True),
        _TEXT,
        "flow.no-part",
        f"part {position}",
    )


def _one_kind(values: list[Value], call: Call) -> Kind:
    kinds = {v.kind for v in values} - {Kind.BLANK}
    if len(kinds) > 1:
        raise call.fail(
            f"the values are of different kinds ({', '.join(sorted(kinds))}).",
            "Make them the same kind first.",
        )
    return kinds.pop() if kinds else Kind.BLANK


@step(
    "first-filled",
    _ANY,
    None,
    several=True,
    says="the first that is filled",
    examples=[("{A}, {B} -> first-filled", (None, "912"), "912"), ("{A}, {B} -> first-filled", ("21", "912"), "21")],
)
def first_filled(values: list[Value], call: Call) -> Value:
    """The first of several values that is not blank."""
    kind = _one_kind(values, call)
    filled = [pl.when(~is_blank(v.expr, v.kind)).then(v.expr) for v in values]
    return combined(values, pl.coalesce(filled), kind)


@step(
    "one-filled",
    _ANY,
    None,
    Parameter("required", "yes/no", True, option=True),
    several=True,
    says="the one that is filled",
    examples=[("{A}, {B} -> one-filled", (None, "912"), "912"), ("{A}, {B} -> one-filled", ("912", "912"), "912")],
)
def one_filled(values: list[Value], call: Call, required: bool) -> Value:
    """Either or: the one of several values that is filled. Two that differ are a finding; none is one too, unless required=no."""
    kind = _one_kind(values, call)
    if kind is Kind.TEXTS:
        raise call.fail("one-filled takes single values, and several texts come in.", "Make one text of them first.")
    texts = [plain_text(v.expr, v.kind).str.strip_chars() for v in values]
    shown = pl.concat_str([pl.when(t.str.len_bytes() > 0).then(t) for t in texts], separator=" | ", ignore_nulls=True)
    held = call.stages.hold(first_filled(values, call))
    others = [
        ~is_blank(v.expr, v.kind) & (t != plain_text(held.expr, kind).str.strip_chars())
        for v, t in zip(values, texts, strict=True)
    ]
    result = call.note(
        held, pl.any_horizontal(others).fill_null(False), "flow.several-filled", f"one of {len(values)} values", shown
    )
    if required:
        result = call.note(
            result,
            is_blank(held.expr, kind),
            "flow.none-filled",
            f"one of {len(values)} values",
            pl.lit(None, dtype=pl.String),
        )
    return result
