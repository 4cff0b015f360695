"""A flow in words, for people who do not write flows."""

from __future__ import annotations

from collections.abc import Mapping

from mudanza.core.documents.errors import LanguageError
from mudanza.core.language import nodes
from mudanza.core.language.parsing import parse_flow
from mudanza.core.language.steps.declaring import Step

_FACTS = {
    "#source": "the source's name",
    "#file": "the file's name",
    "#row": "the row's number",
    "#day": "the run's day",
    "#in_target": "whether the target holds the record",
}
_TESTS = {
    "=": "is",
    "!=": "is not",
    "<": "is below",
    "<=": "is at most",
    ">": "is above",
    ">=": "is at least",
    "matches": "has the form",
}


def in_words(text: str | None, steps: Mapping[str, Step]) -> str:
    """What a flow does, in words; nothing at all where it cannot be read."""
    if text is None:
        return "stays blank"
    try:
        flow = parse_flow(text)
    except LanguageError:
        return ""
    speaker = _Speaker(text, steps)
    cases = [speaker.case(case) for case in flow.cases]
    return "; ".join(cases)


class _Speaker:
    def __init__(self, text: str, steps: Mapping[str, Step]) -> None:
        self.text, self.steps = text, steps

    def case(self, case: nodes.Case) -> str:
        words = self.chain(case.chain)
        if case.condition is not None:
            return f"{words}, where {self.condition(case.condition)}"
        return f"otherwise {words}" if case.otherwise else words

    def chain(self, chain: nodes.Chain) -> str:
        values = [self.value(v) for v in chain.values]
        words = " and ".join([", ".join(values[:-1]), values[-1]]) if len(values) > 1 else values[0]
        for step in chain.steps:
            words += f", {self.step(step)}"
        if chain.fallback is not None:
            instead = self.text[chain.fallback.start : chain.fallback.end].removeprefix("or").strip()
            words += f" (if that cannot be done: {instead})"
        return words

    def step(self, node: nodes.StepCall) -> str:
        arguments = [self.text[a.start : a.end] for a in node.arguments if a.option is None]
        options = [self.text[a.start : a.end] for a in node.arguments if a.option is not None]
        known = self.steps.get(node.name)
        if known is None:
            return self.text[node.start : node.end]
        if node.condition is not None:
            arguments = [self.condition(node.condition)]
        if known.parameters and any(p.many for p in known.parameters):
            arguments = [" or ".join(arguments)]
        words = known.says
        for number, argument in enumerate([*arguments, "", ""]):
            words = words.replace(f"{{{number}}}", argument)
        return words + (f" ({', '.join(options)})" if options else "")

    def value(self, node: nodes.Node) -> str:
        match node:
            case nodes.Reference():
                if node.name in _FACTS:
                    return _FACTS[node.name]
                return f"the field {node.name[1:]}" if node.name.startswith("@") else node.name
            case nodes.Template():
                pieces = [f"[{p.name}]" if isinstance(p, nodes.Reference) else p.value for p in node.parts]
                return f'"{"".join(pieces)}"'
            case nodes.Chain():
                return f"({self.chain(node)})"
            case nodes.Flow():
                return f"({'; '.join(self.case(case) for case in node.cases)})"
            case nodes.Logic() | nodes.Test():
                return self.condition(node)
            case nodes.Blank():
                return "blank"
            case nodes.It():
                return "it"
            case _:
                return self.text[node.start : node.end]

    def condition(self, node: nodes.Node) -> str:
        match node:
            case nodes.Logic():
                if node.word == "not":
                    return f"not ({self.condition(node.parts[0])})"
                return f" {node.word} ".join(self.condition(part) for part in node.parts)
            case nodes.Test():
                others = [self.value(o) for o in node.others]
                word = _TESTS.get(node.word, node.word)
                listed = " or ".join(others) if node.word in ("in", "not in") else " and ".join(others)
                if node.word in ("in", "not in"):
                    word = "is" if node.word == "in" else "is not"
                days = " days of the run's day" if node.word == "within" else ""
                return f"{self.value(node.subject)} {word} {listed}{days}".rstrip()
            case _:
                return self.value(node)
