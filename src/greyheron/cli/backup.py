"""`grey-heron backup` and `restore`: copies of the database, while a server runs or not."""

from pathlib import Path
from typing import Annotated

import typer

from greyheron.cli.reading import Force, out
from greyheron.store.backup import back_up
from greyheron.store.backup import restore as put_back

DATABASE = "networks.db"
Folder = Annotated[Path, typer.Option(help="The folder with the database.")]
DATA = Path("grey-heron-data")


def backup(
    file: Annotated[Path, typer.Argument(help="The copy to write.")],
    data: Folder = DATA,
    force: Force = False,
) -> None:
    """Copy the database to a file, even while the server runs."""
    back_up(data / DATABASE, file, force)
    out.print(f"{file} holds all networks, with their edits, revisions, counters and log.", markup=False)


def restore(
    file: Annotated[Path, typer.Argument(help="A copy that `backup` made.")], data: Folder = DATA
) -> None:
    """Restore a copy made by `backup`. The replaced database is kept beside it."""
    before = put_back(file, data / DATABASE)
    kept = f" What was there before is in {before}." if before else ""
    out.print(f"{data / DATABASE} is as {file} has it.{kept}", markup=False)
