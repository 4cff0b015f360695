"""Looks for texts that make the language fall over: parser, checker and what it compiles to.

    python bench/fuzz_language.py [--minutes 20] [--seed 1]

Texts are made of the language's words, cut out of the steps' examples and joined, and changed by a few signs. Anything but a result or a LanguageError
whose place lies in the text is a fault, and is printed.
"""

from __future__ import annotations

import argparse
import time
import traceback
from collections import Counter
from datetime import date
from random import Random

import polars as pl

from mudanza.core.documents.errors import LanguageError
from mudanza.core.language.parameters import Declared, Parameters
from mudanza.core.language.steps import STEPS
from mudanza.core.language.steps.declaring import Parameter
from mudanza.core.language.trying import try_flow
from mudanza.core.language.value import Surroundings
from mudanza.core.tables.crosswalk import Crosswalk, Entry
from mudanza.core.tables.lookup import Lookup
from mudanza.core.values.kinds import Kind

ROWS = [
    ("12.5", "31/12/2024"),
    (None, ""),
    ("Ana Sá", "a;b;c"),
    ("99999999999999999999999999", "00/00/0000"),
    (" ", "\u0000\ud7ff💥"),
    ("-(1.234,50) €", "K"),
]
PARTS = ["{A}", "{B}", "{#row}", "{#source}", "{@x}", "{", "}", '"', '"t"', '"{A} {B}"', '"\\{"', "'", "->", "- >", ",", ";", "when", "otherwise", "or", "and", "not", "is", "blank", "in", "(", ")",
         "=", "==", "!=", "<>", "<", "<=", ">", "between", "within", "days", "contains", "matches", "starts", "ends", "with", "it", "yes", "no", "keep", ":p", ":", "0", "-1", "3.14159", "10000000000",
         "1e5", "é", "\n", "\t", "#", "|", "&&", "\\"]  # fmt: skip
VALUES = [
    '"x"',
    '""',
    '"["',
    '"(a)(b)"',
    '"dd/MM/yyyy"',
    '"yy"',
    '"0.00"',
    '"é"',
    "0",
    "1",
    "-5",
    "999999999",
    "yes",
    "no",
    "blank",
    "demo",
    "owners",
    ":p",
    '"a-z"',
    '"z-a"',
    '"month"',
    '"days"',
    "0.000000000001",
]


def surroundings() -> Surroundings:
    def lookup(name: str) -> Lookup:
        rows = pl.DataFrame({"No": ["7", "7", "K"], "Name": ["a", "b", None]})
        return Lookup(name, ("No",), False, tuple(rows.columns), lambda: iter([rows]))

    crosswalk = Crosswalk(
        "demo", ("from",), (Entry(2, "K", (), "dog"), Entry(3, "1", (), "few", "20"), Entry(4, "(any)", (), ""))
    )
    keys = pl.DataFrame({"identity": ["K"], "key": ["OW-1"]})
    declared = {"p": Declared("p", Kind.NUMBER, "2.5")}
    return Surroundings(lambda _: crosswalk, lambda _: keys, Parameters({}, declared), date(2026, 3, 31), lookup)


def fitting(random: Random, parameter: Parameter) -> str:
    """An argument that mostly is of the kind asked for."""
    if random.random() < 0.15:
        return random.choice(VALUES)
    if parameter.choices:
        return f'"{random.choice(parameter.choices)}"'
    return {
        "text": random.choice(
            [
                '"x"',
                '";"',
                '"."',
                '"0.00"',
                '"dd/MM/yyyy"',
                '"yyyy"',
                '"Name"',
                '"a-z"',
                '"é"',
                '"UTC"',
                '"["',
                '"(a)|(b)"',
                '"yy-M-d"',
                '"HH"',
                '"[0-9]+"',
            ]
        ),
        "number": random.choice(["0", "1", "2", "5", "12", "30", "1900", "1904", "-1", "400"]),
        "decimal": random.choice(["0", "1.5", "-2", "100000000000000000000"]),
        "yes/no": random.choice(["yes", "no"]),
        "name": random.choice(["demo", "owners"]),
        "value": random.choice(VALUES),
    }[parameter.kind]


