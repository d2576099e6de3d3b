"""What is brought in: one file or many, from a folder or an archive, all of it hostile until it was read.

Archives and compressed files are opened in memory, in bounds: what they say of sizes is not believed, and
nothing is written.
"""

import io
import tarfile
import zipfile
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path, PurePosixPath
from typing import IO

from msgspec import Struct

from greyheron.formats.compressed import Opened, opened
from greyheron.model.problems import DocumentError, Problem

MOST_FILES = 10_000
LARGEST = 512 * 1024 * 1024
"""Bytes of all files together, when they are unpacked."""
_PIECE = 1 << 20
_TAR_BLOCK, _TAR_END = 512, 10_240


class Bundle(Struct, frozen=True):
    """Files by their path within the bundle, with forward slashes. `name` is what it was called.

    cut:  those that were compressed, and break off: what came before is there
    """

    name: str
    files: Mapping[str, bytes]
    cut: frozenset[str] = frozenset()

    @property
    def only(self) -> tuple[str, bytes] | None:
        """The file and its path, where there is just one."""
        return next(iter(self.files.items())) if len(self.files) == 1 else None


class _Gathering:
    """Files taken together, in bounds; see `Bundle`."""

    def __init__(self, name: str) -> None:
        self.name = name
        self._files: dict[str, bytes] = {}
        self._cut: set[str] = set()
        self.left = LARGEST

    def add(self, path: str, content: bytes) -> None:
        """Takes a file, opened if it was compressed. Raises DocumentError."""
        parts = PurePosixPath(path.replace("\\", "/"))
        if parts.is_absolute() or ".." in parts.parts or "\0" in path:
            raise _refused(
                self.name, f"“{path}” leads out of the bundle: no path may begin at the root or go up"
            )
        if len(self._files) >= MOST_FILES:
            raise _refused(self.name, f"it holds more than {MOST_FILES} files")
        inside = _opened(self.name, str(parts), content, self.left)
        if inside is not None:
            parts, content = PurePosixPath(inside.name), inside.content
        if str(parts) in self._files:
            raise _refused(self.name, f"“{parts}” is in it twice")
        self._files[str(parts)] = content
        self._cut |= {str(parts)} if inside is not None and not inside.whole else set()
        self.left -= len(content)

    def bundle(self) -> Bundle:
        return Bundle(self.name, self._files, frozenset(self._cut))


def bundle_in(path: Path) -> Bundle:
    """What a file, an archive or a folder holds. Raises OSError, DocumentError."""
    if not path.is_dir():
        with _named(path):
            content = path.read_bytes()
        return bundle_of(path.name, content)
    gathered = _Gathering(path.name)
    for found in sorted(each for each in path.rglob("*") if each.is_file() and not each.is_symlink()):
        with _named(found), found.open("rb") as file:
            content = _bounded(file, gathered.left, path.name)
        gathered.add(found.relative_to(path).as_posix(), content)
    return gathered.bundle()


@contextmanager
def _named(path: Path) -> Iterator[None]:
    """Where it cannot be read, the error says which file that is."""
    try:
        yield
    except OSError as error:
        error.filename = error.filename or str(path)
        raise


def bundle_of(name: str, content: bytes) -> Bundle:
    """What a file holds; an archive is opened. Raises DocumentError."""
    if len(content) > LARGEST:
        raise _refused(name, f"it is larger than {LARGEST >> 20} MiB")
    try:
        if zipfile.is_zipfile(io.BytesIO(content)):
            return _unpacked(name, _zipped(name, content))
        inside = _opened(name, name, content, LARGEST + MOST_FILES * 2 * _TAR_BLOCK + _TAR_END)
        if inside is not None and _is_tar(inside.content):
            return _unpacked(name, _tarred(name, inside.content))
        if _is_tar(content):
            return _unpacked(name, _tarred(name, content))
    except DocumentError:
        raise
    except (
        zipfile.BadZipFile,
        tarfile.TarError,
        EOFError,
        OSError,
        NotImplementedError,
        ValueError,
    ) as error:
        raise _refused(name, f"this archive cannot be opened: {error}") from None
    except RuntimeError as error:  # it is encrypted
        raise _refused(name, f"this archive cannot be opened: {error}") from None
    if inside is None:
        return Bundle(name, {name: content})
    if len(inside.content) > LARGEST:
        raise _refused(name, f"it holds more than {LARGEST >> 20} MiB when it is unpacked")
    return Bundle(name, {inside.name: inside.content}, frozenset(() if inside.whole else (inside.name,)))


def bundle_among(contents: Mapping[str, bytes]) -> Bundle:
    """Files that came together; one alone may be an archive. Raises DocumentError."""
    if len(contents) == 1:
        ((name, content),) = contents.items()
        return bundle_of(name, content)
    return _unpacked("Brought in", iter(contents.items()))


def _unpacked(name: str, entries: Iterator[tuple[str, bytes]]) -> Bundle:
    gathered = _Gathering(name)
    for path, content in entries:
        gathered.add(path, content)
    return gathered.bundle()


def _opened(name: str, path: str, content: bytes, most: int) -> Opened | None:
    try:
        return opened(path, content, most)
    except ValueError as error:
        raise _refused(name, str(error)) from None


def _is_tar(content: bytes) -> bool:
    return content[257:262] == b"ustar"


def _zipped(name: str, content: bytes) -> Iterator[tuple[str, bytes]]:
    left = LARGEST
    with zipfile.ZipFile(io.BytesIO(content)) as archive:
        for entry in archive.infolist():
            if not entry.is_dir():
                with archive.open(entry) as file:
                    found = _bounded(file, left, name)
                left -= len(found)
                yield entry.filename, found


def _tarred(name: str, content: bytes) -> Iterator[tuple[str, bytes]]:
    left = LARGEST
    with tarfile.open(fileobj=io.BytesIO(content), mode="r|") as archive:
        for entry in archive:
            if entry.isfile():
                file = archive.extractfile(entry)
                assert file is not None
                found = _bounded(file, left, name)
                left -= len(found)
                yield entry.name, found


def _bounded(file: IO[bytes], most: int, name: str) -> bytes:
    """What a file holds, as long as it is at most so many bytes. Raises DocumentError."""
    found = bytearray()
    while piece := file.read(_PIECE):
        found += piece
        if len(found) > most:
            raise _refused(name, f"it holds more than {LARGEST >> 20} MiB when it is unpacked")
    return bytes(found)


def _refused(name: str, message: str) -> DocumentError:
    return DocumentError([Problem(name, message)])
