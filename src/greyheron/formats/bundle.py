"""What is brought in: one file or many, from a folder or an archive, all of it hostile until it was read.

Archives are opened in memory, in bounds: what they say of sizes is not believed, and nothing is written.
"""

import io
import tarfile
import zipfile
from collections.abc import Iterator, Mapping
from pathlib import Path, PurePosixPath
from typing import IO

from msgspec import Struct

from greyheron.model.problems import DocumentError, Problem

MOST_FILES = 10_000
LARGEST = 512 * 1024 * 1024
"""Bytes of all files together, when they are unpacked."""
_PIECE = 1 << 20
_GZIP = b"\x1f\x8b"


class Bundle(Struct, frozen=True):
    """Files by their path within the bundle, with forward slashes. `name` is what it was called."""

    name: str
    files: Mapping[str, bytes]

    @property
    def only(self) -> tuple[str, bytes] | None:
        """The file and its path, where there is just one."""
        return next(iter(self.files.items())) if len(self.files) == 1 else None


def bundle_in(path: Path) -> Bundle:
    """What a file, an archive or a folder holds. Raises OSError, DocumentError."""
    if not path.is_dir():
        return bundle_of(path.name, path.read_bytes())
    files: dict[str, bytes] = {}
    left = LARGEST
    for found in sorted(each for each in path.rglob("*") if each.is_file() and not each.is_symlink()):
        with found.open("rb") as file:
            content = _bounded(file, left, path.name)
        left -= len(content)
        _take(files, found.relative_to(path).as_posix(), content, path.name)
    return Bundle(path.name, files)


def bundle_of(name: str, content: bytes) -> Bundle:
    """What a file holds; an archive is opened. Raises DocumentError."""
    if len(content) > LARGEST:
        raise _refused(name, f"it is larger than {LARGEST >> 20} MiB")
    try:
        if zipfile.is_zipfile(io.BytesIO(content)):
            return Bundle(name, _unpacked(name, _zipped(name, content)))
        if content.startswith(_GZIP) or content[257:262] == b"ustar":
            return Bundle(name, _unpacked(name, _tarred(name, content)))
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
    return Bundle(name, {name: content})


def bundle_among(contents: Mapping[str, bytes]) -> Bundle:
    """Files that came together; one alone may be an archive. Raises DocumentError."""
    if len(contents) == 1:
        ((name, content),) = contents.items()
        return bundle_of(name, content)
    return Bundle("Brought in", contents)


def _unpacked(name: str, entries: Iterator[tuple[str, bytes]]) -> dict[str, bytes]:
    files: dict[str, bytes] = {}
    for path, content in entries:
        _take(files, path, content, name)
    return files


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
    with tarfile.open(fileobj=io.BytesIO(content), mode="r|*") as archive:
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


def _take(files: dict[str, bytes], path: str, content: bytes, name: str) -> None:
    parts = PurePosixPath(path.replace("\\", "/"))
    if parts.is_absolute() or ".." in parts.parts or "\0" in path:
        raise _refused(name, f"“{path}” leads out of the bundle: no path may begin at the root or go up")
    if len(files) >= MOST_FILES:
        raise _refused(name, f"it holds more than {MOST_FILES} files")
    if str(parts) in files:
        raise _refused(name, f"“{parts}” is in it twice")
    files[str(parts)] = content


def _refused(name: str, message: str) -> DocumentError:
    return DocumentError([Problem(name, message)])
