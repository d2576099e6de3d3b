"""Copies of the database, made and put back while a server may be using it (SQLite's online backup)."""

import sqlite3
from contextlib import closing
from datetime import datetime
from pathlib import Path

from greyheron.store.database import open_database
from greyheron.store.opening import CannotOpen, reason


def back_up(database: Path, copy: Path) -> None:
    """Copy `database` to the file `copy`, which appears when it is whole. Raises CannotOpen."""
    if not database.is_file():
        raise CannotOpen(f"There is no database at {database}: say where it is with --data.")
    half = copy.with_name(f"{copy.name}.part")
    try:
        _copied(database, half)
        half.replace(copy)
    except (sqlite3.Error, OSError) as error:
        half.unlink(missing_ok=True)
        raise CannotOpen(reason(copy, error)) from None


def restore(copy: Path, database: Path) -> Path | None:
    """Put what `copy` holds in the place of `database`; a copy of that is kept. Raises CannotOpen.

    Returns where what was there before is kept.
    """
    if not copy.is_file():
        raise CannotOpen(f"There is no backup at {copy}.")
    work = database.with_name(f"{database.name}.restoring")
    try:
        database.parent.mkdir(parents=True, exist_ok=True)
        _copied(copy, work)
        open_database(work).dispose()  # it is one of ours, whole, and brought up to date
        before = None
        if database.is_file():
            before = database.with_name(f"{database.stem}-before-{datetime.now():%Y%m%d-%H%M%S}.db")
            back_up(database, before)
        _copied(work, database)
    except (sqlite3.Error, OSError) as error:
        raise CannotOpen(reason(database, error)) from None
    finally:
        for suffix in ("", "-wal", "-shm"):
            work.with_name(work.name + suffix).unlink(missing_ok=True)
    return before


def _copied(source: Path, target: Path) -> None:
    reading = f"{source.absolute().as_uri()}?mode=ro"
    with closing(sqlite3.connect(reading, uri=True)) as one, closing(sqlite3.connect(target)) as other:
        one.backup(other)
