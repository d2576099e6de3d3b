"""Test flows, as values: who talks to whom, about what, and what should come of it."""

from dataclasses import dataclass

from greyheron.model.values import Expectation, Family


@dataclass(frozen=True, slots=True)
class FlowEnd:
    """One end of a test flow.

    device:  a device's name, or None when only an address is given
    at:  an interface name or an address of that device; with no device, the address itself
    """

    device: str | None
    at: str | None = None

    def __str__(self) -> str:
        return ":".join(part for part in (self.device, self.at) if part)


@dataclass(frozen=True, slots=True)
class Flow:
    """One conversation to try.

    service:  as it was written: `tcp/443`, `ping`, `ssh`, or a service of the destination by name
    source_port:  None for the usual one (49152)
    family:  None to follow the addresses, IPv4 before IPv6
    """

    source: FlowEnd
    destination: FlowEnd
    service: str
    source_port: int | None = None
    family: Family | None = None


@dataclass(frozen=True, slots=True)
class ExpectedFlow:
    flow: Flow
    expect: Expectation
