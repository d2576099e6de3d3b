"""`grey-heron collect` and `convert`: what exists, brought in; a network, taken out."""

from collections.abc import Mapping
from pathlib import Path
from typing import Annotated

import typer
from msgspec.structs import replace

from greyheron.cli.reading import (
    STANDARD_INPUT,
    UNEXPECTED,
    CannotGoOn,
    Force,
    content_of,
    name_of,
    print_data,
    require_free,
    write_file,
)
from greyheron.formats.bundle import Bundle, bundle_in, bundle_of
from greyheron.formats.format import Brought, Notice
from greyheron.formats.known import WRITTEN, bring
from greyheron.formats.machines import collecting_script
from greyheron.model.problems import DocumentError


def collect() -> None:
    """Print the collection script. On each machine, as root: `sh collect.sh > NAME.json`."""
    print_data(collecting_script())


def convert(
    source: Annotated[Path, typer.Argument(help="A file, a folder or an archive, or - for standard input.")],
    to: Annotated[str, typer.Option("--to", help="The format to write.")] = "workspace",
    output: Annotated[
        Path | None, typer.Option("--output", help="Write to this file or folder instead of printing.")
    ] = None,
    force: Force = False,
) -> None:
    """Convert a network between formats.

    Reports what was left out or guessed on standard error. Exit status: 0 everything converted, 1
    something left out, 2 bad file.
    """
    writing = next((each for each in WRITTEN if each.name == to), None)
    if writing is None:
        known = ", ".join(each.name for each in WRITTEN)
        raise CannotGoOn(f"There is no format “{to}” to write: {known}.")
    require_free(output, force)
    brought = _brought(source)
    taken = writing.write(brought.network)
    for notice in brought.guessed:
        _say("guessed", notice)
    left_out = (*brought.left_out, *taken.left_out)
    for notice in left_out:
        _say("left out", notice)
    _write(taken.files, output, force)
    if left_out:
        raise typer.Exit(UNEXPECTED)


def _brought(source: Path) -> Brought:
    """What is in a source. Raises DocumentError whose places begin with it, or with a file in it."""
    bundle = _bundle(source)
    try:
        return bring(bundle)[1]
    except DocumentError as error:
        alone = bundle.only is not None and not source.is_dir()
        if not alone or error.problems[0].where.startswith(bundle.name):
            raise
        raise DocumentError(
            [replace(each, where=f"{name_of(source)}: {each.where}") for each in error.problems]
        ) from None


def _bundle(source: Path) -> Bundle:
    return bundle_of("input.yaml", content_of(source)) if str(source) == STANDARD_INPUT else bundle_in(source)


def _say(what: str, notice: Notice) -> None:
    typer.echo(f"{what}: {notice}", err=True)


def _write(files: Mapping[str, bytes], output: Path | None, force: bool) -> None:
    """One file is printed or written, several go into a folder. Raises CannotGoOn."""
    if len(files) == 1:
        (content,) = files.values()
        if output is None:
            print_data(content.decode())
        else:
            write_file(output, content, private=True)
        return
    if output is None:
        raise CannotGoOn("This format takes several files: say with --output into which folder.")
    for path in files:
        require_free(output / path, force)
    for path, content in files.items():
        (output / path).parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        write_file(output / path, content, private=True)
