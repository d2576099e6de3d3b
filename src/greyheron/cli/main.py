"""`grey-heron`: one place where every command begins, and where what goes wrong becomes a sentence."""

import codecs
import io
import os
import signal
import sys
from collections.abc import Sequence
from contextlib import suppress
from importlib import import_module
from typing import Any

import typer
from typer.core import TyperCommand, TyperGroup

from greyheron import __version__
from greyheron.formats.outgoing import for_terminal
from greyheron.memory import settle_memory

BAD = 2
STOPPED = 130
NOBODY_READS = 141

COMMANDS = {
    "serve": ("serve", "serve", "Serve the workbench."),
    "backup": ("backup", "backup", "Copy the database to a file, even while the server runs."),
    "restore": ("backup", "restore", "Restore a copy made by `backup`."),
    "trace": ("trace", "trace", "Trace one flow hop by hop, in both directions."),
    "check": ("check", "check", "Run every test flow and prove every requirement."),
    "prove": ("check", "prove", "Prove requirements."),
    "advise": ("advise", "advise", "Show where a list would make a requirement or test flow hold."),
    "rehearse": ("rehearse", "rehearse", "Build the network in the kernel and send its test flows."),
    "traffic": ("traffic", "traffic", "Replay recorded traffic against a network."),
    "collect": ("convert", "collect", "Print the script that collects a machine's configuration."),
    "convert": ("convert", "convert", "Convert a network between formats."),
    "findings": ("advise", "findings", "List likely mistakes, with repairs."),
    "reach": ("reach", "reach", "Show who can talk to whom, as a table."),
    "format": ("format", "format_file", "Format a workspace file or lists."),
    "tidy": ("tidy", "tidy", "Make lists shorter without changing what they decide."),
    "compare": ("compare", "compare", "Compare two versions of a network."),
    "generate": ("format", "generate", "Generate a large invented network."),
}
"""Every command: its module and function, and what it does. The module is imported when it is run."""

PLAIN = {
    "●": "+", "▌": "X", "○": "o", "□": "=", "◐": "%", "✓": "+", "✗": "X", "·": "-", "→": "->",
    "“": '"', "”": '"', "’": "'", "…": "...", "–": "-", "−": "-",
}  # fmt: skip
"""What stands for a mark where the output cannot have it."""


class _Commands(TyperGroup):
    """The commands by their names, each made of its module when it is run."""

    def list_commands(self, ctx: typer.Context) -> list[str]:  # type: ignore[override]
        del ctx
        return list(COMMANDS)

    def get_command(self, ctx: typer.Context, cmd_name: str) -> Any:  # type: ignore[override]
        del ctx
        known = COMMANDS.get(cmd_name)
        return None if known is None else TyperCommand(cmd_name, help=known[2])

    def resolve_command(self, ctx: typer.Context, args: list[str]) -> Any:  # type: ignore[override]
        name, command, rest = super().resolve_command(ctx, args)
        if name is None or command is None:
            return name, command, rest
        module, function, _ = COMMANDS[name]
        made = typer.Typer(add_completion=False)
        made.command(name)(getattr(import_module(f"greyheron.cli.{module}"), function))
        return name, typer.main.get_command(made), rest


app = typer.Typer(
    cls=_Commands,
    no_args_is_help=True,
    add_completion=False,
    help="Access lists in the right place, proved.",
)


def _print_version(wanted: bool) -> None:
    if wanted:
        print(f"grey-heron {__version__}")
        raise typer.Exit


@app.callback()
def _every(
    version: bool = typer.Option(
        False, "--version", callback=_print_version, is_eager=True, help="Print the version."
    ),
) -> None:
    del version
    signal.signal(signal.SIGINT, signal.default_int_handler)  # from here on something may be under way


def main(arguments: Sequence[str] | None = None) -> int:
    """Run a command. Returns its exit status: 2 for what could not be read, written or understood."""
    _write_plainly()
    settle_memory()
    try:
        status = app(
            list(sys.argv[1:] if arguments is None else arguments), "grey-heron", standalone_mode=False
        )
        sys.stdout.flush()
    except BrokenPipeError:
        return _nobody_reads()
    except SystemExit as ended:  # what the framework makes of a pipe that closed
        if isinstance(ended.__context__, BrokenPipeError):
            return _nobody_reads()
        raise
    except (KeyboardInterrupt, typer.Abort):
        return _said("Stopped.", STOPPED)
    except typer.TyperException as error:
        return _said(f"{error} (see `grey-heron --help`)", BAD)
    except Exception as error:
        if "GREY_HERON_TRACEBACK" in os.environ:
            raise
        if isinstance(error, OSError) and error.filename is None:
            _let_go_of_output()
        return _said(sentence(error), BAD)
    if status == STOPPED:
        _said("Stopped.", STOPPED)
    return status if isinstance(status, int) else 0


def sentence(error: Exception) -> str:
    """What went wrong, where, and what to do: a line for each thing."""
    if isinstance(error, ImportError):
        return f"A part of Grey Heron is missing ({error}): install it again."
    if isinstance(error, OSError):
        return _of_system(error)
    from greyheron.core.walk.addressing import FlowError
    from greyheron.model.errors import GreyHeronError
    from greyheron.model.notation.line import NotationError
    from greyheron.model.problems import DocumentError

    if isinstance(error, DocumentError):
        return "\n".join(map(str, error.problems))
    if isinstance(error, FlowError | NotationError):
        return f"The flow cannot be traced: {error}"
    if isinstance(error, GreyHeronError):
        return error.advice
    if isinstance(error, RuntimeError) and "new thread" in str(error):
        return "This system cannot begin another thread: end some processes, or allow more."
    if isinstance(error, MemoryError):
        return "There is not enough memory for this: ask about less, or on a larger machine."
    return (
        f"Something went wrong that should not: {type(error).__name__}: {error}. "
        "With GREY_HERON_TRACEBACK=1 it says where."
    )


def _of_system(error: OSError) -> str:
    what = error.strerror or str(error)
    if error.filename is None:
        return f"What is printed cannot be written: {what}."
    name = os.fsdecode(error.filename) if isinstance(error.filename, str | bytes) else str(error.filename)
    return f"{name} cannot be read: {what}"


def _said(text: str, status: int) -> int:
    with suppress(OSError):
        print(for_terminal(text), file=sys.stderr, flush=True)
    return status


def _write_plainly() -> None:
    """Let any output take what we print: what its encoding has not is written in plain letters."""
    codecs.register_error("plainly", _plainly)
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="plainly")


def _plainly(error: UnicodeError) -> tuple[str, int]:
    assert isinstance(error, UnicodeEncodeError)
    found = error.object[error.start : error.end]
    plain = "".join(
        PLAIN.get(each, each.encode("ascii", "backslashreplace").decode("ascii")) for each in found
    )
    return plain, error.end


def _nobody_reads() -> int:
    """Whoever read what we print has left: there is nothing to say, and nobody to say it to."""
    _let_go_of_output()
    return NOBODY_READS


def _let_go_of_output() -> None:
    """What was not written cannot be: nothing tries again when the program ends."""
    nowhere: Any = open(os.devnull, "w", encoding="utf-8")  # noqa: SIM115 it lives as long as we do
    sys.stdout = nowhere
