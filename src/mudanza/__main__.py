"""The command `mudanza`, also as `python -m mudanza`."""

import gc
import os
import signal
import sys


def run() -> int:
    """Load the program and run one command; an interruption meanwhile ends it with a word, too."""

    def interrupted(*_: object) -> None:
        os.write(2, b"interrupted; nothing was changed.\n")
        os._exit(130)

    # what one command makes is hardly ever garbage in circles; to look for it took a draft a fourteenth of its time
    gc.set_threshold(50_000)
    before = signal.signal(signal.SIGINT, interrupted)
    from mudanza.cli.main import main

    signal.signal(signal.SIGINT, before)
    return main()


if __name__ == "__main__":
    sys.exit(run())
