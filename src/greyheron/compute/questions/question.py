"""What a long question is: how it is split among workers, worked out, and put together again."""

from abc import abstractmethod
from collections.abc import Sequence
from typing import Any, ClassVar, Generic, Self, TypeVar

from msgspec import Struct
from msgspec.structs import replace

from greyheron.compute.documents import Drafted
from greyheron.compute.state import NetworkState
from greyheron.core.progress import Found, Progress
from greyheron.core.shares import WHOLE, Share

Answered = TypeVar("Answered")


class Question(Struct, Generic[Answered], frozen=True, kw_only=True):
    """A question about a network that takes long, with all that it depends on but the documents.

    A worker is sent the question, and answers it from what it keeps of the network. Answers come back from
    other machines as plain data, and are read by the type that `run` is annotated with.

    share:  the part of the whole that is asked for
    """

    lane: ClassVar[int] = 0
    """Questions of one lane go to the same worker, which keeps what they have in common."""
    finds: ClassVar[Any] = tuple[()]
    """The type of what is found before the end: a tuple."""
    share: Share = WHOLE

    @abstractmethod
    def run(self, state: NetworkState, documents: Drafted, progress: Progress, found: Found) -> Answered:
        """The answer for the share. Raises Cancelled, and what else the question says."""

    @abstractmethod
    def merge(self, documents: Drafted, answers: Sequence[Answered]) -> Answered:
        """One answer of those to all shares, in their order."""

    def split(self, count: int) -> list[Self]:
        """The same question in at most `count` shares."""
        return [replace(self, share=Share(number, count)) for number in range(count)]

    def is_short(self, documents: Drafted) -> bool:
        """Whether it is answered sooner than a worker could be asked."""
        return False
