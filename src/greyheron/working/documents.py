"""The two documents of a network."""

from dataclasses import dataclass
from typing import Protocol

from greyheron.model.document import Network


class Drafted(Protocol):
    """What is running, and the draft."""

    @property
    def running(self) -> Network: ...

    @property
    def draft(self) -> Network: ...


@dataclass(frozen=True, slots=True)
class RunningAndDraft:
    running: Network
    draft: Network

    @classmethod
    def same(cls, network: Network) -> "RunningAndDraft":
        """Nothing is drafted."""
        return cls(network, network)
