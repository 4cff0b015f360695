"""What the parser makes of a text: nodes that know where they stand (offsets into the text)."""

from __future__ import annotations

from dataclasses import dataclass
from decimal import Decimal


@dataclass(frozen=True)
class Node:
    """A piece of the text from `start` to `end`."""

    start: int
    end: int


@dataclass(frozen=True)
class Reference(Node):
    """`{Column}`, `{@field}` or `{#row}`: what stands between the braces."""

    name: str


@dataclass(frozen=True)
class Text(Node):
    """A text without references."""

    value: str


@dataclass(frozen=True)
class Template(Node):
    """A text with references inside."""

    parts: tuple[Text | Reference, ...]


@dataclass(frozen=True)
class Number(Node):
    value: Decimal


@dataclass(frozen=True)
class YesNo(Node):
    value: bool


@dataclass(frozen=True)
class Blank(Node):
    pass


@dataclass(frozen=True)
class Given(Node):
    """`:name`, a value given at run time."""

    name: str


@dataclass(frozen=True)
class It(Node):
    """`it`: the value that came into an `expect`."""


@dataclass(frozen=True)
class Word(Node):
    """A bare word among a step's arguments: the name of a crosswalk or key book."""

    name: str


Constant = Text | Number | YesNo | Blank | Given


@dataclass(frozen=True)
class Argument(Node):
    """One argument of a step; `option` is the name before the equals sign."""

    value: Constant | Word
    option: str | None = None


@dataclass(frozen=True)
class StepCall(Node):
    """A step with its arguments; `condition` is that of an `expect`."""

    name: str
    arguments: tuple[Argument, ...]
    condition: Node | None = None


@dataclass(frozen=True)
class Chain(Node):
    """Values handed through steps. `fallback` stands for what a step could not do: blank, keep or a text."""

    values: tuple[Node, ...]
    steps: tuple[StepCall, ...]
    fallback: Blank | Word | Text | None


@dataclass(frozen=True)
class Case(Node):
    """A chain and when it applies: a condition, or always (`otherwise`, or the only case)."""

    chain: Chain
    condition: Node | None
    otherwise: bool


@dataclass(frozen=True)
class Flow(Node):
    cases: tuple[Case, ...]


@dataclass(frozen=True)
class Logic(Node):
    """`and`, `or` or `not` over conditions."""

    word: str
    parts: tuple[Node, ...]


@dataclass(frozen=True)
class Test(Node):
    """One test: its word (`=`, `is blank`, `in`, `between`, `within` …), what is tested, and with what."""

    word: str
    subject: Node
    others: tuple[Node, ...]
