"""Compressed files, opened in memory and in bounds: gzip, xz, Zstandard (RFC 8878) and bzip2."""

import bz2
import lzma
import zlib
from collections.abc import Callable, Mapping
from typing import Protocol, cast

import zstandard
from msgspec import Struct

_PIECE = 2048
"""So much is opened at once: what that grows to, ten thousand times as much perhaps, is held for a moment."""
_BROKEN = (EOFError, OSError, zlib.error, lzma.LZMAError, zstandard.ZstdError)


class _Decompressor(Protocol):
    """What opens one stream, piece by piece."""

    @property
    def eof(self) -> bool: ...

    @property
    def unused_data(self) -> bytes: ...

    def decompress(self, data: bytes, /) -> bytes: ...


_KINDS: Mapping[bytes, tuple[str, Callable[[], _Decompressor]]] = {
    b"\x1f\x8b": (".gz", lambda: cast(_Decompressor, zlib.decompressobj(wbits=31))),
    b"\xfd7zXZ\0": (".xz", lzma.LZMADecompressor),
    b"\x28\xb5\x2f\xfd": (".zst", lambda: cast(_Decompressor, zstandard.ZstdDecompressor().decompressobj())),
    b"BZh": (".bz2", bz2.BZ2Decompressor),
}
"""How compressed files begin, how they are called, and what opens them."""


class Opened(Struct, frozen=True):
    """What a compressed file held, what it is called now, and whether it was whole."""

    name: str
    content: bytes
    whole: bool


def opened(name: str, content: bytes, most: int) -> Opened | None:
    """What a file holds; None if it is not compressed.

    most:  bytes that it may hold.  Raises ValueError where it holds more, or nothing that can be opened.
    """
    kind = next((known for known in _KINDS if content.startswith(known)), None)
    if kind is None:
        return None
    suffix, begin = _KINDS[kind]
    found, opener, at, whole = bytearray(), begin(), 0, False
    while at < len(content):
        piece = content[at : at + _PIECE]
        at += len(piece)
        try:
            found += opener.decompress(piece)
        except _BROKEN as error:
            if not found:
                raise ValueError(f"this archive cannot be opened: {error}") from None
            break
        if len(found) > most:
            raise ValueError(f"it holds more than {most >> 20} MiB when it is unpacked")
        whole = opener.eof
        if whole:
            at -= len(opener.unused_data)
            if not content.startswith(kind, at):  # else another stream follows the first
                break
            opener = begin()
            whole = False
    if not found and not whole:
        raise ValueError("this archive cannot be opened: it breaks off at once")
    return Opened(name.removesuffix(suffix), bytes(found), whole)
