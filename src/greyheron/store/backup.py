"""Copies of the database, made and put back while a server may be using it (SQLite's online backup)."""

import sqlite3
import time
from contextlib import closing
from datetime import datetime
from pathlib import Path

from greyheron.store.database import open_database, owner_only
from greyheron.store.opening import CannotOpen, reason

_OWN_FILES = ("", "-wal", "-shm")
"""The endings of the files of a database."""


def back_up(database: Path, copy: Path, over: bool = False) -> None:
    """Copy `database` to the file `copy`, which appears when it is whole, and is its owner's only.

    over:  whether a file that is there may be replaced; the database itself and what belongs to it never is
    Raises CannotOpen.
    """
    if not database.is_file():
        raise CannotOpen(f"There is no database at {database}: say where it is with --data.")
    if any(_same(copy, database.with_name(database.name + suffix)) for suffix in _OWN_FILES):
        raise CannotOpen(
            f"{copy} is the database that is to be copied; nothing was changed. Name another file."
        )
    if copy.exists() and not over:
        raise CannotOpen(f"{copy} is there already; nothing was changed. Name another file, or say --force.")
    half = copy.with_name(f"{copy.name}.part")
    try:
        half.unlink(missing_ok=True)
        half.touch(mode=0o600)
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
        _as_later_versions(work, database)
        before = None
        if database.is_file():
            before = database.with_name(f"{database.stem}-before-{datetime.now():%Y%m%d-%H%M%S}.db")
            back_up(database, before)
        owner_only(database)
        _copied(work, database)
    except (sqlite3.Error, OSError) as error:
        raise CannotOpen(reason(database, error)) from None
    finally:
        for suffix in _OWN_FILES:
            work.with_name(work.name + suffix).unlink(missing_ok=True)
    return before


def _as_later_versions(restored: Path, database: Path) -> None:
    """Give every network a version that it never had: who knows it by an earlier one, knows another state.

    So a server that runs, and its workers, mistake nothing that they know for what was put back.
    """
    known = _versions(database)
    with closing(sqlite3.connect(restored)) as opened, opened:
        for network, version in _versions(restored).items():
            later = max(version, known.get(network, 0), int(time.time())) + 1
            opened.execute(
                "UPDATE network SET version = ?, "
                "tried_version = iif(tried_version = version, ?, tried_version) WHERE id = ?",
                (later, later, network),
            )


def _versions(database: Path) -> dict[str, int]:
    """The version of each network; none where there is no such database."""
    if not database.is_file():
        return {}
    try:
        with closing(sqlite3.connect(f"{database.absolute().as_uri()}?mode=ro", uri=True)) as opened:
            return dict(opened.execute("SELECT id, version FROM network"))
    except sqlite3.Error:  # another program's, or none: what is kept of it is a copy
        return {}


def _same(one: Path, other: Path) -> bool:
    """Whether two paths lead to one file, or would."""
    if one.exists() and other.exists():
        return one.samefile(other)
    return one.resolve() == other.resolve()


def _copied(source: Path, target: Path) -> None:
    reading = f"{source.absolute().as_uri()}?mode=ro"
    with closing(sqlite3.connect(reading, uri=True)) as one, closing(sqlite3.connect(target)) as other:
        one.backup(other)
