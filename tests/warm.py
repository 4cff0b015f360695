"""A parent that has imported all of the program and run nothing; each command runs in a child forked from it.

Started by `conftest`: a line of JSON comes in for each command, one with its status goes out when it has ended. The child is a process of its
own, with its folder, environment, standard streams and exit status, as if it were freshly started; only the imports are there already.
"""

from __future__ import annotations

import atexit
import gc
import importlib
import json
import os
import pkgutil
import signal
import sys
import threading
import traceback

import mudanza

_PATIENCE = 120
#: what the program imports only where it needs it
_LAZY = (
    "fastexcel",
    "lark",
    "matplotlib.figure",
    "rapidfuzz.fuzz",
    "rapidfuzz.process",
    "rich.console",
    "rich.progress",
    "scipy.optimize",
    "sqlalchemy",
    "tomlkit",
    "xlrd",
    "xlsxwriter",
)


def import_all() -> None:
    for module in pkgutil.walk_packages(mudanza.__path__, "mudanza."):
        if not module.name.endswith("__main__"):
            importlib.import_module(module.name)
    for name in _LAZY:
        importlib.import_module(name)


def child(asked: dict[str, object]) -> int:
    """Become the command. Gives its exit status."""
    from mudanza.cli.main import main

    for number, name in ((0, asked["given"]), (1, asked["out"]), (2, asked["err"])):
        handle = os.open(str(name), os.O_RDONLY if number == 0 else os.O_WRONLY)
        os.dup2(handle, number)
        os.close(handle)
    sys.stdin = open(0, encoding="utf-8", closefd=False)  # noqa: SIM115
    os.environ.clear()
    os.environ.update(asked["env"])  # type: ignore[call-overload]
    os.chdir(str(asked["cwd"]))
    sys.argv = ["mudanza", *asked["arguments"]]  # type: ignore[misc]
    signal.alarm(_PATIENCE)
    try:
        return main()
    except SystemExit as end:
        return end.code if isinstance(end.code, int) else 1
    except BaseException:
        traceback.print_exc()
        return 70


def serve() -> None:
    import_all()
    gc.freeze()
    print("ready", flush=True)
    for line in sys.stdin:
        process = os.fork()
        if process == 0:
            status = child(json.loads(line))
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
        print(json.dumps(os.waitstatus_to_exitcode(ended)), flush=True)


if __name__ == "__main__":
    serve()
