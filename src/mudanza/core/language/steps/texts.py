"""Steps that clean, cut, fill and replace text."""

from __future__ import annotations

import re

import polars as pl

from mudanza.core.language.steps.declaring import Call, Parameter, step
from mudanza.core.language.value import Value
from mudanza.core.values.kinds import DECIMAL, Kind, is_blank

_TEXT, _NUMBER = Kind.TEXT, Kind.NUMBER
# single spaces are left alone: matching only what changes is four times as fast
_RUNS_OF_SPACES = r"\s{2,}|[^\S ]"
_COUNT = Parameter("count", "number", least=1)


@step("trim", _TEXT, _TEXT, says="without spaces at the ends", examples=[("{A} -> trim", ("  Ana  ",), "Ana")])
def trim(value: Value, call: Call) -> Value:  # noqa: ARG001
    """Takes the spaces off both ends."""
    return value.map(value.expr.str.strip_chars())


@step(
    "squeeze", _TEXT, _TEXT, says="with single spaces", examples=[("{A} -> squeeze", ("  Ana   Maria ",), "Ana Maria")]
)
def squeeze(value: Value, call: Call) -> Value:  # noqa: ARG001
    """Takes the spaces off both ends and makes one of several between words (line breaks too)."""
    return value.map(value.expr.str.replace_all(_RUNS_OF_SPACES, " ").str.strip_chars())


@step(
    "replace",
    _TEXT,
    _TEXT,
    Parameter("old", "text"),
    Parameter("new", "text"),
    Parameter("pattern", "yes/no", False, option=True),
    says="{0} replaced by {1}",
    examples=[
        ('{A} -> replace "/" "-"', ("12/34/5",), "12-34-5"),
        ('{A} -> replace "[^0-9]+" " " pattern=yes', ("tel12.34",), " 12 34"),
    ],
)
def replace(value: Value, call: Call, old: str, new: str, pattern: bool) -> Value:
    """Puts `new` wherever `old` stands. With pattern=yes, `old` is a regular
    expression, and ${1} in `new` is its first group."""
    if not old:
        raise call.fail("the text to be replaced is empty.", 'Write what is to be replaced, as in replace "/" "-".')
    if pattern:
        call.groups_of(old)
    return value.map(value.expr.str.replace_all(old, new, literal=not pattern))


@step(
    "first",
    _TEXT,
    _TEXT,
    _COUNT,
    says="its beginning, {0} long",
    examples=[("{A} -> first 5", ("4710-229",), "4710-")],
)
def first(value: Value, call: Call, count: int) -> Value:  # noqa: ARG001
    """The first so many characters."""
    return value.map(value.expr.str.head(count))


@step("last", _TEXT, _TEXT, _COUNT, says="its end, {0} long", examples=[("{A} -> last 3", ("4710-229",), "229")])
def last(value: Value, call: Call, count: int) -> Value:  # noqa: ARG001
    """The last so many characters."""
    return value.map(value.expr.str.tail(count))


@step(
    "fit",
    _TEXT,
    _TEXT,
    Parameter("length", "number", least=1),
    Parameter("words", "yes/no", False, option=True),
    says="cut to a length of {0}",
    examples=[
        ("{A} -> fit 8", ("Rua das Flores",), "Rua das"),
        ("{A} -> fit 10", ("Rua das Flores",), "Rua das Fl"),
        ("{A} -> fit 10 words=yes", ("Rua das Flores",), "Rua das"),
    ],
)
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
    "pad",
    _TEXT,
    _TEXT,
    Parameter("length", "number", least=1),
    Parameter("with", "text", "0", option=True),
    Parameter("side", "text", "left", option=True),
    says="filled up to a length of {0}",
    examples=[("{A} -> pad 5", ("42",), "00042"), ('{A} -> pad 4 with="." side="right"', ("ab",), "ab..")],
)
def pad(value: Value, call: Call, length: int, side: str, **options: str) -> Value:
    """Fills up to `length` characters with a sign, on the left (or side="right"). A blank stays blank."""
    sign = options["with"]
    if len(sign) != 1:
        raise call.fail("with= must be one character.", 'Write with="0".')
    if side not in ("left", "right"):
        raise call.fail(f'side= must be "left" or "right", not "{side}".', 'Write side="right".')
    filled = value.expr.str.pad_start(length, sign) if side == "left" else value.expr.str.pad_end(length, sign)
    return value.map(pl.when(is_blank(value.expr, value.kind)).then(value.expr).otherwise(filled))


@step(
    "middle",
    _TEXT,
    _TEXT,
    Parameter("start", "number", least=1),
    _COUNT,
    says="{1} characters from the {0}th",
    examples=[("{A} -> middle 3 2", ("AB12CD",), "12"), ("{A} -> middle 3 2", ("AB",), None)],
)
def middle(value: Value, call: Call, start: int, count: int) -> Value:  # noqa: ARG001
    """So many characters from a position on; the first is 1. A text that is shorter gives what there is."""
    return value.map(_filled(value.expr.str.slice(start - 1, count)))


@step(
    "before",
    _TEXT,
    _TEXT,
    Parameter("separator", "text"),
    Parameter("last", "yes/no", False, option=True),
    says="what stands before {0}",
    examples=[
        ('{A} -> before ","', ("Sá, Rui, Dr.",), "Sá"),
        ('{A} -> before "," last=yes', ("Sá, Rui, Dr.",), "Sá, Rui"),
        ('{A} -> before ","', ("Sá",), "Sá"),
    ],
)
def before(value: Value, call: Call, separator: str, last: bool) -> Value:
    """What stands before the first separator (or the last, with last=yes), without spaces at its ends; all of it if there is none."""
    cut = rf"(?s){_escaped(call, separator)}.*$" if not last else rf"(?s)^(.*){_escaped(call, separator)}.*$"
    return value.map(_filled(value.expr.str.replace(cut, "${1}" if last else "").str.strip_chars()))


