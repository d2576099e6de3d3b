"""`grey-heron format` and `generate`: files in their one usual form, and large invented ones."""

from pathlib import Path
from typing import Annotated

import typer

from greyheron.cli.reading import UNEXPECTED, name_of, network_in, print_data, text_of, with_lists, write_file
from greyheron.demo.generator import Plan
from greyheron.demo.generator import generate as generated
from greyheron.formats.listing import is_listing, read_listing, write_listing
from greyheron.formats.workspace import write_workspace
from greyheron.model.document import AccessList
from greyheron.model.notation.line import NotationError
from greyheron.model.notation.lists import renumbered
from greyheron.model.problems import DocumentError, misread


def format_file(
    file: Annotated[Path, typer.Argument(help="A workspace file, or a file of lists in the notation.")],
    write: Annotated[
        bool, typer.Option("--write", help="Rewrite the file instead of printing the result.")
    ] = False,
    check_only: Annotated[bool, typer.Option("--check", help="Only report whether it is formatted.")] = False,
    renumber: Annotated[bool, typer.Option("--renumber", help="Renumber entries in steps of 10.")] = False,
) -> None:
    """Format a file. Exit status: 0 done, 1 not formatted (--check), 2 bad file.

    Keeps the comments at the head of a workspace file, and every remark and note in a list;
    drops other comments.
    """
    before = text_of(file)
    after = _formatted(file, before, renumber)
    if check_only and before != after:
        typer.echo(f"{file} is not formatted: `grey-heron format --write {file}` does it", err=True)
        raise typer.Exit(UNEXPECTED)
    if write and before != after:
        write_file(file, after)
    elif not (write or check_only):
        print_data(after)


def _formatted(file: Path, text: str, renumber: bool) -> str:
    """`text` as we would write it. Raises DocumentError."""

    def even(access_list: AccessList) -> AccessList:
        return (
            access_list.model_copy(update={"body": renumbered(access_list.body)}) if renumber else access_list
        )

    if is_listing(text):
        try:
            return write_listing(tuple(map(even, read_listing(text))))
        except NotationError as error:
            raise DocumentError(misread(error, name_of(file))) from None
    network = network_in(file, text)
    return with_lists(text, network, map(even, network.lists))


def generate(
    routers: Annotated[int, typer.Option(help="How many routers.")] = 50,
    lists: Annotated[int, typer.Option(help="How many lists.")] = 20,
    entries: Annotated[int, typer.Option(help="Entries in each list.")] = 200,
    seed: Annotated[int, typer.Option(help="The same seed gives the same network.")] = 0,
    meshed: Annotated[bool, typer.Option("--meshed", help="More links in the core.")] = False,
) -> None:
    """Generate a large invented network."""
    print_data(write_workspace(generated(Plan(routers, lists, entries, seed, meshed))))
