"""The two documents of a network."""

from typing import Protocol

from msgspec import Struct

from greyheron.model.document import Network


class Drafted(Protocol):
    """What is running, and the draft."""

    @property
    def running(self) -> Network: ...

    @property
    def draft(self) -> Network: ...


class RunningAndDraft(Struct, frozen=True):
    running: Network
    draft: Network

    @classmethod
    def same(cls, network: Network) -> "RunningAndDraft":
        """Nothing is drafted."""
        return cls(network, network)
