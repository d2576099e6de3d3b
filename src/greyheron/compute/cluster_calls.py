"""What workers of a scheduler call: functions that are sent there whole, for nothing of ours may be there."""

from collections.abc import Callable, Mapping
from typing import Any

from greyheron.compute.cluster_worker import PackedPieces


def answering() -> Callable[[str, bytes, Mapping[str, PackedPieces], str], tuple[Any, ...]]:
    """What a worker does with a question."""

    def task(version: str, packed: bytes, links: Mapping[str, PackedPieces], topic: str) -> tuple[Any, ...]:
        from distributed import get_worker

        try:
            from greyheron import __version__ as own
        except ImportError:
            own = ""
        if own != version:
            return "misfit", get_worker().address, own
        from greyheron.compute.cluster_worker import carry_out

        return carry_out(packed, links, topic)

    return task


def forgetting() -> Callable[[str], None]:
    """What a worker does when a network is gone."""

    def forget(network: str) -> None:
        from greyheron.compute import cluster_worker as errand

        errand.forget(network)

    return forget
