"""The parts of a device, each a line: `eth1 172.20.16.1/24 ospf cost 20`, `0.0.0.0/0 via 172.20.32.1`.

A device is added and changed by such lines. Only what the words of a line mean is checked here; whether the
device is sound with it is for `greyheron.model.check`.
"""

from collections.abc import Callable, Sequence
from itertools import count
from typing import Any, Final, Literal, TypeVar

from msgspec import Struct

from greyheron.model.device import Device, Interface, Ospf
from greyheron.model.item import Address
from greyheron.model.notation.flows import INTERFACE
from greyheron.model.notation.line import LineError, NotationError, NotationLine, Option
from greyheron.model.part_lines import (
    NEW_LINES,
    read_gateway,
    read_interface,
    read_line,
    read_prefix,
    read_record,
    read_route,
    read_service,
    read_translation,
    read_zone,
    write_interface,
    write_line,
    write_record,
    write_route,
    write_service,
    write_translation,
    write_zone,
)
from greyheron.model.part_words import (
    ADDRESS,
    HOP,
    address_of,
    interface_address_of,
    interface_name_of,
    is_address,
    name_of,
)
from greyheron.model.settings import read_setting, settings_of, with_settings, write_setting
from greyheron.model.traits import TRAITS, Traits
from greyheron.model.values import DeviceKind

T = TypeVar("T")
Section = Literal[
    "interfaces",
    "gateways",
    "resolvers",
    "prefixes",
    "services",
    "records",
    "lines",
    "zones",
    "translations",
    "routes",
    "settings",
]
KINDS: Final = {
    DeviceKind.ROUTER: "joins segments, and filters between them",
    DeviceKind.FIREWALL: "joins zones, and keeps track of sessions",
    DeviceKind.SWITCH: "joins interfaces to a segment",
    DeviceKind.HOST: "sends, and listens on services",
    DeviceKind.OUTSIDE: "stands for a network that is not drawn",
}


class PartKind(Struct, frozen=True):
    """How the lines of one section are read and written.

    read:  raises LineError;  of:  the parts that a device has;  put:  the device with other ones
    fits:  whether devices of some traits may have it
    """

    read: Callable[[NotationLine, Device], Any]
    write: Callable[[Any], str]
    of: Callable[[Device], tuple[Any, ...]]
    put: Callable[[Device, tuple[Any, ...]], Device]
    fits: Callable[[Traits], bool]


def lines_of(device: Device, section: Section) -> tuple[str, ...]:
    """Every part of a section, in order, as it would be typed."""
    kind = PARTS[section]
    return tuple(kind.write(part) for part in kind.of(device))


def with_part(device: Device, section: Section, text: str, index: int | None) -> Device:
    """`device` with the part that `text` describes, instead of the one at `index` or behind the others.

    Raises NotationError.
    """
    kind = PARTS[section]
    part = _whole(text, lambda line: kind.read(line, device))
    parts = list(kind.of(device))
    if index is None:
        parts.append(part)
    else:
        parts[index] = part
    return kind.put(device, tuple(parts))


def without_part(device: Device, section: Section, index: int) -> Device:
    """`device` without the part at `index`, which it has."""
    kind = PARTS[section]
    parts = kind.of(device)
    return kind.put(device, (*parts[:index], *parts[index + 1 :]))


class NewDevice(Struct, frozen=True):
    """A device as a line makes it. to: what it is linked with at once, by name or as `device:interface`"""

    device: Device
    to: tuple[str, ...] = ()


def read_new_device(text: str) -> NewDevice:
    """A device from a line: `host kiosk 172.20.16.21/24 to centre-sw`. Raises NotationError."""
    return _whole(text, new_device)


def new_device(line: NotationLine) -> NewDevice:
    """Read a device's kind, name, first addresses and links. Raises LineError."""
    kind = DeviceKind(line.choose({each.value: words for each, words in KINDS.items()}))
    traits = TRAITS[kind]
    name = line.value(name_of, Option("new-name", "what it is called", literal=False))
    interfaces = () if traits.bridges else _first_interfaces(line, traits.forwards)
    gateways: tuple[Address, ...] = ()
    if traits.has_gateway:
        while line.take("gateway", "where it sends what is not on its own segment"):
            gateways += (line.value(address_of, HOP),)
    to: tuple[str, ...] = ()
    while line.take("to", "links it with a device, or with one of its interfaces"):
        to += (line.value(_end_of, Option("centre-sw", "a device, or device:interface", literal=False)),)
    line.end()
    device = Device(
        name=name,
        kind=kind,
        interfaces=interfaces,
        lines=NEW_LINES if traits.forwards else (),
    )
    return NewDevice(_put_gateways(device, gateways), to)


