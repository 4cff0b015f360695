"""From text to nodes, with errors that point at the place."""

from __future__ import annotations

import hashlib
import io
import re
from decimal import Decimal
from functools import cache, lru_cache
from importlib.resources import files
from typing import Any

import lark
from lark import Lark, Token, Transformer, v_args
from lark.exceptions import UnexpectedCharacters, UnexpectedEOF, UnexpectedInput, UnexpectedToken, VisitError
from lark.tree import Meta

from mudanza.core.documents.errors import LanguageError, Place
from mudanza.core.language import nodes
from mudanza.core.language.slips import slip_at
from mudanza.core.values.kinds import fits_exactly

_PIECES = re.compile(r"\\(.)|\{([^{}\n]*)\}|([^\\{]+|.)", re.DOTALL)
#: the file of tables; `python docs/reference.py` writes it
TABLES = "grammar.tables"
_ESCAPES = {"n": "\n", "t": "\t"}


@cache
def _parser() -> Lark:
    """The parser: from the tables that ship beside the grammar, if they are of this grammar and this version of Lark; else made anew, which takes longer."""
    here = files("mudanza.core.language")
    grammar = here.joinpath("grammar.lark").read_bytes()
    stored = here.joinpath(TABLES)
    if stored.is_file():
        mark, _, body = stored.read_bytes().partition(b"\n")
        if mark.decode() == _mark(grammar):
            return Lark.load(io.BytesIO(body))
    return _made(grammar)


def parser_tables() -> bytes:
    """What stands in the file of tables."""
    grammar = files("mudanza.core.language").joinpath("grammar.lark").read_bytes()
    body = io.BytesIO()
    _made(grammar).save(body)
    return _mark(grammar).encode() + b"\n" + body.getvalue()


def _mark(grammar: bytes) -> str:
    return f"{lark.__version__} {hashlib.sha256(grammar).hexdigest()}"


def _made(grammar: bytes) -> Lark:
    return Lark(
        grammar.decode(), parser="lalr", start=["flow", "condition"], propagate_positions=True, maybe_placeholders=True
    )


@lru_cache(4096)
def parse_flow(text: str) -> nodes.Flow:
    """A flow as nodes. Raises LanguageError pointing into `text`."""
    node: nodes.Flow = _parse(text, "flow")
    return node


@lru_cache(4096)
def parse_condition(text: str) -> nodes.Node:
    """A condition as nodes. Raises LanguageError pointing into `text`."""
    node: nodes.Node = _parse(text, "condition")
    return node


def error_at(text: str, start: int, end: int, what: str, hint: str | None = None) -> LanguageError:
    """An error whose caret stands under `start` to `end` of `text`."""
    return LanguageError(what, place=Place(text=text, start=start, end=max(end, start + 1)), hint=hint)


def _parse(text: str, start: str) -> Any:
    if not text.strip():
        raise error_at(text, 0, 1, f"the {start} is empty.", "Write blank for a field that is to stay blank.")
    try:
        return _Nodes(text).transform(_parser().parse(text, start=start))
    except UnexpectedInput as error:
        raise _explain(text, error) from None
    except VisitError as error:
        if isinstance(error.orig_exc, LanguageError):
            raise error.orig_exc from None
        raise
    except RecursionError:
        raise error_at(text, 0, 1, "the brackets are nested too deeply.", "Split it over several fields.") from None


