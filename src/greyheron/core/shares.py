"""Work in shares, so that several processes or machines do one each."""

from zlib import crc32

from msgspec import Struct


class Share(Struct, frozen=True):
    """One of `of` shares of work. What belongs to it depends on names only, and stays the same."""

    number: int = 0
    of: int = 1

    def has(self, name: str) -> bool:
        return crc32(name.encode()) % self.of == self.number


WHOLE = Share()
