"""Steps on text."""

from __future__ import annotations

import polars as pl

from mudanza.core.kinds import Kind, is_blank, plain_text
from mudanza.core.language.steps.declaring import Call, Parameter, step
from mudanza.core.language.values import Value, combined

_TEXT, _TEXTS, _NUMBER = Kind.TEXT, Kind.TEXTS, Kind.NUMBER
# single spaces are left alone: matching only what changes is four times as fast
_RUNS_OF_SPACES = r"\s{2,}|[^\S ]"
_COUNT = Parameter("count", "number", least=1)
_STRAIGHT = {"ø": "o", "Ø": "O", "ł": "l", "Ł": "L", "ß": "ss", "æ": "ae", "Æ": "AE", "œ": "oe", "Œ": "OE", "đ": "d", "Đ": "D", "ð": "d", "þ": "th"}  # fmt: skip


@step("trim", _TEXT, _TEXT, examples=[("{A} -> trim", ("  Ana  ",), "Ana")])
def trim(value: Value, call: Call) -> Value:  # noqa: ARG001
    """Takes the spaces off both ends."""
    return value.map(value.expr.str.strip_chars())


@step("squeeze", _TEXT, _TEXT, examples=[("{A} -> squeeze", ("  Ana   Maria ",), "Ana Maria")])
def squeeze(value: Value, call: Call) -> Value:  # noqa: ARG001
    """Takes the spaces off both ends and makes one of several between words (line breaks too)."""
    return value.map(value.expr.str.replace_all(_RUNS_OF_SPACES, " ").str.strip_chars())


@step("upper", _TEXT, _TEXT, examples=[("{A} -> upper", ("Évora 7",), "ÉVORA 7")])
def upper(value: Value, call: Call) -> Value:  # noqa: ARG001
    """All letters as capitals."""
    return value.map(value.expr.str.to_uppercase())


@step("lower", _TEXT, _TEXT, examples=[("{A} -> lower", ("ÉVORA 7",), "évora 7")])
def lower(value: Value, call: Call) -> Value:  # noqa: ARG001
    """All letters as small ones."""
    return value.map(value.expr.str.to_lowercase())


@step("title", _TEXT, _TEXT, examples=[("{A} -> title", ("MARIA sousa-LIMA",), "Maria Sousa-Lima")])
def title(value: Value, call: Call) -> Value:  # noqa: ARG001
    """Each word with one capital, as names are written."""
    return value.map(value.expr.str.to_titlecase())


@step(
    "replace", _TEXT, _TEXT, Parameter("old", "text"), Parameter("new", "text"),
    Parameter("pattern", "yes/no", False, option=True),
    examples=[
        ('{A} -> replace "/" "-"', ("12/34/5",), "12-34-5"),
        ('{A} -> replace "[^0-9]+" " " pattern=yes', ("tel12.34",), " 12 34"),
    ],
)  # fmt: skip
def replace(value: Value, call: Call, old: str, new: str, pattern: bool) -> Value:
    """Puts `new` wherever `old` stands. With pattern=yes, `old` is a regular
    expression, and ${1} in `new` is its first group."""
    if not old:
        raise call.fail("the text to be replaced is empty.", 'Write what is to be replaced, as in replace "/" "-".')
    return value.map(value.expr.str.replace_all(old, new, literal=not pattern))


@step("first", _TEXT, _TEXT, _COUNT, examples=[("{A} -> first 5", ("4710-229",), "4710-")])
def first(value: Value, call: Call, count: int) -> Value:  # noqa: ARG001
    """The first so many characters."""
    return value.map(value.expr.str.head(count))


@step("last", _TEXT, _TEXT, _COUNT, examples=[("{A} -> last 3", ("4710-229",), "229")])
def last(value: Value, call: Call, count: int) -> Value:  # noqa: ARG001
    """The last so many characters."""
    return value.map(value.expr.str.tail(count))


@step(
    "fit", _TEXT, _TEXT, Parameter("length", "number", least=1), Parameter("words", "yes/no", False, option=True),
    examples=[
        ("{A} -> fit 8", ("Rua das Flores",), "Rua das"),
        ("{A} -> fit 10", ("Rua das Flores",), "Rua das Fl"),
        ("{A} -> fit 10 words=yes", ("Rua das Flores",), "Rua das"),
    ],
)  # fmt: skip
def fit(value: Value, call: Call, length: int, words: bool) -> Value:
    """Cuts a text that is longer than `length` characters, and says so in a finding (warn). With words=yes it
    cuts between words where it can."""
    before = call.stages.hold(value)
    cut = before.expr.str.head(length)
    if words:
        at_word = before.expr.str.head(length + 1).str.replace(r"\s+\S*$", "")
        cut = pl.when(at_word.str.len_chars() <= length).then(at_word).otherwise(cut)
    long = before.expr.str.len_chars() > length
    result = before.map(pl.when(long).then(cut.str.strip_chars_end()).otherwise(before.expr))
    return call.note(result, long, "flow.cut", f"at most {length} characters", before.expr)


