"""Kills, signals and faults at the n-th write: each time all of a command is done, or nothing of it, and what it says
of that is so."""

from __future__ import annotations

import shutil
from collections import Counter
from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import Ended
from soak.faults import run, why_not
from soak.story import SEVERAL, State, state, story, visible

pytestmark = [
    pytest.mark.soak,
    pytest.mark.skipif(why_not() is not None, reason=str(why_not())),
    pytest.mark.xdist_group("alone"),
]
#: how many points there are of each kind, over all commands of the story
POINTS = {"kill": 220, "half": 100, "int": 70, "term": 50, "full": 70, "eio": 60}


@pytest.fixture(scope="module")
def commands(tmp_path_factory: pytest.TempPathFactory) -> list[tuple[Path, list[str], Path]]:
    return list(story(tmp_path_factory.mktemp("story") / "move"))


@pytest.mark.parametrize("how", POINTS)
def test_a_command_is_done_or_was_never_begun(
    commands: list[tuple[Path, list[str], Path]], how: str, record_property: Callable[[str, str], None]
) -> None:
    wrong, points, statuses = [], 0, Counter[int]()
    each = -(-POINTS[how] // len(commands))
    for before, command, after in commands:
        trial = before.with_name(f"trial-{how}")
        shutil.rmtree(trial, ignore_errors=True)
        shutil.copytree(before, trial)
        there = run(trial, command).count
        shutil.rmtree(trial)
        assert there, command
        ends = (state(before), state(after))
        for at in sorted({1 + (2 * step + 1) * there // (2 * each) for step in range(each)} & set(range(1, there + 1))):
            shutil.copytree(before, trial)
            faulty = run(trial, command, how, at)
            points += 1
            statuses[faulty.ended.status] += 1
            told = f"{' '.join(command)}, {how} at {at} of {there}, status {faulty.ended.status}: {faulty.ended.err}"
            wrong += [f"{told}: {what}" for what in _wrong(before, trial, command, faulty.ended, ends)]
            shutil.rmtree(trial)
    assert not wrong, f"{len(wrong)} of {points}:\n" + "\n".join(wrong[:10])
    assert points >= 0.8 * POINTS[how], points
    assert how not in ("kill", "half") or set(statuses) == {-9}, statuses
    record_property("points", f"{how}: {points}, none of them bad; statuses {dict(statuses)}")


def _wrong(before: Path, trial: Path, command: list[str], ended: Ended, ends: tuple[State, State]) -> list[str]:
    """What is wrong after a fault."""
    found, status, said = [], ended.status, ended.err
    untouched = visible(trial) == visible(before)
    if ("nothing was changed" in said or "no file was changed" in said) and not untouched:
        found.append("it says that no file was changed")
    if "Traceback" in said or "fault:" in said:
        found.append("a fault")
    now = state(trial)
    if command[0] in SEVERAL:
        mixed = all(data in (ends[0].files.get(name), ends[1].files.get(name)) for name, data in now.files.items())
        if not mixed or now.done != ends[0].done:
            found.append("a file is neither as before nor as after")
    elif now not in ends:
        found.append(f"neither before nor after: {_differing(now, ends)}")
    if "recorded as done" in said and now != ends[1]:
        found.append("it says that it is done")
    if status in (0, 1) and command[0] not in SEVERAL and now != ends[1]:
        found.append("its status says that it is done")
    if command[0] not in SEVERAL and now == ends[0]:
        again = run(trial, command).ended
        if again.status not in (0, 1) or state(trial) != ends[1]:
            found.append(f"run again it comes to something else: {again.err} {_differing(state(trial), ends)}")
    run(trial, ["lend", "people", "--to", "last.xlsx"])
    if left := list(trial.rglob(".mudanza-*.part")):
        found.append(f"left behind: {left}")
    return found


def _differing(now: State, ends: tuple[State, State]) -> str:
    """What of a state is neither as before nor as after."""
    parts = [f"{part}" for part in vars(now) if getattr(now, part) not in (getattr(one, part) for one in ends)]
    names = {
        name
        for name in (now.files | ends[0].files | ends[1].files)
        if now.files.get(name) not in (ends[0].files.get(name), ends[1].files.get(name))
    }
    mixed = [sum(getattr(now, part) == getattr(one, part) for part in vars(now)) for one in ends]
    return f"{parts} {sorted(names)} {mixed}"
