"""What the tests share: the installed program, and small moves to run it on."""

from __future__ import annotations

import json
import os
import shutil
import signal
import subprocess
import sys
import tempfile
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any, TypeVar

import pytest
from hypothesis import HealthCheck, Phase, settings

from mudanza.loaded import Command, Loaded

# no test is about time: machines differ, and are busy
settings.register_profile("untimed", deadline=None)
settings.load_profile("untimed")

# flushing to a disk is what takes longest of many small commands, and no test is about that of this machine
_MEMORY = Path("/dev/shm")
if os.access(_MEMORY, os.W_OK) and shutil.disk_usage(_MEMORY).free > 4 << 30:
    os.environ.setdefault("PYTEST_DEBUG_TEMPROOT", str(_MEMORY))

# what is started in the background has Ctrl-C ignored, and would hand that on to what the tests start
if signal.getsignal(signal.SIGINT) == signal.SIG_IGN:
    signal.signal(signal.SIGINT, signal.default_int_handler)

Test = TypeVar("Test", bound=Callable[..., None])
Case = TypeVar("Case")
#: how many times as many stories `make soak` makes up
TIMES = int(os.environ.get("MUDANZA_STORIES", "1"))


def stories(count: int) -> Callable[[Test], Test]:
    """A property that takes long for each example: `count` of them here, ten times as many in `make soak`."""
    few = settings(
        max_examples=count * TIMES,
        deadline=None,
        phases=[Phase.explicit, Phase.reuse, Phase.generate],
        suppress_health_check=[HealthCheck.function_scoped_fixture],
    )
    return lambda test: pytest.mark.stories(few(test))


def some(cases: Iterable[Case], every: int) -> list[Any]:
    """Cases of one kind: one in so many (`every`) here, all in `make soak`."""
    values = [case if isinstance(case, tuple) else (case,) for case in cases]
    return [pytest.param(*one, marks=[pytest.mark.soak] if n % every else []) for n, one in enumerate(values)]


#: for tests that talk to servers, start an office suite, or kill what they started: they run one after the other
alone = pytest.mark.xdist_group("alone")

#: for tests that start an office suite
needs_office = pytest.mark.skipif(shutil.which("soffice") is None, reason="no office suite on this machine")


@cache
def _profile() -> tempfile.TemporaryDirectory[str]:
    return tempfile.TemporaryDirectory(prefix="mudanza-office-")


def office(to: str, folder: Path, *files: Path | str) -> None:
    """Save files by a spreadsheet program in another form (`xlsx`, or one with its filter and options), into a folder;
    one start for all of them.
    """
    profile = f"-env:UserInstallation=file://{_profile().name}"
    command = ["soffice", profile, "--headless", "--convert-to", to, "--outdir", str(folder), *map(str, files)]
    subprocess.run(command, check=True, capture_output=True, timeout=180)


CSVW = "http://www.w3.org/ns/csvw"


@dataclass
class Ended:
    """A finished command."""

    status: int
    out: str
    err: str

    @property
    def json(self) -> Any:
        return json.loads(self.out)


class Warm:
    """The program loaded once, for each process of the test run; with files that take what it prints."""

    def __init__(self, env: dict[str, str] | None = None) -> None:
        self.folder = tempfile.TemporaryDirectory()
        self.loaded = Loaded({**os.environ, **(env or {})})

    def run(self, arguments: list[str], cwd: Path, env: dict[str, str], given: str) -> Ended:
        out, err, into = (Path(self.folder.name) / name for name in ("out", "err", "given"))
        into.write_text(given, encoding="utf-8")
        status = self.loaded.run(Command(arguments, cwd, env, into, out, err, patience=120))
        return Ended(status, out.read_text("utf-8"), err.read_text("utf-8"))


@cache
def warm() -> Warm:
    return Warm()


def installed() -> str:
    """The installed program."""
    return str(Path(sys.executable).with_name("mudanza"))


