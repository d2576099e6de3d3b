"""Devices once more, alone or as a whole site: with other names, their prefixes moved on, linked alike."""

import re
from collections.abc import Callable, Iterable, Iterator
from functools import cached_property
from ipaddress import ip_interface, ip_network
from itertools import chain, count
from typing import Any

from greyheron.model.changes import Change, ChangeError, putting
from greyheron.model.device import Device, Interface, Translation
from greyheron.model.document import Link, Network, Placement
from greyheron.model.item import Address, InterfaceAddress, Prefix
from greyheron.model.joining import free_names


def duplicating(network: Network, names: Iterable[str]) -> list[Change]:
    """The changes that put the devices called `names` into `network` a second time.

    A prefix that only they have, or share with a neighbour at the other end of a cable, becomes the next free
    one of its size; on a segment that stays, each takes the next free address. The neighbour gets an
    interface like its own, the switch a port like its own; a switch leaves its other devices where they are.
    Placements are copied too, and MAC addresses are made anew. Raises ChangeError.
    """
    return list(_Copying(network, frozenset(names)).changes())


class _Copying:
    def __init__(self, network: Network, names: frozenset[str]) -> None:
        self._network = network
        self._devices = {device.name: device for device in network.devices}
        missing = sorted(names - self._devices.keys())
        if missing or not names:
            raise ChangeError(f"there is no device “{', '.join(missing)}” any more")
        self._originals = [device for device in network.devices if device.name in names]
        self._far = {far: near for near, far in self._links_out() if not self._bridges(far)}
        self._name = self._names()
        self._changed: dict[str, Device] = {}
        self._held = {address.ip for _, address in self._addresses(network.devices)}
        self._moved: dict[Prefix, Prefix] = {}
        self._alone: dict[Address, Address] = {}
        for device in self._originals:
            self._move_prefixes(device)

    def changes(self) -> Iterator[Change]:
        links = [link for link in self._network.links if self._is_copied(link)]
        copied = [self._device(device) for device in self._originals]
        made = [self._link(link) for link in links]
        for device in (*copied, *self._changed.values()):
            yield putting("devices", device)
        for link in made:
            yield putting("links", link)
        for placed in self._network.placements:
            if placed.device in self._name:
                yield putting("placements", self._placement(placed))

    def _is_copied(self, link: Link) -> bool:
        """Links of a copy, but for those that a switch has with devices that are not copied."""
        mine = [end.partition(":")[0] in self._name for end in link.ends]
        if all(mine) or not any(mine):
            return all(mine)
        return not self._bridges(link.ends[mine.index(True)]) or self._bridges(link.ends[mine.index(False)])

    def _links_out(self) -> Iterator[tuple[str, str]]:
        """The links from originals to others: the end here, and the one there."""
        own = {device.name for device in self._originals}
        for link in self._network.links:
            for near, far in (link.ends, link.ends[::-1]):
                if near.partition(":")[0] in own and far.partition(":")[0] not in own:
                    yield near, far

    def _bridges(self, end: str) -> bool:
        return self._devices[end.partition(":")[0]].traits.bridges

    def _names(self) -> dict[str, str]:
        taken = set(self._devices)
        found: dict[str, str] = {}
        for device in self._originals:
            stem = re.sub(r"\d+$", "", device.name) or device.name
            begin = int(device.name[len(stem) :] or 1) + 1
            found[device.name] = next(name for n in count(begin) if (name := f"{stem}{n}") not in taken)
            taken.add(found[device.name])
        return found

    @cached_property
    def _site(self) -> Callable[[str], str]:
        """A site that is copied whole becomes another one."""
        sites = {device.site for device in self._network.devices}
        left = {device.site for device in self._network.devices if device.name not in self._name}

        def of(site: str) -> str:
            if not site or site in left:
                return site
            stem = re.sub(r" \d+$", "", site)
            return next(name for n in count(2) if (name := f"{stem} {n}") not in sites)

        return of

    # --- addresses -----------------------------------------------------------------------------------------

    @staticmethod
    def _addresses(devices: Iterable[Device]) -> Iterator[tuple[str, InterfaceAddress]]:
        for device in devices:
            for interface in device.interfaces:
                for address in interface.addresses:
                    yield f"{device.name}:{interface.name}", address

    @cached_property
    def _known(self) -> list[Prefix]:
        """Every prefix of the network: what is made is none of them."""
        known: list[Prefix] = [address.network for _, address in self._addresses(self._network.devices)]
        for device in self._network.devices:
            known += device.prefixes
            known += [rule.to for rule in device.translations if rule.to is not None]
        return known

    def _move_prefixes(self, device: Device) -> None:
        own = {each.name for each in self._originals}
        for _, address in self._addresses([device]):
            prefix = address.network
            if prefix in self._moved or prefix.is_link_local:
                continue
            holders = [end for end, each in self._addresses(self._network.devices) if each.network == prefix]
            if all(end.partition(":")[0] in own or end in self._far for end in holders):
                self._moved[prefix] = self._next_free(prefix)
            else:
                self._alone[address.ip] = self._free_address(address)
        for prefix in device.prefixes:
            self._moved[prefix] = self._next_free(prefix)
        for rule in device.translations:
            if rule.to is not None and not self._within_moved(rule.to):
                self._moved.setdefault(rule.to, self._next_free(rule.to))

    def _next_free(self, prefix: Prefix) -> Prefix:
        """The first prefix of that size behind it that no other one overlaps."""
        at, size = int(prefix.network_address), prefix.num_addresses
        while True:
            at += size
            if at + size > 1 << prefix.max_prefixlen:
                raise ChangeError(f"behind {prefix} there is no prefix of its size left")
            found = prefix.__class__((at, prefix.prefixlen))
            over = [each for each in self._known if each.version == found.version and each.overlaps(found)]
            if not over:
                self._known.append(found)
                return found

    def _free_address(self, address: InterfaceAddress) -> Address:
        """The next address of its segment that nobody has."""
        network = address.network
        first, own, last = int(network.network_address), int(address.ip), int(network.broadcast_address)
        for number in chain(range(own + 1, last), range(first + 1, own)):
            found = address.ip.__class__(number)
            if found not in self._held:
                self._held.add(found)
                return found
        raise ChangeError(f"{network} has no free address left: make its prefix larger first")

    def _within_moved(self, prefix: Prefix) -> bool:
        return any(old.version == prefix.version and prefix.subnet_of(old) for old in self._moved)  # type: ignore[arg-type]

    def _address(self, address: Address) -> Address:
        if address in self._alone:
            return self._alone[address]
        for old, new in self._moved.items():
            if address in old:
                return new.network_address + (int(address) - int(old.network_address))
        return address

    def _prefix(self, prefix: Prefix) -> Prefix:
        if not self._within_moved(prefix):
            return prefix
        return ip_network(f"{self._address(prefix.network_address)}/{prefix.prefixlen}")

    def _on_interface(self, interface: Interface) -> Interface:
        addresses = tuple(
            ip_interface(f"{self._address(each.ip)}/{each.network.prefixlen}") for each in interface.addresses
        )
        return interface.model_copy(update={"addresses": addresses, "mac": None})

    # --- devices and what hangs on them --------------------------------------------------------------------

    def _device(self, device: Device) -> Device:
        def moved(address: Any) -> Any:
            return None if address is None else self._address(address)

        return device.model_copy(
            update={
                "name": self._name[device.name],
                "site": self._site(device.site),
                "interfaces": tuple(map(self._on_interface, device.interfaces)),
                "gateway": moved(device.gateway),
                "gateway6": moved(device.gateway6),
                "prefixes": tuple(map(self._prefix, device.prefixes)),
                "resolvers": tuple(map(self._address, device.resolvers)),
                "routes": tuple(
                    route.model_copy(update={"to": self._prefix(route.to), "via": moved(route.via)})
                    for route in device.routes
                ),
                "translations": tuple(map(self._translation, device.translations)),
            }
        )

    def _translation(self, rule: Translation) -> Translation:
        to = None if rule.to is None else self._prefix(rule.to)
        return rule.model_copy(update={"source": self._prefix(rule.source), "to": to})

    def _link(self, link: Link) -> Link:
        ends = [self._end(end) for end in link.ends]
        return link.model_copy(update={"ends": (ends[0], ends[1])})

    def _end(self, end: str) -> str:
        """Where a copied link ends: at the copy, or at something new at a neighbour."""
        name, _, at = end.partition(":")
        if name in self._name:
            return f"{self._name[name]}:{at}"
        neighbour = self._changed.get(name, self._devices[name])
        like = next(each for each in neighbour.interfaces if each.name == at)
        new = self._on_interface(like).model_copy(update={"name": next(free_names(neighbour))})
        self._changed[name] = neighbour.model_copy(update={"interfaces": (*neighbour.interfaces, new)})
        return f"{name}:{new.name}"

    def _placement(self, placed: Placement) -> Placement:
        return placed.model_copy(update={"device": self._name[placed.device]})
