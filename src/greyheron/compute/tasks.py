"""What is asked of whoever works something out elsewhere: processes of this machine, or of others."""

from collections.abc import Sequence
from typing import Any, Protocol

from msgspec import Struct

from greyheron.compute.documents import Drafted
from greyheron.compute.questions.question import Question
from greyheron.core.progress import Found, Progress, unheard
from greyheron.model.errors import GreyHeronError


class WorkersGone(GreyHeronError):
    """Nobody can work something out now: processes ended, a scheduler does not answer. Says what to do."""


class Order(Struct, frozen=True):
    """What one worker is to answer.

    worker:  which one, of those that there are
    tells:  whether somebody waits for what is found before the end
    """

    worker: int
    question: Question[Any]
    documents: Drafted
    tells: bool = False


class WorkerPool(Protocol):
    """Workers that keep what they worked out for networks, and are told changes of documents."""

    def __len__(self) -> int:
        """Into how many shares long work is best split."""
        ...

    def results(
        self, network: str, asked: Sequence[Order], progress: Progress, told: Found = unheard
    ) -> list[Any]:
        """What comes of orders that are carried out at once.

        told:  what is found meanwhile; where a worker was lost, perhaps twice

        Raises what they raise, what `progress` raises, and WorkersGone.
        """
        ...

    def forget(self, network: str) -> None:
        """Let go whatever is known of a network."""
        ...

    def close(self) -> None: ...
