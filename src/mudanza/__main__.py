"""The command `mudanza`, also as `python -m mudanza`."""

import atexit
import gc
import os
import signal
import sys
from pathlib import Path


def run() -> int:
    """Load the program and run one command; an interruption meanwhile ends it with a word, too."""

    def interrupted(*_: object) -> None:
        os.write(2, b"interrupted; nothing was changed.\n")
        os._exit(130)

    # whoever started us may have closed what we print to
    sys.stdout = sys.stdout or Path(os.devnull).open("w")  # noqa: SIM115  it goes with the process
    sys.stderr = sys.stderr or Path(os.devnull).open("w")  # noqa: SIM115  it goes with the process
    # what one command makes is hardly ever garbage in circles; to look for it took a draft a fourteenth of its time
    gc.set_threshold(50_000)
    before = signal.signal(signal.SIGINT, interrupted)
    from mudanza.cli.main import main

    signal.signal(signal.SIGINT, before)
    return main()


def script() -> None:
    """Run one command and end the process with its status.

    What it held in memory goes back to the system at once; to free it piece by piece takes up to a third of a second.
    """
    status = run()
    for name in ("SIGINT", "SIGTERM", "SIGHUP"):
        if hasattr(signal, name):
            # the command is over
            signal.signal(getattr(signal, name), signal.SIG_IGN)
    sys.stdout.flush()
    sys.stderr.flush()
    # temporary folders go
    atexit._run_exitfuncs()
    os._exit(status)


if __name__ == "__main__":
    script()
