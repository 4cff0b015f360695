"""The documents: what they show is what happens."""

from __future__ import annotations

import hashlib
import importlib.util
import io
import json
import os
import re
import shlex
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import polars as pl
import pytest

from conftest import program
from mudanza.core.engine.summary import ENDS
from mudanza.core.findings.finding import SHOWN
from mudanza.core.layouts.csvw import read_layout
from mudanza.core.plans.move import Move
from mudanza.core.plans.move_settings import find_move
from mudanza.core.sinks.formats import RecordFile, sink_of
from mudanza.core.work import shapes
from mudanza.core.work.loans.comparison import CHANGES
from mudanza.core.work.preview import preview
from mudanza.core.work.records.question import load_question

DOCS = Path(__file__).parent.parent / "docs"


def blocks(name: str, label: str) -> list[str]:
    text = (DOCS / name).read_text("utf-8")
    return re.findall(rf"^```{label}\n(.*?)^```", text, re.DOTALL | re.MULTILINE)


def test_the_guide_shows_what_happens(tmp_path: Path) -> None:
    """Each command of the guide is run in turn; a line `…` stands for any lines, `…` in a line for any text."""
    program("demo", "practice", "--only-create", cwd=tmp_path, status=0)
    folder = tmp_path / "practice"
    for block in blocks("guide.md", "console"):
        for command, expected in re.findall(r"^\$ (.*)\n((?:(?!\$ ).*\n)*)", block, re.MULTILINE):
            words = shlex.split(command)
            if words[0] == "mudanza" and not {"|", ">", "&&"} & set(words):
                ended = program(*words[1:], cwd=folder)
                shown = ended.out + ended.err
            else:
                path = f"{Path(sys.executable).parent}:{os.environ['PATH']}"
                shown = subprocess.run(
                    command,
                    shell=True,
                    cwd=folder,
                    env={**os.environ, "NO_COLOR": "1", "PATH": path},
                    stdout=subprocess.PIPE,
                    stderr=subprocess.STDOUT,
                    text=True,
                    check=False,
                ).stdout
            pattern = "".join(
                r"(?:.*\n)*?" if line == "…\n" else re.escape(line).replace("…", ".*")
                for line in expected.splitlines(True)
            )
            assert re.fullmatch(r"\s*" + pattern + r"\s*", shown), f"{command}\n{shown}"


def test_the_plan_and_layout_of_the_reference_work(tmp_path: Path) -> None:
    program("demo", "practice", "--only-create", cwd=tmp_path, status=0)
    move = tmp_path / "practice"
    (plan,) = blocks("plan.md", "toml plan")
    (move / "plans/owners.toml").write_text(plan, encoding="utf-8")
    (move / "incoming/towns.csv").write_text("town,official name\nBRAGA,Braga\n", encoding="utf-8")
    assert len(preview(find_move(move), "owners", rows=2).rows) == 4
    (layout,) = blocks("layouts.md", "json")
    (tmp_path / "l.json").write_text(layout)
    assert [f.name for f in read_layout(tmp_path / "l.json").fields] == ["code", "born", "paid", "kind"]


def test_the_forms_of_the_docs(tmp_path: Path) -> None:
    """The records of the docs' page of forms, written in each."""
    text = (DOCS / "forms.md").read_text("utf-8")
    (layout,) = blocks("forms.md", "json")
    told = re.findall(r"^`([^`\n]+)`\n\n```\n(.*?)```", text, re.DOTALL | re.MULTILINE)
    rows = {"code": ["A1", "A2"], "paid": ["12,50", None], "address.town": ["Braga", None], "tags": ["cat|old", None]}
    for form, expected in told:
        said = {**json.loads(layout), "urn:mudanza:form": json.loads(form) if form.startswith("{") else form}
        (tmp_path / "l.json").write_text(json.dumps(said))
        made, buffer = read_layout(tmp_path / "l.json"), io.BytesIO()
        file = RecordFile(buffer, sink_of(made).writer(made, [*rows]))
        file.write(pl.DataFrame(rows))
        file.close()
        assert buffer.getvalue().decode().replace("\r\n", "\n") == expected
    assert len(told) == 4
    (question,) = blocks("forms.md", "toml")
    (tmp_path / "questions").mkdir()
    (tmp_path / "questions/q.toml").write_text(question)
    assert load_question(Move(tmp_path, "m"), "q").sort == ("full_name",)


def script(name: str) -> Any:
    """A script of the docs, as a module."""
    spec = importlib.util.spec_from_file_location(name, DOCS / f"{name}.py")
    assert spec is not None and spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module