def made(random: Random, examples: list[str]) -> str:
    """A text to try."""
    way = random.random()
    if way < 0.12:
        return " ".join(random.choice(PARTS + list(STEPS)) for _ in range(random.randint(1, 16)))
    if way < 0.75:
        steps = []
        start, kind = random.choice(
            [
                ("{A}", Kind.TEXT),
                ('"{A}-{B}"', Kind.TEXT),
                ("({A} -> number or blank)", Kind.NUMBER),
                ("3", Kind.NUMBER),
                ('({B} -> date "dd/MM/yyyy" or blank)', Kind.DATE),
                ('({A} -> date "yyyy-MM-dd HH:mm" or blank)', Kind.DATETIME),
                ('({B} -> split ";")', Kind.TEXTS),
                ("({A} -> yesno or blank)", Kind.YESNO),
            ]
        )
        for _ in range(random.randint(1, 5)):
            suited = [s for s in STEPS.values() if kind in s.takes]
            step = random.choice(suited if suited and random.random() < 0.9 else list(STEPS.values()))
            kind = step.gives or kind
            plain = [p for p in step.parameters if not p.option and p.kind != "condition"]
            arguments = [fitting(random, p) for p in plain for _ in range(random.choice([1, 1, 2]) if p.many else 1)]
            if random.random() < 0.1:
                arguments = [random.choice(VALUES) for _ in range(random.choice([0, 1, 2, 3]))]
            options = [f"{p.name}={fitting(random, p)}" for p in step.parameters if p.option and random.random() < 0.4]
            condition = [random.choice(["it > 0", "it is blank", '{A} = "x"', "it"])] if step.name == "expect" else []
            steps.append(" ".join([step.name, *condition, *arguments, *options]))
        if random.random() < 0.3:
            start = ", ".join([start] * random.randint(2, 3))
        text = " -> ".join([start, *steps]) + random.choice(["", "", " or blank", ' or "x"', " or keep"])
        return (
            f"{text} when {random.choice(['{A} = {B}', '{A} is blank', 'not ({B} in (1, 2))'])}; {{A}} otherwise"
            if random.random() < 0.2
            else text
        )
    text = random.choice(examples)
    for _ in range(random.randint(1, 4)):
        at = random.randrange(len(text) + 1)
        change = random.random()
        if change < 0.35:
            text = text[:at] + random.choice([*PARTS, *VALUES]) + text[at:]
        elif change < 0.7:
            text = text[:at] + text[at + random.randint(1, 4) :]
        else:
            other = random.choice(examples)
            text = text[:at] + other[random.randrange(len(other)) :]
    return text


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--minutes", type=float, default=20)
    parser.add_argument("--seed", type=int, default=1)
    arguments = parser.parse_args()
    random, around = Random(arguments.seed), surroundings()
    examples = [e.flow for step in STEPS.values() for e in step.examples]
    known = pl.DataFrame({"identity": ["K"], "key": ["OW-1"]})
    ends: Counter[str] = Counter()
    faults: Counter[str] = Counter()
    end = time.monotonic() + arguments.minutes * 60
    while time.monotonic() < end:
        text = made(random, examples)
        for what in ("flow", "condition") if random.random() < 0.2 else ("flow",):
            try:
                try_flow(text, ROWS, around=around, keys=known, what=what)
                ends["worked"] += 1
            except LanguageError as error:
                ends["told"] += 1
                place = error.place
                if place is None or place.text != text or not 0 <= place.start <= max(len(text), 1):
                    faults["place"] += 1
                    print(f"PLACE {what} {text!r}: {error.what} {place}", flush=True)
            except BaseException as error:
                if isinstance(error, KeyboardInterrupt):
                    raise
                kind = f"{type(error).__name__}: {str(error)[:80]}"
                faults[kind] += 1
                if faults[kind] <= 3:
                    print(f"FAULT {what} {text!r}\n{traceback.format_exc(limit=-4)}", flush=True)
    print(f"{sum(ends.values()) + sum(faults.values()):,} texts: {dict(ends)}; faults: {sum(faults.values())}")
    for kind, count in faults.most_common():
        print(f"  {count} {kind}")


if __name__ == "__main__":
    main()
