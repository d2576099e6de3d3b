"""The command line, run in this process as `grey-heron` runs it."""

import io
from collections.abc import Sequence
from contextlib import redirect_stderr, redirect_stdout
from dataclasses import dataclass
from unittest.mock import patch

from greyheron.cli.main import main


@dataclass(frozen=True, slots=True)
class Ended:
    """How a command ended. `output` is all that it printed, what went wrong last."""

    exit_code: int
    output: str


def run(arguments: Sequence[str], given: bytes = b"", encoding: str = "utf-8") -> Ended:
    """Run a command with `given` as its standard input, on a terminal of some encoding."""
    out, errors = (io.TextIOWrapper(io.BytesIO(), encoding) for _ in range(2))
    with (
        redirect_stdout(out),
        redirect_stderr(errors),
        patch("sys.stdin", io.TextIOWrapper(io.BytesIO(given))),
    ):
        status = main(arguments)
    printed = []
    for stream in (out, errors):
        stream.flush()
        printed.append(stream.buffer.getvalue().decode(encoding))
    return Ended(status, "".join(printed))