def program(
    *arguments: str | Path,
    cwd: Path,
    env: dict[str, str] | None = None,
    status: int | None = None,
    fresh: bool = False,
    given: str = "",
) -> Ended:
    """Run the program: in a child forked from a warm parent or, if it is to be `fresh`, as it is installed. With `status`, it must end so; `given` is
    what it can read from standard input."""
    words = [str(argument) for argument in arguments]
    environment = {**os.environ, "NO_COLOR": "1", "COLUMNS": "100", **(env or {})}
    if fresh:
        command = [installed(), *words]
        ended = subprocess.run(
            command, cwd=cwd, input=given.encode(), capture_output=True, env=environment, timeout=600, check=False
        )
        result = Ended(ended.returncode, ended.stdout.decode(), ended.stderr.decode())
    else:
        result = warm().run(words, cwd, environment, given)
    assert "--debug" in words or "Traceback" not in result.err, result.err
    if status is not None:
        assert result.status == status, f"{words}\n{result.out}\n{result.err}"
    return result


def layout_json(columns: list[dict[str, Any]], **more: Any) -> str:
    schema = {"columns": columns, **{k: more.pop(k) for k in ("primaryKey", "foreignKeys") if k in more}}
    return json.dumps({"@context": CSVW, "tableSchema": schema, **more}, indent=1)


PEOPLE_COLUMNS = [
    {"name": "code", "titles": "Code", "required": True, "datatype": {"base": "string", "format": "P[0-9]{3}"}},
    {"name": "name", "titles": "Full name", "required": True, "datatype": {"base": "string", "maxLength": 12}},
    {"name": "born", "titles": "Born", "datatype": {"base": "date", "format": "dd/MM/yyyy"}},
    {
        "name": "paid",
        "titles": "Paid",
        "datatype": {"base": "decimal", "format": {"pattern": "0,00", "decimalChar": ","}},
    },
    {"name": "active", "titles": "Active", "datatype": {"base": "boolean", "format": "J|N"}},
    {"name": "kind", "titles": "Kind", "datatype": {"base": "string", "format": "cat|dog"}},
]
PEOPLE = layout_json(PEOPLE_COLUMNS, primaryKey="code", dialect={"delimiter": ";", "lineTerminators": ["\n"]})
PLAN = """layout = "layouts/people.json"
[[source]]
name = "a"
file = "incoming/a.csv"
[rows]
keep = '{State} != "x"'
[fields]
code = '{Id} -> mint people'
name = '{Name} -> squeeze'
born = '{Born} -> date "yyyy-MM-dd"'
paid = '{Paid} -> number'
active = '{Active} -> yesno'
kind = '{Kind} -> crosswalk kinds'
"""
ROWS = """Id,Name,Born,Paid,Active,Kind,State
1,Ana,1980-01-31,1234.5,y,D,
2,Rui  Sá,,,n,C,
3,Eva,1970-02-30,1,y,D,
4,Zé,,2,y,D,x
1,Ana,1980-01-31,1234.5,y,D,
5,"Iva
Reis",,0,,C,
6,Ivo,,5,y,Q,
"""


def make_move(folder: Path) -> Path:
    """A small move with one list, `people`: two rows held back, one skipped, one merged, three written."""
    for name, text in {
        "mudanza.toml": 'name = "Test"\n[keys.people]\npattern = "P{000}"\n',
        "layouts/people.json": PEOPLE,
        "plans/people.toml": PLAN,
        "crosswalks/kinds.csv": "from,to\nD,dog\nC,cat\n",
        "incoming/a.csv": ROWS,
    }.items():
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / name).write_text(text, encoding="utf-8", newline="")
    return folder


@pytest.fixture
def move(tmp_path: Path) -> Path:
    return make_move(tmp_path / "move")


def edit(path: Path, old: str, new: str) -> None:
    text = path.read_text("utf-8")
    assert old in text
    path.write_text(text.replace(old, new), encoding="utf-8")
