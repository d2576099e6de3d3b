"""What commands share: the files they read, where they print, and how they end."""

import json
import sys
from collections.abc import Iterable
from itertools import takewhile
from pathlib import Path
from typing import Annotated, Any

import typer
from rich.console import Console

from greyheron.cli.writing import write_whole
from greyheron.formats.outgoing import for_terminal
from greyheron.formats.workspace import read_workspace, write_workspace
from greyheron.model.document import AccessList, Network
from greyheron.model.errors import GreyHeronError
from greyheron.model.problems import DocumentError, Problem

UNEXPECTED = 1
STANDARD_INPUT = "-"


class CannotGoOn(GreyHeronError):
    """What a command was asked cannot be done; says why, and what to do."""


class Output(Console):
    """Where commands print for people: names and notes in it do nothing to the terminal."""

    def print(self, *objects: Any, **how: Any) -> None:
        super().print(*(for_terminal(each) if isinstance(each, str) else each for each in objects), **how)


def print_data(text: str) -> None:
    """Print what a program may read; as it is, but for people only what a terminal can show."""
    sys.stdout.write(for_terminal(text) if sys.stdout.isatty() else text)


def print_json(data: Any) -> None:
    print_data(f"{json.dumps(data, ensure_ascii=False, indent=2)}\n")


out = Output(highlight=False, soft_wrap=True)
File = Annotated[Path, typer.Argument(help="A workspace file, or - for standard input.", allow_dash=True)]
Force = Annotated[bool, typer.Option("--force", help="Overwrite existing files.")]
AsJson = Annotated[bool, typer.Option("--json", help="Print JSON, as described in docs/api.md.")]


def read_file(file: Path) -> Network:
    """The network in a workspace file. Raises OSError, and DocumentError whose places begin with the file."""
    return network_in(file, content_of(file))


def content_of(file: Path) -> bytes:
    """What a file holds, or standard input. Raises OSError, which names the file, and CannotGoOn."""
    if str(file) == STANDARD_INPUT and sys.stdin is None:
        raise CannotGoOn("There is no standard input to read: name a file.")
    try:
        return sys.stdin.buffer.read() if str(file) == STANDARD_INPUT else file.read_bytes()
    except OSError as error:
        error.filename = error.filename or name_of(file)
        raise


def name_of(file: Path) -> str:
    return "standard input" if str(file) == STANDARD_INPUT else str(file)


def require_free(file: Path | None, force: bool) -> None:
    """Raise CannotGoOn where a file that is to be written is there already, and may not be replaced."""
    if file is not None and file.is_file() and not force:
        raise CannotGoOn(f"{file} is there already; nothing was changed. Name another file, or say --force.")


def write_file(file: Path, text: str | bytes, private: bool = False) -> None:
    """Write a file, whole or not at all. `private`: a new one is its owner's only. Raises CannotGoOn."""
    try:
        write_whole(file, text.encode() if isinstance(text, str) else text, private)
    except OSError as error:
        raise CannotGoOn(f"{file} cannot be written: {error.strerror}") from None


def text_of(file: Path) -> str:
    """What a file says. Raises DocumentError where it is no text."""
    try:
        return content_of(file).decode("utf-8-sig")
    except UnicodeDecodeError as error:
        message = f"it is no UTF-8 text: byte {error.start + 1}"
        raise DocumentError([Problem(name_of(file), message)]) from None


def with_lists(text: str, network: Network, lists: Iterable[AccessList]) -> str:
    """The workspace file that `text` is, with other lists; the comments at its head stay."""
    head = takewhile(lambda line: line.startswith("#"), text.splitlines(keepends=True))
    return "".join(head) + write_workspace(network.model_copy(update={"lists": tuple(lists)}))


def network_in(file: Path, content: str | bytes) -> Network:
    """The network in what `file` holds. Raises DocumentError whose places begin with the file."""
    try:
        return read_workspace(content)
    except DocumentError as error:
        raise DocumentError(
            [
                Problem(f"{name_of(file)}: {each.where}", each.message, each.line, each.column, each.end)
                for each in error.problems
            ]
        ) from None
