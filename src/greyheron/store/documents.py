"""Documents and edits as text, and documents by their text."""

import json
from collections.abc import Sequence
from threading import Condition, Lock

from cachetools import LRUCache

from greyheron.core.progress import Progress, unwatched
from greyheron.model.changes import Change
from greyheron.model.document import Network, to_data
from greyheron.model.read import read_network
from greyheron.store.readable import require_readable_changes

MOST_DOCUMENTS = 48 << 20
"""Documents are kept read up to so many bytes, and a few however large they are."""
WATCHED = 0.25
"""Seconds between two looks whether somebody still waits."""


class Documents:
    """Documents by their text, so that each is read once; the least used are forgotten."""

    def __init__(self) -> None:
        self._read: LRUCache[str, tuple[Network, int]] = LRUCache(
            MOST_DOCUMENTS, getsizeof=lambda read: min(5 * read[1], MOST_DOCUMENTS // 4)
        )
        self._lock = Lock()
        self._under_way: set[str] = set()
        self._read_one = Condition()

    def parsed(self, text: str, progress: Progress = unwatched) -> Network:
        """The document of a text. Who asks for one that is being read waits, and then finds it read."""
        found = self._found(text)
        if found is not None:
            return found
        with self._read_one:
            while text in self._under_way:
                self._read_one.wait(WATCHED)
                progress(0)
            self._under_way.add(text)
        try:
            found = self._found(text) or read_network(json.loads(text), progress)
            self._keep(text, found)
            return found
        finally:
            with self._read_one:
                self._under_way.discard(text)
                self._read_one.notify_all()

    def text_of(self, network: Network) -> str:
        """The text of a document that is about to be written: it need not be read again."""
        text = text_of_document(network)
        self._keep(text, network)
        return text

    def _found(self, text: str) -> Network | None:
        with self._lock:
            return self._read.get(text, (None, 0))[0]

    def _keep(self, text: str, network: Network) -> None:
        with self._lock:
            self._read[text] = network, len(text)


def text_of_document(network: Network) -> str:
    return json.dumps({"format": network.format, **to_data(network)}, ensure_ascii=False)


def changes_text(changes: Sequence[Change]) -> str:
    """The text of an edit that is kept. Raises DocumentError where it would not read back."""
    text = json.dumps([change.model_dump(mode="json") for change in changes], ensure_ascii=False)
    require_readable_changes(changes, text)
    return text


def changes_of(text: str) -> list[Change]:
    return [Change.model_validate(change) for change in json.loads(text)]


def size_of(network: Network) -> int:
    """About how many bytes a document takes."""
    return 400 * sum(len(each.body.entries) for each in network.lists) + 5000 * len(network.devices)
