"""The documents: what they show is what happens."""

from __future__ import annotations

import importlib.util
import json
import os
import re
import subprocess
import sys
from pathlib import Path

import pytest

from conftest import program
from mudanza.core.building.preview import preview
from mudanza.core.layouts.reading import read_layout
from mudanza.core.move import find_move

DOCS = Path(__file__).parent.parent / "docs"


def blocks(name: str, label: str) -> list[str]:
    text = (DOCS / name).read_text("utf-8")
    return re.findall(rf"^```{label}\n(.*?)^```", text, re.DOTALL | re.MULTILINE)


def test_the_guide_shows_what_happens(tmp_path: Path) -> None:
    """Each command of the guide is run in turn; a line `…` stands for any lines, `…` in a line for any text."""
    program("demo", "practice", "--only-create", cwd=tmp_path, status=0)
    environment = {**os.environ, "NO_COLOR": "1", "PATH": f"{Path(sys.executable).parent}:{os.environ['PATH']}"}
    for block in blocks("guide.md", "console"):
        for command, expected in re.findall(r"^\$ (.*)\n((?:(?!\$ ).*\n)*)", block, re.MULTILINE):
            ended = subprocess.run(
                command,
                shell=True,
                cwd=tmp_path / "practice",
                env=environment,
                capture_output=True,
                text=True,
                check=False,
            )
            shown = ended.stdout + ended.stderr
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


def test_the_references_are_those_of_the_code() -> None:
    spec = importlib.util.spec_from_file_location("reference", DOCS / "reference.py")
    assert spec is not None and spec.loader is not None
    reference = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(reference)
    assert (DOCS / "steps.md").read_text("utf-8") == reference.steps()
    assert (DOCS / "findings.md").read_text("utf-8") == reference.findings()


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
    assert frame.to_pandas().shape == (7, 8) if importlib.util.find_spec("pandas") else frame.to_arrow().num_rows == 7
    with pytest.raises(AttributeError):
        _ = mudanza.nothing  # type: ignore[attr-defined]
    assert json.dumps(result.lists[0].balance.as_dict())
