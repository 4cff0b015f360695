"""Steps that look something up: crosswalks, and identifiers in key books."""

from __future__ import annotations

import polars as pl

from mudanza.core.language.steps.declaring import Call, Parameter, step
from mudanza.core.language.value import FATES, Asked, Finder, Mint, Value, combined, identity
from mudanza.core.tables.crosswalk import Crosswalk
from mudanza.core.tables.lookup import Lookup, LookupColumn
from mudanza.core.values.kinds import Kind, plain_text
from mudanza.core.values.row_columns import key_text, shown_key

_NAME = Parameter("name", "name")
_ANY = tuple(Kind)


@step(
    "crosswalk",
    _ANY,
    Kind.TEXT,
    _NAME,
    several=True,
    says="translated by the crosswalk {0}",
    examples=[
        ("{A} -> crosswalk demo", ("K",), "dog"),
        ('{A} -> split ";" -> crosswalk demo -> join ", "', ("K;K",), "dog, dog"),
    ],
)
def crosswalk(values: list[Value], call: Call, name: str) -> Value:
    """Translates a code, or each of several texts, by the crosswalk of that name. A code that is not in it is a finding. Further values
    go to the crosswalk's further columns, in their order."""
    table = call.around.crosswalk(name)
    expected = len(table.columns)
    if len(values) != expected:
        raise call.fail(
            f"the crosswalk {name!r} looks up {expected} value(s) ({', '.join(table.columns)}), and {len(values)} came in.",
            "Hand it one value for each of its columns.",
        )
    if any(v.kind is Kind.TEXTS for v in values):
        return _each_code(values, call, table)
    texts = [plain_text(v.expr, v.kind).str.strip_chars() for v in values]
    held = [
        call.stages.hold(v, pl.when(t.str.len_bytes() > 0).then(t) if number == 0 else t)
        for number, (v, t) in enumerate(zip(values, texts, strict=True))
    ]
    joined = combined(held, table.translate([h.expr for h in held]), Kind.TEXT)
    after = call.stages.hold(joined)
    wrong = after.expr.is_null() & held[0].expr.is_not_null()
    shown = shown_key(key_text([h.expr for h in held]))
    result = after.map(pl.when(after.expr.str.len_bytes() > 0).then(after.expr))
    _note_asked(call, name, held)
    return call.note(result, wrong, "flow.not-in-crosswalk", _listed_in(table), shown)


def _each_code(values: list[Value], call: Call, table: Crosswalk) -> Value:
    """Each of several texts translated by a crosswalk; those whose target is blank are left out."""
    if len(values) > 1:
        raise call.fail("several texts are translated one by one, and further values come in.", "Hand it them alone.")
    held = call.stages.hold(values[0], _filled_texts(values[0].expr))
    code = pl.element()
    made = call.stages.hold(held, held.expr.list.eval(table.translate([code])))
    missing = call.stages.hold(held, held.expr.list.eval(code.filter(table.translate([code]).is_null())))
    result = made.map(made.expr.list.eval(pl.element().filter(pl.element().str.len_bytes() > 0)))
    _note_asked(call, table.name, [held])
    wrong = missing.expr.list.len().fill_null(0) > 0
    together = combined([result, missing], result.expr, Kind.TEXTS)
    return call.note(together, wrong, "flow.not-in-crosswalk", _listed_in(table), missing.expr.list.join(", "))


def _filled_texts(texts: pl.Expr) -> pl.Expr:
    """Several texts without spaces at their ends, blank ones left out."""
    plain = pl.element().str.strip_chars()
    return texts.list.eval(plain.filter(plain.str.len_bytes() > 0))


def _listed_in(table: Crosswalk) -> str:
    only = ", where it is only proposed" if table.proposals and not table.entries else ""
    return f"listed in crosswalks/{table.name}.csv{only}"


def _note_asked(call: Call, name: str, held: list[Value]) -> None:
    """Note that a crosswalk is asked for what some columns hold."""
    applies = None if call.applies is None or call.applies.late else call.applies.expr
    if not any(h.late for h in held):
        call.stages.asked.append(Asked(name, tuple(h.expr.meta.output_name() for h in held), call.column, applies))


_NONE, _SEVERAL = ("finding", "blank"), ("finding", "first", "last", "all", "blank")


@step(
    "lookup",
    _ANY,
    None,
    _NAME,
    Parameter("column", "text"),
    Parameter("none", "text", "finding", option=True, choices=_NONE),
    Parameter("several", "text", "finding", option=True, choices=_SEVERAL),
    several=True,
    says="looked up in {0}: {1}",
    examples=[
        ('{A} -> lookup vets "Name"', ("7",), "Dr. Sá"),
        ('{A} -> lookup vets "Name" none="blank"', ("8",), None),
        ('{A} -> lookup vets "Phone" several="first"', ("7",), "21"),
        ('{A} -> lookup vets "Phone" several="all" -> join " / "', ("7",), "21 / 22"),
        ('{A} -> split "," -> lookup vets "Name" none="blank" -> join " / "', ("7,8",), "Dr. Sá"),
    ],
)
def lookup(values: list[Value], call: Call, name: str, column: str, none: str, several: str) -> Value:
    """Takes a column's value from another table, the plan's [lookup.NAME], where its key is what came in (several values for several key columns; of several texts,
    each is looked up). No
    match, and several that differ, are findings unless `none` and `several` say otherwise; several="all" gives several texts."""
    table = call.around.lookup(name)
    if len(values) != len(table.keys):
        raise call.fail(
            f"the lookup {name!r} is asked by {', '.join(table.keys)}, and {len(values)} value(s) came in.",
            "Hand it one value for each of its key columns.",
        )
    call.stages.looked_up.append(name)
    table.check(column)
    if any(v.kind is Kind.TEXTS for v in values):
        return _each_found(values, call, table, table.values(column), none, several)
    parts = [plain_text(v.expr, v.kind) for v in values]
    before = call.stages.hold(combined(values, table.key(parts), Kind.TEXT))
    chosen = several if several in ("all", "last") else "first"
    taken, count = call.stages.join(before, _found(table, column), chosen, "count")
    result = taken.map(taken.expr, Kind.TEXTS if several == "all" else Kind.TEXT)
    many = count.expr.fill_null(0) > 1
    if several == "blank":
        result = result.map(pl.when(~many).then(result.expr))
    result = call.stages.hold(result)
    shown = shown_key(before.expr)
    if none == "finding":
        missing = count.expr.is_null() & before.expr.is_not_null()
        result = call.note(result, missing, "flow.not-found", f"a key of the lookup {name}", shown)
    if several == "finding":
        result = call.note(result, many, "flow.several-found", f"one {column} in the lookup {name}", shown)
    return result


