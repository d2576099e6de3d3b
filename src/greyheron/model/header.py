"""What a packet's header says beside addresses, ports and types: TCP flags and the code point (DSCP)."""

from dataclasses import dataclass, field
from enum import Flag

from msgspec import Struct


class TcpFlags(Flag):
    """The control bits of RFC 9293 3.1, with the numbers that they have there."""

    NONE = 0
    FIN = 1
    SYN = 2
    RST = 4
    PSH = 8
    ACK = 16
    URG = 32
    ECE = 64
    CWR = 128

    @property
    def names(self) -> list[str]:
        """The names of those that are set, as people write them."""
        return [flag.name for flag in TcpFlags if flag in self and flag.name]


EVERY_FLAG = 255
"""The number of a header with every flag set."""
MOST_DSCP = 63

DSCP: dict[str, int] = {
    **{f"cs{number}": 8 * number for number in range(8)},
    **{f"af{number}{drop}": 8 * number + 2 * drop for number in range(1, 5) for drop in range(1, 4)},
    "ef": 46,
    "voice-admit": 44,
    "le": 1,
}
"""Differentiated services code points by name (IANA, RFC 2474)."""


class FlagsMatch(Struct, frozen=True):
    """TCP flags that must be set, and such that must be clear; the others are not looked at."""

    on: TcpFlags
    off: TcpFlags

    def matches(self, flags: TcpFlags) -> bool:
        return flags & self.on == self.on and not flags & self.off

    def __str__(self) -> str:
        words = [name.lower() for name in self.on.names] + [f"!{name.lower()}" for name in self.off.names]
        return ",".join(words)


@dataclass(frozen=True, slots=True)
class DscpSpan:
    """Code points from `low` to `high`, both included; `word` is how the user named a single one."""

    low: int
    high: int
    word: str | None = field(default=None, compare=False)

    def __str__(self) -> str:
        return self.word or (str(self.low) if self.low == self.high else f"{self.low}-{self.high}")


DscpTerms = tuple[DscpSpan, ...]
"""Alternatives."""


class HeaderTerms(Struct, frozen=True):
    """What is said of a packet's header beside addresses and service; by itself nothing.

    flags:  of TCP packets, each of which stands by itself then;  fragment:  fragments that are not the first
    """

    flags: FlagsMatch | None = None
    fragment: bool = False
    dscp: DscpTerms | None = None


NOTHING_SAID = HeaderTerms()