def _explain(text: str, error: UnexpectedInput) -> LanguageError:
    at = min(error.pos_in_stream if isinstance(error.pos_in_stream, int) else len(text), len(text))
    if isinstance(error, UnexpectedEOF) or (isinstance(error, UnexpectedToken) and error.token.type == "$END"):
        at = len(text)
    if isinstance(error, UnexpectedToken) and error.token.type != "$END":
        at = error.token.start_pos or 0
    rest = text[at:]
    before = text[:at].rstrip()
    if rest.startswith('"') or _open_quote(text) is not None:
        start = _open_quote(text)
        if start is not None:
            return error_at(text, start, start + 1, "this quote is never closed.", 'Close the text with ".')
    if (expects := text.rfind("-> expect", 0, at + 1)) >= 0 and '"' not in text[expects:at]:
        hint = 'It is written: -> expect it > 0 "a positive weight".'
        if text[expects + 9 : at].strip():
            return error_at(text, expects + 3, expects + 9, "this expect lacks its message.", hint)
    if (slip := slip_at(text, at)) is not None:
        return error_at(text, at, at + len(re.match(r"[\w-]+|\"[^\"]*\"|[<>=!]+|.", rest).group()), *slip)  # type: ignore[union-attr]
    for wrong, right in (("==", "="), ("<>", "!="), ("&&", "and"), ("||", "or"), ("=>", ">="), ("=<", "<=")):
        for place in (at, at - 1):
            if text.startswith(wrong, max(place, 0)):
                return error_at(text, place, place + 2, f"{wrong!r} is not used here.", f"Write {right!r}.")
    if rest.startswith("{") and "}" not in rest:
        return error_at(text, at, at + 1, "this brace is never closed.", "Write the column's heading as {Heading}.")
    if rest.startswith("'"):
        return error_at(text, at, at + 1, "texts stand in double quotes here.", 'Write "text".')
    if rest.startswith(("|", "→", "=>", ">>")) or re.match(r"-\s*>", rest):
        return error_at(text, at, at + 1, "steps are joined by an arrow.", "Write -> (a minus and a greater-than).")
    if rest.startswith(")"):
        return error_at(text, at, at + 1, "this bracket closes nothing.", "Take it out or open one before.")
    if not rest.strip():
        if text.count("(") > text.count(")"):
            start = text.rfind("(")
            return error_at(text, start, start + 1, "this bracket is never closed.", "Close it with ).")
        hint = "A step's name belongs after the arrow." if before.endswith("->") else "Something is missing at the end."
        return error_at(text, max(len(before) - 1, 0), len(before), "the expression ends too early.", hint)
    word = re.match(r"[\w-]+|.", rest)
    shown = word.group() if word else rest[0]
    hint = "Columns stand in braces, {Heading}; texts in double quotes; steps after an arrow ->."
    if isinstance(error, UnexpectedToken) and shown in ("when", "otherwise"):
        hint = "Cases are written: value when condition; value otherwise."
    if isinstance(error, UnexpectedCharacters) and not shown.isalnum():
        hint = "That sign has no meaning here. " + hint
    return error_at(text, at, at + len(shown), f"{shown!r} is not expected here.", hint)


def _open_quote(text: str) -> int | None:
    """Where a text begins that is never closed."""
    at = 0
    while (start := text.find('"', at)) >= 0:
        match = re.compile(r'"(?:[^"\\]|\\.)*"', re.DOTALL).match(text, start)
        if match is None:
            return start
        at = match.end()
    return None


