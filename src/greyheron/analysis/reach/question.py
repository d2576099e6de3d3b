"""What a matrix asks: which services, of whom; and the conversations that this stands for."""

from collections.abc import Iterator

from msgspec import Struct
from msgspec.structs import replace

from greyheron.core.network.addresses import is_link_local
from greyheron.core.world import World
from greyheron.model.device import Device
from greyheron.model.errors import GreyHeronError
from greyheron.model.names import TCP, UDP
from greyheron.model.services import OWN_SERVICES, Request, requested, written
from greyheron.model.values import Family

MOST_SERVICES = 12


class ReachError(GreyHeronError, ValueError):
    """A question that cannot be asked; says why."""


class ReachQuestion(Struct, frozen=True):
    """services:  words as in test flows, or OWN_SERVICES

    hosts_only:  leave routers and firewalls out
    from_hosts:  they only answer, and of very many hosts some ask, evenly picked: the work is bounded
    """

    services: tuple[str, ...]
    family: Family
    hosts_only: bool = False
    from_hosts: bool = False

    def in_family(self, family: Family) -> "ReachQuestion":
        return replace(self, family=family)


def talking_addresses(world: World, device: str, family: Family) -> list[int]:
    """The addresses that a device talks from and is talked to at: all but link-local ones."""
    return [each for each in world.topology.addresses(device, family) if not is_link_local(family, each)]


def families_of(*worlds: World) -> tuple[Family, ...]:
    """The families that somebody in one of these talks in."""
    return tuple(
        family
        for family in Family
        if any(
            talking_addresses(world, device, family) for world in worlds for device in world.topology.devices
        )
    )


def require_services(world: World, question: ReachQuestion) -> None:
    """Raise ReachError unless each service is known somewhere."""
    if not question.services:
        raise ReachError("no service is asked for: write tcp/443, ping or services, say")
    if len(question.services) > MOST_SERVICES:
        raise ReachError(f"{len(question.services)} services are asked for: at most {MOST_SERVICES} at once")
    named = {service.name for device in world.topology.devices.values() for service in device.services}
    for word in question.services:
        if word != OWN_SERVICES and word not in named and requested(word, None, question.family) is None:
            raise ReachError(
                f"no service is known by the name “{word}”: write tcp/443, ping or services, say"
            )


def requests_to(world: World, device: str, question: ReachQuestion) -> list[tuple[str, Request]]:
    """What is asked of a device, each as a test flow writes it."""
    found: dict[Request, str] = {}
    for word in question.services:
        if word == OWN_SERVICES:
            for request in _own_requests(world.topology.devices[device]):
                found.setdefault(request, written(request, question.family))
            continue
        known = requested(word, world.topology.devices[device], question.family)
        if known is not None:
            found.setdefault(known, word)
    return [(word, request) for request, word in found.items()]


def _own_requests(device: Device) -> Iterator[Request]:
    for service in device.services:
        yield Request(TCP if service.protocol == "tcp" else UDP, service.port)
    for line in device.lines:
        for port in sorted(line.ports):
            yield Request(TCP, port)


def flows_between(world: World, source: str, destination: str, question: ReachQuestion) -> list[str]:
    """The conversations behind one cell, as test flows write them."""
    family = question.family
    return [
        f"{source} → {destination}:{family.text(address)} {word}"
        for address in talking_addresses(world, destination, family)
        for word, _ in requests_to(world, destination, question)
    ]
