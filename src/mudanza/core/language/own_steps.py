"""Steps of a move's own: Python functions on Polars expressions in its `steps.py`, run only where its settings allow it."""

from __future__ import annotations

import importlib.util
import inspect
import re
import sys
import traceback
from collections.abc import Callable, Mapping
from decimal import Decimal
from functools import cache
from pathlib import Path
from typing import Any

import polars as pl

from mudanza.core.documents.errors import MoveError, MudanzaError, Place
from mudanza.core.language.steps import STEPS
from mudanza.core.language.steps.declaring import Call, Parameter, Step, StepExample
from mudanza.core.language.value import Value
from mudanza.core.values.kinds import DTYPES, Kind

#: where a move keeps its own steps
FILE = "steps.py"
_MARK = "mudanza_step"
_KINDS = {str: "text", int: "number", Decimal: "decimal", bool: "yes/no"}
_SHORT = {"str": str, "int": int, "Decimal": Decimal, "bool": bool}
_NAME = re.compile(r"[A-Za-z_](?:\w|-(?=\w))*")


def own_step(
    name: str,
    takes: Kind,
    gives: Kind,
    examples: list[tuple[str, tuple[str | None, ...], str | None]],
    finding: str | None = None,
) -> Callable[[Callable[..., pl.Expr]], Callable[..., pl.Expr]]:
    """Declare a function as the step `name`. It takes a Polars expression of kind `takes` and gives one of kind `gives`.

    Further arguments of the function are those of the step, by position where they have no default and as options where they have one; they are
    annotated with str, int, Decimal or bool. With `finding` (what was asked, in words), null for a value that is not blank is a finding and holds the
    row back. `examples` are flows on the columns A and B, what stands there, and the plain text that comes out; they are run whenever the file is loaded.
    """

    def declare(work: Callable[..., pl.Expr]) -> Callable[..., pl.Expr]:
        parameters = []
        for parameter in list(inspect.signature(work).parameters.values())[1:]:
            kind = _KINDS.get(_SHORT.get(parameter.annotation, parameter.annotation))
            if kind is None:
                raise TypeError(
                    f"the argument {parameter.name} of {name} must be annotated with str, int, Decimal or bool"
                )
            optional = parameter.default is not parameter.empty
            parameters.append(Parameter(parameter.name, kind, parameter.default if optional else None, option=optional))

        def step_work(value: Value, call: Call, *arguments: Any, **options: Any) -> Value:
            def make(expr: pl.Expr) -> pl.Expr:
                return work(expr, *arguments, **options).cast(DTYPES[gives], strict=False)

            if finding is not None:
                made = call.attempt(value, make, gives, "flow.own-step", finding)
            else:
                made = call.stages.hold(call.stages.hold(value).map(make(value.expr), gives))
            call.stages.own[made.expr.meta.output_name()] = name
            return made

        summary = " ".join((work.__doc__ or "").split())
        shown = tuple(StepExample(*example) for example in examples)
        setattr(
            work,
            _MARK,
            Step(
                name,
                (takes,),
                gives,
                tuple(parameters),
                False,
                summary,
                f"the move's own step {name}",
                shown,
                step_work,
            ),
        )
        return work

    return declare


@cache
def load_own_steps(path: Path, changed: int) -> Mapping[str, Step]:  # noqa: ARG001
    """The steps declared in a file, which is run. `changed` is when the file was changed: a changed file is loaded anew.

    Raises MoveError with the line where the file fails, or where a step lacks documentation or gives something else than its examples say.
    """
    module_name = "mudanza_own_steps"
    spec = importlib.util.spec_from_file_location(module_name, path)
    assert spec is not None and spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    sys.modules[module_name] = module
    try:
        # not through the loader, whose cache would miss a change within the same second
        exec(compile(path.read_text("utf-8"), str(path), "exec"), module.__dict__)
    except SyntaxError as error:
        raise MoveError(
            f"{error.msg}.", place=Place(str(path), error.lineno), hint="It is no Python that can be run."
        ) from None
    except Exception as error:
        lines = [frame.lineno for frame in traceback.extract_tb(error.__traceback__) if frame.filename == str(path)]
        raise MoveError(
            f"{type(error).__name__}: {error}.",
            place=Place(str(path), lines[-1] if lines else None),
            hint="The move's own steps could not be loaded.",
        ) from None
    found: dict[str, Step] = {}
    for work in vars(module).values():
        declared = getattr(work, _MARK, None)
        if not isinstance(declared, Step):
            continue
        place = Place(str(path), work.__code__.co_firstlineno)
        if not _NAME.fullmatch(declared.name) or declared.name in STEPS or declared.name in found:
            raise MoveError(
                f"a step cannot be called {declared.name!r}.",
                place=place,
                hint="A name has letters, digits and minus signs, and belongs to one step.",
            )
        if not declared.summary or not declared.examples:
            raise MoveError(
                f"the step {declared.name!r} lacks its documentation or examples.",
                place=place,
                hint="Write a docstring, and examples=[(flow, given, gives)].",
            )
        found[declared.name] = declared
    for step in found.values():
        _check_examples(step, path, {**STEPS, **found})
    return found


def _check_examples(step: Step, path: Path, steps: Mapping[str, Step]) -> None:
    from mudanza.core.language.trying import try_flow

    for example in step.examples:
        try:
            made = try_flow(example.flow, [example.given], steps=steps)[0][0]
        except MudanzaError as error:
            made = error.what
        except Exception as error:  # whatever the function does on its own example
            made = f"{type(error).__name__}: {error}"
        if made != example.gives:
            raise MoveError(
                f"the step {step.name!r} gives {made!r} and not {example.gives!r} for {example.flow}.",
                place=Place(str(path)),
                hint="Mend the function, or its example.",
            )


def steps_of(folder: Path, allowed: bool) -> Mapping[str, Step]:
    """The steps that flows of a move may use: the built-in ones, and its own if its settings allow them."""
    path = folder / FILE
    if not allowed or not path.is_file():
        return STEPS
    return {**STEPS, **load_own_steps(path, path.stat().st_mtime_ns)}
