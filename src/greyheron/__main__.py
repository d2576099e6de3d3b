"""Where every command begins: `grey-heron`, and `python -m greyheron`."""

import os
import signal
import sys

STOPPED = 130


def main() -> int:
    """Run a command, and return its exit status."""
    open_standard_streams()
    signal.signal(signal.SIGINT, _stop)  # nothing is under way while our parts are fetched
    from greyheron.cli.main import main as run

    return run()


def open_standard_streams() -> None:
    """Let no file that is opened later take the place of a standard stream that is closed."""
    for descriptor, ways in ((0, os.O_RDONLY), (1, os.O_WRONLY), (2, os.O_WRONLY)):
        try:
            os.fstat(descriptor)
        except OSError:
            os.open(os.devnull, ways)  # the lowest free number, which is this one
    if sys.stdout is None:
        sys.stdout = open(1, "w", encoding="utf-8", closefd=False)  # noqa: SIM115 it lives as long as we do
    if sys.stderr is None:
        sys.stderr = open(2, "w", encoding="utf-8", closefd=False)  # noqa: SIM115


def _stop(_signal: int, _frame: object) -> None:
    os.write(2, b"Stopped.\n")
    os._exit(STOPPED)


if __name__ == "__main__":
    sys.exit(main())
