"""Test flows, as values: who talks to whom, about what, and what should come of it."""

from msgspec import Struct

from greyheron.model.header import DscpSpan, TcpFlags
from greyheron.model.period import Moment
from greyheron.model.values import Expectation, Family


class FlowEnd(Struct, frozen=True):
    """One end of a test flow.

    device:  a device's name, or None when only an address is given
    at:  an interface name or an address of that device; with no device, the address itself, or that of a host
        that could be there, with the prefix of its segment (§10)
    """

    device: str | None
    at: str | None = None

    @property
    def possible(self) -> bool:
        """Whether it is a host that could be there, and is not drawn."""
        return self.device is None and self.at is not None and "/" in self.at

    def __str__(self) -> str:
        return ":".join(part for part in (self.device, self.at) if part)


class Flow(Struct, frozen=True):
    """One conversation to try.

    service:  as it was written: `tcp/443`, `ping`, `ssh`, or a service of the destination by name
    source_port:  None for the usual one (49152)
    flags:  of a single TCP packet to send; None: a whole conversation
    fragment:  whether to send a fragment that is not the first
    at:  when; None: at every moment that matters
    family:  None to follow the addresses, IPv4 before IPv6
    """

    source: FlowEnd
    destination: FlowEnd
    service: str
    source_port: int | None = None
    flags: TcpFlags | None = None
    fragment: bool = False
    dscp: DscpSpan | None = None
    at: Moment | None = None
    family: Family | None = None


class ExpectedFlow(Struct, frozen=True):
    flow: Flow
    expect: Expectation
