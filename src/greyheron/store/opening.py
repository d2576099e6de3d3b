"""What a database file is, before anything in it is changed; and why it cannot be opened, in a sentence."""

import errno
import sqlite3
from contextlib import closing
from pathlib import Path

from alembic.script import ScriptDirectory

from greyheron.model.errors import GreyHeronError

FOLDER = "Name another folder with --data, or move this one away."


class CannotOpen(GreyHeronError):
    """The database cannot be used; says what was found, that nothing was changed, and what to do."""


def require_ours(path: Path, scripts: ScriptDirectory) -> None:
    """Raise CannotOpen unless there is nothing at `path`, or a database of ours that this version knows.

    scripts:  the migrations that this version knows
    """
    if not path.exists() or path.stat().st_size == 0:
        return
    try:
        with closing(sqlite3.connect(f"{path.absolute().as_uri()}?mode=ro", uri=True, timeout=10)) as opened:
            tables = {
                name for (name,) in opened.execute("SELECT name FROM sqlite_master WHERE type = 'table'")
            }
            versions = (
                [version for (version,) in opened.execute("SELECT version_num FROM alembic_version")]
                if "alembic_version" in tables
                else []
            )
            broken = opened.execute("PRAGMA quick_check(1)").fetchone()[0]
    except sqlite3.Error as error:
        raise CannotOpen(reason(path, error)) from None
    if broken != "ok":
        raise CannotOpen(f"{path} is damaged ({broken}); nothing was changed. {_BACKUP}")
    if tables and not versions:
        some = ", ".join(sorted(tables)[:3])
        raise CannotOpen(
            f"{path} is the database of another program (with {some}); nothing was changed. {FOLDER}"
        )
    known = {script.revision for script in scripts.walk_revisions()}
    later = [version for version in versions if version not in known]
    if later:
        raise CannotOpen(
            f"{path} was written by a later Grey Heron (its tables are at {later[0]}, this one knows "
            f"{max(known)}); nothing was changed. Install that version, or restore an earlier backup."
        )


def primary_code(error: BaseException | None) -> int | None:
    """The primary result code of an error of SQLite; None for any other."""
    code: int | None = getattr(error, "sqlite_errorcode", None)
    return None if code is None else code & 0xFF


def reason(path: Path, error: Exception) -> str:
    """Why `path` cannot be opened, where the system or SQLite said `error`."""
    code = primary_code(error)
    said = None if code is None else _SQLITE.get(code)
    if said is not None:
        return f"{path} {said}"
    if isinstance(error, OSError) and error.errno in (errno.ENOSPC, errno.EDQUOT):
        return f"{path} {_SQLITE[sqlite3.SQLITE_FULL]}"
    if isinstance(error, FileExistsError | NotADirectoryError) or path.parent.is_file():
        return f"{path.parent} is a file, and a folder is needed; nothing was changed. {FOLDER}"
    if path.is_dir():
        return f"{path} is a folder, and a file is needed; nothing was changed. {FOLDER}"
    if isinstance(error, PermissionError) or code == sqlite3.SQLITE_CANTOPEN:
        return f"{path} may not be opened; nothing was changed. Look at its rights, or {_another()}"
    return f"{path} cannot be opened: {error}; nothing was changed. {FOLDER}"


def _another() -> str:
    return f"{FOLDER[0].lower()}{FOLDER[1:]}"


_BACKUP = "Restore a backup with `grey-heron restore`, or name another folder with --data."
_SQLITE = {
    sqlite3.SQLITE_NOTADB: f"is no database; nothing was changed. {FOLDER}",
    sqlite3.SQLITE_CORRUPT: f"is damaged; nothing was changed. {_BACKUP}",
    sqlite3.SQLITE_READONLY: "may only be read; nothing was changed. Give the right to write it, or "
    + _another(),
    sqlite3.SQLITE_FULL: f"is on a disk that is full; nothing was lost. Make room, or {_another()}",
    sqlite3.SQLITE_BUSY: "is held by another program; nothing was changed. End that, then try again.",
}
"""What is said of an error of SQLite, by its primary result code."""
