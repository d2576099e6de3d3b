"""Completion: what could stand at the cursor, with the names of this network among it."""

from greyheron.core.lists.frames import mac_of
from greyheron.model.device import Device
from greyheron.model.document import Network
from greyheron.model.entry import mac_text
from greyheron.model.notation.complete import options_at
from greyheron.model.notation.entries import read_entry
from greyheron.model.notation.flows import read_flow
from greyheron.model.notation.line import Option
from greyheron.model.notation.requirements import read_statement
from greyheron.model.parts import PARTS, Section, new_device
from greyheron.model.set_lines import SetCollection, take_set
from greyheron.model.values import Family, ListKind

MOST_MEMBERS = 3


def complete_entry(
    text: str, family: Family | None, kind: ListKind, network: Network
) -> tuple[str, list[Option]]:
    """The word that `text` (an entry up to the cursor) ends in, and what could stand in its place."""
    word, options = options_at(lambda line: read_entry(line, family, kind), text)
    before = text[: len(text) - len(word)].split()
    if family is None and before and before[-1] in ("from", "to"):
        options += _mac_names(network)
    if family is not None and any(option.text == "@" for option in options):
        names = _port_names(network) if before and before[-1] == "port" else _address_names(network, family)
        options = [option for option in options if option.text != "@"] + names
    return word, options


def complete_flow(text: str, network: Network) -> tuple[str, list[Option]]:
    """The same for a test flow; the destination's own services come first among the services."""
    devices = [device for device in network.devices if not device.traits.bridges]
    word, options = options_at(lambda line: read_flow(line, [device.name for device in devices]), text)
    if len(text[: len(text) - len(word)].split()) == 2:
        options += _domain_names(network)
    before = text[: len(text) - len(word)].split()
    addresses = {device.name: _device_words(device) for device in devices}
    options = [
        Option(option.text, addresses[option.text], option.literal) if option.text in addresses else option
        for option in options
    ]
    if len(before) == 3:
        destination = next((device for device in devices if device.name == before[2].split(":")[0]), None)
        options = _service_names(destination) + options
    return word, options


def complete_requirement(text: str, network: Network) -> tuple[str, list[Option]]:
    """The same for a requirement: behind a comma the next of several is completed."""
    names = [
        Option(group.name, "set: " + _shortened(list(group.members))) for group in network.address_sets
    ] + [
        Option(device.name, _device_words(device)) for device in network.devices if not device.traits.bridges
    ]
    names += _domain_names(network)
    word, options = options_at(lambda line: read_statement(line, names), text)
    return word.rpartition(",")[2], options


def complete_device(text: str) -> tuple[str, list[Option]]:
    """The same for the line that makes a new device."""
    return options_at(new_device, text)


def complete_set(text: str, collection: SetCollection) -> tuple[str, list[Option]]:
    """The same for the line of a set or a period."""
    return options_at(lambda line: take_set(line, collection), text)


def complete_part(text: str, device: Device, section: Section) -> tuple[str, list[Option]]:
    """The same for a part of a device: behind a comma the next of several is completed."""
    word, options = options_at(lambda line: PARTS[section].read(line, device), text)
    return word.rpartition(",")[2], options


def _service_names(device: Device | None) -> list[Option]:
    if device is None:
        return []
    services = [
        Option(service.name, f"{device.name} listens on {service.protocol}/{service.port}")
        for service in device.services
    ]
    return services + [
        Option(transport, f"{device.name}’s {line.at} line offers it")
        for line in device.lines
        for transport in line.transports
    ]


def _domain_names(network: Network) -> list[Option]:
    return [
        Option(
            record.name, f"{device.name} knows it as {_shortened([str(each) for each in record.addresses])}"
        )
        for device in network.devices
        for record in device.records
    ]


def _address_names(network: Network, family: Family) -> list[Option]:
    sets = [
        Option(f"@{group.name}", "set: " + _shortened([str(block) for block in group.blocks(family)]))
        for group in network.address_sets
    ]
    taken = {group.name for group in network.address_sets}
    devices = [
        Option(f"@{device.name}", _device_words(device))
        for device in network.devices
        if device.name not in taken and not device.traits.bridges
    ]
    return sets + devices


def _mac_names(network: Network) -> list[Option]:
    return [
        Option(mac_text(mac_of(device, interface.name)), f"{device.name} {interface.name}")
        for device in network.devices
        if not device.traits.bridges
        for interface in device.interfaces
        if interface.parent is None
    ]


def _port_names(network: Network) -> list[Option]:
    return [
        Option(f"@{group.name}", "set: " + _shortened(list(group.members))) for group in network.port_sets
    ]


def _device_words(device: Device) -> str:
    addresses = [str(address.ip) for interface in device.interfaces for address in interface.addresses]
    return f"{device.kind}: {_shortened(addresses)}"


def _shortened(parts: list[str]) -> str:
    more = f" and {len(parts) - MOST_MEMBERS} more" if len(parts) > MOST_MEMBERS else ""
    return (", ".join(parts[:MOST_MEMBERS]) or "empty") + more
