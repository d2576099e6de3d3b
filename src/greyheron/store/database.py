"""The SQLite file: how it is opened, and brought to the newest tables."""

import logging
import os
from importlib.resources import as_file, files
from pathlib import Path
from typing import Any

from alembic import command
from alembic.config import Config
from alembic.script import ScriptDirectory
from sqlalchemy import Connection, Engine, create_engine, event
from sqlalchemy.exc import DatabaseError

from greyheron.model.errors import GreyHeronError
from greyheron.store.opening import CannotOpen, reason, require_ours

_LOG = logging.getLogger(__name__)


def open_database(path: Path) -> Engine:
    """Open (or make) the database file at `path` and migrate it. Raises CannotOpen.

    Write-ahead log with full synchronisation: what was committed survives a crash at any moment.
    What it holds is for its owner only.
    """
    with as_file(files("greyheron.store").joinpath("migrations")) as folder:
        config = Config()
        config.set_main_option("script_location", str(folder))
        try:
            if not path.parent.exists():
                path.parent.mkdir(parents=True, mode=0o700, exist_ok=True)
            require_ours(path, ScriptDirectory.from_config(config))
            owner_only(path)
            file = OpenedFile(path)
            engine = create_engine(f"sqlite:///{path}", connect_args={"timeout": 10})
            event.listen(engine, "connect", _prepare)
            event.listen(engine, "begin", _begin)
            event.listen(engine, "begin", file.require)
            event.listen(engine, "commit", file.require)
            with engine.begin() as connection:
                config.attributes["connection"] = connection
                command.upgrade(config, "head")
        except OSError as error:
            raise CannotOpen(reason(path, error)) from None
        except DatabaseError as error:
            raise CannotOpen(reason(path, error.orig or error)) from None
    return engine


class DatabaseGone(GreyHeronError):
    """The file that was opened is no longer where it was: what is written would be nowhere."""


class OpenedFile:
    """Where a database was opened, and which file that was."""

    def __init__(self, path: Path) -> None:
        self._path, self._file = path, _identity(path)

    def require(self, _connection: Connection) -> None:
        """Raise DatabaseGone unless the same file is still there."""
        found = _identity(self._path)
        if found == self._file:
            return
        what = "is no longer there" if found is None else "was replaced by another file"
        raise DatabaseGone(
            f"The database {self._path} {what}: nothing was written. Put back what was there, or start the "
            "server again to go on with what is there now."
        )


def _identity(path: Path) -> tuple[int, int] | None:
    try:
        found = path.stat()
    except OSError:
        return None
    return found.st_dev, found.st_ino


def owner_only(path: Path) -> None:
    """Let nobody but its owner read the database at `path`; it is made if it is not there. Raises OSError."""
    if not path.exists():
        path.touch(mode=0o600)
    for suffix in ("", "-wal", "-shm"):
        file = path.with_name(path.name + suffix)
        if file.is_file() and file.stat().st_mode & 0o077 and file.stat().st_uid == os.geteuid():
            file.chmod(0o600)
            if not suffix:
                _LOG.warning("%s could be read by others: it is its owner's only now", path)


def _prepare(connection: Any, _record: Any) -> None:
    connection.isolation_level = None  # transactions are begun by _begin, not by the driver
    for pragma in ("journal_mode=WAL", "synchronous=FULL", "foreign_keys=ON"):
        connection.execute(f"PRAGMA {pragma}")


def reading(engine: Engine) -> Engine:
    """The same database for transactions that only read: they wait for no writer, and none for them."""
    return engine.execution_options(only_reads=True)


def _begin(connection: Connection) -> None:
    """A writer takes the lock first, so that what its transaction read is still so when it writes."""
    only_reads = connection.get_execution_options().get("only_reads", False)
    connection.exec_driver_sql("BEGIN" if only_reads else "BEGIN IMMEDIATE")