@v_args(meta=True)
class _Nodes(Transformer[Token, Any]):
    """Each rule's children into its node."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.source = text

    def flow(self, meta: Meta, children: list[Any]) -> nodes.Flow:
        cases = tuple(c if isinstance(c, nodes.Case) else nodes.Case(c.start, c.end, c, None, False) for c in children)
        return nodes.Flow(meta.start_pos, meta.end_pos, cases)

    def cases(self, meta: Meta, children: list[Any]) -> nodes.Flow:
        return nodes.Flow(meta.start_pos, meta.end_pos, tuple(children))

    def case_when(self, meta: Meta, children: list[Any]) -> nodes.Case:
        return nodes.Case(meta.start_pos, meta.end_pos, children[0], children[1], False)

    def case_otherwise(self, meta: Meta, children: list[Any]) -> nodes.Case:
        return nodes.Case(meta.start_pos, meta.end_pos, children[0], None, True)

    def chain(self, meta: Meta, children: list[Any]) -> nodes.Chain:
        fallback = children[-1] if not isinstance(children[-1], nodes.StepCall) and len(children) > 1 else None
        if isinstance(fallback, _Fallback):
            children = children[:-1]
        given = [c for c in children if c is not None]
        steps = tuple(c for c in given if isinstance(c, nodes.StepCall))
        values = tuple(c for c in given if not isinstance(c, nodes.StepCall))
        last = fallback.value if isinstance(fallback, _Fallback) else None
        return nodes.Chain(meta.start_pos, meta.end_pos, values, steps, last)

    pipe = chain

    def step(self, meta: Meta, children: list[Any]) -> nodes.StepCall:
        return nodes.StepCall(meta.start_pos, meta.end_pos, str(children[0]), tuple(children[1:]))

    def expectation(self, meta: Meta, children: list[Any]) -> nodes.StepCall:
        message = nodes.Text(children[1].start_pos, children[1].end_pos, _unquoted(str(children[1])))
        arguments = (nodes.Argument(message.start, message.end, message), *children[2:])
        return nodes.StepCall(meta.start_pos, meta.end_pos, "expect", arguments, children[0])

    def it(self, meta: Meta, children: list[Any]) -> nodes.It:  # noqa: ARG002
        return nodes.It(meta.start_pos, meta.end_pos)

    def option(self, meta: Meta, children: list[Any]) -> nodes.Argument:
        return nodes.Argument(meta.start_pos, meta.end_pos, children[1], str(children[0]))

    def word(self, meta: Meta, children: list[Any]) -> nodes.Argument:
        word = nodes.Word(meta.start_pos, meta.end_pos, str(children[0]))
        return nodes.Argument(meta.start_pos, meta.end_pos, word)

    def given(self, meta: Meta, children: list[Any]) -> nodes.Argument:
        return nodes.Argument(meta.start_pos, meta.end_pos, children[0])

    def constant(self, meta: Meta, children: list[Any]) -> nodes.Node:
        token = children[0]
        at = (meta.start_pos, meta.end_pos)
        if token.type == "STRING":
            return nodes.Text(*at, _unquoted(str(token)))
        if token.type == "NUMBER":
            return self._number(*at, str(token))
        if token.type == "PARAM":
            return nodes.Given(*at, str(token)[1:])
        return nodes.Blank(*at) if token.type == "BLANK" else nodes.YesNo(*at, token.type == "YES")

    def fallback(self, meta: Meta, children: list[Any]) -> _Fallback:
        token = children[1]
        if token.type == "STRING":
            return _Fallback(nodes.Text(token.start_pos, token.end_pos, _unquoted(str(token))))
        if token.type == "KEEP":
            return _Fallback(nodes.Word(token.start_pos, token.end_pos, "keep"))
        return _Fallback(nodes.Blank(meta.start_pos, meta.end_pos))

    def any_of(self, meta: Meta, children: list[Any]) -> nodes.Node:
        return _logic(meta, "or", children)

    def all_of(self, meta: Meta, children: list[Any]) -> nodes.Node:
        return _logic(meta, "and", children)

    def negate(self, meta: Meta, children: list[Any]) -> nodes.Node:
        return nodes.Logic(meta.start_pos, meta.end_pos, "not", tuple(children))

    def compare(self, meta: Meta, children: list[Any]) -> nodes.Test:
        return nodes.Test(meta.start_pos, meta.end_pos, str(children[1]), children[0], (children[2],))

    def matches(self, meta: Meta, children: list[Any]) -> nodes.Test:
        token = children[1]
        pattern = nodes.Text(token.start_pos, token.end_pos, _unquoted(str(token), escapes=False))
        return nodes.Test(meta.start_pos, meta.end_pos, "matches", children[0], (pattern,))

    def within(self, meta: Meta, children: list[Any]) -> nodes.Test:
        token = children[1]
        days = nodes.Number(token.start_pos, token.end_pos, Decimal(str(token)))
        return nodes.Test(meta.start_pos, meta.end_pos, "within", children[0], (days,))

    def reference(self, meta: Meta, children: list[Any]) -> nodes.Reference:
        return nodes.Reference(meta.start_pos, meta.end_pos, str(children[0])[1:-1].strip())

    def text(self, meta: Meta, children: list[Any]) -> nodes.Node:
        return _template(str(children[0]), meta.start_pos)

    def number(self, meta: Meta, children: list[Any]) -> nodes.Number:
        return self._number(meta.start_pos, meta.end_pos, str(children[0]))

    def _number(self, start: int, end: int, text: str) -> nodes.Number:
        number = Decimal(text)
        if not fits_exactly(number):
            raise error_at(
                self.source,
                start,
                end,
                "this number cannot be held exactly.",
                "Numbers have up to 26 digits before the point and twelve after it.",
            )
        return nodes.Number(start, end, number)

    def parameter(self, meta: Meta, children: list[Any]) -> nodes.Given:
        return nodes.Given(meta.start_pos, meta.end_pos, str(children[0])[1:])

    def yes(self, meta: Meta, children: list[Any]) -> nodes.YesNo:  # noqa: ARG002
        return nodes.YesNo(meta.start_pos, meta.end_pos, True)

    def no(self, meta: Meta, children: list[Any]) -> nodes.YesNo:  # noqa: ARG002
        return nodes.YesNo(meta.start_pos, meta.end_pos, False)

    def blank(self, meta: Meta, children: list[Any]) -> nodes.Blank:  # noqa: ARG002
        return nodes.Blank(meta.start_pos, meta.end_pos)

    def group(self, meta: Meta, children: list[Any]) -> nodes.Node:  # noqa: ARG002
        node: nodes.Node = children[0]
        return node


def _plain_test(word: str) -> Any:
    def make(self: _Nodes, meta: Meta, children: list[Any]) -> nodes.Test:  # noqa: ARG001
        return nodes.Test(meta.start_pos, meta.end_pos, word, children[0], tuple(children[1:]))

    return v_args(meta=True)(make)


for _rule, _word in {
    "is_blank": "is blank",
    "is_filled": "is not blank",
    "is_in": "in",
    "is_not_in": "not in",
    "starts_with": "starts with",
    "ends_with": "ends with",
    "contains": "contains",
    "between": "between",
}.items():
    setattr(_Nodes, _rule, _plain_test(_word))


def _logic(meta: Meta, word: str, parts: list[nodes.Node]) -> nodes.Node:
    return parts[0] if len(parts) == 1 else nodes.Logic(meta.start_pos, meta.end_pos, word, tuple(parts))


class _Fallback:
    def __init__(self, value: nodes.Blank | nodes.Word | nodes.Text) -> None:
        self.value = value


def _unquoted(quoted: str, *, escapes: bool = True) -> str:
    body = quoted[1:-1]
    if not escapes:
        return body.replace('\\"', '"')
    return re.sub(r"\\(.)", lambda m: _ESCAPES.get(m.group(1), m.group(1)), body, flags=re.DOTALL)


def _template(quoted: str, start: int) -> nodes.Text | nodes.Template:
    parts: list[nodes.Text | nodes.Reference] = []
    literal = ""
    at = start + 1
    for piece in _PIECES.finditer(quoted[1:-1]):
        begin, end = start + 1 + piece.start(), start + 1 + piece.end()
        if piece.group(2) is not None:
            if literal:
                parts.append(nodes.Text(at, begin, literal))
                literal = ""
            parts.append(nodes.Reference(begin, end, piece.group(2).strip()))
            at = end
        elif piece.group(1) is not None:
            literal += _ESCAPES.get(piece.group(1), piece.group(1))
        else:
            literal += piece.group(3)
    if not any(isinstance(part, nodes.Reference) for part in parts):
        return nodes.Text(start, start + len(quoted), literal)
    if literal:
        parts.append(nodes.Text(at, start + len(quoted) - 1, literal))
    return nodes.Template(start, start + len(quoted), tuple(parts))