@step(
    "after",
    _TEXT,
    _TEXT,
    Parameter("separator", "text"),
    Parameter("last", "yes/no", False, option=True),
    says="what stands after {0}",
    examples=[
        ('{A} -> after ","', ("Sá, Rui, Dr.",), "Rui, Dr."),
        ('{A} -> after "," last=yes', ("Sá, Rui, Dr.",), "Dr."),
        ('{A} -> after ","', ("Sá",), None),
    ],
)
def after(value: Value, call: Call, separator: str, last: bool) -> Value:
    """What stands after the first separator (or the last, with last=yes), without spaces at its ends; blank if there is none."""
    sign = _escaped(call, separator)
    taken = value.expr.str.extract(rf"(?s)^.*{sign}(.*)$" if last else rf"(?s){sign}(.*)$", 1)
    return value.map(_filled(taken.str.strip_chars()))


@step(
    "extract",
    _TEXT,
    _TEXT,
    Parameter("pattern", "text"),
    Parameter("group", "number", 0, option=True),
    says="the part matching {0}",
    examples=[
        ('{A} -> extract "[0-9]{4}-[0-9]{3}"', ("4710-229 Braga",), "4710-229"),
        ('{A} -> extract "No ([0-9]+)" group=1', ("see No 17",), "17"),
    ],
)
def extract(value: Value, call: Call, pattern: str, group: int) -> Value:
    """The first part of the text that the regular expression finds, or its group of that number. Nothing found is a finding."""
    groups = call.groups_of(pattern)
    if not 0 <= group <= groups:
        raise call.fail(
            f"the pattern has {groups} groups, and group={group} is asked for.",
            "Groups stand in ( ) and are counted from 1.",
        )
    return call.attempt(
        value, lambda text: text.str.extract(pattern, group), _TEXT, "flow.no-match", f"a part matching {pattern}"
    )


@step(
    "prefix",
    _TEXT,
    _TEXT,
    Parameter("text", "text"),
    Parameter("once", "yes/no", False, option=True),
    says="{0} in front",
    examples=[
        ('{A} -> prefix "PT-"', ("17",), "PT-17"),
        ('{A} -> prefix "PT-"', (None,), None),
        ('{A} -> prefix "PT-" once=yes', ("PT-17",), "PT-17"),
    ],
)
def prefix(value: Value, call: Call, text: str, once: bool) -> Value:  # noqa: ARG001
    """Puts a text in front; a blank stays blank. With once=yes, not where it stands there already."""
    longer = pl.concat_str(pl.lit(text), value.expr)
    as_is = is_blank(value.expr, _TEXT) | (value.expr.str.starts_with(text) if once else pl.lit(False))
    return value.map(pl.when(as_is).then(value.expr).otherwise(longer))


@step(
    "suffix",
    _TEXT,
    _TEXT,
    Parameter("text", "text"),
    Parameter("once", "yes/no", False, option=True),
    says="{0} behind",
    examples=[('{A} -> suffix " kg"', ("17",), "17 kg"), ('{A} -> suffix ".jpg" once=yes', ("a.jpg",), "a.jpg")],
)
def suffix(value: Value, call: Call, text: str, once: bool) -> Value:  # noqa: ARG001
    """Puts a text behind; a blank stays blank. With once=yes, not where it stands there already."""
    longer = pl.concat_str(value.expr, pl.lit(text))
    as_is = is_blank(value.expr, _TEXT) | (value.expr.str.ends_with(text) if once else pl.lit(False))
    return value.map(pl.when(as_is).then(value.expr).otherwise(longer))


@step(
    "drop-start",
    _TEXT,
    _TEXT,
    Parameter("texts", "text", many=True),
    says="without {0} in front",
    examples=[
        ('{A} -> drop-start "+351" "00351"', ("00351912",), "912"),
        ('{A} -> drop-start "+351"', ("912",), "912"),
    ],
)
def drop_start(value: Value, call: Call, *texts: str) -> Value:
    """Takes a text off the front, where one of those given stands there."""
    signs = "|".join(_escaped(call, text) for text in texts)
    return value.map(_filled(value.expr.str.replace(rf"^\s*(?:{signs})\s*", "")))


@step(
    "drop-end",
    _TEXT,
    _TEXT,
    Parameter("texts", "text", many=True),
    says="without {0} at the end",
    examples=[('{A} -> drop-end "Lda." "S.A."', ("Casa Sol Lda.",), "Casa Sol")],
)
def drop_end(value: Value, call: Call, *texts: str) -> Value:
    """Takes a text off the end, where one of those given stands there."""
    signs = "|".join(_escaped(call, text) for text in texts)
    return value.map(_filled(value.expr.str.replace(rf"\s*(?:{signs})\s*$", "")))


@step("length", _TEXT, _NUMBER, says="its length", examples=[("{A} -> length", ("Évora",), "5")])
def length(value: Value, call: Call) -> Value:  # noqa: ARG001
    """How many characters the text has."""
    return value.map(value.expr.str.len_chars().cast(DECIMAL), _NUMBER)


def _filled(text: pl.Expr) -> pl.Expr:
    return pl.when(text.str.len_bytes() > 0).then(text)


def _escaped(call: Call, text: str) -> str:
    if not text:
        raise call.fail("the text to look for is empty.", 'Write it in quotes, as in ",".')
    return re.escape(text)
