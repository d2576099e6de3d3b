"""What is kept so that it need not be worked out again: bounded in bytes, the least used let go first."""

from collections.abc import Callable, Hashable
from threading import Lock
from typing import Generic, TypeVar

from cachetools import LRUCache

FEW = 4
K = TypeVar("K", bound=Hashable)
V = TypeVar("V")


class BoundedCache(Generic[K, V]):
    """Values by their keys, at most `most` bytes of them, from any thread.

    size:  about how many bytes a value takes;  a few are kept however large they are
    """

    def __init__(self, most: int, size: Callable[[V], int]) -> None:
        self._found: LRUCache[K, V] = LRUCache(most, getsizeof=lambda value: min(size(value), most // FEW))
        self._lock = Lock()

    @property
    def nbytes(self) -> int:
        return int(self._found.currsize)

    def get(self, key: K) -> V | None:
        with self._lock:
            value = self._found.pop(key, None)
            if value is not None:
                self._found[key] = value  # the last of `items` is the one used last
            return value

    def put(self, key: K, value: V) -> V:
        """Keep a value under its key, its size taken anew."""
        with self._lock:
            self._found[key] = value
        return value

    def drop(self, key: K) -> V | None:
        with self._lock:
            return self._found.pop(key, None)

    def items(self) -> list[tuple[K, V]]:
        """All that is kept now, the least used first."""
        with self._lock:
            return list(self._found.items())
