"""The measurements run, and what is compared does the same work."""

from __future__ import annotations

import os
import re
import subprocess
import sys
from pathlib import Path

import pytest

BENCH = Path(__file__).parent.parent / "bench"

pytestmark = pytest.mark.soak


def measured(script: str, *arguments: str, data: Path) -> str:
    """What a script of the measurements prints, at a size at which its figures mean nothing."""
    ended = subprocess.run(
        [sys.executable, str(BENCH / script), *arguments],
        env={**os.environ, "BENCH_DATA": str(data)},
        capture_output=True,
        text=True,
        check=False,
    )
    assert ended.returncode == 0, ended.stderr
    return ended.stdout


@pytest.mark.parametrize("script", ["run.py", "mapping.py"])
def test_a_script_by_hand_makes_the_same_bytes(tmp_path: Path, script: str) -> None:
    more = ["--no-pandas"] if script == "run.py" else []
    told = measured(script, "--rows", "2000", "--rounds", "1", *more, data=tmp_path)
    assert re.search(r"script makes the same bytes: True", told) and "False" not in told
    assert re.search(r"^\| build \| \d", told, re.MULTILINE)


def test_reading_is_compared_with_what_libraries_read(tmp_path: Path) -> None:
    told = measured("reading.py", "--rows", "200", "--rounds", "1", data=tmp_path)
    assert "| workbook of 200 rows" in told
    assert "| PostgreSQL table of 1,000 rows" in told or "no PostgreSQL here" in told


def test_proportions_are_told_of_each_command(tmp_path: Path) -> None:
    told = measured("proportions.py", "--size", "0.001", data=tmp_path)
    assert len(re.findall(r"^.+ [\d.]+ s +\d+ MiB", told, re.M)) == 13
    assert {"survey", "JSON", "preview", "build", "trace"} <= {line.split()[0].strip(",") for line in told.splitlines()}


def test_no_text_makes_the_language_fall_over(tmp_path: Path) -> None:
    told = measured("fuzz_language.py", "--minutes", "0.03", data=tmp_path)
    assert "faults: 0" in told and int(re.search(r"'worked': (\d+)", told)[1]) > 0  # type: ignore[index]


def test_look_ups_in_a_large_key_book_give_what_the_join_by_hand_gives(tmp_path: Path) -> None:
    said = measured("keys.py", "--rows", "300", "--known", "700", "--rounds", "1", data=tmp_path)
    assert re.search(r"build / by hand: \d", said)
