"""Entry: a command goes to the command line, anything else opens the window."""

from __future__ import annotations

import os
import sys


def main() -> int:
    """Start the program; return the exit code."""
    os.environ.setdefault(
        "OPENBLAS_NUM_THREADS", "1"
    )  # small matrices run slower with two busy threads
    argv = sys.argv[1:]
    from_command_line = bool(argv) and not (argv[0] == "--demo" or argv[0].endswith(".tally"))
    if from_command_line:
        from .cli.main import main as run

        return run(argv)
    from .ui.application import main as show

    return show(argv)


if __name__ == "__main__":
    raise SystemExit(main())