def _found(table: Lookup, column: str) -> pl.DataFrame | Finder:
    return LookupColumn(table, column) if table.for_few else table.values(column)


def _each_found(values: list[Value], call: Call, table: Lookup, found: pl.DataFrame, none: str, several: str) -> Value:
    """Each of several texts looked up; those without a value are left out."""
    if len(values) > 1 or several not in ("finding", "first", "last"):
        raise call.fail(
            "several texts are looked up one by one, each for one value.",
            'Hand it them alone, with several="first" or "last" where there may be more.',
        )
    held = call.stages.hold(values[0], _filled_texts(values[0].expr))

    def of(column: str) -> pl.Expr:
        key = table.key([pl.element()])
        return key.replace_strict(found["key"], found[column], default=None, return_dtype=found.schema[column])

    def those(test: pl.Expr) -> Value:
        return call.stages.hold(held, held.expr.list.eval(pl.element().filter(test.fill_null(True))))

    made = of("last" if several == "last" else "first")
    result = call.stages.hold(held, held.expr.list.eval(made.filter(made.is_not_null())))
    asked = (
        [("flow.not-found", f"a key of the lookup {table.name}", of("count").is_null())] if none == "finding" else []
    )
    if several == "finding":
        asked.append(("flow.several-found", f"one value in the lookup {table.name}", of("count").fill_null(0) > 1))
    for code, rule, test in asked:
        wrong = those(test)
        result = combined([result, wrong], result.expr, Kind.TEXTS)
        result = call.note(result, wrong.expr.list.len().fill_null(0) > 0, code, rule, wrong.expr.list.join(", "))
    return result


@step(
    "mint",
    _ANY,
    Kind.TEXT,
    _NAME,
    several=True,
    says="given a new identifier from {0}",
    examples=[('"north", {A} -> mint owners', ("1001",), "OW-000001")],
)
def mint(values: list[Value], call: Call, name: str) -> Value:
    """Gives an old identifier (all the values together) its new one from the key book of that name. The same
    old identifier has the same new one in every run; a new one is given out only to a row that is written."""
    call.around.keys(name)
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


def known_identifier(values: list[Value], call: Call, name: str) -> Value:
    """What `mint` does where identifiers are not given out yet: the one that an earlier run gave, or nothing."""
    joined = call.stages.hold(combined(values, identity([plain_text(v.expr, v.kind) for v in values]), Kind.TEXT))
    (after,) = call.stages.join(joined, call.around.keys(name))
    call.stages.mints.append(Mint(name, joined.expr.meta.output_name(), after.expr.meta.output_name()))
    return after


@step(
    "key",
    _ANY,
    Kind.TEXT,
    _NAME,
    several=True,
    says="its new identifier in {0}",
    examples=[('"north", {A} -> key owners', ("1001",), "OW-000001")],
)
def key(values: list[Value], call: Call, name: str) -> Value:
    """Finds the new identifier that an earlier run gave to an old one. One that was never given is a finding, which tells what became of the row that it stands in, if this run has seen it."""
    keys = call.around.keys(name)
    parts = [plain_text(v.expr, v.kind) for v in values]
    joined = combined(values, identity(parts), Kind.TEXT)
    before = call.stages.hold(joined)
    (after,) = call.stages.join(before, keys)
    wrong = after.expr.is_null() & before.expr.is_not_null()
    shown, rule = shown_key(before.expr), f"given in key book {name}"
    fates = call.around.fates(name)
    if fates is None:
        return call.note(after, wrong, "flow.no-key", rule, shown)
    code, told = call.stages.join(before, fates)
    after = combined([after, code, told], after.expr, Kind.TEXT)
    after = call.note(after, wrong & code.expr.is_null(), "flow.no-key", rule, shown)
    for one in FATES:
        after = call.note(after, wrong & (code.expr == one).fill_null(False), one, told.expr, shown)
    return after


@step(
    "target-id",
    _ANY,
    Kind.TEXT,
    Parameter("list", "name"),
    says="the identifier that the target gave it in {0}",
    examples=[("{A} -> target-id owners", ("OW-000001",), "90017")],
)
def target_id(value: Value, call: Call, list_: str) -> Value:
    """The identifier that the target itself gave to the record of a list with this key, as its results told when it was handed over (`handed-over --gave`). A record that has none yet is a
    finding: the row waits until it is imported and handed over."""
    before = call.stages.hold(combined([value], plain_text(value.expr, value.kind), Kind.TEXT))
    (after,) = call.stages.join(before, call.around.target_ids(list_))
    waits = after.expr.is_null() & before.expr.is_not_null()
    return call.note(after, waits, "flow.no-target-id", f"given by the target to a record of {list_}", before.expr)
