"""Devices from a small table: device, interface, address, neighbour, a line for each interface.

It is what somebody has in a spreadsheet or in a mail: tabs, semicolons, commas, bars or blanks part the
columns, and a first line may name them. What is not said is worked out: kinds by what a device does, and
interfaces by the links.
"""

import re
from collections.abc import Iterator, Sequence

from msgspec import Struct

from greyheron.model.changes import Change, putting
from greyheron.model.device import Device, Interface
from greyheron.model.document import Network
from greyheron.model.item import InterfaceAddress
from greyheron.model.joining import PAIR, free_names, joined, require_end
from greyheron.model.notation.line import Misreading, NotationError
from greyheron.model.part_lines import NEW_LINES
from greyheron.model.part_words import interface_address_of, interface_name_of, is_address, name_of
from greyheron.model.values import DeviceKind

COLUMNS = ("device", "interface", "address", "neighbour", "kind")
_HEADINGS = {
    "device": ("device", "name", "host", "hostname", "node"),
    "interface": ("interface", "port", "if"),
    "address": ("address", "ip", "addresses", "prefix"),
    "neighbour": ("neighbour", "neighbor", "peer", "to", "link", "connected"),
    "kind": ("kind", "type", "role"),
}
MOST_ROWS = 1000


class _Row(Struct, frozen=True):
    """One line of the table. number: of the line, from 1;  far: the neighbour's interface, if it is named"""

    number: int
    device: str
    interface: str
    addresses: tuple[InterfaceAddress, ...]
    neighbour: str
    far: str
    kind: DeviceKind | None


def table_changes(text: str, network: Network) -> list[Change]:
    """What puts a table's devices and links into `network`. Raises NotationError, with lines of the table."""
    rows, wrong = _rows(text)
    known = {device.name for device in network.devices}
    for row in rows:
        if row.device in known:
            wrong.append(_wrong(row.number, f"there is a device {row.device} already: leave its lines out"))
    if wrong:
        raise NotationError(wrong)
    if not rows:
        raise NotationError([_wrong(1, "no line of it names a device: expected device, interface, address")])
    named = dict.fromkeys([*(row.device for row in rows), *(row.neighbour for row in rows if row.neighbour)])
    changed = {name: _device(name, rows) for name in named if name not in known}
    every = {device.name: device for device in network.devices} | changed
    links = list(network.links)
    for one, other in _links(rows):
        for end in (one, other):
            require_end(every, end)
        # Not checked for each link: that is done once, when all of it is edited.
        so_far = network.model_copy(update={"devices": tuple(every.values()), "links": tuple(links)})
        devices, link = joined(so_far, one, other)
        links.append(link)
        every |= {device.name: device for device in devices}
        changed |= {device.name: device for device in devices}
    made = links[len(network.links) :]
    return [
        *(putting("devices", each) for each in changed.values()),
        *(putting("links", each) for each in made),
    ]


def _rows(text: str) -> tuple[list[_Row], list[Misreading]]:
    lines = [(number, line) for number, line in enumerate(text.splitlines(), 1) if line.strip(" \t,;|")]
    if len(lines) > MOST_ROWS:
        return [], [_wrong(MOST_ROWS, f"more than {MOST_ROWS} lines: bring them in parts")]
    split = _splitter([line for _, line in lines])
    order: Sequence[str] = COLUMNS
    if lines and (headings := _headings(split(lines[0][1]))):
        order = headings
        lines = lines[1:]
    rows: list[_Row] = []
    wrong: list[Misreading] = []
    for number, line in lines:
        cells = dict(zip(order, split(line), strict=False))
        try:
            rows.append(_row(number, cells, rows[-1].device if rows else ""))
        except ValueError as error:
            wrong.append(_wrong(number, str(error)))
    return rows, wrong


def _splitter(lines: Sequence[str]):  # type: ignore[no-untyped-def]
    """By the first mark that stands in most of the lines; else by blanks."""
    for mark in ("\t", ";", "|", ","):
        if lines and sum(mark in line for line in lines) * 2 > len(lines):
            return lambda line: [cell.strip().strip('"') for cell in line.strip("| ").split(mark)]
    return lambda line: re.split(r" {2,}| ", line.strip())


