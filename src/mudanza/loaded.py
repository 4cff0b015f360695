"""The program loaded once for many commands: each is a process of its own, forked of a parent that has imported
everything and run nothing.
"""

from __future__ import annotations

import atexit
import gc
import importlib
import json
import os
import pkgutil
import signal
import subprocess
import sys
import threading
import traceback
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass
from pathlib import Path
from types import TracebackType

#: what the program imports only where it needs it
_LAZY = (
    "encodings.cp437",
    "encodings.utf_8_sig",
    "fastexcel",
    "filelock",
    "lark",
    "matplotlib.figure",
    "psutil",
    "rapidfuzz.fuzz",
    "rapidfuzz.process",
    "rich._emoji_codes",
    "rich.console",
    "rich.progress",
    "scipy.optimize",
    "sqlalchemy",
    "tomlkit",
    "xlrd",
    "xlsxwriter",
)


@dataclass(frozen=True)
class Command:
    """A command to run: its words, where, with what environment; the file that it can read from (nothing if None), and
    those that take its output (that of the parent if None).
    """

    arguments: Sequence[str]
    cwd: Path
    env: Mapping[str, str]
    given: Path | None = None
    out: Path | None = None
    err: Path | None = None
    #: seconds after which it is ended (never if 0)
    patience: int = 0


class Loaded:
    """A parent of commands. Where processes cannot be forked, each command is started anew."""

    def __init__(self, env: Mapping[str, str] | None = None) -> None:
        """`env` is the environment of the parent (that of this process if None)."""
        self._forks = hasattr(os, "fork")
        if not self._forks:
            return
        answers, into = os.pipe()
        self._parent = subprocess.Popen(
            [sys.executable, "-m", "mudanza.loaded", str(into)],
            stdin=subprocess.PIPE,
            text=True,
            pass_fds=[into],
            env=env,
        )
        os.close(into)
        self._answers = os.fdopen(answers, encoding="utf-8")

    def __enter__(self) -> Loaded:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def close(self) -> None:
        """Let the parent go."""
        if self._forks:
            self._parent.communicate()
            self._answers.close()

    def run(self, command: Command) -> int:
        """Run a command to its end. Gives its exit status; that of the parent, if something ended it, and the commands
        after it are started anew.
        """
        if not self._forks:
            return _anew(command)
        assert self._parent.stdin is not None
        self._parent.stdin.write(json.dumps(asdict(command), default=str) + "\n")
        self._parent.stdin.flush()
        answer = self._answers.readline()
        if not answer:
            self._forks = False
            return self._parent.wait()
        return int(answer)


def _anew(command: Command) -> int:
    files = [
        None if path is None else path.open("rb" if path is command.given else "wb")
        for path in (command.given, command.out, command.err)
    ]
    try:
        words = [sys.executable, "-m", "mudanza", *command.arguments]
        given, out, err = files
        return subprocess.run(
            words,
            cwd=command.cwd,
            env=command.env,
            stdin=given,
            stdout=out,
            stderr=err,
            timeout=command.patience or None,
            check=False,
        ).returncode
    finally:
        for file in files:
            if file is not None:
                file.close()


def _load() -> None:
    """Import all of the program, and what it imports only where it needs it."""
    import mudanza
    from mudanza.core.language.parsing import parse_flow

    for module in pkgutil.walk_packages(mudanza.__path__, "mudanza."):
        if not module.name.endswith(("__main__", ".loaded")):
            importlib.import_module(module.name)
    for name in _LAZY:
        importlib.import_module(name)
    parse_flow("blank")


def _become(command: Command) -> int:
    """Run a command in this process. Gives its exit status."""
    from mudanza.cli.main import main

    signal.signal(signal.SIGINT, signal.default_int_handler)
    files = ((0, command.given or os.devnull), (1, command.out), (2, command.err))
    for number, path in files:
        if path is not None:
            handle = os.open(path, os.O_RDONLY if number == 0 else os.O_WRONLY | os.O_CREAT | os.O_TRUNC)
            os.dup2(handle, number)
            os.close(handle)
    sys.stdin = open(0, encoding="utf-8", closefd=False)  # noqa: SIM115  it goes with the process
    os.environ.clear()
    os.environ.update(command.env)
    os.chdir(command.cwd)
    sys.argv = ["mudanza", *command.arguments]
    signal.alarm(command.patience)
    try:
        return main()
    except SystemExit as end:
        return end.code if isinstance(end.code, int) else 1
    except BaseException:
        traceback.print_exc()
        return 70


def _serve(answers: int) -> None:
    """Run the commands that come in as lines of JSON, and answer each with its status."""
    _load()
    # what is loaded is shared with all children, and none looks through it for garbage
    gc.collect()
    gc.freeze()
    gc.set_threshold(50_000)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    for line in sys.stdin:
        process = os.fork()
        if process == 0:
            status = _become(Command(**json.loads(line)))
            for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
                # the command is over
                signal.signal(number, signal.SIG_IGN)
            # as an interpreter ends, but for taking everything down
            threading._shutdown()  # type: ignore[attr-defined]
            atexit._run_exitfuncs()
            sys.stdout.flush()
            sys.stderr.flush()
            os._exit(status)
        _, ended = os.waitpid(process, 0)
        os.write(answers, f"{os.waitstatus_to_exitcode(ended)}\n".encode())


if __name__ == "__main__":
    _serve(int(sys.argv[1]))