@step(
    "pad", _TEXT, _TEXT, Parameter("length", "number", least=1), Parameter("with", "text", "0", option=True),
    Parameter("side", "text", "left", option=True),
    examples=[("{A} -> pad 5", ("42",), "00042"), ('{A} -> pad 4 with="." side="right"', ("ab",), "ab..")],
)  # fmt: skip
def pad(value: Value, call: Call, length: int, side: str, **options: str) -> Value:
    """Fills up to `length` characters with a sign, on the left (or side="right"). A blank stays blank."""
    sign = options["with"]
    if len(sign) != 1:
        raise call.fail("with= must be one character.", 'Write with="0".')
    if side not in ("left", "right"):
        raise call.fail(f'side= must be "left" or "right", not "{side}".', None)
    filled = value.expr.str.pad_start(length, sign) if side == "left" else value.expr.str.pad_end(length, sign)
    return value.map(pl.when(is_blank(value.expr, value.kind)).then(value.expr).otherwise(filled))


@step("digits", _TEXT, _TEXT, examples=[("{A} -> digits", ("+351 912-345",), "351912345")])
def digits(value: Value, call: Call) -> Value:  # noqa: ARG001
    """Only the digits."""
    return value.map(value.expr.str.replace_all(r"[^0-9]", ""))


@step("letters", _TEXT, _TEXT, examples=[("{A} -> letters", ("AB-12 ç",), "ABç")])
def letters(value: Value, call: Call) -> Value:  # noqa: ARG001
    """Only the letters, of any alphabet."""
    return value.map(value.expr.str.replace_all(r"\P{L}", ""))


@step("unaccent", _TEXT, _TEXT, examples=[("{A} -> unaccent", ("São João, Łódź",), "Sao Joao, Lodz")])
def unaccent(value: Value, call: Call) -> Value:  # noqa: ARG001
    """Letters without accents and other marks (Unicode NFKD)."""
    plain = value.expr.str.normalize("NFKD").str.replace_all(r"\p{M}", "")
    return value.map(plain.str.replace_many(list(_STRAIGHT), list(_STRAIGHT.values())))


@step(
    "join", tuple(Kind), _TEXT, Parameter("separator", "text", " ", required=False), several=True,
    examples=[
        ('{A}, {B} -> join ", "', ("Rua 1", "Esq."), "Rua 1, Esq."),
        ('{A}, {B} -> join ", "', ("Rua 1", None), "Rua 1"),
    ],
)  # fmt: skip
def join(values: list[Value], call: Call, separator: str) -> Value:  # noqa: ARG001
    """Makes one text of several, with the separator between them. Blanks are left out."""
    parts = []
    for value in values:
        text = plain_text(value.expr, value.kind) if value.kind is not _TEXTS else value.expr.list.join(separator)
        parts.append(pl.when(~is_blank(text, _TEXT)).then(text))
    return combined(values, pl.concat_str(parts, separator=separator, ignore_nulls=True), _TEXT)


@step(
    "first-filled", tuple(Kind), None, several=True,
    examples=[("{A}, {B} -> first-filled", (None, "912"), "912"), ("{A}, {B} -> first-filled", ("21", "912"), "21")],
)  # fmt: skip
def first_filled(values: list[Value], call: Call) -> Value:
    """The first of several values that is not blank."""
    kinds = {v.kind for v in values} - {Kind.BLANK}
    if len(kinds) > 1:
        raise call.fail(
            f"the values are of different kinds ({', '.join(sorted(kinds))}).",
            "Make them the same kind first.",
        )
    kind = kinds.pop() if kinds else Kind.BLANK
    filled = [pl.when(~is_blank(v.expr, v.kind)).then(v.expr) for v in values]
    return combined(values, pl.coalesce(filled), kind)


@step(
    "split",
    _TEXT,
    _TEXTS,
    Parameter("separator", "text"),
    examples=[('{A} -> split ";" -> pick 2', ("a; b",), "b")],
)
def split(value: Value, call: Call, separator: str) -> Value:
    """Makes several texts of one, cut at the separator, without spaces around them."""
    if not separator:
        raise call.fail("the separator is empty.", 'Write the sign between the parts, as in split ";".')
    parts = value.expr.str.split(separator).list.eval(pl.element().str.strip_chars())
    return value.map(pl.when(~is_blank(value.expr, _TEXT)).then(parts), _TEXTS)


@step(
    "pick", _TEXTS, _TEXT, Parameter("position", "number"),
    examples=[
        ('{A} -> split "-" -> pick 1', ("a-b-c",), "a"),
        ('{A} -> split "-" -> pick -1', ("a-b-c",), "c"),
    ],
)  # fmt: skip
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


@step(
    "default", tuple(Kind), None, Parameter("value", "text"),
    examples=[('{A} -> default "unknown"', (None,), "unknown"), ('{A} -> default "unknown"', ("Ana",), "Ana")],
)  # fmt: skip
def default(given: Value, call: Call, value: str) -> Value:
    """Puts a text where the value is blank."""
    if given.kind not in (_TEXT, Kind.BLANK):
        raise call.fail(
            f"default is for text, and this is a {given.kind}.", "Put it before the step that reads the text."
        )
    return given.map(pl.when(is_blank(given.expr, given.kind)).then(pl.lit(value)).otherwise(given.expr), _TEXT)


@step(
    "blank-if", _TEXT, _TEXT, Parameter("texts", "text", many=True),
    examples=[('{A} -> blank-if "n/a" "-"', ("n/a",), None), ('{A} -> blank-if "n/a" "-"', ("Ana",), "Ana")],
)  # fmt: skip
def blank_if(value: Value, call: Call, *texts: str) -> Value:  # noqa: ARG001
    """Makes a placeholder blank: nothing remains where the whole text is one of those given."""
    return value.map(pl.when(~value.expr.str.strip_chars().is_in(texts)).then(value.expr))
