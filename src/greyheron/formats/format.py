"""What a format is: how it is recognised and read, and how a network is written in it."""

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Protocol

from msgspec import Struct

from greyheron.analysis.testing.sending import CountedAt
from greyheron.core.progress import Progress
from greyheron.formats.bundle import Bundle
from greyheron.model.document import Network


class Notice(Struct, frozen=True):
    """Something that was left out or guessed: where (file and place, or device), and what."""

    where: str
    message: str

    def __str__(self) -> str:
        return f"{self.where}: {self.message}"


@dataclass(frozen=True, slots=True)
class Brought:
    """A network that was read.

    left_out:  what of the source could not be taken over;  guessed:  what the source does not say
    counts:  packets that entries counted so far
    """

    network: Network
    left_out: tuple[Notice, ...] = ()
    guessed: tuple[Notice, ...] = ()
    counts: Counter[CountedAt] = field(default_factory=Counter)


class Format(Protocol):
    """A format that is read, found by command line, API and screen alike.

    name:  as it is called on the command line;  title:  in a sentence
    """

    name: str
    title: str

    def recognises(self, bundle: Bundle) -> bool:
        """Whether this is such a bundle, by a look at names and beginnings."""

    def read(self, bundle: Bundle, progress: Progress) -> Brought:
        """The network in a bundle. Raises DocumentError, each problem with its file, and Cancelled."""


class Taken(Struct, frozen=True):
    """A network that was written: files by path, and what of the network they do not say."""

    files: Mapping[str, bytes]
    left_out: tuple[Notice, ...] = ()


class Writing(Protocol):
    """A format that is written.

    name, title:  as of `Format`;  suffix:  of its only file, “.zip” where there are several
    loses:  what it cannot carry, whatever the network, a sentence each
    """

    name: str
    title: str
    suffix: str
    media_type: str
    loses: tuple[str, ...]

    def write(self, network: Network) -> Taken:
        """`network` in this format."""
