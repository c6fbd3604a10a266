"""What the command ``fairswap`` starts, and ``python -m fairswap``."""

from __future__ import annotations

import os
import signal


def run() -> None:
    """Run the command line and end the process with its status."""
    # While modules are still being loaded nothing has begun, and nothing can be caught: Ctrl-C ends it here.
    signal.signal(signal.SIGINT, _not_begun)
    # Threads of linear algebra cost a third of a command's processor time and save none of it; and sums come out the
    # same on any machine. NumPy reads this once, when it is loaded.
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
    from fairswap.cli.main import run as run_commands

    run_commands()


def _not_begun(number: int, frame: object) -> None:
    os.write(2, b"fairswap: stopped; nothing was begun.\n")
    os._exit(128 + number)


if __name__ == "__main__":
    run()
