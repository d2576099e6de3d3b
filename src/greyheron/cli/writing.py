"""Files that the command line writes: beside what was there, and put in its place when they are whole."""

import os
import stat
import tempfile
from pathlib import Path


def write_whole(file: Path, content: bytes, private: bool = False) -> None:
    """Write `file`; where that fails, what was there before is as it was. Raises OSError.

    A file that was there keeps its rights; what is no ordinary file (a pipe, a terminal) is written to.

    private:  whether a new file is its owner's only
    """
    target = Path(os.path.realpath(file))
    if target.exists() and not target.is_file():
        target.write_bytes(content)
        return
    descriptor, half = tempfile.mkstemp(prefix=f".{target.name[:200]}.", dir=target.parent)
    try:
        with os.fdopen(descriptor, "wb") as writing:
            writing.write(content)
            writing.flush()
            os.fsync(descriptor)
        if target.exists():
            os.chmod(half, stat.S_IMODE(target.stat().st_mode))
        elif not private:
            os.chmod(half, 0o666 & ~_umask())
        os.replace(half, target)
    except BaseException:
        Path(half).unlink(missing_ok=True)
        raise


def _umask() -> int:
    """The rights that new files do not get: it can only be read by setting it."""
    found = os.umask(0o077)
    os.umask(found)
    return found