def test_the_references_are_those_of_the_code() -> None:
    reference = script("reference")
    assert (DOCS / "rooms.svg").read_text("utf-8") == script("rooms").drawing()
    assert (DOCS / "steps.md").read_text("utf-8") == reference.steps()
    assert (DOCS / "findings.md").read_text("utf-8") == reference.findings()
    # the parser's tables are those of the grammar as it is
    language = DOCS.parent / "src/mudanza/core/language"
    mark = (language / "grammar.tables").read_bytes().split(b"\n")[0].decode().split()
    assert mark[1] == hashlib.sha256((language / "grammar.lark").read_bytes()).hexdigest()


SHAPES = {
    "build owners --rehearse --compare": "build", "check incoming/from-a-colleague.csv --layout owners --limit 3": "check",
    "survey incoming": "survey", "survey incoming/north/clients.csv": "survey", "preview owners --findings": "preview",
    "preview owners --coverage": "preview --coverage", "match animals-again --layout animals --source incoming/north/animals.csv --rehearse": "match",
    "match owners --why town": "match", "crosswalk owners --rehearse": "crosswalk", "trace OW-000003": "trace", "lend owners --columns phone": "lend", "lend owners --mapping": "lend --mapping",
    "receive loans/owners-2.xlsx": "receive", "ledger": "ledger", "ledger 1": "ledger RUN", "ledger --loans": "ledger --loans", "layout show owners": "layout show",
    "explain fit": "explain", "explain value.too-long": "explain", "layout draft sent target/animals-import.xlsx": "layout draft",
    "records owners --count-by town": "records", "records owners --key OW-000003 --to x.json": "records", "layout compare sent animals": "layout compare", "layout absent animals": "layout absent",
}  # fmt: skip


def keys_of(value: object) -> Iterator[str]:
    """The names in a JSON document, but for those of maps whose names are data."""
    if isinstance(value, list):
        for item in value:
            yield from keys_of(item)
    elif isinstance(value, dict):
        for name, inner in value.items():
            yield name
            if name not in ("skipped_by", "keys_given", "before", "columns_of_row", "counts", "key_books"):
                inner = list(inner.values()) if name == "sources" and isinstance(inner, dict) else inner
                inner = [] if name in ("columns", "additions", "removals") and isinstance(inner, dict) else inner
                inner = [] if name == "records" else inner
                yield from keys_of(inner)


def test_the_json_shapes_are_those_of_the_docs(tmp_path: Path) -> None:
    """Every name that a command prints stands in its paragraph, and each name there is one that the shapes know."""
    text = (DOCS / "commands.md").read_text("utf-8").split("## JSON shapes")[1].split("\n## ")[0]
    paragraphs = dict(re.findall(r"^\*\*([^*]+)\*\*(.*?)(?=^\*\*|\Z)", text, re.DOTALL | re.MULTILINE))
    program("demo", "practice", "--only-create", cwd=tmp_path, status=0)
    move = tmp_path / "practice"
    program("build", "owners", cwd=move)
    printed: dict[str, set[str]] = {}
    for command, paragraph in SHAPES.items():
        document = program(*command.split(), "--json", cwd=move).json
        printed.setdefault(paragraph, set()).update(keys_of(document))
    source = "".join(path.read_text("utf-8") for path in Path(shapes.__file__).parent.glob("*.py"))
    known = {*re.findall(r"[a-z0-9_]+", source), *SHOWN, *ENDS, *CHANGES}
    for paragraph, names in printed.items():
        told = set(re.findall(r'"([a-z0-9_]+)"', paragraphs[paragraph]))
        assert names <= told, (paragraph, "not in the docs", names - told)
        assert told <= known, (paragraph, "nowhere", told - known)


def test_links_and_pictures_are_there() -> None:
    for path in (DOCS.parent / "README.md", *DOCS.glob("*.md")):
        for target in re.findall(r"\]\((?!http)([^)#]+)\)", path.read_text("utf-8")):
            assert (path.parent / target).exists(), f"{path.name}: {target}"


def test_the_api_is_what_it_says(move: Path) -> None:
    import mudanza

    for name in mudanza.__all__:
        assert getattr(mudanza, name) is not None
    result = mudanza.build(mudanza.find_move(move), ["people"], rehearse=True)
    assert result.run is None and result.lists[0].balance.holds
    assert mudanza.survey(move / "incoming/a.csv").rows == 7
    reader = mudanza.open_source(move / "incoming/a.csv")
    frame = next(reader.batches()).rows
    assert frame.shape == (7, 8) and hasattr(frame, "__arrow_c_stream__")
    with pytest.raises(AttributeError):
        _ = mudanza.nothing  # type: ignore[attr-defined]
    assert json.dumps(result.lists[0].balance.as_dict())
