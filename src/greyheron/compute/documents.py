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


class SameObjects:
    """Documents as a key: the same objects, not ones like them. Comparing large ones would take long."""

    def __init__(self, *networks: Network) -> None:
        self._networks = networks

    def __hash__(self) -> int:
        return hash(tuple(len(network.placements) for network in self._networks))

    def __eq__(self, other: object) -> bool:
        return isinstance(other, SameObjects) and all(
            one is another for one, another in zip(self._networks, other._networks, strict=True)
        )