def _headings(cells: Sequence[str]) -> list[str] | None:
    found = [
        next((column for column, words in _HEADINGS.items() if cell.lower() in words), "") for cell in cells
    ]
    return found if "device" in found and sum(map(bool, found)) > 1 else None


def _row(number: int, cells: dict[str, str], above: str) -> _Row:
    """above: the device of the line before, which an empty cell stands for. Raises ValueError."""
    device = name_of(cells.get("device") or above)
    interface = cells.get("interface", "")
    address = cells.get("address", "")
    # Without headings an address may stand where an interface could.
    if interface and is_address(interface) and not (address and is_address(address)):
        interface, address, neighbour = "", interface, address or cells.get("neighbour", "")
    else:
        neighbour = cells.get("neighbour", "")
    words = [word for word in re.split(r"[ ,]+", address) if word not in ("", "-")]
    kind = cells.get("kind", "").lower()
    if kind and kind not in tuple(DeviceKind):
        raise ValueError(f"“{kind}” is no kind of device: expected {', '.join(DeviceKind)}")
    near, _, far = neighbour.partition(":")
    return _Row(
        number,
        device,
        interface_name_of(interface) if interface not in ("", "-") else "",
        tuple(map(interface_address_of, words)),
        name_of(near) if near not in ("", "-") else "",
        far,
        DeviceKind(kind) if kind else None,
    )


def _device(name: str, rows: Sequence[_Row]) -> Device:
    """A device with the interfaces of its rows, and with those that others name of it."""
    own = [row for row in rows if row.device == name]
    kind = next((row.kind for row in own if row.kind is not None), None) or _kind(own)
    device = Device(name=name, kind=kind)
    named = {row.interface for row in own if row.interface}
    for row in own:
        free = (each for each in free_names(device) if each not in named)
        found = Interface(name=row.interface or next(free), addresses=row.addresses)
        there = {each.name: each for each in device.interfaces}
        if found.name in there:
            both = (*there[found.name].addresses, *found.addresses)
            found = found.model_copy(update={"addresses": tuple(dict.fromkeys(both))})
        device = device.model_copy(update={"interfaces": tuple((there | {found.name: found}).values())})
    more = [
        Interface(name=far)
        for far in dict.fromkeys(row.far for row in rows if row.neighbour == name and row.far)
        if all(each.name != far for each in device.interfaces)
    ]
    lines = NEW_LINES if device.traits.forwards else ()
    return device.model_copy(update={"interfaces": (*device.interfaces, *more), "lines": lines})


def _kind(own: Sequence[_Row]) -> DeviceKind:
    """Who has no address joins others to a segment; who has two interfaces passes on between them.

    So does who is on a link with room for two only.
    """
    addressed = [row for row in own if row.addresses]
    if not addressed:
        return DeviceKind.SWITCH
    prefixes = {address.network for row in addressed for address in row.addresses if address.version == 4}
    places = {row.interface or str(row.number) for row in addressed}
    paired = any(prefix.num_addresses <= PAIR for prefix in prefixes)
    return DeviceKind.ROUTER if paired or len(places) > 1 or len(prefixes) > 1 else DeviceKind.HOST


def _links(rows: Sequence[_Row]) -> Iterator[tuple[str, str]]:
    """Each link once, though both of its ends may tell of it."""
    waiting = [row for row in rows if row.neighbour]
    while waiting:
        row = waiting.pop(0)
        back = next((other for other in waiting if _same_link(row, other)), None)
        if back is not None:
            waiting.remove(back)
        far = row.far or (back.interface if back is not None else "")
        near = row.interface or (back.far if back is not None else "")
        yield _end(row.device, near), _end(row.neighbour, far)


def _end(device: str, interface: str) -> str:
    return f"{device}:{interface}" if interface else device


def _same_link(row: _Row, other: _Row) -> bool:
    if (other.device, other.neighbour) != (row.neighbour, row.device):
        return False
    fits = {(row.far, other.interface), (other.far, row.interface)}
    if any(one and two and one != two for one, two in fits):
        return False
    # Two links between the same two: by the prefix that both ends have.
    ours, theirs = ({each.network for each in one.addresses} for one in (row, other))
    return not (ours and theirs) or bool(ours & theirs)


def _wrong(number: int, message: str) -> Misreading:
    return Misreading(number, 1, 2, message)
