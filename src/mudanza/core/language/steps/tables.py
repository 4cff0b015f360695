"""Steps that look something up: crosswalks, and identifiers in key books."""

from __future__ import annotations

import polars as pl

from mudanza.core.kinds import Kind, plain_text
from mudanza.core.language.steps.declaring import Call, Parameter, step
from mudanza.core.language.values import Mint, Value, combined, identity
from mudanza.core.sources.reading import INNER

_NAME = Parameter("name", "name")
_ANY = tuple(Kind)


@step(
    "crosswalk", _ANY, Kind.TEXT, _NAME, several=True,
    examples=[("{A} -> crosswalk demo", ("K",), "dog")],
)  # fmt: skip
def crosswalk(values: list[Value], call: Call, name: str) -> Value:
    """Translates a code by the crosswalk of that name. A code that is not in it is a finding. Further values
    go to the crosswalk's further columns, in their order."""
    table = call.around.crosswalk(name)
    expected = table.width - 1
    if len(values) != expected:
        columns = ", ".join(c for c in table.columns if c != "to")
        raise call.fail(
            f"the crosswalk {name!r} looks up {expected} value(s) ({columns}), and {len(values)} came in.",
            "Hand it one value for each of its columns.",
        )
    parts = [plain_text(v.expr, v.kind).str.strip_chars() for v in values]
    codes = [c for c in table.columns if c != "to"]
    lookup = table.select(pl.concat_str([pl.col(c) for c in codes], separator=INNER).alias("from"), pl.col("to"))
    joined = combined(values, pl.concat_str([p.fill_null("") for p in parts], separator=INNER), Kind.TEXT)
    first_blank = parts[0].is_null() | (parts[0].str.len_bytes() == 0)
    before = call.stages.hold(joined, pl.when(~first_blank).then(joined.expr))
    after = call.stages.hold(before, before.expr.replace_strict(lookup["from"], lookup["to"], default=None))
    wrong = after.expr.is_null() & before.expr.is_not_null()
    shown = before.expr.str.replace_all(INNER, ", ", literal=True)
    result = after.map(pl.when(after.expr.str.len_bytes() > 0).then(after.expr))
    return call.note(result, wrong, "flow.not-in-crosswalk", f"listed in crosswalks/{name}.csv", shown)


@step(
    "mint", _ANY, Kind.TEXT, _NAME, several=True,
    examples=[('"north", {A} -> mint owners', ("1001",), "OW-000001")],
)  # fmt: skip
def mint(values: list[Value], call: Call, name: str) -> Value:
    """Gives an old identifier (all the values together) its new one from the key book of that name. The same
    old identifier has the same new one in every run; a new one is given out only to a row that is written."""
    call.around.book_exists(name)
    if any(v.late for v in values):
        raise call.fail("an identifier cannot be made from one that is made in the same row.", "Use source columns.")
    parts = [plain_text(v.expr, v.kind) for v in values]
    old = identity(parts)
    if call.applies is not None and not call.applies.late:
        # a case that does not apply to a row gives out no identifier for it
        values = [*values, call.applies]
        old = pl.when(call.applies.expr).then(old)
    joined = combined(values, old, Kind.TEXT)
    held = call.stages.hold(joined)
    key = call.stages.name()
    mint_ = Mint(name, held.expr.meta.output_name(), key)
    call.stages.mints.append(mint_)
    return Value(Kind.TEXT, pl.col(key), 0, True, held.problems, held.failed)


@step(
    "key", _ANY, Kind.TEXT, _NAME, several=True,
    examples=[('"north", {A} -> key owners', ("1001",), "OW-000001")],
)  # fmt: skip
def key(values: list[Value], call: Call, name: str) -> Value:
    """Finds the new identifier that an earlier run gave to an old one. One that was never given is a finding."""
    keys = call.around.keys(name)
    parts = [plain_text(v.expr, v.kind) for v in values]
    joined = combined(values, identity(parts), Kind.TEXT)
    before = call.stages.hold(joined)
    found = before.expr.replace_strict(keys["identity"], keys["key"], default=None, return_dtype=pl.String)
    after = call.stages.hold(before, found)
    wrong = after.expr.is_null() & before.expr.is_not_null()
    shown = before.expr.str.replace_all(INNER, ", ", literal=True)
    return call.note(after, wrong, "flow.no-key", f"given in key book {name}", shown)
