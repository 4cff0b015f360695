"""A step's arguments as its function takes them, checked against its declaration."""

from __future__ import annotations

from collections.abc import Callable
from decimal import Decimal
from typing import Any

from mudanza.core.documents.errors import LanguageError, MoveError, nearest
from mudanza.core.language import nodes
from mudanza.core.language.parameters import Declared
from mudanza.core.language.steps.declaring import Parameter, Step
from mudanza.core.values.kinds import Kind

Fail = Callable[[nodes.Node, str, str | None], LanguageError]
#: how a value given at run time is had: its text, from its node
AtRun = Callable[[nodes.Given], str]
_SHOWN = {
    "text": "a text in double quotes",
    "number": "a whole number",
    "decimal": "a number",
    "yes/no": "yes or no",
    "name": "a name",
    "value": "a text in double quotes, a number, yes or no",
}


def arguments_of(node: nodes.StepCall, step: Step, given_at_run: AtRun, fail: Fail) -> tuple[list[Any], dict[str, Any]]:
    """The positional arguments (without an expect's condition) and the options. Raises what `fail` makes, at the place that is wrong."""
    positional = [p for p in step.parameters if not p.option and p.kind != "condition"]
    by_name = {p.name: p for p in step.parameters if p.option}
    given: list[Any] = []
    options: dict[str, Any] = {p.name: p.default for p in by_name.values()}
    plain = [a for a in node.arguments if a.option is None]
    usage = f"It is written: {step.usage}"
    for argument in node.arguments:
        if argument.option is None:
            continue
        if argument.option not in by_name:
            near = nearest(argument.option, list(by_name))
            hint = f"Did you mean {near!r}?" if near else usage
            raise fail(argument, f"{step.name} has no option {argument.option!r}.", hint)
        options[argument.option] = _constant(argument, by_name[argument.option], step, given_at_run, fail)
    many = positional[-1] if positional and positional[-1].many else None
    for i, argument in enumerate(plain):
        if i >= len(positional) and many is None:
            raise fail(argument, f"{step.name} does not take this argument.", usage)
        given.append(_constant(argument, positional[min(i, len(positional) - 1)], step, given_at_run, fail))
    for parameter in positional[len(given) :]:
        if parameter.required and not (parameter.many and given):
            raise fail(node, f"{step.name} lacks its {parameter.name}.", usage)
        if not parameter.many:
            given.append(parameter.default)
    return given, options


def _constant(argument: nodes.Argument, parameter: Parameter, step: Step, given_at_run: AtRun, fail: Fail) -> Any:
    value: nodes.Node = argument.value
    if isinstance(value, nodes.Given):
        value = _read(argument, value, given_at_run(value), parameter, fail)
    match parameter.kind, value:
        case "name", nodes.Word(name=name) | nodes.Text(value=name):
            return name
        case "text", nodes.Text(value=text):
            if parameter.choices and text not in parameter.choices:
                near = nearest(text, list(parameter.choices))
                listed = ", ".join(f'"{choice}"' for choice in parameter.choices)
                raise fail(
                    argument,
                    f'"{text}" is none of what {step.name} takes as its {parameter.name}.',
                    f'Did you mean "{near}"? ' * bool(near) + f"It takes {listed}.",
                )
            return text
        case ("yes/no", nodes.YesNo(value=given)) | ("value", nodes.YesNo(value=given)):
            return given
        case ("decimal", nodes.Number(value=given)) | ("value", nodes.Number(value=given)):
            return given
        case "value", nodes.Text(value=text):
            return text
        case "number", nodes.Number(value=given):
            number = int(given) if given == given.to_integral_value() else None
            if number is None or (parameter.least and number < parameter.least) or abs(number) > 10**9:
                from_ = f", from {parameter.least}" if parameter.least else ""
                raise fail(argument, f"{step.name} needs a whole number here{from_}.", f"It is written: {step.usage}")
            return number
    hint = f"It is written: {step.usage}"
    if isinstance(value, nodes.Word) and parameter.kind in ("text", "value"):
        hint = f'A text stands in double quotes: "{value.name}". {hint}'
    raise fail(argument, f"{step.name} needs {_SHOWN[parameter.kind]} as its {parameter.name}.", hint)


def _read(argument: nodes.Argument, node: nodes.Given, text: str, parameter: Parameter, fail: Fail) -> nodes.Node:
    """A value given at run time as the constant that the argument needs."""
    if parameter.kind in ("number", "decimal"):
        try:
            return nodes.Number(node.start, node.end, Decimal(str(Declared(node.name, Kind.NUMBER).value(text))))
        except MoveError as error:
            raise fail(argument, error.what, error.hint) from None
    if parameter.kind == "yes/no":
        if text.lower() not in ("yes", "no"):
            raise fail(argument, f"{text!r} is neither yes nor no.", f"It was given for :{node.name}.")
        return nodes.YesNo(node.start, node.end, text.lower() == "yes")
    return nodes.Text(node.start, node.end, text)