def _end_of(word: str) -> str:
    """`device` or `device:interface`"""
    name, colon, interface = word.partition(":")
    name_of(name)
    if colon:
        interface_name_of(interface)
    return word


_BEHIND = ("gateway", "to")
"""Words of a device's line that follow its interfaces."""


def _first_interfaces(line: NotationLine, speaks_ospf: bool) -> tuple[Interface, ...]:
    """Addresses, each family once on an interface: `172.21.1.1/24 ospf 172.21.2.1/24`, or with names between.

    A second address of a family begins the next interface, `eth0`, `eth1` and so on unless it is named.
    """
    found: list[Interface] = []
    named: str | None = None

    def begin(name: str | None) -> Interface:
        taken = {each.name for each in found}
        if name in taken:
            raise line.error(f"{name} stands here twice", at=line.at - 1)
        free = (each for number in count() if (each := f"eth{number}") not in taken)
        return Interface(name=name or next(free))

    while True:
        line.offer(ADDRESS)
        word = line.word
        if word is not None and is_address(word):
            address = line.value(interface_address_of, ADDRESS)
            full = bool(found) and any(each.version == address.version for each in found[-1].addresses)
            if named is not None or not found or full:
                found.append(begin(named))
                named = None
            found[-1] = found[-1].model_copy(update={"addresses": (*found[-1].addresses, address)})
        elif speaks_ospf and found and line.take("ospf", "this interface speaks OSPF with its neighbours"):
            found[-1] = found[-1].model_copy(update={"ospf": Ospf()})
        elif word is not None and word not in _BEHIND and named is None and INTERFACE.fullmatch(word):
            named = line.value(interface_name_of, Option("eth1", "another interface", literal=False))
        else:
            break
    if named is not None:
        raise line.error(f"an address with its prefix length follows {named}")
    return tuple(found)


def _whole(text: str, read: Callable[[NotationLine], T]) -> T:
    line = NotationLine(text)
    try:
        if line.note is not None:
            raise line.error("there is no room for a note here: take out what begins with #")
        return read(line)
    except LineError as error:
        raise NotationError([error.misreading]) from None


def _gateways(device: Device) -> tuple[Address, ...]:
    return tuple(each for each in (device.gateway, device.gateway6) if each is not None)


def _put_gateways(device: Device, found: Sequence[Address]) -> Device:
    """The last of each family stands."""
    by_version = {each.version: each for each in found}
    return device.model_copy(update={"gateway": by_version.get(4), "gateway6": by_version.get(6)})


def _field(
    name: str,
) -> tuple[Callable[[Device], tuple[Any, ...]], Callable[[Device, tuple[Any, ...]], Device]]:
    """How parts that stand in a field of the device are found and put there."""

    def put(device: Device, parts: tuple[Any, ...]) -> Device:
        return device.model_copy(update={name: parts})

    return (lambda device: getattr(device, name)), put


def _forwards(traits: Traits) -> bool:
    return traits.forwards


PARTS: Final[dict[Section, PartKind]] = {
    "interfaces": PartKind(read_interface, write_interface, *_field("interfaces"), lambda _traits: True),
    "gateways": PartKind(read_gateway, str, _gateways, _put_gateways, lambda traits: traits.has_gateway),
    "resolvers": PartKind(read_gateway, str, *_field("resolvers"), lambda traits: not traits.bridges),
    "prefixes": PartKind(read_prefix, str, *_field("prefixes"), lambda traits: traits.open_ended),
    "services": PartKind(read_service, write_service, *_field("services"), lambda traits: traits.listens),
    "records": PartKind(
        read_record, write_record, *_field("records"), lambda traits: traits.listens or traits.open_ended
    ),
    "lines": PartKind(read_line, write_line, *_field("lines"), _forwards),
    "zones": PartKind(read_zone, write_zone, *_field("zones"), lambda traits: traits.zoned),
    "translations": PartKind(
        read_translation, write_translation, *_field("translations"), lambda traits: traits.forwards
    ),
    "routes": PartKind(read_route, write_route, *_field("routes"), lambda traits: not traits.bridges),
    "settings": PartKind(
        read_setting, write_setting, settings_of, with_settings, lambda traits: traits.takes_lists
    ),
}
